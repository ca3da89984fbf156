package review

// rule is what a finding means wherever it is found.
type rule struct {
	severity           Severity
	title, why, byHand string
}

// rules are all that a review looks for.
var rules = map[string]rule{
	// who may send
	"open-relay": {
		Critical,
		"Anyone may send anywhere",
		"Spammers find an open relay within hours; our address is on every block list within a " +
			"day.",
		"Name the networks of your own machines, or accounts that sign in.",
	},
	"wide-network": {
		Serious,
		"A relay rule allows a very wide network",
		"Every machine in it, known or taken over, may send in our name.",
		"Name the networks in which our machines really are (gull relay set).",
	},
	"relay-by-sender": {
		Serious,
		"A relay rule believes a sender's address",
		"Anyone can write any sender; it proves nothing.",
		"Add the networks or accounts of those who may.",
	},
	"relay-at-edge": {
		Minor,
		"A relay rule for our machines counts at the edge too",
		"Where the world connects, a network that is routed or faked wrongly would relay.",
		"",
	},
	"any-sender": {
		Serious,
		"People who sign in may send as anybody",
		"A stolen password sends in the name of the harbour master.",
		"",
	},
	"no-account-limits": {
		Serious,
		"Accounts may send without limit",
		"A stolen password sends all night; our address is blocked by morning.",
		"",
	},
	"loose-limits": {
		Minor,
		"Accounts may send far more than they ever do",
		"A stolen password sends for hours before the limit is met.",
		"",
	},
	"no-machine-limits": {
		Minor,
		"Machines may send without limit",
		"A machine that was taken over, or a script in a circle, fills the queue.",
		"",
	},
	"rule-never-reached": {
		Minor,
		"A relay rule is never reached",
		"It looks as if it protected something, and does nothing.",
		"Move it up or take it out.",
	},
	// where mail comes in
	"clear-sign-in": {
		Critical,
		"Passwords come in the clear over the network",
		"Whoever listens in transit has them.",
		"",
	},
	"sign-in-without-tls": {
		Minor,
		"Sign-in without TLS is allowed",
		"On loopback nobody listens; if the address ever changes, passwords go in the clear.",
		"",
	},
	"submission-optional": {
		Minor,
		"A listener for people asks no TLS before mail",
		"A mail program without TLS sends messages readable to all; it learns nothing of it.",
		"",
	},
	"edge-without-tls": {
		Serious,
		"The world cannot send to us under TLS",
		"Every message can be read in transit; some hosts refuse to send.",
		"",
	},
	"own-certificate": {
		Serious,
		"People are shown a certificate that the server made itself",
		"Mail programs warn, and people learn to click warnings away.",
		"Give the listener a certificate of an authority (gull listener set NAME --certificate " +
			"FILE --key FILE).",
	},
	"certificate-ends": {
		Serious,
		"A certificate ends soon",
		"Mail programs and strict hosts refuse from that day.",
		"Renew it; the file is read again by itself.",
	},
	"certificate-ended": {
		Critical,
		"A certificate has ended",
		"Mail programs and strict hosts refuse.",
		"Renew it; the file is read again by itself.",
	},
	"certificate-name": {
		Serious,
		"A certificate has another name than its listener",
		"Whoever checks it refuses.",
		"Get one for the name that the listener greets with.",
	},
	"no-connection-limit": {
		Minor,
		"One address may connect as often as it likes",
		"A single machine can keep others out.",
		"",
	},
	"huge-messages": {
		Minor,
		"Very large messages are taken from strangers",
		"A few of them fill the disk.",
		"",
	},
	"many-errors": {
		Minor,
		"Strangers may fail very often before they are cut off",
		"It lets addresses be guessed by the thousand.",
		"",
	},
	"open-lmtp": {
		Critical,
		"LMTP is open to the network",
		"Whoever reaches it puts messages into mailboxes without any check.",
		"Name the neighbour's address in allow (gull listener set NAME --allow ADDRESS).",
	},
	"inside-open": {
		Serious,
		"A listener without sign-in is open to every network",
		"It is guarded by relay rules alone; one wrong rule, and it is an open relay.",
		"Name our machines' networks in allow (gull listener set NAME --allow NETWORK).",
	},
	"identity-off": {
		Serious,
		"Nobody looks whether strangers are who they say",
		"Forged messages look like genuine ones, in the name of our own people too.",
		"",
	},
	"no-transcript": {
		Minor,
		"No transcript is kept",
		"When something goes wrong nobody can see what was said.",
		"",
	},
	// domains
	"no-postmaster": {
		Serious,
		"Mail to postmaster is refused",
		"RFC 5321 demands it; others cannot tell us of trouble, and some lists take us off for it.",
		"Add the mailbox or an alias, or name another postmaster.",
	},
	"no-abuse": {
		Minor,
		"Nobody reads abuse",
		"Complaints about us come there (RFC 2142); unanswered they end on a block list.",
		"",
	},
	"catch-all-answer": {
		Serious,
		"A mailbox that gets everything answers by itself",
		"It answers spam, to forged senders: that is spam of our own.",
		"",
	},
	"catch-all": {
		Minor,
		"A domain takes every address",
		"It fills with spam to made-up names, and typing errors are never told to the sender.",
		"",
	},
	"unverified-relay": {
		Minor,
		"A domain that we pass on takes any recipient",
		"What the next server then refuses, we must send back: to forged senders, mostly.",
		"",
	},
	"not-signed": {
		Serious,
		"Messages of a domain are not signed",
		"Large receivers put unsigned messages aside.",
		"Make a key: gull dkim make DOMAIN; its readiness shows what to publish.",
	},
	"key-not-in-dns": {
		Critical,
		"Messages are signed with a key that DNS does not have",
		"Every signature fails; with DMARC the messages are refused.",
		"Publish its record again, or retire the key (gull dkim list).",
	},
	"short-key": {
		Serious,
		"A signing key is short",
		"It can be broken; many verifiers ignore it.",
		"Rotate it: gull dkim rotate DOMAIN.",
	},
	"old-key": {
		Minor,
		"A signing key is more than a year old",
		"The longer a key is used, the more a copy of it is worth.",
		"Rotate it: gull dkim rotate DOMAIN.",
	},
	"not-ready": {
		Serious,
		"What the world sees of a domain is not right",
		"Messages to and from it are refused or distrusted.",
		"Open its readiness: it shows each point and the record to publish (gull readiness " +
			"DOMAIN).",
	},
	// ways out
	"no-way-out": {
		Serious,
		"No route leads outside",
		"Messages to others wait, and nobody is told for hours.",
		`Add one: gull route add "to the world" --recipients "*" --next-hop mx.`,
	},
	"clear-smart-host": {
		Serious,
		"A smart host is used without TLS",
		"All our mail goes readable over the provider's network.",
		"",
	},
	"unverified-sign-in": {
		Serious,
		"A password is sent to a host whose certificate is not checked",
		"Whoever stands in its place gets our account.",
		"",
	},
	"shared-secret": {
		Serious,
		"One password is used at several hosts",
		"Who runs one of them can use the others.",
		"Ask for an account at each, and keep each password under a name of its own (gull secret " +
			"set).",
	},
	"route-never-used": {
		Minor,
		"A route is never used",
		"It looks as if mail went by it.",
		"Move it up or take it out.",
	},
	"ipv6-without-name": {
		Serious,
		"We send by IPv6 from an address without a name",
		"Most large receivers refuse such mail outright.",
		"",
	},
	// schedule and notices
	"short-expiry": {
		Serious,
		"Messages expire within a day",
		"A weekend's outage of somebody else's server loses messages (RFC 5321 section 4.5.4.1 " +
			"asks for four or five days).",
		"",
	},
	"nobody-warned": {
		Serious,
		"No delay notices are sent",
		"They believe that their message has arrived.",
		"",
	},
	"eager-retry": {
		Minor,
		"Waiting messages are tried again very soon",
		"It bothers hosts that ask for patience, and looks like an attack (RFC 5321 asks for 30 " +
			"minutes).",
		"",
	},
	"hasty-timeouts": {
		Minor,
		"We hang up before slow hosts answer",
		"RFC 5321 section 4.5.3.2 asks for five minutes; messages to slow hosts wait for ever.",
		"",
	},
	"nobody-alerted": {
		Serious,
		"Nobody is told of trouble",
		"It is noticed when people complain.",
		"",
	},
	"no-daily-report": {
		Minor,
		"Nobody gets the daily report",
		"Slow changes are seen by nobody.",
		"",
	},
	"short-memory": {
		Minor,
		"Messages are forgotten within a week",
		"“I sent it last week” cannot be answered.",
		"",
	},
	"no-block-lists": {
		Minor,
		"Nobody looks whether we are on a block list",
		"It is learnt from bounces.",
		"Name some lists: gull service set --block-lists NAME.",
	},
	"one-resolver": {
		Minor,
		"There is one DNS server only",
		"When it is down, no mail leaves.",
		"Name a second: gull service set --resolvers A,B.",
	},
	"resolver-outside": {
		Minor,
		"Questions to DNS go over the network in the clear",
		"Answers can be forged on the way; block lists answer public resolvers not at all.",
		"Run a resolver on this machine, or in our own network.",
	},
	"postmaster-leaves": {
		Serious,
		"The postmaster's mail leaves this server",
		"What is told him of trouble is stuck in that trouble.",
		"Give the postmaster a mailbox here.",
	},
	// people
	"cannot-sign-in": {
		Minor,
		"Mailboxes that may send have no password",
		"Their owners cannot; or the right is not needed.",
		"Set a password (gull mailbox set ADDRESS --password-stdin) or take the right away.",
	},
	"unused-mailbox": {
		Minor,
		"Mailboxes that nobody uses any more",
		"Nobody signed in to them for half a year; a forgotten account is the one whose theft " +
			"nobody sees.",
		"Ask their owners; then remove them, or take the right to sign in away (gull mailbox " +
			"set ADDRESS " +
			"--reading-by none --may-submit=false).",
	},
	"no-quota": {
		Minor,
		"Mailboxes may grow without limit",
		"One of them fills the disk for all.",
		"Give them a quota: gull mailbox set ADDRESS --quota \"5 GB\".",
	},
	"forward-all": {
		Minor,
		"A mailbox sends everything on and keeps nothing",
		"When the other server refuses, its owner learns nothing, and our address is blamed for " +
			"the spam in it.",
		"Keep a copy: gull mailbox set ADDRESS --keep-copy.",
	},
	"alias-leads-out": {
		Minor,
		"An alias leads outside only",
		"What comes there is passed on unseen, spam too, in our name.",
		"Take the address out, or give it a mailbox here too.",
	},
	"send-as-everybody": {
		Serious,
		"An account may send as anybody of a domain",
		"With its password a thief is everybody.",
		"Name the addresses it needs (gull mailbox set ADDRESS --send-as A,B).",
	},
	// gates and lists
	"no-gate-programs": {
		Serious,
		"No gate stands against programs from outside",
		"A program in a message, opened once, is how most machines are lost.",
		"Adopt the proposal, watching at first if you like: gull gate adopt no-programs --watch.",
	},
	"list-dead": {
		Serious,
		"A list's source brings nothing",
		"Its last copy stays in force and grows old; what refers to it decides by what was.",
		"Look at the source (gull list state), or name another: gull list set NAME --source URL.",
	},
	"watch-forgotten": {
		Minor,
		"A gate has only watched for a month",
		"It was meant to decide one day; meanwhile people believe that it does.",
		"Look at what it met (gull trace find --gate NAME), then turn it on or take it out.",
	},
	"open-allow-list": {
		Serious,
		"A list that lets past holds everybody",
		"What a gate spares by it is the whole world: the gate stands open.",
		"Name the partners one by one in the list.",
	},
	// the machine
	"disk-full": {
		Critical,
		"A disk is nearly full",
		"Then no message is taken any more.",
		"Make room, or keep things for less time (gull service set --retention).",
	},
	"machine": {
		Minor,
		"Something about the machine needs a look",
		"It is well today; it will not stay so by itself.",
		"What to do stands beside it; gull doctor looks at everything.",
	},
	"clock-off": {
		Serious,
		"The clock is off",
		"Dates in messages are wrong, certificates look invalid, and schedules go astray.",
		"Let the machine's clock be set by NTP.",
	},
	"console-in-clear": {
		Critical,
		"The console is reached over the network without TLS",
		"Whoever listens in transit has the administrator's password.",
		"Start the service with --tls-cert and --tls-key, or let it listen on loopback.",
	},
	"asynchronous-standby": {
		Serious,
		"Commits wait for no standby",
		"When the primary dies and a standby is promoted, mail that got its 250 in the last " +
			"moments is on no host that is left.",
		"Set synchronous_standby_names on the primary, with two standbys to choose from: see " +
			"docs/operations.md.",
	},
	"only-standby": {
		Minor,
		"Commits wait for the only standby",
		"When it stops no mail is taken until it is back or taken out of " +
			"synchronous_standby_names.",
		"Add a second standby and name both: synchronous_standby_names = 'ANY 1 (one, two)'.",
	},
	"key-file-copy": {
		Minor,
		"Nobody said that the key file is kept elsewhere too",
		"Without it every password and every signing key in the database is lost with the machine.",
		"Copy it to a safe place, then accept this with where it is.",
	},
}

// Rules is how many findings are looked for.
func Rules() int { return len(rules) }
