import type { Happening } from "./stream";

/** What a query's key is: what it asks for, and the words by which. */
export type Key = readonly unknown[];

type Rule = {
	/** The kinds of events that touch it; "setup/config" is a setup event of that text. */
	by: readonly string[];
	/** It is read again this many milliseconds apart at least, however much happens. */
	pace: number;
	/** It follows a little later than what it is made of: it is read once more after so long. */
	later?: number;
	/** While the stream is live it is still read again after so long, since it tells of time. */
	slow?: number;
	/** Whether an event is about what this key asks for; if not given, each is. */
	about?: (key: Key, e: Happening) => boolean;
};

const mail = ["received", "delivered", "deferred", "bounced", "expired", "action", "held", "gate", "setup/queue"];
const queue = [...mail, "lane", "setup/pause"];
const setup = ["setup/draft", "setup/config", "setup/directory", "setup/secret", "setup/password", "setup/dkim"];

const ofLane = (id: unknown) => (e: Happening) => !id || !e.lane || e.lane === id;

/** What touches each query, by the first word of its key. */
const rules: Record<string, Rule> = {
	// Counts follow what happens by some seconds.
	status: { by: [...queue, "rejected", ...setup], pace: 5000, later: 6000, slow: 60_000 },
	recent: { by: mail, pace: 5000 },
	messages: {
		by: queue,
		pace: 2000,
		about: (key, e) => ofLane((key[1] as { lane?: string } | undefined)?.lane)(e),
	},
	lanes: { by: queue, pace: 2000, slow: 60_000 },
	groups: { by: queue, pace: 2000 },
	ages: { by: queue, pace: 10_000, slow: 60_000, about: (key, e) => ofLane(key[1])(e) },
	lane: { by: queue, pace: 2000, later: 6000, slow: 15_000, about: (key, e) => ofLane(key[1])(e) },
	pauses: { by: ["setup/pause"], pace: 500 },
	actions: { by: ["setup/queue", "action"], pace: 1000 },
	trace: {
		by: [...mail, "delayed", "report", "lane"],
		pace: 500,
		about: (key, e) => e.kind === "lane" || e.kind === "setup" || e.message_id === key[1],
	},
	search: { by: mail, pace: 5000 },
	sessions: { by: [...mail, "rejected"], pace: 5000 },
	session: { by: mail, pace: 2000 },
	snags: { by: [...queue, "rejected", ...setup], pace: 10_000, later: 4000, slow: 60_000 },
	// That it is over is found by the service on its rounds, and no event tells it.
	snag: { by: [...queue, "rejected", ...setup], pace: 5000, later: 4000, slow: 8000 },
	report: { by: mail, pace: 30_000 },
	upkeep: { by: ["setup/config", "setup/dkim"], pace: 1000, slow: 600_000 },
	"report-table": { by: mail, pace: 30_000 },
	movers: { by: mail, pace: 60_000 },
	behind: { by: mail, pace: 30_000 },
	draft: { by: setup, pace: 300 },
	setup: { by: setup, pace: 300 },
	"list-states": { by: ["setup/config"], pace: 1000, slow: 60_000 },
	review: { by: setup, pace: 1000 },
	revisions: { by: setup, pace: 300 },
	mailboxes: { by: setup, pace: 300 },
	aliases: { by: setup, pace: 300 },
	changes: { by: setup, pace: 300 },
	secrets: { by: setup, pace: 300 },
	kept: { by: [], pace: 1000, slow: 300_000 },
	held: { by: queue, pace: 3000, slow: 30_000 },
	reputation: { by: ["setup/standing", "setup/config"], pace: 1000, slow: 60_000 },
	readiness: { by: setup, pace: 1000, slow: 120_000 },
	dkim: { by: setup, pace: 300 },
	watches: { by: ["setup/watch"], pace: 300, slow: 60_000 },
	nodes: { by: ["lane", "setup/config"], pace: 2000, slow: 10_000 },
	"archived-days": { by: [], pace: 1000, slow: 60_000 },
	archives: { by: [], pace: 1000, slow: 30_000 },
	me: { by: [], pace: 1000, slow: 300_000 },
};

const others: Rule = { by: [], pace: 1000 };

const ruleOf = (key: Key): Rule => rules[String(key[0])] ?? others;

/** How an event is named in the rules. */
const nameOf = (e: Happening) => (e.kind === "setup" ? `setup/${e.text}` : e.kind);

/** Whether an event touches what a key asks for. What was missed touches everything. */
export function touches(key: Key, e: Happening): boolean {
	const rule = ruleOf(key);
	if (e.kind === "lost") {
		return rule.by.length > 0;
	}
	return rule.by.includes(nameOf(e)) && (rule.about?.(key, e) ?? true);
}

/** How far apart readings of a family are at least, and how long after one it is read once more. */
export function paceOf(key: Key): { pace: number; later: number } {
	const rule = ruleOf(key);
	return { pace: rule.pace, later: rule.later ?? 0 };
}

/** How often it is read though nothing happened, in milliseconds; false: never. */
export function restOf(key: Key, live: boolean): number | false {
	const rule = ruleOf(key);
	if (live || rule.by.length === 0) {
		return rule.slow ?? false;
	}
	return Math.min(rule.slow ?? 10_000, 10_000);
}
