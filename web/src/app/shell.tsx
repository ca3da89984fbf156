import {
	ActionIcon,
	Alert,
	AppShell,
	Badge,
	Group,
	Menu,
	TextInput,
	Tooltip,
	UnstyledButton,
	useMantineColorScheme,
} from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import {
	IconCheck,
	IconCommand,
	IconHelp,
	IconMenu2,
	IconPlugConnectedX,
	IconSearch,
	IconUser,
} from "@tabler/icons-react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, Outlet, useLocation, useNavigate } from "@tanstack/react-router";
import { lazy, Suspense, useEffect, useRef, useState } from "react";
import { type Choices, chosen, take, useChoices, zoneOf } from "../api/choices";
import { gull, Problem, type Who } from "../api/client";
import { kept } from "../api/kept";
import { type LiveState, useLive } from "../api/live";
import { undoLast } from "../parts/act";
import { DraftBar, Hazards } from "../parts/draft-bar";
import { clock } from "../parts/time";
import { turnTimes } from "../parts/when";
import { pageOf, pages } from "./pages";
import classes from "./shell.module.css";

const Palette = lazy(() => import("./palette"));
const Help = lazy(() => import("./help"));

/** The frame of every page. */
export function Shell() {
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	return me.data ? <Frame who={me.data} /> : null;
}

function Frame({ who }: { who: Who }) {
	const live = useLive();
	const [open, setOpen] = useState<"palette" | "help" | null>(null);
	const [been, setBeen] = useState({ palette: false, help: false });
	useHotkeys([
		["mod+K", () => setOpen("palette"), { preventDefault: true }],
		["shift+?", () => setOpen("help")],
		["?", () => setOpen("help")],
		["t", turnTimes],
		["z", undoLast],
	]);
	useEffect(() => {
		if (open) {
			setBeen((b) => ({ ...b, [open]: true }));
		}
	}, [open]);
	useKeptChoices();
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
					<PagesMenu />
					<nav aria-label="Pages" className={classes.nav}>
						{pages.map((p) => (
							<Link key={p.to} to={p.to} activeOptions={{ exact: p.to === "/" }} className={classes.link}>
								{p.label}
							</Link>
						))}
					</nav>
					<Find />
					<LiveBadge state={live} />
					<Tooltip label="Go anywhere  ( Ctrl-K )">
						<ActionIcon
							variant="subtle"
							className={classes.icon}
							aria-label="Go anywhere"
							onClick={() => setOpen("palette")}
						>
							<IconCommand size={18} />
						</ActionIcon>
					</Tooltip>
					<Tooltip label="What this page is for  ( ? )">
						<ActionIcon variant="subtle" className={classes.icon} aria-label="Help" onClick={() => setOpen("help")}>
							<IconHelp size={18} />
						</ActionIcon>
					</Tooltip>
					<Account who={who} />
				</Group>
			</AppShell.Header>
			<Suspense fallback={null}>
				{been.palette && <Palette open={open === "palette"} onClose={() => setOpen(null)} />}
				{been.help && <Help open={open === "help"} onClose={() => setOpen(null)} />}
			</Suspense>
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
					void navigate({ to: "/trace", search: { q: words } });
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

/** PagesMenu is the navigation where there is no room for it in a line. */
function PagesMenu() {
	const here = pageOf(useLocation().pathname);
	return (
		<Menu>
			<Menu.Target>
				<UnstyledButton className={classes.pages} aria-label="Pages, as a menu">
					<IconMenu2 size={20} /> {here?.label}
				</UnstyledButton>
			</Menu.Target>
			<Menu.Dropdown>
				{pages.map((p) => (
					<Menu.Item key={p.to} component={Link} to={p.to}>
						{p.label}
					</Menu.Item>
				))}
			</Menu.Dropdown>
		</Menu>
	);
}

/** What the service keeps of a person's choices counts, whatever this browser had. */
function useKeptChoices() {
	const all = useQuery({ queryKey: ["kept"], queryFn: kept.list, staleTime: 300_000 });
	const mine = all.data?.items.find((k) => k.kind === "choice" && k.name === "console");
	useEffect(() => {
		if (mine) {
			take(mine.value as Partial<Choices>);
		}
	}, [mine]);
}

/** choose takes a choice and lets the service keep it. */
function choose(change: Partial<Choices>) {
	take(change);
	void kept.keep("choice", "console", { ...chosen() }).catch(() => {});
}

const Check = ({ on }: { on: boolean }) => (
	<IconCheck size={14} opacity={on ? 1 : 0} aria-label={on ? "chosen" : undefined} />
);

function Account({ who }: { who: Who }) {
	const choices = useChoices();
	const { colorScheme, setColorScheme } = useMantineColorScheme();
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
				<Menu.Divider />
				<Menu.Label>Times</Menu.Label>
				{[
					{ zone: "browser", label: `in my zone: ${zoneOf({ ...choices, zone: "browser" })}` },
					{ zone: "UTC", label: "in UTC" },
				].map((z) => (
					<Menu.Item
						key={z.zone}
						leftSection={<Check on={choices.zone === z.zone} />}
						onClick={() => choose({ zone: z.zone })}
					>
						{z.label}
					</Menu.Item>
				))}
				<Menu.Item leftSection={<Check on={choices.exact} />} onClick={() => choose({ exact: !choices.exact })}>
					as such, not as so long ago ( t )
				</Menu.Item>
				<Menu.Divider />
				<Menu.Label>Looks</Menu.Label>
				<Menu.Item leftSection={<Check on={choices.dense} />} onClick={() => choose({ dense: !choices.dense })}>
					low rows in lists
				</Menu.Item>
				{(["auto", "light", "dark"] as const).map((c) => (
					<Menu.Item key={c} leftSection={<Check on={colorScheme === c} />} onClick={() => setColorScheme(c)}>
						{c === "auto" ? "colours as the system has them" : `${c} colours`}
					</Menu.Item>
				))}
				<Menu.Divider />
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
