import { useSyncExternalStore } from "react";

/** What a person chose of how things are shown. The service keeps it; the browser has a copy. */
export type Choices = {
	/** A zone of the IANA's list, or "browser" for that of the machine. */
	zone: string;
	/** The language of the console's own texts, as its file is called. */
	language: string;
	/** Times are shown as such, not as so long ago. */
	exact: boolean;
	/** The parts that a report shows; those that are first if none were chosen. */
	charts?: string[];
	/** Rows are as low as they can be. */
	dense: boolean;
};

/** The language of the browser, as far as a file may have it. */
const browsers = () => (typeof navigator === "undefined" ? "en" : navigator.language.slice(0, 2));

const first: Choices = { zone: "browser", language: browsers(), exact: false, dense: true };

const place = "gull-choices";

function stored(): Choices {
	try {
		return { ...first, ...JSON.parse(localStorage.getItem(place) ?? "{}") };
	} catch {
		return first;
	}
}

/** Whether the browser will know the language when the page is read again. */
export const remembers = (language: string) => stored().language === language;

let now = stored();
const watchers = new Set<() => void>();

/** What is chosen now, for what is no component. */
export const chosen = () => now;

/** Takes choices, from a person or from the service. */
export function take(change: Partial<Choices>) {
	const next = { ...now, ...change };
	if (JSON.stringify(next) === JSON.stringify(now)) {
		return;
	}
	now = next;
	try {
		localStorage.setItem(place, JSON.stringify(now));
	} catch {
		// The browser keeps nothing: it holds as long as the page is open.
	}
	for (const f of watchers) {
		f();
	}
}

/** Calls a function when something else is chosen, until the function that it returns is called. */
export function onChoice(f: () => void): () => void {
	watchers.add(f);
	return () => watchers.delete(f);
}

/** What is chosen, followed as it changes. */
export const useChoices = (): Choices => useSyncExternalStore(onChoice, chosen);

/** The zone of the machine; to ask for it is dear, and thousands of times do. */
let own: string | undefined;

/** The zone that is meant by a choice. */
export function zoneOf(c: Choices): string {
	own ??= Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";
	return c.zone === "browser" ? own : c.zone;
}

/** The zone in which times are shown and read. */
export const zone = () => zoneOf(now);
