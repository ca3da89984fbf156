import { createRootRoute, createRoute, createRouter, lazyRouteComponent, redirect } from "@tanstack/react-router";
import type { HeldWords } from "../api/held";
import { piece } from "../api/piece";
import type { QueueWords } from "../api/queue";
import type { ProbeWords } from "../pages/probe";
import { NotFound } from "../parts/states";
import { Shell } from "./shell";

/** A word of an address; a link may say a number or yes where a text is meant. */
const text = (v: unknown) =>
	typeof v === "string" || typeof v === "number" || typeof v === "boolean" ? String(v) || undefined : undefined;

const number = (v: unknown) => {
	const n = typeof v === "string" && /^\d{1,15}$/.test(v) ? Number(v) : v;
	return typeof n === "number" && Number.isFinite(n) ? n : undefined;
};

const yes = (v: unknown) => (v === true || v === "true" ? true : undefined);

/** What an address may say, and need not. */
type Some<T> = { [K in keyof T]?: T[K] };
const some = <T extends object>(words: T): Some<T> => words;

/** The words that choose messages, as they stand in an address. */
const queueWords = (s: Record<string, unknown>): QueueWords => ({
	state: text(s.state) as QueueWords["state"],
	route: text(s.route),
	sender: text(s.sender),
	recipient: text(s.recipient),
	domain: text(s.domain),
	older: text(s.older),
	newer: text(s.newer),
	larger: text(s.larger),
	smaller: text(s.smaller),
	cause: text(s.cause),
	attempts: number(s.attempts),
	subject: text(s.subject),
	client: text(s.client),
	account: text(s.account),
	action: number(s.action),
});

const root = createRootRoute({ component: Shell, notFoundComponent: NotFound });
const terms = createRoute({
	getParentRoute: () => root,
	path: "/terms",
	component: lazyRouteComponent(() => piece(() => import("../pages/terms")), "TermsPage"),
});
const overview = createRoute({
	getParentRoute: () => root,
	path: "/",
	component: lazyRouteComponent(() => piece(() => import("../pages/overview")), "OverviewPage"),
});
const queue = createRoute({
	getParentRoute: () => root,
	path: "/queue",
	component: lazyRouteComponent(() => piece(() => import("../pages/queue")), "QueuePage"),
	validateSearch: (
		s: Record<string, unknown>,
	): Omit<QueueWords, "state"> & {
		view?: string;
		find?: string;
		by?: string;
		sort?: string;
		order?: string;
		state?: string;
	} => ({
		...queueWords(s),
		state: text(s.state),
		view: text(s.view),
		find: text(s.find),
		by: text(s.by),
		sort: text(s.sort),
		order: text(s.order),
	}),
});
const lane = createRoute({
	getParentRoute: () => root,
	path: "/queue/$lane",
	component: lazyRouteComponent(() => piece(() => import("../pages/lane")), "LanePage"),
	validateSearch: queueWords,
});
/** The words of a search and of a list of sessions. */
const traceWords = (s: Record<string, unknown>) =>
	some({
		view: text(s.view),
		q: text(s.q),
		from: text(s.from),
		to: text(s.to),
		subject: text(s.subject),
		id: text(s.id),
		client: text(s.client),
		host: text(s.host),
		state: text(s.state),
		cause: text(s.cause),
		gate: text(s.gate),
		severity: text(s.severity),
		since: text(s.since),
		until: text(s.until),
		order: s.order === "oldest" || s.order === "newest" ? (s.order as "oldest" | "newest") : undefined,
		direction: text(s.direction),
		peer: text(s.peer),
		outcome: text(s.outcome),
		longer: text(s.longer),
		listener: text(s.listener),
		route: text(s.route),
		sort: text(s.sort),
		archive: number(s.archive),
	});
const trace = createRoute({
	getParentRoute: () => root,
	path: "/trace",
	component: lazyRouteComponent(() => piece(() => import("../pages/trace")), "TracePage"),
	validateSearch: traceWords,
});
const messages = createRoute({
	getParentRoute: () => root,
	path: "/messages",
	validateSearch: traceWords,
	beforeLoad: ({ search }) => {
		throw redirect({ to: "/trace", search });
	},
});
const snags = createRoute({
	getParentRoute: () => root,
	path: "/snags",
	component: lazyRouteComponent(() => piece(() => import("../pages/snags")), "SnagsPage"),
	validateSearch: (
		s: Record<string, unknown>,
	): { state?: "open" | "closed"; place?: string; muted?: boolean; part_of?: string } => ({
		state: s.state === "closed" ? "closed" : undefined,
		place: text(s.place),
		muted: yes(s.muted),
		part_of: text(s.part_of),
	}),
});
const snag = createRoute({
	getParentRoute: () => root,
	path: "/snags/$id",
	component: lazyRouteComponent(() => piece(() => import("../pages/snag")), "SnagPage"),
});
const readiness = createRoute({
	getParentRoute: () => root,
	path: "/readiness",
	component: lazyRouteComponent(() => piece(() => import("../pages/readiness")), "ReadinessPage"),
});
const ready = createRoute({
	getParentRoute: () => root,
	path: "/readiness/$domain",
	component: lazyRouteComponent(() => piece(() => import("../pages/ready")), "ReadyPage"),
});
const reputation = createRoute({
	getParentRoute: () => root,
	path: "/reputation",
	component: lazyRouteComponent(() => piece(() => import("../pages/reputation")), "ReputationPage"),
	validateSearch: (s: Record<string, unknown>): { about?: string } => ({ about: text(s.about) }),
});
const held = createRoute({
	getParentRoute: () => root,
	path: "/held",
	component: lazyRouteComponent(() => piece(() => import("../pages/held")), "HeldPage"),
	validateSearch: (s: Record<string, unknown>): HeldWords => ({
		by: text(s.by),
		name: text(s.name),
		severity: text(s.severity),
		find: text(s.find),
	}),
});
const probe = createRoute({
	getParentRoute: () => root,
	path: "/probe",
	component: lazyRouteComponent(() => piece(() => import("../pages/probe")), "ProbePage"),
	validateSearch: (s: Record<string, unknown>): ProbeWords => ({
		target: text(s.target),
		routes: text(s.routes),
		from: text(s.from),
		inwards: text(s.inwards),
		client: text(s.client),
	}),
});
const inArchive = (s: Record<string, unknown>): { archive?: number } => ({ archive: number(s.archive) });
const session = createRoute({
	getParentRoute: () => root,
	path: "/sessions/$id",
	component: lazyRouteComponent(() => piece(() => import("../pages/session")), "SessionPage"),
	validateSearch: inArchive,
});
const refusal = createRoute({
	getParentRoute: () => root,
	path: "/refusals/$id",
	component: lazyRouteComponent(() => piece(() => import("../pages/refusal")), "RefusalPage"),
	validateSearch: inArchive,
});
const reportWords = (s: Record<string, unknown>) =>
	some({
		since: text(s.since),
		until: text(s.until),
		dim: text(s.dim),
		value: text(s.value),
		archive: number(s.archive),
	});
const reports = createRoute({
	getParentRoute: () => root,
	path: "/reports",
	component: lazyRouteComponent(() => piece(() => import("../report/page")), "ReportsPage"),
	validateSearch: (s: Record<string, unknown>): ReturnType<typeof reportWords> & { compare?: boolean } => ({
		...reportWords(s),
		compare: yes(s.compare),
	}),
});
const behind = createRoute({
	getParentRoute: () => root,
	path: "/reports/messages",
	component: lazyRouteComponent(() => piece(() => import("../pages/behind")), "BehindPage"),
	validateSearch: (s: Record<string, unknown>) => ({ ...reportWords(s), kind: text(s.kind) ?? "received" }),
});
const message = createRoute({
	getParentRoute: () => root,
	path: "/messages/$id",
	component: lazyRouteComponent(() => piece(() => import("../pages/message")), "MessagePage"),
	validateSearch: (s: Record<string, unknown>): { message?: string; archive?: number } => ({
		message: text(s.message),
		archive: number(s.archive),
	}),
});

const explain = createRoute({
	getParentRoute: () => root,
	path: "/explain",
	component: lazyRouteComponent(() => piece(() => import("../pages/explain")), "ExplainPage"),
	validateSearch: (s: Record<string, unknown>) =>
		some({
			from: text(s.from),
			to: text(s.to),
			client: text(s.client),
			listener: text(s.listener),
			account: text(s.account),
			size: number(s.size),
			draft: yes(s.draft),
			other_client: text(s.other_client),
			other_from: text(s.other_from),
		}),
});

const account = createRoute({
	getParentRoute: () => root,
	path: "/account",
	component: lazyRouteComponent(() => piece(() => import("../pages/account")), "AccountPage"),
});

const listWords = (s: Record<string, unknown>): { find?: string; item?: string; sort?: string; unused?: string } => ({
	sort: text(s.sort),
	unused: text(s.unused),
	find: text(s.find),
	item: text(s.item),
});
const setup = createRoute({
	getParentRoute: () => root,
	path: "/setup",
	component: lazyRouteComponent(() => piece(() => import("../pages/setup")), "SetupFrame"),
});
const setupPages = [
	createRoute({
		getParentRoute: () => setup,
		path: "/",
		component: lazyRouteComponent(() => piece(() => import("../pages/first-steps")), "FirstStepsPage"),
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/mailboxes",
		component: lazyRouteComponent(() => piece(() => import("../pages/mailboxes")), "MailboxesPage"),
		validateSearch: listWords,
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/mailboxes/$address",
		component: lazyRouteComponent(() => piece(() => import("../pages/box")), "BoxPage"),
		validateSearch: (s: Record<string, unknown>): { folder?: string; message?: string } => ({
			folder: typeof s.folder === "string" ? s.folder : undefined,
			message: typeof s.message === "string" ? s.message : undefined,
		}),
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/aliases",
		component: lazyRouteComponent(() => piece(() => import("../pages/mailboxes")), "AliasesPage"),
		validateSearch: listWords,
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/secrets",
		component: lazyRouteComponent(() => piece(() => import("../pages/server")), "SecretsPage"),
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/service",
		component: lazyRouteComponent(() => piece(() => import("../pages/server")), "ServicePage"),
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/draft",
		component: lazyRouteComponent(() => piece(() => import("../pages/draft")), "DraftPage"),
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/review",
		component: lazyRouteComponent(() => piece(() => import("../pages/review")), "ReviewPage"),
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/revisions",
		component: lazyRouteComponent(() => piece(() => import("../pages/revisions")), "RevisionsPage"),
		validateSearch: (s: Record<string, unknown>): { number?: number } => ({
			number: number(s.number),
		}),
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/operators",
		component: lazyRouteComponent(() => piece(() => import("../pages/operators")), "OperatorsPage"),
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/audit",
		component: lazyRouteComponent(() => piece(() => import("../pages/audit")), "AuditPage"),
		validateSearch: (s: Record<string, unknown>) =>
			some({ who: text(s.who), action: text(s.action), target: text(s.target) }),
	}),
	createRoute({
		getParentRoute: () => setup,
		path: "/$section",
		component: lazyRouteComponent(() => piece(() => import("../pages/section")), "SectionPage"),
		validateSearch: listWords,
	}),
] as const;

export const router = createRouter({
	routeTree: root.addChildren([
		overview,
		terms,
		queue,
		lane,
		trace,
		messages,
		message,
		session,
		refusal,
		snags,
		snag,
		readiness,
		ready,
		reputation,
		held,
		probe,
		reports,
		behind,
		explain,
		account,
		setup.addChildren(setupPages),
	]),
	defaultPreload: "intent",
	// What stands in an address is text as it is: 007 stays 007, and a subject may be a number.
	parseSearch: (search) => Object.fromEntries(new URLSearchParams(search)),
	stringifySearch: (words) => {
		const q = new URLSearchParams();
		for (const [k, v] of Object.entries(words)) {
			if (v !== undefined && v !== "") {
				q.set(k, String(v));
			}
		}
		return q.size > 0 ? `?${q}` : "";
	},
});

declare module "@tanstack/react-router" {
	interface Register {
		router: typeof router;
	}
}
