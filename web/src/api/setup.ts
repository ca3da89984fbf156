import { ask, type Progress, query, streamed } from "./ask";
import type { Status } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];

export type Fields = Record<string, unknown>;
export type Field = {
	/** Of a list: an item may hold commas. */
	whole?: boolean;
	name: string;
	type: "text" | "number" | "yes_no" | "list" | "record" | "records";
	form?: string;
	doc?: string;
	required?: boolean;
	default?: string;
	allowed?: string[];
	fields?: Field[];
};
export type Item = { name: string; position: number; mark: string; fields: Fields };
export type Section = { items: Item[]; fields: Field[]; ordered: boolean; draft: boolean };
export type SectionKey =
	| "service"
	| "listeners"
	| "domains"
	| "relay_rules"
	| "routes"
	| "peers"
	| "lists"
	| "gates"
	| "dns_lists"
	| "scanners"
	| "dns_servers"
	| "certificates";
export type Hazard = Schemas["Hazard"];
export type Draft = Schemas["Draft"];
export type Change = Schemas["Change"];
export type Report = Schemas["Report"];
export type Group = Schemas["Group"];
export type Applied = Schemas["Applied"];
export type Revision = Schemas["Revision"];
export type RevisionView = Schemas["RevisionView"];
export type GoneMailbox = Schemas["GoneMailbox"];
type Kept = Omit<Schemas["KeptCertificate"], "names"> & { names: string[] };
export type CertificateState = Omit<Schemas["CertificateState"], "names" | "used_by" | "shown"> & {
	names: string[];
	used_by: string[];
	shown?: Kept;
};
export type CertificateChecked = Omit<Schemas["CertificateChecked"], "names" | "faults" | "warnings"> & {
	names: string[];
	faults: string[];
	warnings: string[];
};
export type TLSPolicy = Omit<Schemas["TLSPolicy"], "policy"> & { policy?: { mode: string; mx?: string[] | null } };
export type TLSPolicyChecked = TLSPolicy & { route: string; hosts: Schemas["TLSHostTerms"][]; fails?: string };
export type MailboxLine = Schemas["MailboxLine"];
export type AliasLine = Schemas["AliasLine"];
export type Entry = { fields: Fields; generated: string[]; about: Field[]; mark: string };
export type Answer = Schemas["Answer"];
export type Question = Schemas["Question"];
export type ListState = Schemas["ListState"];
export type Proposal = Schemas["Proposal"];
export type Submitted = Schemas["Submitted"];
export type Imported = Schemas["Imported"];
export type RecordLine = Schemas["Record"];
export type SecretLine = Schemas["SecretLine"];
export type Page<T> = { items: T[]; next: string };

const seg = encodeURIComponent;

export const setup = {
	list: (s: SectionKey) => ask<Section>("GET", `setup/${s}`),
	add: (s: SectionKey, fields: Fields, dry = false) =>
		ask<{ text: string }>("POST", `setup/${s}`, { fields, dry_run: dry }),
	set: (s: SectionKey, name: string, fields: Fields, mark: string, dry = false) =>
		ask<{ text: string }>("PUT", `setup/${s}/${seg(name)}`, { fields, mark, dry_run: dry }),
	patch: (s: SectionKey, name: string, fields: Fields) =>
		ask<{ text: string }>("PATCH", `setup/${s}/${seg(name)}`, { fields }),
	move: (s: SectionKey, name: string, position: number) =>
		ask<{ text: string }>("POST", `setup/${s}/${seg(name)}/move`, { position }),
	remove: (s: SectionKey, name: string, mark: string) =>
		ask<{ text: string }>("DELETE", `setup/${s}/${seg(name)}${query({ mark })}`),
	draft: (yaml = false) => ask<Draft>("GET", `draft${yaml ? "?yaml=true" : ""}`),
	apply: (body: { force?: boolean; why?: string; confirm_within?: number; version?: number }) =>
		ask<Applied>("POST", "draft/apply", body),
	rebase: () => ask<{ met: string[] }>("POST", "draft/rebase"),
	discard: (version: number) => ask<void>("DELETE", `draft${query({ version })}`),
	takeBack: () => ask<void>("POST", "draft/take-back"),
	rehearse: (messages: number, tell: (p: Progress) => void) =>
		streamed<Report>(`draft/rehearse?messages=${messages}`, undefined, "application/json", tell),
	revisions: (after?: string) => ask<Page<Revision>>("GET", `revisions${query({ after, limit: 100 })}`),
	revision: (n: number, against?: number) => ask<RevisionView>("GET", `revisions/${n}${query({ against })}`),
	revert: (n: number, why: string) => ask<Applied>("POST", `revisions/${n}/revert`, { why }),
	confirm: (n: number) => ask<void>("POST", `revisions/${n}/confirm`),
	mailboxes: (words: { search?: string; sort?: string; unused_days?: number; after?: string; limit: number }) =>
		ask<Page<MailboxLine>>("GET", `mailboxes${query(words)}`),
	aliases: (words: { search?: string; after?: string; limit: number }) =>
		ask<Page<AliasLine>>("GET", `aliases${query(words)}`),
	entry: (kind: "mailboxes" | "aliases", address: string) => ask<Entry>("GET", `${kind}/${seg(address)}`),
	entryRemoval: (kind: "mailboxes" | "aliases", address: string) =>
		ask<{ text: string }>("GET", `${kind}/${seg(address)}/removal`),
	addEntry: (kind: "mailboxes" | "aliases", fields: Fields, dry = false) =>
		ask<Entry>("POST", kind, { fields, dry_run: dry }),
	changeEntry: (kind: "mailboxes" | "aliases", address: string, fields: Fields, mark: string, dry = false) =>
		ask<Entry>("PATCH", `${kind}/${seg(address)}`, { fields, mark, dry_run: dry }),
	removed: () => ask<Page<GoneMailbox>>("GET", "removed-mailboxes"),
	giveBack: (address: string, as?: string) =>
		ask<Schemas["GivenBack"]>("POST", `removed-mailboxes/${seg(address)}/give-back`, { as }),
	removeEntry: (kind: "mailboxes" | "aliases", address: string) => ask<void>("DELETE", `${kind}/${seg(address)}`),
	importEntries: (kind: "mailboxes" | "aliases", csv: string, dry: boolean, tell: (p: Progress) => void) =>
		streamed<Imported>(`${kind}/import${dry ? "?dry_run=true" : ""}`, csv, "text/csv", tell),
	changes: (name?: string) => ask<Page<RecordLine>>("GET", `changes${query({ name, limit: 20 })}`),
	secrets: () => ask<Page<SecretLine>>("GET", "secrets"),
	setSecret: (name: string, value: string) => ask<void>("PUT", `secrets/${seg(name)}`, { value }),
	removeSecret: (name: string) => ask<void>("DELETE", `secrets/${seg(name)}`),
	lists: () => ask<Page<ListState>>("GET", "lists"),
	certificates: () => ask<Page<CertificateState>>("GET", "certificates"),
	tlsPolicies: (after: string) => ask<Page<TLSPolicy>>("GET", `tls-policies${query({ after, limit: 50 })}`),
	askTLSPolicy: (domain: string) => ask<TLSPolicyChecked>("POST", `tls-policies/${seg(domain)}/check`),
	renew: (name: string) => ask<CertificateState>("POST", `certificates/${seg(name)}/renew`),
	upload: (name: string, body: { chain: string; key: string; check: boolean }) =>
		ask<CertificateChecked>("POST", `certificates/${seg(name)}/upload`, body),
	proposals: () => ask<Page<Proposal>>("GET", "gate-proposals"),
	addProposal: (key: string, answers: Record<string, string>, watch: boolean) =>
		ask<{ text: string }>("POST", `gate-proposals/${seg(key)}`, { answers, watch }),
	explain: (q: Partial<Question>) => ask<Page<Answer>>("POST", "explain", q),
	send: (message: { from: string; to: string[]; listener?: string; client?: string; subject?: string }) =>
		ask<Submitted>("POST", "send", message),
};

export type { Status };
