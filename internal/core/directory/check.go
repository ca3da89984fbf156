package directory

import (
	"fmt"
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
)

// MaxDepth bounds aliases of aliases.
const MaxDepth = 10

// minPassword is the shortest password that is taken, in characters.
const minPassword = 8

// Kinds says what a domain is: local, shared, relay, or "" if it is not ours.
type Kinds func(domain string) string

// CheckMailbox finds what is wrong with a mailbox that is to be put into d.
func (d *Directory) CheckMailbox(m *Mailbox, kinds Kinds) form.Problems {
	c := checker{line: m.Line, kinds: kinds}
	c.ours("address", m.Address)
	if d.Alias(m.Address) != nil {
		c.wrong("address", "%s is an alias; remove it first", m.Address.Display())
	}
	if other := d.Mailbox(m.Address); other != nil && other.Address.Key() != m.Address.Key() {
		if !slices.ContainsFunc(
			other.Generated,
			func(a address.Address) bool { return a.Key() == m.Address.Key() },
		) {
			c.wrong("address", "%s is an address of mailbox %s", m.Address.Display(),
				other.Address.Display())
		}
	}
	seen := map[string]bool{m.Address.Key(): true}
	for i, a := range m.Addresses {
		field := fmt.Sprintf("addresses[%d]", i)
		c.ours(field, a)
		if seen[a.Key()] {
			c.wrong(field, "%s stands here twice", a.Display())
		}
		seen[a.Key()] = true
		if other := d.Mailbox(a); other != nil && other.Address.Key() != m.Address.Key() {
			c.wrong(field, "%s belongs to mailbox %s", a.Display(), other.Address.Display())
		}
		if d.Alias(a) != nil {
			c.wrong(field, "%s is an alias; remove it first", a.Display())
		}
	}
	for i, a := range m.ForwardTo {
		if a.Key() == m.Address.Key() {
			c.wrong(fmt.Sprintf("forward_to[%d]", i),
				"a mailbox cannot forward to itself; keep_copy keeps its mail here")
		}
	}
	if r := m.Reply; r != nil {
		if r.Inside == "" && r.Outside == "" {
			c.wrong("automatic_reply", "write a text: inside, outside or both")
		}
		if !r.From.IsZero() && !r.Until.IsZero() && r.Until.Before(r.From.Time) {
			c.wrong("automatic_reply.until", "the last day, %s, is before the first, %s", r.Until,
				r.From)
		}
	}
	if m.Password != "" && len([]rune(m.Password)) < minPassword {
		c.wrong("password", "it has fewer than %d characters", minPassword)
	}
	return c.problems
}

// CheckAlias finds what is wrong with an alias that is to be put into d.
func (d *Directory) CheckAlias(a *Alias, kinds Kinds) form.Problems {
	c := checker{line: a.Line, kinds: kinds}
	c.ours("address", a.Address)
	if len(a.To) == 0 {
		c.wrong("to", "write at least one address")
	}
	if m := d.Mailbox(a.Address); m != nil &&
		!slices.ContainsFunc(
			m.Generated,
			func(g address.Address) bool { return g.Key() == a.Address.Key() },
		) {
		c.wrong("address", "%s belongs to mailbox %s", a.Address.Display(), m.Address.Display())
	}
	targets := func(key string) []address.Address {
		if key == a.Address.Key() {
			return a.To
		}
		at := strings.LastIndexByte(key, '@')
		if other := d.Alias(address.Address{Local: key[:at], Domain: key[at+1:]}); other != nil {
			return other.To
		}
		return nil
	}
	if way := findLoop(targets, a.Address.Key(), []string{a.Address.Key()}); way != nil {
		c.wrong("to", "this alias leads back to itself: %s", strings.Join(way, " → "))
	}
	return c.problems
}

func findLoop(targets func(string) []address.Address, key string, way []string) []string {
	if len(way) > MaxDepth {
		return append(way, fmt.Sprintf("… (deeper than %d)", MaxDepth))
	}
	for _, to := range targets(key) {
		next := to.Key()
		if next == way[0] {
			return append(way, next)
		}
		if slices.Contains(way, next) {
			continue // another alias's loop, reported there
		}
		if found := findLoop(targets, next, append(slices.Clone(way), next)); found != nil {
			return found
		}
	}
	return nil
}

// CheckAll finds what is wrong with mailboxes and aliases that stand together in
// one text, as fields of it.
func CheckAll(mailboxes []Mailbox, aliases []Alias, kinds Kinds) form.Problems {
	d := New()
	var problems form.Problems
	add := func(section string, i int, found form.Problems) {
		for _, p := range found {
			p.Field = fmt.Sprintf("%s[%d].%s", section, i, p.Field)
			problems = append(problems, p)
		}
	}
	for i := range mailboxes {
		m := &mailboxes[i]
		if d.Holder(m.Address) == "a mailbox" {
			add("mailboxes", i, form.Problems{
				{
					Line:  m.Line,
					Field: "address",
					Text:  fmt.Sprintf("%s stands already above", m.Address.Display()),
				},
			})
		}
		add("mailboxes", i, d.CheckMailbox(m, kinds))
		d.Put(m)
	}
	for i := range aliases {
		a := &aliases[i]
		if d.Alias(a.Address) != nil {
			add("aliases", i, form.Problems{
				{
					Line:  a.Line,
					Field: "address",
					Text:  fmt.Sprintf("%s stands already above", a.Address.Display()),
				},
			})
		}
		d.PutAlias(a)
	}
	for i := range aliases {
		add("aliases", i, d.CheckAlias(&aliases[i], kinds))
	}
	return problems
}

type checker struct {
	line     int
	kinds    Kinds
	problems form.Problems
}

func (c *checker) wrong(field, format string, args ...any) {
	c.problems = append(c.problems,
		form.Problem{Line: c.line, Field: field, Text: fmt.Sprintf(format, args...)})
}

// ours reports addresses at domains that are not local or shared.
func (c *checker) ours(field string, a address.Address) {
	switch c.kinds(a.Domain) {
	case "local", "shared":
	case "relay":
		c.wrong(field, "%s is a relay domain; it has no addresses here",
			address.DisplayDomain(a.Domain))
	default:
		c.wrong(field, "%s is not among our domains; add it and apply the draft first",
			address.DisplayDomain(a.Domain))
	}
}
