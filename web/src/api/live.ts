import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

/** How the stream of events does. */
export type LiveState = "live" | "away";

/** At most so often what is shown is read again, however much happens. */
const pace = 1000;

const kinds = ["received", "delivered", "deferred", "bounced", "expired", "lane", "rejected", "setup", "lost"];

/**
 * Reads again what is on the screen when something happens: immediately for the
 * first event, then at most once a second. Give a message's id to listen for its
 * events only.
 */
export function useLive(message?: string): LiveState {
	const client = useQueryClient();
	const [state, setState] = useState<LiveState>("away");
	const timer = useRef<number | undefined>(undefined);
	useEffect(() => {
		let source: EventSource | undefined;
		let last = 0;
		const happened = () => {
			if (timer.current !== undefined) {
				return;
			}
			const wait = Math.max(150, last + pace - Date.now());
			timer.current = window.setTimeout(() => {
				timer.current = undefined;
				last = Date.now();
				void client.invalidateQueries();
			}, wait);
		};
		const listen = () => {
			if (source || document.hidden) {
				return;
			}
			source = new EventSource(`/api/v1/live${message ? `?message=${encodeURIComponent(message)}` : ""}`);
			for (const kind of kinds) {
				source.addEventListener(kind, happened);
			}
			source.onopen = () => setState("live");
			source.onerror = () => setState("away");
		};
		const leave = () => {
			source?.close();
			source = undefined;
		};
		// A browser opens six connections to a host at most: a tab that nobody
		// looks at must not hold one.
		const seen = () => {
			if (document.hidden) {
				leave();
			} else {
				listen();
				happened();
			}
		};
		listen();
		document.addEventListener("visibilitychange", seen);
		window.addEventListener("pagehide", leave);
		window.addEventListener("pageshow", listen);
		return () => {
			leave();
			document.removeEventListener("visibilitychange", seen);
			window.removeEventListener("pagehide", leave);
			window.removeEventListener("pageshow", listen);
			window.clearTimeout(timer.current);
			timer.current = undefined;
		};
	}, [client, message]);
	return state;
}
