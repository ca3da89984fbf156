import { ask, query } from "./ask";
import type { LastReply } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];

export type Evidence = Omit<Schemas["Evidence"], "reply"> & { reply: LastReply };
export type SnagFix = Schemas["Fix"];
export type Snag = Omit<Schemas["Snag"], "evidence" | "fixes" | "senders" | "domains" | "lanes"> & {
	evidence: Evidence;
	fixes: SnagFix[];
	senders: string[];
	domains: string[];
	lanes: string[];
};
export type SnagPage = { items: Snag[]; next: string; counts: Record<string, number> };

/** The words that choose snags, as they stand in an address. */
export type SnagWords = { state?: "open" | "closed"; place?: string; muted?: boolean; part_of?: string };

type Choice = SnagWords & { cause?: string; lane?: string };

export const snags = {
	list: (words: Choice, after: string, limit: number) => {
		return ask<SnagPage>("GET", `snags${query({ ...words, limit, after })}`);
	},
	story: (id: string) => ask<Schemas["Story"]>("GET", `snags/${id}/story`),
	show: (id: string) => ask<Snag>("GET", `snags/${id}`),
	change: (id: string, change: { note?: string; mine?: boolean; mute?: string }) =>
		ask<Snag>("PATCH", `snags/${id}`, change),
	fix: (id: string, order: { do: string; route?: string; alias?: string; say?: string }) =>
		ask<Schemas["Done"]>("POST", `snags/${id}/fix`, order),
};
