import { t } from "@lingui/core/macro";
import { Problem } from "./client";
import type { paths } from "./schema";

/** What is wrong, by field, when the service refuses a form. */
export class Refused extends Problem {
	constructor(
		status: number,
		message: string,
		readonly fields: Record<string, string>,
		readonly rest: string[],
	) {
		super(status, message);
	}
}

type ProblemBody = { detail?: string; errors?: { location?: string; message?: string }[] | null };

function refused(status: number, body: ProblemBody): Refused {
	const fields: Record<string, string> = {};
	const rest: string[] = [];
	for (const e of body.errors ?? []) {
		if (e.location) {
			fields[e.location] = e.message ?? "";
		} else if (e.message) {
			rest.push(e.message);
		}
	}
	const all = (body.errors ?? []).map((e) => (e.location ? `${e.location}: ${e.message}` : e.message)).join("; ");
	return new Refused(status, [body.detail, all].filter(Boolean).join(": "), fields, rest);
}

export async function send(method: string, path: string, body?: unknown, type = "application/json"): Promise<Response> {
	let response: Response;
	try {
		response = await fetch(`/api/v1/${path}`, {
			method,
			headers: { "X-Gull-Console": "1", ...(body === undefined ? {} : { "Content-Type": type }) },
			body: body === undefined ? undefined : type === "application/json" ? JSON.stringify(body) : (body as string),
		});
	} catch {
		throw new Problem(0, t`The service cannot be reached.`);
	}
	if (!response.ok) {
		throw refused(response.status, await response.json().catch(() => ({ detail: response.statusText })));
	}
	return response;
}

type Method = "get" | "post" | "put" | "patch" | "delete";

/** A path of the description as a call writes it: what stands in braces may be any text. */
type Written<P> = P extends `${infer A}{${string}}${infer B}` ? `${A}${string}${Written<B>}` : P;

/** The paths at which the service has a method, by its own description. */
export type At<M extends Method> = {
	[P in keyof paths]: paths[P] extends Record<M, { responses: unknown }>
		? Written<P> extends `/api/v1/${infer Rest}`
			? Rest | `${Rest}?${string}`
			: never
		: never;
}[keyof paths];

/** Asks the service. That it has such a call is checked when the console is built. */
export function ask<T>(method: "GET", path: At<"get">): Promise<T>;
export function ask<T>(method: "POST", path: At<"post">, body?: unknown): Promise<T>;
export function ask<T>(method: "PUT", path: At<"put">, body?: unknown): Promise<T>;
export function ask<T>(method: "PATCH", path: At<"patch">, body?: unknown): Promise<T>;
export function ask<T>(method: "DELETE", path: At<"delete">): Promise<T>;
export async function ask<T>(method: string, path: string, body?: unknown): Promise<T> {
	const response = await send(method, path, body);
	return response.status === 204 ? (undefined as T) : ((await response.json()) as T);
}

export type Progress = { progress?: number; done?: number; what?: string };
type Line = Progress & { step?: { host?: string; step: never } };

/** Long work answers line by line: progress, and at the end its result. */
export async function streamed<T>(path: string, body: unknown, type: string, tell: (p: Line) => void): Promise<T> {
	const response = await send("POST", path, body, type);
	const reader = response.body?.pipeThrough(new TextDecoderStream()).getReader();
	let rest = "";
	for (;;) {
		const piece = await reader?.read();
		if (!piece || piece.done) {
			throw new Problem(0, t`The answer broke off; what was done is not known.`);
		}
		const lines = (rest + piece.value).split("\n");
		rest = lines.pop() ?? "";
		for (const line of lines.filter(Boolean)) {
			const l = JSON.parse(line);
			if (l.problem) {
				throw refused(l.problem.status, l.problem);
			}
			if (l.result) {
				return l.result as T;
			}
			tell(l);
		}
	}
}

/** The words of a question as they stand in an address; what is empty is left out. */
export function query(words: Record<string, unknown>): "" | `?${string}` {
	const q = new URLSearchParams();
	for (const [k, v] of Object.entries(words)) {
		if (v !== undefined && v !== "" && !(Array.isArray(v) && v.length === 0)) {
			q.set(k, String(v));
		}
	}
	return q.size > 0 ? (`?${q}` as const) : "";
}
