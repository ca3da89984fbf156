import {
	ActionIcon,
	Alert,
	AppShell,
	Badge,
	Group,
	Menu,
	TextInput,
	Tooltip,
	useMantineColorScheme,
} from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { IconHelp, IconMoon, IconPlugConnectedX, IconSearch, IconSun, IconUser } from "@tabler/icons-react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, Outlet, useNavigate } from "@tanstack/react-router";
import { useRef, useState } from "react";
import { gull, Problem, type Who } from "../api/client";
import { type LiveState, useLive } from "../api/live";
import { DraftBar, Hazards } from "../parts/draft-bar";
import { clock } from "../parts/time";
import { ToIcon } from "../parts/to";
import classes from "./shell.module.css";

/** The frame of every page. */
export function Shell() {
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	return me.data ? <Frame who={me.data} /> : null;
}

function Frame({ who }: { who: Who }) {
	const live = useLive();
	return (
		<AppShell header={{ height: 48 }} padding="md">
			<AppShell.Header className={classes.header}>
				<a className="skip" href="#main">
					Skip to the page
				</a>
				<Group h="100%" px="md" gap="lg" wrap="nowrap" className={classes.row}>
					<Link to="/" className={classes.brand} aria-label="Gull Route, overview">
						<img src="/gull.svg" alt="" width={24} height={24} />
						<span className={classes.name}>Gull Route</span>
					</Link>
					<nav aria-label="Pages" className={classes.nav}>
						<Link to="/" activeOptions={{ exact: true }} className={classes.link}>
							Overview
						</Link>
						<Link to="/snags" search={{}} className={classes.link}>
							Snags
						</Link>
						<Link to="/queue" className={classes.link}>
							Queue
						</Link>
						<Link to="/trace" search={{}} className={classes.link}>
							Trace
						</Link>
						<Link to="/reports" search={{}} className={classes.link}>
							Reports
						</Link>
						<Link to="/readiness" className={classes.link}>
							Readiness
						</Link>
						<Link to="/setup" className={classes.link}>
							Set up
						</Link>
						<Link to="/explain" search={{}} className={classes.link}>
							Explain
						</Link>
						<Link to="/probe" search={{}} className={classes.link}>
							Probe
						</Link>
					</nav>
					<Find />
					<LiveBadge state={live} />
					<Terms />
					<Scheme />
					<Account who={who} />
				</Group>
			</AppShell.Header>
			<AppShell.Main id="main">
				<Unreachable />
				<Hazards />
				<Outlet />
				<DraftBar />
			</AppShell.Main>
		</AppShell>
	);
}

/** Find takes whatever the search takes; "/" goes to it. */
function Find() {
	const box = useRef<HTMLInputElement>(null);
	const [text, setText] = useState("");
	const navigate = useNavigate();
	useHotkeys([["/", () => box.current?.focus()]]);
	return (
		<form
			className={classes.find}
			onSubmit={(e) => {
				e.preventDefault();
				const words = text.trim().replace(/^\//, "");
				if (/^[0-9a-hjkmnp-tv-z]{13}$/i.test(words)) {
					void navigate({ to: "/messages/$id", params: { id: words.toUpperCase() } });
				} else if (words) {
					void navigate({ to: "/trace", search: { q: words } as never });
					setText("");
				}
			}}
		>
			<TextInput
				ref={box}
				size="xs"
				value={text}
				onChange={(e) => setText(e.currentTarget.value)}
				placeholder="Where is …   ( / )"
				aria-label="Find messages"
				leftSection={<IconSearch size={14} />}
			/>
		</form>
	);
}

function LiveBadge({ state }: { state: LiveState }) {
	const live = state === "live";
	return (
		<Tooltip
			label={live ? "Events come in as they happen" : "Events do not come in; the page is read again every ten seconds"}
		>
			<Badge size="sm" tt="none" variant="outline" className={live ? classes.live : classes.away}>
				{live ? "live" : "not live"}
			</Badge>
		</Tooltip>
	);
}

/** Terms leads to what our own words mean; "?" does too. */
function Terms() {
	const navigate = useNavigate();
	useHotkeys([["shift+?", () => void navigate({ to: "/terms" })]]);
	return (
		<Tooltip label="What our terms mean  ( ? )">
			<ToIcon to="/terms" variant="subtle" className={classes.icon} aria-label="What our terms mean">
				<IconHelp size={18} />
			</ToIcon>
		</Tooltip>
	);
}

function Scheme() {
	const { colorScheme, setColorScheme } = useMantineColorScheme();
	const dark =
		colorScheme === "dark" || (colorScheme === "auto" && window.matchMedia("(prefers-color-scheme: dark)").matches);
	return (
		<ActionIcon
			variant="subtle"
			className={classes.icon}
			aria-label={dark ? "Light colours" : "Dark colours"}
			onClick={() => setColorScheme(dark ? "light" : "dark")}
		>
			{dark ? <IconSun size={18} /> : <IconMoon size={18} />}
		</ActionIcon>
	);
}

function Account({ who }: { who: Who }) {
	const client = useQueryClient();
	return (
		<Menu>
			<Menu.Target>
				<ActionIcon variant="subtle" className={classes.icon} aria-label={`Signed in as ${who.name}`}>
					<IconUser size={18} />
				</ActionIcon>
			</Menu.Target>
			<Menu.Dropdown>
				<Menu.Label>
					{who.name}, {who.role === "viewer" ? "may look, not change" : who.role}
				</Menu.Label>
				<Menu.Item
					onClick={async () => {
						await gull.signOut();
						client.clear();
						window.location.assign("/");
					}}
				>
					Sign out
				</Menu.Item>
			</Menu.Dropdown>
		</Menu>
	);
}

/** Unreachable says so on top of what was known before. */
function Unreachable() {
	const status = useQuery({ queryKey: ["status"], queryFn: gull.status });
	if (!status.error) {
		return null;
	}
	const down = status.error instanceof Problem && status.error.status === 503;
	return (
		<Alert
			color="buoy"
			mb="md"
			role="alert"
			icon={<IconPlugConnectedX />}
			title={down ? "The database does not answer" : "The service cannot be reached"}
		>
			{down
				? "Mail is deferred with 451 until it does; senders will try again. Start PostgreSQL or look at its log."
				: "Is gull serve running? "}{" "}
			{status.dataUpdatedAt > 0 && `What you see is from ${clock(status.dataUpdatedAt)}.`}
		</Alert>
	);
}
