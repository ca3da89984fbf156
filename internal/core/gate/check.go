package gate

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/list"
)

// Names are what else a configuration holds, as far as gates refer to it.
type Names struct {
	Lists     map[string]string // kind by name
	Listeners map[string]bool
	Routes    map[string]bool
	Scanner   bool // there is one
}

// Fault is one thing wrong with a gate.
type Fault struct{ Field, Text string }

var (
	enhanced  = regexp.MustCompile(`^[45]\.\d{1,3}\.\d{1,3}$`)
	fieldName = regexp.MustCompile(`^[!-9;-~]+$`)
)

// Bounds of what a gate writes.
const (
	maxSay  = 400
	maxText = 4000
	maxMark = 60
)

// reserved are fields that no gate writes: they are the message itself or what servers say.
var reserved = []string{"from", "to", "cc", "bcc", "date", "message-id", "received", "subject",
	"sender", "return-path", "mime-version", "content-type", "content-transfer-encoding",
	"dkim-signature", "authentication-results"}

// Check says what is wrong with a gate.
func Check(g *Gate, n Names) []Fault {
	k := &checker{names: n}
	k.conditions("all", &g.All)
	k.conditions("any", &g.Any)
	k.conditions("none", &g.None)
	k.effects(g)
	return k.faults
}

type checker struct {
	names  Names
	faults []Fault
}

func (k *checker) wrong(field, format string, args ...any) {
	k.faults = append(k.faults, Fault{field, fmt.Sprintf(format, args...)})
}

func (k *checker) conditions(at string, c *Conditions) {
	k.terms(at+".clients", list.Networks, c.Clients)
	k.terms(at+".subject", list.Words, c.Subject)
	k.terms(at+".words", list.Words, c.Words)
	k.terms(at+".attachments", list.FileTypes, c.Attachments)
	k.terms(at+".hours", list.Hours, c.Hours)
	k.patterns(at+".accounts", c.Accounts)
	k.patterns(at+".senders", c.Senders)
	k.patterns(at+".recipients", c.Recipients)
	k.patterns(at+".from", c.From)
	if len(c.Verdict) > 0 && !k.names.Scanner {
		k.wrong(at+".verdict", "no scanner is set up: add one, like gull scanner add lookout --url "+
			"icap://127.0.0.1:1344/scan")
	}
	for i, l := range c.Listeners {
		if !k.names.Listeners[l] {
			k.wrong(fmt.Sprintf("%s.listeners[%d]", at, i), "there is no listener %q", l)
		}
	}
	for i, h := range c.Header {
		field := fmt.Sprintf("%s.header[%d]", at, i)
		name, value, ok := strings.Cut(h, ":")
		if !ok || !fieldName.MatchString(strings.TrimSpace(name)) ||
			strings.TrimSpace(value) == "" {
			k.wrong(field, "write Field: words, or Field: * where it is there at all")
			continue
		}
		if v := strings.TrimSpace(value); v != "*" {
			k.term(field, list.Words, v)
		}
	}
	if c.SizeOver > 0 && c.SizeUpTo > 0 && c.SizeUpTo <= c.SizeOver && at == "all" {
		k.wrong(at+".size_up_to", "no message is larger than %s and not larger than %s", c.SizeOver,
			c.SizeUpTo)
	}
}

func without(terms []string, word string) []string {
	return slices.DeleteFunc(slices.Clone(terms), func(t string) bool { return t == word })
}

func (k *checker) terms(field, kind string, terms []string) {
	for i, t := range terms {
		if kind == list.FileTypes && t == "*" { // any file
			continue
		}
		k.term(fmt.Sprintf("%s[%d]", field, i), kind, t)
	}
}

// term checks an entry, or the name of a list of the kind.
func (k *checker) term(field, kind, term string) {
	if name, ok := strings.CutPrefix(term, address.ListPrefix); ok {
		k.list(field, kind, strings.TrimSpace(name))
		return
	}
	for _, e := range list.Check(list.List{Kind: kind, Entries: []string{term}}) {
		k.wrong(field, "%s", e.Text)
	}
}

func (k *checker) list(field, kind, name string) {
	switch have, ok := k.names.Lists[name]; {
	case !ok:
		k.wrong(field, "there is no list %q; there are: %s", name, k.listNames(kind))
	case have != kind:
		k.wrong(field, "list %q holds %s; here one of %s is needed", name, have, kind)
	}
}

func (k *checker) listNames(kind string) string {
	var names []string
	for name, have := range k.names.Lists {
		if have == kind {
			names = append(names, name)
		}
	}
	if slices.Sort(names); len(names) == 0 {
		return "none of kind " + kind
	}
	return strings.Join(names, ", ")
}

func (k *checker) patterns(field string, ps address.Patterns) {
	for i, p := range ps {
		at := fmt.Sprintf("%s[%d]", field, i)
		if p.List() != "" {
			k.list(at, list.Addresses, p.List())
		} else if err := p.Never(); err != nil {
			k.wrong(at, "%v", err)
		}
	}
}

// given are the effects of a gate that are set, besides its action.
func (g *Gate) given() []string {
	var out []string
	add := func(name string, is bool) {
		if is {
			out = append(out, name)
		}
	}
	add("redirect_to", len(g.RedirectTo) > 0)
	add("copy_to", len(g.CopyTo) > 0)
	add("route", g.Route != "")
	add("delay_until", len(g.DelayUntil) > 0)
	add("remove_attachments", len(g.RemoveAttachments) > 0)
	add("make_harmless", g.MakeHarmless != "")
	add("add_text", g.AddText != "")
	add("mark_subject", g.MarkSubject != "")
	add("set_fields", len(g.SetFields) > 0)
	return out
}

func (k *checker) effects(g *Gate) {
	given := g.given()
	ends := g.Action == Refuse || g.Action == Discard
	switch {
	case ends && len(given) > 0:
		k.wrong("action", "what is %s goes nowhere: take out %s, or let the gate go_on or hold",
			map[string]string{Refuse: "refused", Discard: "discarded"}[g.Action],
			strings.Join(given, ", "))
	case g.Action == Discard && g.Severity != "critical":
		k.wrong(
			"severity",
			"a gate that discards has severity critical: nobody is told of what it "+
				"throws away, so it must stand out in the trace",
		)
	case g.Action == GoOn && len(given) == 0 && g.State != Watch && !g.Stop &&
		(g.Severity == "" || g.Severity == "none"):
		k.wrong("action", "it does nothing: name an effect, a severity or stop, or let it watch")
	}
	if g.Action != Refuse && (g.Say != "" || g.Code != "") {
		k.wrong("say", "say and code are of a refusal; the action is %s", g.Action)
	}
	if strings.ContainsAny(g.Say, "\r\n") || len(g.Say) > maxSay {
		k.wrong("say", "write one line of at most %d octets", maxSay)
	}
	if g.Code != "" && !enhanced.MatchString(g.Code) {
		k.wrong(
			"code",
			"%q is no enhanced code of a refusal; write one like 5.7.1 or 4.7.1",
			g.Code,
		)
	}
	if len(g.RedirectTo) > 0 && g.Route != "" {
		k.wrong(
			"route",
			"a message that is redirected goes by the route of where it goes; take out "+
				"redirect_to or route",
		)
	}
	if g.Route != "" && !k.names.Routes[g.Route] {
		k.wrong("route", "there is no route %q", g.Route)
	}
	k.terms("delay_until", list.Hours, g.DelayUntil)
	k.terms("remove_attachments", list.FileTypes, g.RemoveAttachments)
	if len(g.AddText) > maxText {
		k.wrong("add_text", "write at most %d octets", maxText)
	}
	if strings.ContainsAny(g.MarkSubject, "\r\n") || len(g.MarkSubject) > maxMark {
		k.wrong("mark_subject", "write one line of at most %d octets", maxMark)
	}
	for i, f := range g.SetFields {
		at := fmt.Sprintf("set_fields[%d]", i)
		name, value, ok := strings.Cut(f, ":")
		switch {
		case !ok || !fieldName.MatchString(name) || strings.TrimSpace(value) == "" ||
			strings.ContainsAny(value, "\r\n") || len(f) > maxSay:
			k.wrong(at, "write Name: value on one line of at most %d octets", maxSay)
		case slices.Contains(reserved, strings.ToLower(name)):
			k.wrong(at, "%s is part of the message itself; choose a field of your own, like "+
				"X-Skerry-Mark", name)
		}
	}
}

// Uses are the lists that a gate refers to.
func (g *Gate) Uses() []string {
	var out []string
	add := func(name string) {
		if name = strings.TrimSpace(name); name != "" && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	terms := func(list []string) {
		for _, t := range list {
			if name, ok := strings.CutPrefix(t, address.ListPrefix); ok {
				add(name)
			}
		}
	}
	for _, c := range []*Conditions{&g.All, &g.Any, &g.None} {
		for _, ps := range []address.Patterns{c.Accounts, c.Senders, c.Recipients, c.From} {
			for _, p := range ps {
				add(p.List())
			}
		}
		for _, list := range [][]string{c.Clients, c.Subject, c.Words, c.Attachments, c.Hours} {
			terms(list)
		}
		for _, h := range c.Header {
			_, value, _ := strings.Cut(h, ":")
			terms([]string{strings.TrimSpace(value)})
		}
	}
	terms(g.DelayUntil)
	terms(g.RemoveAttachments)
	return out
}
