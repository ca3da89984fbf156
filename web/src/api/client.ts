import { t } from "@lingui/core/macro";
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];

export type LastReply = Schemas["LastReply"];
export type Lane = Omit<Schemas["Lane"], "last_reply"> & { last_reply: LastReply | null };
export type Delivery = Omit<Schemas["Delivery"], "last_reply"> & { last_reply: LastReply | null };
export type Message = Omit<Schemas["Message"], "deliveries"> & { deliveries: Delivery[] };
export type QueueItem = Omit<Schemas["QueueItem"], "delivery"> & { delivery: Delivery };
export type Trace = Omit<Schemas["Trace"], "message" | "generated" | "about"> & {
	message: Message;
	generated: Message[];
	about?: Message;
};
export type Status = Omit<Schemas["Status"], "trouble"> & { trouble: Lane[] };
export type GullEvent = Schemas["Event"];
export type Who = Schemas["Me"];
export type Upkeep = Schemas["Upkeep"];
export type Term = Schemas["Term"];

/** Calls by cookie carry a header that no form on a strange page can set. */
const api = createClient<paths>({ baseUrl: "/", headers: { "X-Gull-Console": "1" } });

/** An answer of the service that is not a success. status 0: no answer at all. */
export class Problem extends Error {
	constructor(
		readonly status: number,
		message: string,
	) {
		super(message);
	}
}

type Answer<T> = { data?: T; error?: { detail?: string; errors?: { message?: string }[] | null }; response: Response };

async function take<T>(call: Promise<Answer<unknown>>): Promise<T> {
	let answer: Answer<unknown>;
	try {
		answer = await call;
	} catch {
		throw new Problem(0, t`The service cannot be reached.`);
	}
	if (answer.error || !answer.response.ok) {
		const details = (answer.error?.errors ?? []).map((e) => e.message).join("; ");
		const text = answer.error?.detail ?? answer.response.statusText;
		throw new Problem(answer.response.status, details ? `${text}: ${details}` : text);
	}
	return answer.data as T;
}

export type Page<T> = { items: T[]; next: string };

export type TraceWords = { from?: string; to?: string; subject?: string; id?: string; state?: string };

export const gull = {
	me: () => take<Who>(api.GET("/api/v1/me")),
	signIn: (name: string, password: string, code?: string) =>
		take<Who>(api.POST("/api/v1/sign-in", { body: { name, password, code } })),
	signOut: () => take<void>(api.POST("/api/v1/sign-out")),
	terms: () => take<Page<Term>>(api.GET("/api/v1/terms")),
	upkeep: () => take<Upkeep>(api.GET("/api/v1/upkeep")),
	status: () => take<Status>(api.GET("/api/v1/status")),
	find: (words: TraceWords, after: string, limit: number) =>
		take<Page<Message>>(api.GET("/api/v1/messages", { params: { query: { ...words, after, limit } as never } })),
	trace: (id: string, archive?: number) =>
		take<Trace>(api.GET("/api/v1/messages/{id}", { params: { path: { id }, query: { archive } } })),
};
