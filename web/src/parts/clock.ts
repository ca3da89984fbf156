import { useSyncExternalStore } from "react";
import { onChoice } from "../api/choices";

/** One clock for everything that tells of time: it ticks once a second, and rests in hidden tabs. */
const watchers = new Set<() => void>();
let now = Date.now();
let timer: number | undefined;

function tick() {
	now = Date.now();
	for (const f of watchers) {
		f();
	}
}

function run() {
	const wanted = watchers.size > 0 && !document.hidden;
	if (wanted && timer === undefined) {
		timer = window.setInterval(tick, 1000);
		tick();
	} else if (!wanted) {
		window.clearInterval(timer);
		timer = undefined;
	}
}

document.addEventListener("visibilitychange", run);
onChoice(tick);

function watch(f: () => void): () => void {
	watchers.add(f);
	if (watchers.size === 1) {
		run();
	}
	return () => {
		watchers.delete(f);
		if (watchers.size === 0) {
			run();
		}
	};
}

/** A text made of the time, which is drawn anew only when it changes. */
export function useTold(tell: (now: number) => string): string {
	return useSyncExternalStore(watch, () => tell(now));
}
