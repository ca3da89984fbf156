import { type At, ask, type Progress, query, streamed } from "./ask";
import type { Delivery, Lane, Page, QueueItem } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];

export type LaneDetail = Omit<Schemas["LaneDetail"], "last_reply"> & Lane;
export type LaneGroup = Schemas["LaneGroup"];
export type Verdict = Schemas["Verdict"];
export type Pause = Schemas["Pause"];
export type Action = Schemas["Action"];
export type NodeView = Schemas["Node"];
export type Preview = Schemas["Preview"];
export type ContentView = Schemas["ContentView"];
export type Done = Schemas["Done"];
export type ActionRequest = Schemas["ActionRequest"];
export type Verb = ActionRequest["verb"];

/** The words by which messages in the queue are chosen; the same everywhere. */
export type QueueWords = {
	lane?: string;
	route?: string;
	message?: string;
	delivery?: string[];
	state?: "waiting" | "deferred" | "held";
	sender?: string;
	recipient?: string;
	domain?: string;
	older?: string;
	newer?: string;
	larger?: string;
	smaller?: string;
	cause?: string;
	attempts?: number;
	subject?: string;
	client?: string;
	account?: string;
	action?: number;
};

export type LaneWords = {
	find?: string;
	state?: string;
	sort?: string;
	order?: string;
	cause?: string;
	route?: string;
};
export type LanePage = Page<Lane> & { total: number; verdict: Verdict; pauses: Pause[] };

const read = <T>(path: At<"get">) => ask<T>("GET", path);

export const queue = {
	lanes: (words: LaneWords, after: string, limit: number) =>
		read<LanePage>(`lanes${query({ ...words, after, limit })}`),
	groups: (by: string) => read<Page<LaneGroup>>(`lane-groups${query({ by })}`),
	lane: (id: string) => read<LaneDetail>(`lanes/${id}`),
	messages: (words: QueueWords, after: string, limit: number) =>
		read<Page<QueueItem>>(`queue${query({ ...words, after, limit })}`),
	act: (request: ActionRequest, tell: (p: Progress) => void) =>
		streamed<Done>("queue/act", request, "application/json", tell),
	undo: (id: number, tell: (p: Progress) => void) => streamed<Done>(`actions/${id}/undo`, {}, "application/json", tell),
	actions: (after: string) => read<Page<Action>>(`actions${query({ after, limit: 100 })}`),
	pauses: () => read<Page<Pause>>("pauses"),
	pause: (stop: { kind: Pause["kind"]; name?: string; why?: string; for?: string }) =>
		ask<Done>("POST", "pauses", stop),
	resume: (stop: { kind: Pause["kind"]; name?: string }) => ask<Done>("POST", "resume", stop),
	nodes: () => read<Page<NodeView>>("nodes"),
	restart: (name: string, why?: string) =>
		ask<Schemas["Restarting"]>("POST", `nodes/${encodeURIComponent(name)}/restart`, { why }),
	preview: (words: {
		route?: string;
		domain?: string;
		intervals?: string;
		warn_after?: string;
		expire_after?: string;
	}) => read<Preview>(`schedule/preview${query(words)}`),
	view: (id: string) => read<ContentView>(`messages/${id}/view`),
};

export type { Delivery, Progress };
