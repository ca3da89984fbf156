import { type At, ask, query } from "./ask";
import type { Page } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];

export type Person = Schemas["Person"];
export type PersonMade = Schemas["PersonMade"];
export type PersonSession = Schemas["PersonSession"];
export type Token = Schemas["Token"];
export type TokenMade = Schemas["TokenMade"];
export type SecondFactor = Schemas["SecondFactor"];
export type Role = Person["role"];
export type Deed = Schemas["Deed"];
export type DeedWords = { who?: string; action?: string; target?: string };

const at = (name: string) => `operators/${encodeURIComponent(name)}`;

/** Who administers, tokens of programs, and who did what. */
export const people = {
	list: () => ask<Page<Person>>("GET", "operators"),
	add: (p: Schemas["PersonNew"]) => ask<PersonMade>("POST", "operators", p),
	change: (name: string, ch: Schemas["PersonChange"]) => ask<PersonMade>("PATCH", at(name) as At<"patch">, ch),
	remove: (name: string) => ask<void>("DELETE", at(name) as At<"delete">),
	sessions: (name: string) => ask<Page<PersonSession>>("GET", `${at(name)}/sessions` as At<"get">),
	endSession: (name: string, id: number) => ask<void>("DELETE", `${at(name)}/sessions/${id}` as At<"delete">),
	ownSessions: () => ask<Page<PersonSession>>("GET", "me/sessions"),
	endOwn: (id: number) => ask<void>("DELETE", `me/sessions/${id}` as At<"delete">),
	changePassword: (old: string, chosen: string) =>
		ask<void>("POST", "me/password", { old_password: old, new_password: chosen }),
	first: (link: string, name: string, password: string) =>
		ask<void>("POST", "first-operator", { link, name, password }),
	second: () => ask<SecondFactor>("GET", "me/second-factor"),
	beginSecond: (password: string) => ask<SecondFactor>("POST", "me/second-factor", { password }),
	confirmSecond: (code: string) => ask<Schemas["RecoveryCodes"]>("POST", "me/second-factor/confirm", { code }),
	removeSecond: (password: string) => ask<void>("POST", "me/second-factor/remove", { password }),
	tokens: () => ask<Page<Token>>("GET", "tokens"),
	addToken: (t: Schemas["TokenNew"]) => ask<TokenMade>("POST", "tokens", t),
	revoke: (id: number) => ask<void>("DELETE", `tokens/${id}` as At<"delete">),
	deeds: (words: DeedWords, after: string, limit: number) =>
		ask<Page<Deed>>("GET", `audit${query({ ...words, after, limit })}` as At<"get">),
	verify: () => ask<Schemas["Inspection"]>("GET", "audit/verify"),
};
