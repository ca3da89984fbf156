import { t } from "@lingui/core/macro";
/** What a page is for, and what does the same by command. */
export type PageHelp = {
	/** In a sentence or two. */
	about: string;
	/** By the words of the page's address. */
	command: (search: Record<string, string>) => string;
};

const flags = (names: Record<string, string>) => (search: Record<string, string>) =>
	Object.entries(names)
		.filter(([word]) => search[word])
		.map(([word, flag]) => ` --${flag} ${quoted(search[word] ?? "")}`)
		.join("");

/** quoted writes a word as a shell takes it. */
export function quoted(text: string): string {
	return /^[\w@%+=:,./-]+$/.test(text) ? text : `'${text.replaceAll("'", `'\\''`)}'`;
}

const queueFlags = flags({
	state: "state",
	route: "route",
	sender: "sender",
	recipient: "recipient",
	domain: "domain",
	older: "older",
	newer: "newer",
	larger: "larger",
	smaller: "smaller",
	cause: "cause",
	attempts: "attempts",
	subject: "subject",
	client: "client",
	account: "account",
	action: "action",
});

/** By the address of a page of the navigation. */
export const helps: Record<string, PageHelp> = {
	"/": {
		about: t`What needs a person stands on top; below it what waits, what flows and what is open.`,
		command: () => "gull status",
	},
	"/snags": {
		about: t`Each trouble once: the same cause at the same place, worst first, with what can be done.`,
		command: (s) => `gull snag list${flags({ state: "state", place: "place" })(s)}${s.muted ? " --muted" : ""}`,
	},
	"/queue": {
		about: t`What waits, by lane or message by message; hold, send by another route, return, drop.`,
		command: (s) =>
			s.view === "messages"
				? `gull queue list${queueFlags(s)}`
				: s.view === "actions"
					? "gull queue actions"
					: s.view === "nodes"
						? "gull node list"
						: `gull lane list${flags({ find: "find", state: "state", route: "route", cause: "cause" })(s)}`,
	},
	"/trace": {
		about: t`Where a message is: by any part of an address, subject or id, with times in your own zone.`,
		command: (s) => (s.view === "sessions" ? "gull session list" : `gull trace find ${quoted(s.q ?? "…")}`),
	},
	"/reports": {
		about: t`What came, went and failed over time, by whom and why.`,
		command: (s) => `gull report${flags({ since: "since", until: "until" })(s)}`,
	},
	"/readiness": {
		about: t`Whether the world can reach your domains and believe your mail: DNS, names, keys, certificates.`,
		command: () => "gull readiness",
	},
	"/held": {
		about: t`What gates, the score, identity and people hold, and why. Open one to see it safely; choose some to let them go, send them back or drop them.`,
		command: (s) => `gull held list${flags({ by: "by", severity: "severity", find: "find" })(s)}`,
	},
	"/reputation": {
		about: t`What lists, names and history say of an address or a domain that sends to us; allow or deny it for a time.`,
		command: (s) => `gull reputation${s.about ? ` ${s.about}` : ""}`,
	},
	"/setup": {
		about: t`Domains, mailboxes, routes and rules. Changes collect in a draft that is rehearsed and then applied.`,
		command: () => "gull draft diff",
	},
	"/explain": {
		about: t`What would be decided about a message, by which rule and route, without sending it.`,
		command: (s) =>
			`gull explain${flags({ from: "from", to: "to", client: "client", listener: "listener", account: "account" })(s)}`,
	},
	"/probe": {
		about: t`A live conversation with a mail host, step by step. It begins when you press the button.`,
		command: (s) =>
			s.inwards ? "gull probe --inwards" : `gull probe ${quoted(s.target ?? "…")}${flags({ from: "from" })(s)}`,
	},
};

/** More pages for the palette, behind the nine. */
export const deeper: { to: string; label: string; search?: Record<string, string> }[] = [
	{ to: "/queue", label: t`Queue: messages`, search: { view: "messages" } },
	{ to: "/queue", label: t`Queue: actions`, search: { view: "actions" } },
	{ to: "/queue", label: t`Queue: schedule`, search: { view: "schedule" } },
	{ to: "/queue", label: t`Queue: nodes`, search: { view: "nodes" } },
	{ to: "/trace", label: t`Trace: sessions`, search: { view: "sessions" } },
	{ to: "/trace", label: t`Trace: live`, search: { view: "live" } },
	{ to: "/trace", label: t`Trace: archives`, search: { view: "archives" } },
	{ to: "/setup/domains", label: t`Set up: domains` },
	{ to: "/setup/mailboxes", label: t`Set up: mailboxes` },
	{ to: "/setup/aliases", label: t`Set up: aliases` },
	{ to: "/setup/listeners", label: t`Set up: listeners` },
	{ to: "/setup/relay_rules", label: t`Set up: relay rules` },
	{ to: "/setup/routes", label: t`Set up: routes` },
	{ to: "/setup/peers", label: t`Set up: peers` },
	{ to: "/setup/gates", label: t`Set up: gates` },
	{ to: "/setup/lists", label: t`Set up: lists` },
	{ to: "/setup/dns_lists", label: t`Set up: DNS lists` },
	{ to: "/setup/scanners", label: t`Set up: scanners` },
	{ to: "/setup/dns_servers", label: t`Set up: DNS servers` },
	{ to: "/setup/certificates", label: t`Set up: certificates` },
	{ to: "/setup/secrets", label: t`Set up: secrets` },
	{ to: "/setup/operators", label: t`Set up: operators and tokens` },
	{ to: "/setup/audit", label: t`Set up: audit log` },
	{ to: "/account", label: t`Your account: password and sessions` },
	{ to: "/setup/service", label: t`Set up: server` },
	{ to: "/setup/review", label: t`Set up: review` },
	{ to: "/setup/draft", label: t`Set up: draft` },
	{ to: "/setup/revisions", label: t`Set up: revisions` },
	{ to: "/terms", label: t`What our terms mean` },
];
