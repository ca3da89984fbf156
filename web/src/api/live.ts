import type { QueryClient } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import type { Said } from "./live-worker";
import { Reader } from "./reader";
import { type Happening, type LiveState, Stream, type Told } from "./stream";

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

let begun = false;

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
