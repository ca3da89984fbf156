import { t } from "@lingui/core/macro";

let words: Record<string, string> | undefined;

/** The names of states, outcomes and kinds as they are read; the service has them in English. */
const all = (): Record<string, string> => ({
	moving: t`moving`,
	delivered: t`delivered`,
	sending: t`sending`,
	waiting: t`waiting`,
	deferred: t`deferred`,
	resting: t`resting`,
	paused: t`paused`,
	held: t`held`,
	discarded: t`discarded`,
	stranded: t`stranded`,
	parked: t`parked`,
	bounced: t`bounced`,
	expired: t`expired`,
	refused: t`refused`,
	rejected: t`rejected`,
	broken: t`broken`,
	partly: t`partly`,
	passed: t`passed`,
	received: t`received`,
	forwarded: t`forwarded`,
	open: t`open`,
	idle: t`idle`,
	lane: t`lane`,
	critical: t`critical`,
	serious: t`serious`,
	minor: t`minor`,
	in: t`in`,
	out: t`out`,
	no_match: t`no match`,
	decided: t`decides`,
	hour: t`hour`,
	day: t`day`,
	week: t`week`,
});

/** wordOf is a name that the service uses, as it is read; one that is not known stays as it is. */
export function wordOf(name: string): string {
	words ??= all();
	return words[name] ?? name.replaceAll("_", " ");
}
