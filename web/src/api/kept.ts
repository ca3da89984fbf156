import { ask, query } from "./ask";
import { type Choices, chosen, take } from "./choices";
import type { Page } from "./client";
import type { components } from "./schema";

/** One thing that the service keeps for a person, or for all. */
export type Kept = components["schemas"]["Kept"];
export type KeptKind = Kept["kind"];

/** choose takes a choice, and lets the service keep it for the person. */
export function choose(change: Partial<Choices>): Promise<void> {
	take(change);
	return kept.keep("choice", "console", { ...chosen() }).catch(() => {}); // the browser has it
}

const path = (kind: KeptKind, name: string, shared: boolean) =>
	`kept/${kind}/${encodeURIComponent(name)}${query({ shared: shared || undefined })}` as const;

export const kept = {
	list: () => ask<Page<Kept>>("GET", "kept"),
	keep: (kind: KeptKind, name: string, value: Record<string, unknown>, shared = false) =>
		ask<void>("PUT", path(kind, name, shared), { value }),
	drop: (kind: KeptKind, name: string, shared = false) => ask<void>("DELETE", path(kind, name, shared)),
};
