import { t } from "@lingui/core/macro";
import { type At, ask, query } from "./ask";
import { zone } from "./choices";
import type { Message, Page } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];

export type Refusal = Schemas["Refusal"];
export type Found = Message & { refused?: Refusal };
export type FoundPage = Page<Found> & { understood: string[]; searched_back_to: string | null; as_of: string | null };
export type Session = Schemas["Session"];
export type SessionShown = Schemas["SessionView"];
export type Line = Schemas["Line"];
export type RefusalView = Schemas["RefusalView"];
export type Watch = Schemas["Watch"];
export type Report = Schemas["TrafficReport"];
export type Row = Schemas["Row"];
export type Point = Schemas["Point"];
export type Slot = Schemas["Slot"];
export type Behind = Schemas["Behind"];
export type Movers = Schemas["Movers"];
export type Archive = Schemas["Info"];
export type ArchivedDay = Schemas["ArchivedDay"];

/** The words of a search, as they stand in an address. */
export type SearchWords = {
	q?: string;
	from?: string;
	to?: string;
	subject?: string;
	id?: string;
	client?: string;
	host?: string;
	state?: string;
	cause?: string;
	gate?: string;
	severity?: string;
	since?: string;
	until?: string;
	order?: "newest" | "oldest";
	archive?: number;
};

export type SessionWords = {
	direction?: string;
	peer?: string;
	outcome?: string;
	longer?: string;
	listener?: string;
	route?: string;
	sort?: string;
	archive?: number;
};

/** The period of a report and what it is of. */
export type ReportWords = {
	since?: string;
	until?: string;
	before?: string;
	dim?: string;
	value?: string;
	archive?: number;
};

const read = <T>(path: At<"get">) => ask<T>("GET", path);

export const tracing = {
	search: (words: SearchWords, after: string, limit: number) =>
		read<FoundPage>(`trace${query({ ...words, zone: zone(), after, limit })}`),
	refusal: (id: string, archive?: number) => read<RefusalView>(`refusals/${id}${query({ archive })}`),
	sessions: (words: SessionWords, after: string, limit: number) =>
		read<Page<Session>>(`sessions${query({ ...words, after, limit })}`),
	session: (id: string, archive?: number) => read<SessionShown>(`sessions/${id}${query({ archive })}`),
	watches: () => read<Page<Watch>>("watches"),
	watch: (what: string, time: string) => ask<Watch>("POST", "watches", { what, for: time }),
	report: (words: ReportWords) => read<Report>(`report${query({ ...words, zone: zone() })}`),
	behind: (words: Record<string, string | number | undefined>, after: string, limit: number) =>
		read<Page<Behind>>(`report/messages${query({ ...words, after, limit })}`),
	table: (dim: string, words: ReportWords, limit: number) =>
		read<Page<Row>>(
			`report/tables/${dim}${query({ since: words.since, until: words.until, archive: words.archive, limit })}`,
		),
	movers: (words: ReportWords & { kind: string; limit: number }) => read<Movers>(`report/movers${query(words)}`),
	days: () => read<Page<ArchivedDay>>("archived-days"),
	openDay: (day: string) => ask<Archive>("POST", `archived-days/${day}`, {}),
	archives: () => read<Page<Archive>>("archives"),
	close: (id: number) => ask<void>("DELETE", `archives/${id}`),
};

/** Sends a file as it is read from the disk, and tells how far it is. */
export function openArchive(file: File, tell: (share: number) => void): Promise<Archive> {
	return new Promise((resolve, reject) => {
		const r = new XMLHttpRequest();
		r.open("POST", `/api/v1/archives${query({ name: file.name })}`);
		r.setRequestHeader("X-Gull-Console", "1");
		r.setRequestHeader("Content-Type", "application/octet-stream");
		r.upload.onprogress = (e) => tell(e.total > 0 ? e.loaded / e.total : 0);
		r.onerror = () => reject(new Error(t`The service cannot be reached.`));
		r.onload = () => {
			try {
				const body = JSON.parse(r.responseText);
				if (r.status < 300) {
					resolve(body as Archive);
				} else {
					reject(new Error(body.detail ?? r.statusText));
				}
			} catch {
				reject(new Error(r.statusText));
			}
		};
		r.send(file);
	});
}
