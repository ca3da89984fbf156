/** A page as people go to it: by the navigation, the palette and the help. */
export type PageInfo = {
	to: string;
	label: string;
	/** What it is for, in a sentence or two. */
	about: string;
	/** The same by command, from the words of its address. */
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

export const pages: PageInfo[] = [
	{
		to: "/",
		label: "Overview",
		about: "What needs a person stands on top; below it what waits, what flows and what is open.",
		command: () => "gull status",
	},
	{
		to: "/snags",
		label: "Snags",
		about: "Each trouble once: the same cause at the same place, worst first, with what can be done.",
		command: (s) => `gull snag list${flags({ state: "state", place: "place" })(s)}${s.muted ? " --muted" : ""}`,
	},
	{
		to: "/queue",
		label: "Queue",
		about: "What waits, by lane or message by message; hold, send by another route, return, drop.",
		command: (s) =>
			s.view === "messages"
				? `gull queue list${queueFlags(s)}`
				: s.view === "actions"
					? "gull queue actions"
					: s.view === "nodes"
						? "gull node list"
						: `gull lane list${flags({ find: "find", state: "state", route: "route", cause: "cause" })(s)}`,
	},
	{
		to: "/trace",
		label: "Trace",
		about: "Where a message is: by any part of an address, subject or id, with times in your own zone.",
		command: (s) => (s.view === "sessions" ? "gull session list" : `gull trace find ${quoted(s.q ?? "…")}`),
	},
	{
		to: "/reports",
		label: "Reports",
		about: "What came, went and failed over time, by whom and why.",
		command: (s) => `gull report${flags({ since: "since", until: "until" })(s)}`,
	},
	{
		to: "/readiness",
		label: "Readiness",
		about: "Whether the world can reach your domains and believe your mail: DNS, names, keys, certificates.",
		command: () => "gull readiness",
	},
	{
		to: "/setup",
		label: "Set up",
		about: "Domains, mailboxes, routes and rules. Changes collect in a draft that is rehearsed and then applied.",
		command: () => "gull draft diff",
	},
	{
		to: "/explain",
		label: "Explain",
		about: "What would be decided about a message, by which rule and route, without sending it.",
		command: (s) =>
			`gull explain${flags({ from: "from", to: "to", client: "client", listener: "listener", account: "account" })(s)}`,
	},
	{
		to: "/probe",
		label: "Probe",
		about: "A live conversation with a mail host, step by step. It begins when you press the button.",
		command: (s) =>
			s.inwards ? "gull probe --inwards" : `gull probe ${quoted(s.target ?? "…")}${flags({ from: "from" })(s)}`,
	},
];

/** More pages for the palette, behind the nine. */
export const deeper: { to: string; label: string; search?: Record<string, string> }[] = [
	{ to: "/queue", label: "Queue: messages", search: { view: "messages" } },
	{ to: "/queue", label: "Queue: actions", search: { view: "actions" } },
	{ to: "/queue", label: "Queue: schedule", search: { view: "schedule" } },
	{ to: "/queue", label: "Queue: nodes", search: { view: "nodes" } },
	{ to: "/trace", label: "Trace: sessions", search: { view: "sessions" } },
	{ to: "/trace", label: "Trace: live", search: { view: "live" } },
	{ to: "/trace", label: "Trace: archives", search: { view: "archives" } },
	{ to: "/setup/domains", label: "Set up: domains" },
	{ to: "/setup/mailboxes", label: "Set up: mailboxes" },
	{ to: "/setup/aliases", label: "Set up: aliases" },
	{ to: "/setup/listeners", label: "Set up: listeners" },
	{ to: "/setup/relay_rules", label: "Set up: relay rules" },
	{ to: "/setup/routes", label: "Set up: routes" },
	{ to: "/setup/peers", label: "Set up: peers" },
	{ to: "/setup/secrets", label: "Set up: secrets" },
	{ to: "/setup/service", label: "Set up: server" },
	{ to: "/setup/review", label: "Set up: review" },
	{ to: "/setup/draft", label: "Set up: draft" },
	{ to: "/setup/revisions", label: "Set up: revisions" },
	{ to: "/terms", label: "What our terms mean" },
];

/** The page of the navigation that a path belongs to. */
export function pageOf(path: string): PageInfo | undefined {
	const own = (p: PageInfo) => p.to !== "/" && path.startsWith(p.to);
	return pages.find(own) ?? (path === "/" ? pages[0] : path.startsWith("/messages") ? pages[3] : undefined);
}
