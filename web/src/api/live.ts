import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

/** How the stream of events does. */
export type LiveState = "live" | "away";

/** At most so often what is shown is read again, however much happens. */
const pace = 1000;

const kinds = ["received", "delivered", "deferred", "bounced", "expired", "lane", "rejected", "setup", "lost"];

/**
 * Reads again what is on the screen when something happens: at once for the
 * first event, then at most once a second. Give a message's id to listen for its
 * events only.
 */
export function useLive(message?: string): LiveState {
	const client = useQueryClient();
	const [state, setState] = useState<LiveState>("away");
	const timer = useRef<number | undefined>(undefined);
	useEffect(() => {
		const source = new EventSource(`/api/v1/live${message ? `?message=${encodeURIComponent(message)}` : ""}`);
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
		for (const kind of kinds) {
			source.addEventListener(kind, happened);
		}
		source.onopen = () => setState("live");
		source.onerror = () => setState("away");
		return () => {
			source.close();
			window.clearTimeout(timer.current);
			timer.current = undefined;
		};
	}, [client, message]);
	return state;
}
