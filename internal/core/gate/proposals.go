package gate

import (
	"fmt"
	"slices"
	"strings"
)

// Proposal is a usual wish, as a gate that can be added and changed like any other.
type Proposal struct {
	Key      string         `json:"key"`
	Title    string         `json:"title"`
	Explains string         `json:"explains" doc:"What it does, and what to think of"`
	Asks     []Blank        `json:"asks" doc:"What it needs to know"`
	Gate     map[string]any `json:"gate" doc:"Its fields; {domain} and the like stand for answers"`
	List     map[string]any `json:"list,omitempty" doc:"A list that goes with it"`
}

// Blank is one thing that a proposal needs to know.
type Blank struct {
	Name    string `json:"name"`
	Title   string `json:"title"`
	Example string `json:"example"`
}

func fields(pairs ...any) map[string]any {
	out := map[string]any{}
	for i := 0; i+1 < len(pairs); i += 2 {
		out[pairs[i].(string)] = pairs[i+1]
	}
	return out
}

func texts(list ...string) []any {
	out := make([]any, len(list))
	for i, t := range list {
		out[i] = t
	}
	return out
}

// Proposals are the usual wishes.
var Proposals = []Proposal{
	{
		Key:   "no-programs",
		Title: "No programs from outside",
		Explains: "Messages from outside with a program in them are refused, with a sentence that the " +
			"sender reads. Files are known by their content, in archives too; names that deceive count " +
			"as well. Let it watch for a week to see whom it would meet.",
		Gate: fields(
			"name",
			"no programs from outside",
			"when",
			fields("direction", texts("in"),
				"any", fields("attachment", texts("programs"), "two_endings", true)),
			"then",
			fields("refuse", "programs are not taken by mail here; send a link, or ask the "+
				"recipient for a way"),
			"severity",
			"serious",
		),
	},
	{
		Key:   "no-macros",
		Title: "Office documents from outside without macros",
		Explains: "Documents with macros are taken out, and a note with name, size and hash " +
			"stands in their place. The text of the message arrives.",
		Gate: fields("name", "macros from outside", "when", fields("direction", texts("in"),
			"attachment", texts("office-macros")),
			"then", fields("remove_attachments", texts("office-macros")), "severity", "minor"),
	},
	{
		Key:   "scan",
		Title: "Let a scanner look at mail from outside",
		Explains: "What the scanner calls infected or unwanted is refused. Set the scanner up first " +
			"(gull scanner add). Add a gate for scanner none as well: it says what becomes of " +
			"mail while no scanner answers; without one it passes.",
		Gate: fields("name", "what a scanner finds", "when", fields("direction", texts("in"),
			"scanner", texts(Infected, Unwanted)), "severity", "serious",
			"then", fields("refuse",
				"a scanner found something in the message that is not taken here")),
	},
	{
		Key:   "doubtful",
		Title: "Hold what cannot be looked into",
		Explains: "Encrypted archives, archive bombs and messages that cannot be taken apart without " +
			"doubt, from outside, are held until somebody has looked.",
		Gate: fields("name", "cannot be looked into", "when", fields("direction", texts("in"),
			"any", fields("encrypted_archive", true, "archive_bomb", true, "unreadable", true)),
			"then", fields("hold", true), "severity", "minor"),
	},
	{
		Key:   "partner",
		Title: "A partner's mail by another route",
		Explains: "What goes to the partner's domain takes the route that you name, such as " +
			"a line of your own to them. Nothing else changes.",
		Asks: []Blank{{"domain", "The partner's domain", "kelpworks.example"},
			{"route", "The route", "by provider"}},
		Gate: fields("name", "mail to {domain}", "when", fields("recipients", texts("{domain}")),
			"then", fields("route", "{route}")),
	},
	{
		Key:   "large-at-night",
		Title: "Large mail at night",
		Explains: "Messages to outside that are larger than you say wait until the evening, " +
			"so that the line is free by day. Senders see no difference but the time.",
		Asks: []Blank{{"size", "Larger than", "10 MB"},
			{"zone", "Time zone", "Europe/Oslo"}},
		List: fields("name", "night", "kind", "hours", "zone", "{zone}",
			"entries", texts("20:00-06:00"), "about", "When large mail goes"),
		Gate: fields("name", "large mail at night", "when", fields("direction", texts("out"),
			"size_over", "{size}"), "then", fields("delay", texts("list:night"))),
	},
	{
		Key:   "office-hours",
		Title: "Hold mail outside office hours",
		Explains: "What comes from outside for the address that you name is held outside " +
			"office hours, until somebody releases it. Add holidays to the list as not " +
			"2026-12-25.",
		Asks: []Blank{{"address", "Address or domain", "tickets@skerryline.example"},
			{"zone", "Time zone", "Europe/Oslo"}},
		List: fields("name", "office hours", "kind", "hours", "zone", "{zone}",
			"entries", texts("mon-fri 08:00-17:00"), "about", "When the office is open"),
		Gate: fields("name", "outside office hours", "when", fields("direction", texts("in"),
			"recipients", texts("{address}"), "none", fields("hours", texts("list:office hours"))),
			"then", fields("hold", true)),
	},
	{
		Key:   "archive",
		Title: "A copy of a mailbox for the archive, both ways",
		Explains: "What the address that you name sends and gets goes to the archive too; " +
			"nobody sees that. Tell the people concerned: in most places you must.",
		Asks: []Blank{{"address", "Of whom", "accounts@skerryline.example"},
			{"archive", "The archive's address", "archive@skerryline.example"}},
		Gate: fields("name", "copies of {address}", "when", fields("any",
			fields("recipients", texts("{address}"), "senders", texts("{address}"))),
			"then", fields("copy_to", texts("{archive}"))),
	},
	{
		Key:   "mark-outside",
		Title: "Mark mail from outside",
		Explains: "Mail from outside gets a word before its subject and a field of its own; " +
			"forged ones are taken out. A changed subject breaks the sender's signature: " +
			"behind us only ours is looked at.",
		Asks: []Blank{{"mark", "The word", "[outside]"}},
		Gate: fields("name", "mail from outside", "when", fields("direction", texts("in")),
			"then", fields("mark", fields("subject", "{mark}",
				"header", texts("X-Gull-Origin: outside")))),
	},
	{
		Key:   "harmless",
		Title: "Clean HTML from outside",
		Explains: "Scripts, forms, hidden text and everything remote are taken out of HTML " +
			"from outside; links show where they lead. It breaks the sender's signature.",
		Gate: fields("name", "HTML from outside", "when", fields("direction", texts("in")),
			"then", fields("clean", "html")),
	},
}

// FindProposal is one by its key.
func FindProposal(key string) (Proposal, bool) {
	i := slices.IndexFunc(Proposals, func(t Proposal) bool { return t.Key == key })
	if i < 0 {
		return Proposal{}, false
	}
	return Proposals[i], true
}

// Fill puts answers into a proposal. Every blank needs one.
func (t Proposal) Fill(answers map[string]string) (gate, list map[string]any, err error) {
	var pairs []string
	for _, b := range t.Asks {
		answer := strings.TrimSpace(answers[b.Name])
		if answer == "" {
			return nil, nil, fmt.Errorf("%s: say it, like %s", b.Name, b.Example)
		}
		pairs = append(pairs, "{"+b.Name+"}", answer)
	}
	for name := range answers {
		if !slices.ContainsFunc(t.Asks, func(b Blank) bool { return b.Name == name }) {
			return nil, nil, fmt.Errorf("%s: the proposal %s does not ask for that", name, t.Key)
		}
	}
	r := strings.NewReplacer(pairs...)
	gate, _ = filled(t.Gate, r).(map[string]any)
	list, _ = filled(t.List, r).(map[string]any)
	return gate, list, nil
}

func filled(v any, r *strings.Replacer) any {
	switch v := v.(type) {
	case string:
		return r.Replace(v)
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = filled(v[i], r)
		}
		return out
	case map[string]any:
		if v == nil {
			return map[string]any(nil)
		}
		out := map[string]any{}
		for k, x := range v {
			out[k] = filled(x, r)
		}
		return out
	}
	return v
}
