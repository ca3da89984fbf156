import type { Query } from "@tanstack/react-query";

/** What a query may say of itself: whether what it read is past, and never changes again. */
declare module "@tanstack/react-query" {
	interface Register {
		queryMeta: { past?: (data: never) => boolean };
	}
}

/** Whether what a query read is past: it is never asked again. */
export function isPast(query: Pick<Query, "meta" | "state">): boolean {
	const past = query.meta?.past as ((data: unknown) => boolean) | undefined;
	return query.state.data !== undefined && (past?.(query.state.data) ?? false);
}

const final = ["delivered", "bounced", "expired", "discarded"];

type Ended = { message: { deliveries: { state: string }[] }; generated: { deliveries: { state: string }[] }[] };

/** A message has come to its end when all its deliveries have, and those of its notices. */
export function messageEnded(t: Ended): boolean {
	return [t.message, ...t.generated].every((m) => m.deliveries.every((d) => final.includes(d.state)));
}

/** What is in an archive never changes; nor does a period that ended an hour ago. */
export function periodEnded(words: { archive?: number }, until: string | undefined, now = Date.now()): boolean {
	return words.archive !== undefined || (until !== undefined && Date.parse(until) < now - 3_600_000);
}
