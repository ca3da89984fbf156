package gate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
	"gullroute/internal/core/list"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
)

// Chain is the gates of a configuration, ready to be asked.
type Chain struct {
	gates []*compiled
	// fields are those that gates write: what a stranger wrote there is taken out.
	fields []string
}

// compiled is a gate with its conditions ready to be asked.
type compiled struct {
	*Gate
	position       int // among all gates, from 1
	all, any, none []*condition
	delay          []*list.Set
	wait           time.Duration // of a delay, 0 if it is not for a time
	remove         fileTerms
}

// condition is one field of conditions. Its answers are kept for a message where they do
// not depend on the recipient.
type condition struct {
	n     int // its number in the chain
	what  string
	each  bool // it depends on the recipient
	late  bool // it is known after the content only
	parts bool // it asks for the parts of the content
	scan  bool // it asks a scanner
	dear  bool // it asks the database: only once all before it is known
	ask   func(m *Message, to *Recipient) (holds bool, why string)
}

// Compile makes a chain of gates that are checked. set finds a list.
func Compile(gates []Gate, set func(name string) *list.Set) *Chain {
	c := &Chain{}
	n := 0
	for i := range gates {
		g := &compiled{Gate: &gates[i], position: i + 1}
		if g.Off {
			continue
		}
		k := compiler{set: set, n: &n}
		w := &g.When
		g.all = append(k.conditions(&w.Conditions), k.conditions(&w.All)...)
		g.any, g.none = k.conditions(&w.Any), k.conditions(&w.None)
		var hours []string
		g.wait, hours = g.Then.delays()
		g.delay = k.sets(list.Hours, hours)
		g.remove = k.files(g.Then.RemoveAttachments)
		for _, f := range g.Then.Mark.Header {
			name, _, _ := strings.Cut(f, ":")
			c.fields = append(c.fields, name)
		}
		c.gates = append(c.gates, g)
	}
	return c
}

// delays are the shortest time for which a message waits, and the hours until which.
func (t *Then) delays() (wait time.Duration, hours []string) {
	for _, d := range t.Delay {
		w, err := form.ParseDuration(d)
		switch {
		case err != nil:
			hours = append(hours, d)
		case wait == 0 || w < wait:
			wait = w
		}
	}
	return wait, hours
}

// Fields are those that gates write. A stranger's are taken out.
func (c *Chain) Fields() []string { return c.fields }

// Empty reports that nothing is asked.
func (c *Chain) Empty() bool { return c == nil || len(c.gates) == 0 }

type compiler struct {
	set func(string) *list.Set
	n   *int
}

// sets are the lists among terms, and one made of the other terms.
func (k compiler) sets(kind string, terms []string) []*list.Set {
	var out []*list.Set
	var own []string
	for _, t := range terms {
		name, ok := strings.CutPrefix(t, address.ListPrefix)
		if s := k.set(t); !ok && kind == list.FileTypes && s != nil && alone(t) {
			out = append(out, s)
		} else if !ok {
			own = append(own, t)
		} else if s := k.set(strings.TrimSpace(name)); s != nil {
			out = append(out, s)
		}
	}
	if len(own) > 0 {
		out = append(out, list.New(list.List{Kind: kind, Entries: own, Zone: "UTC"}))
	}
	return out
}

// fileTerms are kinds of files, or all.
type fileTerms struct {
	all  bool
	sets []*list.Set
}

func (k compiler) files(terms []string) fileTerms {
	return fileTerms{
		all:  slices.Contains(terms, "*"),
		sets: k.sets(list.FileTypes, without(terms, "*")),
	}
}

func (t fileTerms) given() bool { return t.all || len(t.sets) > 0 }

// match says by which term a file is meant.
func (t fileTerms) match(f list.File) (string, bool) {
	for _, s := range t.sets {
		if entry, ok := s.OfFile(f); ok {
			return nameOf(s, entry), true
		}
	}
	return "*", t.all
}

// part says which file of a part is meant, and by which term.
func (t fileTerms) part(p *parts.Part) (path, term string, ok bool) {
	if !p.Attached() && len(p.Inside) == 0 {
		return "", "", false
	}
	p.Files(func(at string, f list.File) bool {
		if at == p.Name && !p.Attached() {
			return true
		}
		term, ok = t.match(f)
		path = at
		return !ok
	})
	return path, term, ok
}

func nameOf(s *list.Set, entry string) string {
	if s.Name != "" {
		return entry + " of list " + s.Name
	}
	return entry
}

func (k compiler) bind(ps address.Patterns) address.Patterns {
	return ps.Bind(func(name string) address.Set {
		if s := k.set(name); s != nil {
			return s
		}
		return list.New(list.List{Kind: list.Addresses})
	})
}

// conditions are those that are given. The cheap ones are asked first.
func (k compiler) conditions(c *Conditions) []*condition {
	var out []*condition
	add := func(x condition) {
		x.n = *k.n
		*k.n++
		out = append(out, &x)
	}
	if len(c.Direction) > 0 {
		add(
			condition{
				what: "direction",
				each: true,
				ask: func(m *Message, to *Recipient) (bool, string) {
					d := m.direction(to)
					return slices.Contains(c.Direction, d), "direction " + d
				},
			},
		)
	}
	if len(c.Listeners) > 0 {
		add(condition{what: "listeners", ask: func(m *Message, _ *Recipient) (bool, string) {
			return slices.Contains(c.Listeners, m.Listener), "listener " + m.Listener
		}})
	}
	if len(c.Networks) > 0 {
		add(k.clients(c.Networks))
	}
	if ps := k.bind(c.Accounts); len(ps) > 0 {
		add(condition{what: "accounts", ask: func(m *Message, _ *Recipient) (bool, string) {
			_, ok := ps.Match(m.Account)
			return ok && !m.Account.IsNull(), "account " + m.Account.Display()
		}})
	}
	if ps := k.bind(c.Senders); len(ps) > 0 {
		add(condition{what: "senders", ask: func(m *Message, _ *Recipient) (bool, string) {
			p, ok := ps.Match(m.Sender)
			return ok, "sender " + p.String()
		}})
	}
	if ps := k.bind(c.Recipients); len(ps) > 0 {
		add(
			condition{
				what: "recipients",
				each: true,
				ask: func(_ *Message, to *Recipient) (bool, string) {
					for _, a := range to.all() {
						if p, ok := ps.Match(a); ok {
							return true, "recipient " + p.String()
						}
					}
					return false, ""
				},
			},
		)
	}
	if len(c.Hours) > 0 {
		sets := k.sets(list.Hours, c.Hours)
		add(condition{what: "hours", ask: func(m *Message, _ *Recipient) (bool, string) {
			for _, s := range sets {
				if s.Open(m.At) {
					return true, "within " + wordsOfHours(s)
				}
			}
			return false, ""
		}})
	}
	k.sizes(c, add)
	k.header(c, add)
	k.proof(c, add)
	k.content(c, add)
	if c.ScoreOver > 0 {
		add(condition{what: "score_over", late: true, ask: func(m *Message, _ *Recipient) (bool, string) {
			return m.Score != nil && *m.Score > c.ScoreOver, fmt.Sprintf("score over %d", c.ScoreOver)
		}})
	}
	if len(c.Scanner) > 0 {
		add(
			condition{
				what: "scanner",
				late: true,
				scan: true,
				ask: func(m *Message, _ *Recipient) (bool, string) {
					v := m.Verdict()
					return slices.Contains(c.Scanner, v.Word), v.words()
				},
			},
		)
	}
	if c.FirstContact { // last: it asks the database
		add(condition{what: "first_contact", each: true, dear: true, ask: met})
	}
	return out
}

// met is the condition that two have not met before.
func met(m *Message, to *Recipient) (bool, string) {
	return m.FirstContact != nil && m.FirstContact(to), "first contact of these two"
}

func wordsOfHours(s *list.Set) string {
	if s.Name != "" {
		return "the hours of list " + s.Name
	}
	return strings.Join(s.Entries, ", ")
}

func (k compiler) clients(terms []string) condition {
	sets := k.sets(list.Networks, terms)
	return condition{what: "networks", ask: func(m *Message, _ *Recipient) (bool, string) {
		for _, s := range sets {
			if n, ok := s.Holds(m.Client); ok {
				return true, "client " + m.Client.String() + " in " + nameOf(s, network(n))
			}
		}
		return false, ""
	}}
}

func network(n netip.Prefix) string {
	if n.IsSingleIP() {
		return n.Addr().String()
	}
	return n.String()
}

func (k compiler) sizes(c *Conditions, add func(condition)) {
	if c.SizeOver > 0 {
		add(
			condition{
				what: "size_over",
				late: true,
				ask: func(m *Message, _ *Recipient) (bool, string) {
					return m.Size > int64(c.SizeOver), "larger than " + c.SizeOver.String()
				},
			},
		)
	}
	if c.SizeUpTo > 0 {
		add(
			condition{
				what: "size_up_to",
				late: true,
				ask: func(m *Message, _ *Recipient) (bool, string) {
					return m.Size <= int64(c.SizeUpTo), "not larger than " + c.SizeUpTo.String()
				},
			},
		)
	}
	if c.RecipientsOver > 0 {
		add(condition{what: "recipients_over", late: true,
			ask: func(m *Message, _ *Recipient) (bool, string) {
				return m.Recipients > c.RecipientsOver, fmt.Sprintf("%d recipients", m.Recipients)
			}})
	}
}

func (k compiler) header(c *Conditions, add func(condition)) {
	if ps := k.bind(c.From); len(ps) > 0 {
		add(condition{what: "from", late: true, ask: func(m *Message, _ *Recipient) (bool, string) {
			for _, a := range m.From() {
				if p, ok := ps.Match(a); ok {
					return true, "From " + p.String()
				}
			}
			return false, ""
		}})
	}
	if len(c.Subject) > 0 {
		sets := k.sets(list.Words, c.Subject)
		add(
			condition{
				what: "subject",
				late: true,
				ask: func(m *Message, _ *Recipient) (bool, string) {
					return find(
						sets,
						"the subject",
						list.Fold(message.Decode(m.Header.First("Subject"))),
					)
				},
			},
		)
	}
	if len(c.Header) == 0 {
		return
	}
	type wanted struct {
		name string
		any  bool
		sets []*list.Set
	}
	var all []wanted
	for _, h := range c.Header {
		name, value, _ := strings.Cut(h, ":")
		w := wanted{name: strings.TrimSpace(name)}
		if value = strings.TrimSpace(value); value == "*" {
			w.any = true
		} else {
			w.sets = k.sets(list.Words, []string{value})
		}
		all = append(all, w)
	}
	add(condition{what: "header", late: true, ask: func(m *Message, _ *Recipient) (bool, string) {
		for _, w := range all {
			for _, f := range m.Header {
				if !strings.EqualFold(f.Name, w.name) {
					continue
				}
				if w.any {
					return true, "it has the field " + w.name
				}
				if ok, why := find(w.sets, "the field "+w.name,
					list.Fold(message.Decode(f.Value))); ok {
					return true, why
				}
			}
		}
		return false, ""
	}})
}

func find(sets []*list.Set, where, folded string) (bool, string) {
	for _, s := range sets {
		if entry, ok := s.Find(folded); ok {
			return true, "“" + nameOf(s, entry) + "” in " + where
		}
	}
	return false, ""
}

func (k compiler) proof(c *Conditions, add func(condition)) {
	if len(c.Identity) == 0 {
		return
	}
	add(condition{what: "identity", late: true, ask: func(m *Message, _ *Recipient) (bool, string) {
		for _, word := range m.proofs() {
			if slices.Contains(c.Identity, word) {
				return true, "sender " + strings.ReplaceAll(word, "_", " ")
			}
		}
		return false, ""
	}})
}

// content are the conditions for which a message is taken apart.
func (k compiler) content(c *Conditions, add func(condition)) {
	of := func(what string, ask func(r *parts.Report) (bool, string)) {
		add(condition{what: what, late: true, parts: true,
			ask: func(m *Message, _ *Recipient) (bool, string) {
				if r := m.parts(); r != nil {
					return ask(r)
				}
				return false, ""
			}})
	}
	eachPart := func(what string, ask func(p *parts.Part) (bool, string)) {
		of(what, func(r *parts.Report) (bool, string) {
			for i := range r.Parts {
				if ok, why := ask(&r.Parts[i]); ok {
					return true, why
				}
			}
			return false, ""
		})
	}
	if terms := k.files(c.Attachment); terms.given() {
		eachPart("attachment", func(p *parts.Part) (bool, string) {
			path, term, ok := terms.part(p)
			return ok, fmt.Sprintf("attachment %s is one of %s", fileName(path, p), term)
		})
	}
	if c.TwoEndings {
		eachPart("two_endings", func(p *parts.Part) (bool, string) {
			deceiving := ""
			p.Files(func(at string, f list.File) bool {
				if parts.Deceives(f.Name) {
					deceiving = at
				}
				return deceiving == ""
			})
			return deceiving != "", "the name " + deceiving + " deceives"
		})
	}
	if c.EncryptedArchive {
		eachPart("encrypted_archive", func(p *parts.Part) (bool, string) {
			return p.Encrypted, "archive " + fileName(p.Name, p) + " is encrypted"
		})
	}
	if c.ArchiveBomb {
		eachPart("archive_bomb", func(p *parts.Part) (bool, string) {
			return p.Bomb, "archive " + fileName(p.Name, p) + " unpacks to more than a hundred " +
				"times its size"
		})
	}
	if c.Unreadable {
		of("unreadable", func(r *parts.Report) (bool, string) {
			if len(r.Wrong) == 0 {
				return false, ""
			}
			return true, "it cannot be read without doubt: " + r.Wrong[0]
		})
	}
	if len(c.Body) > 0 {
		sets := k.sets(list.Words, c.Body)
		of("body", func(r *parts.Report) (bool, string) { return find(sets, "the text", r.Text) })
	}
}

func fileName(path string, p *parts.Part) string {
	switch {
	case path == "":
		return "in part " + p.Path
	case path != p.Name && p.Name != "":
		return p.Name + "/" + path
	}
	return path
}
