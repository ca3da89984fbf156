package gate

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
	"gullroute/internal/core/list"
)

// Names are what else a configuration holds, as far as gates refer to it.
type Names struct {
	Lists     map[string]string // kind by name
	Listeners map[string]bool
	Routes    map[string]bool
	Scanner   bool // there is one
	Score     bool // a score is made
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
	// maxDelay is the longest time for which a message is delayed.
	maxDelay = 30 * 24 * time.Hour
)

// reserved are fields that no gate writes: they are the message itself or what servers say.
var reserved = []string{"from", "to", "cc", "bcc", "date", "message-id", "received", "subject",
	"sender", "return-path", "mime-version", "content-type", "content-transfer-encoding",
	"dkim-signature", "authentication-results"}

// Check says what is wrong with a gate.
func Check(g *Gate, n Names) []Fault {
	k := &checker{names: n}
	for _, x := range g.groups() {
		k.conditions(x.at, x.c)
	}
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
	k.terms(at+".networks", list.Networks, c.Networks)
	k.terms(at+".subject", list.Words, c.Subject)
	k.terms(at+".body", list.Words, c.Body)
	k.terms(at+".attachment", list.FileTypes, c.Attachment)
	k.terms(at+".hours", list.Hours, c.Hours)
	k.patterns(at+".accounts", c.Accounts)
	k.patterns(at+".senders", c.Senders)
	k.patterns(at+".recipients", c.Recipients)
	k.patterns(at+".from", c.From)
	if len(c.Scanner) > 0 && !k.names.Scanner {
		k.wrong(
			at+".scanner",
			"no scanner is set up: add one, like gull scanner add lookout --url "+
				"icap://127.0.0.1:1344/scan",
		)
	}
	if c.ScoreOver > 0 && !k.names.Score {
		k.wrong(at+".score_over", "no score is made: gull service set --reputation-score watch")
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
	if c.SizeOver > 0 && c.SizeUpTo > 0 && c.SizeUpTo <= c.SizeOver && at == "when" {
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
	if kind == list.FileTypes && k.names.Lists[term] == kind && alone(term) {
		return
	}
	for _, e := range list.Check(list.List{Kind: kind, Entries: []string{term}}) {
		k.wrong(field, "%s", e.Text)
	}
}

// alone reports a term for files that is none by itself: it may be a list's name.
func alone(term string) bool {
	return len(list.Check(list.List{Kind: list.FileTypes, Entries: []string{term}})) > 0
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

// given are the effects of a gate that are set, besides refusing, discarding and holding.
func (t *Then) given() []string {
	var out []string
	for i, is := range []bool{len(t.RedirectTo) > 0, len(t.CopyTo) > 0, t.Route != "",
		len(t.Delay) > 0, len(t.RemoveAttachments) > 0, t.Clean != "", t.AddText != "",
		t.Mark.Subject != "" || len(t.Mark.Header) > 0} {
		if is {
			out = append(out, Effects[i+3])
		}
	}
	return out
}

// ends are the effects of which a gate may have one only, and nothing beside the first two.
func (t *Then) ends() []string {
	var out []string
	for i, is := range []bool{t.Refuse != "", t.Discard, t.Hold} {
		if is {
			out = append(out, Effects[i])
		}
	}
	return out
}

func (k *checker) effects(g *Gate) {
	t := &g.Then
	given, ends := t.given(), t.ends()
	switch {
	case len(ends) > 1:
		k.wrong("then."+ends[1], "a message is refused, discarded or held: take out %s",
			strings.Join(ends[1:], " and "))
	case (t.Refuse != "" || t.Discard) && len(given) > 0:
		k.wrong("then."+given[0], "what is %s goes nowhere: take out %s, or let it be held",
			map[bool]string{true: "refused", false: "discarded"}[t.Refuse != ""],
			strings.Join(given, ", "))
	case t.Discard && g.Severity != "critical":
		k.wrong(
			"severity",
			"a gate that discards has severity critical: nobody is told of what it "+
				"throws away, so it must stand out in the trace",
		)
	case len(ends)+len(given) == 0 && !g.Watch && !g.Stop &&
		(g.Severity == "" || g.Severity == "none"):
		k.wrong("then", "it does nothing: name an effect, a severity or stop, or let it watch")
	}
	k.refusal(t)
	if len(t.RedirectTo) > 0 && t.Route != "" {
		k.wrong(
			"then.route",
			"a message that is redirected goes by the route of where it goes; take out "+
				"redirect_to or route",
		)
	}
	if t.Route != "" && !k.names.Routes[t.Route] {
		k.wrong("then.route", "there is no route %q", t.Route)
	}
	for i, d := range t.Delay {
		if wait, err := form.ParseDuration(d); err != nil {
			k.term(fmt.Sprintf("then.delay[%d]", i), list.Hours, d)
		} else if wait < time.Second || wait > maxDelay {
			k.wrong(fmt.Sprintf("then.delay[%d]", i), "write a time from 1s to %dd",
				maxDelay/(24*time.Hour))
		}
	}
	k.terms("then.remove_attachments", list.FileTypes, t.RemoveAttachments)
	if len(t.AddText) > maxText {
		k.wrong("then.add_text", "write at most %d octets", maxText)
	}
	k.mark(&t.Mark)
}

func (k *checker) refusal(t *Then) {
	if t.Refuse == "" && t.Code != "" {
		k.wrong("then.code", "it is of a refusal: write its sentence in refuse")
	}
	if strings.ContainsAny(t.Refuse, "\r\n") || len(t.Refuse) > maxSay {
		k.wrong("then.refuse", "write one line of at most %d octets", maxSay)
	}
	if t.Code != "" && !enhanced.MatchString(t.Code) {
		k.wrong("then.code", "%q is no enhanced code of a refusal; write one like 5.7.1 or 4.7.1",
			t.Code)
	}
}

func (k *checker) mark(m *Mark) {
	if strings.ContainsAny(m.Subject, "\r\n") || len(m.Subject) > maxMark {
		k.wrong("then.mark.subject", "write one line of at most %d octets", maxMark)
	}
	for i, f := range m.Header {
		at := fmt.Sprintf("then.mark.header[%d]", i)
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
	for _, x := range g.groups() {
		c := x.c
		for _, ps := range []address.Patterns{c.Accounts, c.Senders, c.Recipients, c.From} {
			for _, p := range ps {
				add(p.List())
			}
		}
		for _, list := range [][]string{c.Networks, c.Subject, c.Body, c.Attachment, c.Hours} {
			terms(list)
		}
		for _, h := range c.Header {
			_, value, _ := strings.Cut(h, ":")
			terms([]string{strings.TrimSpace(value)})
		}
	}
	terms(g.Then.Delay)
	terms(g.Then.RemoveAttachments)
	for _, t := range slices.Concat(g.When.Attachment, g.When.Any.Attachment, g.When.All.Attachment,
		g.When.None.Attachment, g.Then.RemoveAttachments) {
		if alone(t) {
			add(t)
		}
	}
	return out
}
