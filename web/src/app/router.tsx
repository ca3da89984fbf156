import { createRootRoute, createRoute, createRouter } from "@tanstack/react-router";
import type { QueueWords, TraceWords } from "../api/client";
import { LanePage } from "../pages/lane";
import { MessagePage } from "../pages/message";
import { MessagesPage } from "../pages/messages";
import { OverviewPage } from "../pages/overview";
import { QueuePage } from "../pages/queue";
import { NotFound } from "../parts/states";
import { Shell } from "./shell";

const text = (v: unknown) => (typeof v === "string" && v !== "" ? v : undefined);

const root = createRootRoute({ component: Shell, notFoundComponent: NotFound });
const overview = createRoute({ getParentRoute: () => root, path: "/", component: OverviewPage });
const queue = createRoute({
	getParentRoute: () => root,
	path: "/queue",
	component: QueuePage,
	validateSearch: (s: Record<string, unknown>): { find?: string } => ({ find: text(s.find) }),
});
const lane = createRoute({
	getParentRoute: () => root,
	path: "/queue/$lane",
	component: LanePage,
	validateSearch: (s: Record<string, unknown>): QueueWords => ({
		state: text(s.state) as QueueWords["state"],
		sender: text(s.sender),
		recipient: text(s.recipient),
	}),
});
const messages = createRoute({
	getParentRoute: () => root,
	path: "/messages",
	component: MessagesPage,
	validateSearch: (s: Record<string, unknown>): TraceWords => ({
		from: text(s.from),
		to: text(s.to),
		subject: text(s.subject),
		id: text(s.id),
		state: text(s.state),
	}),
});
const message = createRoute({ getParentRoute: () => root, path: "/messages/$id", component: MessagePage });

export const router = createRouter({
	routeTree: root.addChildren([overview, queue, lane, messages, message]),
	defaultPreload: "intent",
});

declare module "@tanstack/react-router" {
	interface Register {
		router: typeof router;
	}
}
