import type { Query, QueryClient } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import type { Said } from "./live-worker";
import { isPast } from "./past";
import { type Happening, type LiveState, Stream, type Told } from "./stream";
import { paceOf, touches } from "./touch";

export type { LiveState };

let state: LiveState = "resting";
const watchers = new Set<() => void>();
const listeners = new Set<(events: Happening[]) => void>();

/** Whether events come in: what is asked again by itself depends on it. */
export const isLive = () => state === "live";

/** How the stream of events does. */
export function useLive(): LiveState {
	return useSyncExternalStore(
		(f) => {
			watchers.add(f);
			return () => watchers.delete(f);
		},
		() => state,
	);
}

/** Hears events as they come, until the function that it returns is called. */
export function hear(f: (events: Happening[]) => void): () => void {
	listeners.add(f);
	return () => listeners.delete(f);
}

/**
 * Reader reads again what events touch: at once after the first, then as often as the
 * query's pace says. A request that is running goes on.
 */
class Reader {
	private readonly next = new Map<string, { timer?: number; last: number; again?: number }>();

	constructor(private readonly client: QueryClient) {}

	take(events: Happening[]) {
		for (const hash of this.next.keys()) {
			if (!this.client.getQueryCache().get(hash)) {
				this.next.delete(hash); // nobody shows it any more
			}
		}
		for (const query of this.client.getQueryCache().getAll()) {
			if (!isPast(query) && events.some((e) => touches(query.queryKey, e))) {
				this.plan(query);
			}
		}
	}

	/** What events touch, once: some of what happened may have been missed. */
	all() {
		const touched = (q: Query) => !isPast(q) && touches(q.queryKey, missed);
		void this.client.invalidateQueries({ predicate: touched }, { cancelRefetch: false });
	}

	private plan(query: Query) {
		const { pace, later } = paceOf(query.queryKey);
		const entry = this.next.get(query.queryHash) ?? { last: 0 };
		this.next.set(query.queryHash, entry);
		if (entry.timer === undefined) {
			entry.timer = window.setTimeout(
				() => {
					entry.timer = undefined;
					entry.last = Date.now();
					this.read(query);
				},
				Math.max(0, entry.last + pace - Date.now()),
			);
		}
		if (later > 0) {
			window.clearTimeout(entry.again);
			entry.again = window.setTimeout(() => this.read(query), later);
		}
	}

	private read(query: Query) {
		void this.client.invalidateQueries({ queryKey: query.queryKey, exact: true }, { cancelRefetch: false });
	}
}

let begun = false;

/** What may have happened while nobody listened. */
const missed: Happening = { at: "", kind: "lost", message_id: "", node: "", text: "" };

/** Listens from now on, however often it is called. */
export function begin(client: QueryClient) {
	if (begun) {
		return;
	}
	begun = true;
	const reader = new Reader(client);
	const take = (told: Told) => {
		if ("events" in told) {
			reader.take(told.events);
			for (const f of listeners) {
				f(told.events);
			}
			return;
		}
		if (told.state !== state) {
			const before = state;
			state = told.state;
			for (const f of watchers) {
				f();
			}
			if (state === "live" || (before === "live" && state === "away")) {
				reader.all();
			}
		}
	};
	const say = connect(take);
	const seen = () => say(document.hidden ? "hidden" : "seen");
	seen();
	document.addEventListener("visibilitychange", seen);
	window.addEventListener("pagehide", () => say("gone"));
	window.addEventListener("pageshow", seen);
}

/** One stream for all tabs where the browser can share one, else one for this tab. */
function connect(take: (t: Told) => void): (said: Said) => void {
	if ("SharedWorker" in window) {
		const worker = new SharedWorker(new URL("./live-worker.ts", import.meta.url), { type: "module" });
		worker.port.onmessage = (e: MessageEvent<Told>) => take(e.data);
		return (said) => worker.port.postMessage(said);
	}
	const stream = new Stream(take);
	return (said) => (said === "seen" ? stream.listen() : stream.rest());
}
