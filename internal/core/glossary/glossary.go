// Package glossary says what our own terms mean: those for which the trade has no word. It
// is shown by the commands, by the console, and is docs/glossary.md.
package glossary

import (
	"fmt"
	"strings"
)

// Term is one of our own words.
type Term struct {
	Name    string `json:"name"`
	Means   string `json:"means" doc:"One sentence"`
	Example string `json:"example"`
}

// Terms are all of them, by name.
var Terms = []Term{
	{
		"archive",
		"What happened in a period, in one file: messages with their history, refusals, and " +
			"sessions with their transcripts.",
		"`gull log export --since 2026-11-16 november.jsonl.zst` writes one; `gull log open november.jsonl.zst` lets another installation search it.",
	},
	{
		"delivery",
		"One recipient of one message; its state is waiting, sending, deferred or held, and in " +
			"the end delivered, bounced, expired or discarded.",
		"A message to ada@saltmarsh.example and ben@fogbank.example has two deliveries; one may " +
			"be delivered while the other is deferred.",
	},
	{
		"domain kind",
		"What we do with addresses at a domain: local (every address is ours), shared (what we do " +
			"not know goes on to another server) or relay (we only pass it on).",
		"skerryline.example is local: an address that has no mailbox and no alias is refused.",
	},
	{
		"draft",
		"The changes of the configuration that are collected and not yet in force; everybody sees " +
			"and edits the same one.",
		"`gull route set provider --connections 2` changes the draft; `gull draft apply` puts it in force.",
	},
	{
		"explain",
		"What would be decided for an envelope from a client, and which rule says so; nothing is " +
			"sent.",
		"`gull explain --from ada@saltmarsh.example --to keeper@skerryline.example --client 127.30.0.10`",
	},
	{
		"finding",
		"Something in the settings, or around them, that the review takes for a weak point, with " +
			"the fix for it.",
		"“nobody is alerted” is a finding; `gull review fix nobody-alerted` puts the fix into the draft.",
	},
	{
		"gate",
		"An ordered rule on whole messages: conditions, and effects on what meets them; it may " +
			"only watch.",
		"`gull gate adopt no-programs --watch`",
	},
	{
		"list",
		"A named, typed set that gates, relay rules, routes and peers refer to: addresses, " +
			"networks, words, kinds of files, hours.",
		"`gull list ask partners harbour@kelpworks.example`",
	},
	{
		"lane",
		"The deliveries that wait for the same next hop on the same route: what is paused, " +
			"flushed, throttled and backed off as one.",
		"When the host of sunkenpier.example is down, its lane rests, and one connection tries it " +
			"again; other lanes go on.",
	},
	{
		"lane state",
		"How a lane goes: moving, paused (a person stopped it), resting (backing off after " +
			"trouble with its host), parked (kept for a site that asks for it) or stranded (no route " +
			"leads on).",
		"`gull lane list --state resting`",
	},
	{
		"peer",
		"What is agreed with somebody else's domain: TLS, speed, notices, automatic replies, " +
			"format.",
		"`gull peer add isles --domains '*.isles.example' --tls verified`",
	},
	{
		"probe",
		"A live, step-by-step SMTP conversation with a host or domain, each step with its result " +
			"and time.",
		"`gull probe greywacke.example`",
	},
	{
		"readiness",
		"Whether what the world sees of a domain of ours is right: DNS, identity and reputation, " +
			"with the records to publish.",
		"`gull readiness skerryline.example`",
	},
	{
		"rehearsal",
		"Recent real messages, waiting ones and hostile attempts sent through the draft, to show " +
			"every decision that would change.",
		"`gull draft rehearse` says “42 messages would go by another route”; nothing is sent.",
	},
	{
		"relay rule",
		"A rule that says who may send as whom, and to where; the first that matches decides, and " +
			"no match is a refusal.",
		"`gull relay list`",
	},
	{"review", "The findings in the settings, critical ones first, with the fix for each.",
		"`gull review`"},
	{
		"revision",
		"A configuration that was applied, with who did it and why; any of them can be reverted " +
			"to.",
		"`gull revision revert 7`",
	},
	{
		"route",
		"A rule that says by which next hop recipients are reached: mx, smarthost, direct, lmtp, " +
			"mailbox or refuse.",
		"`gull route add provider --next-hop smarthost --hosts relay.provider.example`",
	},
	{
		"score",
		"The sum of what speaks against a stranger's message, in points that can be read and changed; " +
			"from thresholds on it is marked, asked to come again, held or refused.",
		"`gull trace find score:60` finds what has 60 or more; `gull reputation 127.30.0.65` says what " +
			"an address has before any message.",
	},
	{
		"simnet",
		"The simulated internet that ships with the product: DNS and remote mail servers with " +
			"chosen behaviours.",
		"`gull simnet hosts`",
	},
	{
		"snag",
		"One trouble: the same cause at the same place, with all deliveries that wait or failed " +
			"for it, the evidence and the fixes.",
		"“The mailbox is full at a@fullshelf.example” is a snag; `gull snag show ID` says who can fix it.",
	},
	{"watch", "Recording the whole transcripts of one client's or domain's sessions for a while.",
		"`gull session watch saltmarsh.example --for 1h`"},
}

// Markdown is docs/glossary.md.
func Markdown() string {
	var b strings.Builder
	b.WriteString(
		"# Glossary\n\nMade by `gull help terms --markdown`. Our own terms, where the trade has none.\n",
	)
	for _, t := range Terms {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n\n%s\n", t.Name, t.Means, t.Example)
	}
	return b.String()
}
