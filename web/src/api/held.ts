import { type At, ask, query } from "./ask";
import type { Page } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];

export type HeldItem = Schemas["HeldItem"];
export type HeldRelease = Schemas["HeldRelease"];
export type HeldWords = { by?: string; name?: string; severity?: string; find?: string };

/** Messages that are held. */
export const held = {
	list: (words: HeldWords, after: string, limit: number) =>
		ask<Page<HeldItem>>("GET", `held${query({ ...words, after, limit })}` as At<"get">),
	release: (order: HeldRelease) => ask<Schemas["Done"]>("POST", "held/release", order),
};
