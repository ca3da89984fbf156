import { i18n } from "@lingui/core";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { ActionIcon, Alert, Badge, Group, Text, TextInput, UnstyledButton } from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { IconCommand, IconHelp, IconMenu2, IconPlugConnectedX, IconSearch, IconUser } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { Link, Navigate, Outlet, useLocation, useNavigate } from "@tanstack/react-router";
import { type ComponentType, lazy, type ReactNode, Suspense, useEffect, useRef, useState } from "react";
import { type Choices, chosen, remembers, take } from "../api/choices";
import { gull, Problem, type Who } from "../api/client";
import { kept } from "../api/kept";
import { spoken } from "../api/language";
import { type LiveState, useLive } from "../api/live";
import { piece } from "../api/piece";
import { DraftBar, Hazards } from "../parts/draft-bar";
import { useBounds } from "../parts/may";
import { clock } from "../parts/time";
import { undoLast } from "../parts/undo";
import { turnTimes } from "../parts/when";
import { pageOf, pagesWithin } from "./pages";
import classes from "./shell.module.css";

const Palette = lazy(() => piece(() => import("./palette")));
const Help = lazy(() => piece(() => import("./help")));
const PagesMenu = lazy(async () => ({ default: (await piece(() => import("./menus"))).PagesMenu }));
const AccountMenu = lazy(async () => ({ default: (await piece(() => import("./menus"))).AccountMenu }));

/** UponPress is a button until it is pressed for the first time: then its menu is read, and opens. */
function UponPress({ of: Of, idle }: { of: ComponentType; idle: (open: () => void) => ReactNode }) {
	const [wanted, setWanted] = useState(false);
	const button = idle(() => setWanted(true));
	return wanted ? (
		<Suspense fallback={button}>
			<Of />
		</Suspense>
	) : (
		button
	);
}

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
		["l", () => document.querySelector<HTMLElement>("main [role=grid]")?.focus()],
	]);
	useEffect(() => {
		if (open) {
			setBeen((b) => ({ ...b, [open]: true }));
		}
	}, [open]);
	useKeptChoices();
	const at = useLocation().pathname;
	const bounds = useBounds();
	return (
		<>
			<header className={classes.header}>
				<a className="skip" href="#main">
					<Trans>Skip to the page</Trans>
				</a>
				<Group h="100%" px="md" gap="lg" wrap="nowrap" className={classes.row}>
					<Link to="/" className={classes.brand} aria-label={t`Gull Route, overview`}>
						<img src="/gull.svg" alt="" width={24} height={24} />
						<span className={classes.name}>
							<Trans>Gull Route</Trans>
						</span>
					</Link>
					<UponPress
						of={PagesMenu}
						idle={(open) => (
							<UnstyledButton className={classes.pages} onClick={open} title={t`All pages`}>
								<IconMenu2 size={20} /> {pageOf(at)?.label}
							</UnstyledButton>
						)}
					/>
					<nav aria-label={t`Pages`} className={classes.nav}>
						{pagesWithin(bounds)
							.filter((p) => !p.within)
							.map((p) => (
								<Link key={p.to} to={p.to} activeOptions={{ exact: p.to === "/" }} className={classes.link}>
									{p.label}
								</Link>
							))}
					</nav>
					<Find />
					<LiveBadge state={live} />
					<ActionIcon
						title={t`Go anywhere  ( Ctrl-K )`}
						variant="subtle"
						className={classes.icon}
						aria-label={t`Go anywhere`}
						onClick={() => setOpen("palette")}
					>
						<IconCommand size={18} />
					</ActionIcon>
					<ActionIcon
						variant="subtle"
						title={t`What this page is for  ( ? )`}
						className={classes.icon}
						aria-label={t`Help`}
						onClick={() => setOpen("help")}
					>
						<IconHelp size={18} />
					</ActionIcon>
					<UponPress
						of={AccountMenu}
						idle={(open) => (
							<ActionIcon
								variant="subtle"
								className={classes.icon}
								aria-label={t`Signed in as ${who.name}`}
								onClick={open}
							>
								<IconUser size={18} />
							</ActionIcon>
						)}
					/>
				</Group>
			</header>
			<Suspense fallback={null}>
				{been.palette && <Palette open={open === "palette"} onClose={() => setOpen(null)} />}
				{been.help && <Help open={open === "help"} onClose={() => setOpen(null)} />}
			</Suspense>
			<main id="main" className={classes.main}>
				{bounds.length > 0 ? (
					<Bounded domains={bounds} at={at} />
				) : (
					<>
						<Unreachable />
						<Hazards />
						<Outlet />
						<DraftBar />
					</>
				)}
			</main>
		</>
	);
}

/** What somebody sees who is bounded to domains: the pages that are about them. */
function Bounded({ domains, at }: { domains: string[]; at: string }) {
	if (at === "/") {
		return <Navigate to="/trace" replace />;
	}
	if (at === "/setup" || at === "/setup/") {
		return <Navigate to="/setup/mailboxes" replace />;
	}
	const shown =
		at === "/account" ||
		at.startsWith("/setup/mailboxes") ||
		at === "/setup/aliases" ||
		(!at.startsWith("/setup") && !!pageOf(at)?.bounded);
	return (
		<>
			<Text size="sm" c="dimmed" mb="xs">
				<Trans>You see and do what is about {domains.join(", ")}.</Trans>
			</Text>
			{shown ? (
				<Outlet />
			) : (
				<Alert color="brass" title={t`This page is about the whole server`}>
					<Trans>Ask somebody who looks after all of it.</Trans>
				</Alert>
			)}
		</>
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
				placeholder={t`Where is …   ( / )`}
				aria-label={t`Find messages`}
				leftSection={<IconSearch size={14} />}
			/>
		</form>
	);
}

function LiveBadge({ state }: { state: LiveState }) {
	const live = state === "live";
	return (
		<Badge
			size="sm"
			tt="none"
			variant="outline"
			className={live ? classes.live : classes.away}
			title={
				live ? t`Events come in as they happen` : t`Events do not come in; the page is read again every ten seconds`
			}
		>
			{live ? t`live` : t`not live`}
		</Badge>
	);
}

/** What the service keeps of a person's choices counts, whatever this browser had. */
function useKeptChoices() {
	const all = useQuery({ queryKey: ["kept"], queryFn: kept.list, staleTime: 300_000 });
	const mine = all.data?.items.find((k) => k.kind === "choice" && k.name === "console");
	useEffect(() => {
		if (mine) {
			take(mine.value as Partial<Choices>);
			if (spoken(chosen().language) !== i18n.locale && remembers(chosen().language)) {
				window.location.reload(); // texts are made once, as the page is read
			}
		}
	}, [mine]);
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
			title={down ? t`The database does not answer` : t`The service cannot be reached`}
		>
			{down
				? t`Mail is deferred with 451 until it does; senders will try again. Start PostgreSQL or look at its log.`
				: t`Is gull serve running? `}{" "}
			{status.dataUpdatedAt > 0 && t`What you see is from ${clock(status.dataUpdatedAt)}.`}
		</Alert>
	);
}
