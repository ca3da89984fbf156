// Package search understands what people type to find messages: an address or a
// part of one, a domain, a subject, an id, a network, a host, a state, a cause,
// and times. It says how it understood it.
package search

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Field is what a term is about.
type Field string

// The fields.
const (
	ID              Field = "id"
	Header          Field = "message_id" // the header field Message-ID
	Address         Field = "address"    // sender or recipient
	Sender          Field = "from"
	Recipient       Field = "to"
	SenderPart      Field = "from_part"
	RecipientPart   Field = "to_part"
	Domain          Field = "domain" // of sender or recipient, or a host
	Dotted          Field = "dotted" // a word with dots: a domain, a host, or a part of an address
	SenderDomain    Field = "from_domain"
	RecipientDomain Field = "to_domain"
	IP              Field = "ip"     // a client, or the address of a host
	Client          Field = "client" // a network
	Host            Field = "host"   // a remote host, by name
	Text            Field = "text"   // a part of an address or the subject
	Subject         Field = "subject"
	State           Field = "state"
	Cause           Field = "cause"
	Listener        Field = "listener"
	Route           Field = "route"
	Account         Field = "account"
	Gate            Field = "gate"
	Severity        Field = "severity" // at least that
	Score           Field = "score"    // at least that
)

// Refused is the state of what never became a message.
const Refused = "refused"

// Term is one condition; all must hold.
type Term struct {
	Field   Field        `json:"field"`
	Value   string       `json:"value"`
	Says    string       `json:"says" doc:"How it was understood"`
	Network netip.Prefix `json:"-"`
}

// Query is what was asked.
type Query struct {
	Terms        []Term
	Since, Until time.Time
	Within       []string // sender or a recipient at one of these domains; none is no bound
	MessagesOnly bool     // leave out what was refused
	OldestFirst  bool
	When         string // the period in words, "" if any time
}

// Understood says how the question was understood, condition by condition.
func (q Query) Understood() []string {
	out := []string{}
	for _, t := range q.Terms {
		out = append(out, t.Says)
	}
	if q.When != "" {
		out = append(out, q.When)
	}
	return out
}

// Has reports a condition on a field.
func (q Query) Has(f Field) bool {
	return slices.ContainsFunc(q.Terms, func(t Term) bool { return t.Field == f })
}

// Add adds a condition given for a field of its own: from, to, subject, id, client,
// host, state, cause, listener, route, account, gate, severity, score, text.
func (q *Query) Add(field, value string) error {
	if value == "" {
		return nil
	}
	t, err := keyed(field, value)
	if err != nil {
		return err
	}
	q.Terms = append(q.Terms, t)
	return nil
}

// keys are what may stand before a colon.
var keys = map[string]bool{
	"from":      true,
	"sender":    true,
	"to":        true,
	"recipient": true,
	"subject":   true,
	"id":        true,
	"client":    true,
	"ip":        true,
	"host":      true,
	"state":     true,
	"cause":     true,
	"listener":  true,
	"route":     true,
	"account":   true,
	"gate":      true,
	"severity":  true,
	"score":     true,
	"domain":    true,
	"text":      true,
}

func keyed(key, value string) (Term, error) {
	lower := strings.ToLower(value)
	switch key {
	case "from", "sender":
		switch {
		case value == "<>":
			return Term{Sender, "", "from the null sender", netip.Prefix{}}, nil
		case whole(lower):
			a := written(value)
			return Term{Sender, a, "from " + a, netip.Prefix{}}, nil
		case strings.HasPrefix(value, "@"), domainLike(lower):
			d := domain(lower)
			return Term{SenderDomain, d, "from the domain " + d, netip.Prefix{}}, nil
		}
		return Term{
			SenderPart,
			lower,
			"from an address with “" + lower + "” in it",
			netip.Prefix{},
		}, nil
	case "to", "recipient":
		switch {
		case whole(lower):
			a := written(value)
			return Term{Recipient, a, "to " + a, netip.Prefix{}}, nil
		case strings.HasPrefix(value, "@"), domainLike(lower):
			d := domain(lower)
			return Term{RecipientDomain, d, "to the domain " + d, netip.Prefix{}}, nil
		}
		return Term{
			RecipientPart,
			lower,
			"to an address with “" + lower + "” in it",
			netip.Prefix{},
		}, nil
	case "subject":
		return Term{Subject, lower, "“" + value + "” in the subject", netip.Prefix{}}, nil
	case "text":
		return text(value), nil
	case "id":
		if t, ok := byID(value); ok {
			return t, nil
		}
		return Term{Header, value, "Message-ID " + value, netip.Prefix{}}, nil
	case "client", "ip":
		p, err := network(value)
		if err != nil {
			return Term{}, fmt.Errorf(
				"%s: %q is neither an IP address nor a network like 127.20.1.0/24",
				key,
				value,
			)
		}
		if key == "ip" {
			return ipTerm(p), nil
		}
		return Term{Client, p.String(), "from client " + shownPrefix(p), p}, nil
	case "host":
		return Term{Host, lower, "tried at host " + lower, netip.Prefix{}}, nil
	case "domain":
		d := domain(lower)
		return Term{
			Domain,
			d,
			"from or to the domain " + d + ", or tried at that host",
			netip.Prefix{},
		}, nil
	case "state":
		s, ok := states[lower]
		if !ok {
			return Term{}, fmt.Errorf(
				"state: %q is none; there are waiting, sending, deferred, held, delivered, "+
					"bounced, expired, discarded and refused",
				value,
			)
		}
		return Term{State, s, "state " + s, netip.Prefix{}}, nil
	case "cause":
		return Term{Cause, lower, "cause: " + lower, netip.Prefix{}}, nil
	case "listener":
		return Term{Listener, value, "received by listener " + value, netip.Prefix{}}, nil
	case "route":
		return Term{Route, value, "goes by route " + value, netip.Prefix{}}, nil
	case "account":
		return Term{Account, lower, "sent by account " + lower, netip.Prefix{}}, nil
	case "gate":
		return Term{Gate, value, "met gate " + value, netip.Prefix{}}, nil
	case "severity":
		if mail.Severity(lower).Rank() == 0 {
			return Term{}, fmt.Errorf("severity: %q is none; there are minor, serious and critical",
				value)
		}
		return Term{Severity, lower, "severity " + lower + " or worse", netip.Prefix{}}, nil
	case "score":
		if n, err := strconv.Atoi(lower); err != nil || n < 1 || n > 30000 {
			return Term{}, fmt.Errorf("score: write a number from 1 on, like score:50")
		}
		return Term{Score, lower, "score " + lower + " or more", netip.Prefix{}}, nil
	}
	return Term{}, fmt.Errorf(
		"%q is nothing that can be asked for; there are from, to, subject, id, client, ip, host, "+
			"domain, state, cause, listener, route, account, gate, severity, score and text",
		key,
	)
}

var states = map[string]string{
	"waiting":   "waiting",
	"sending":   "sending",
	"deferred":  "deferred",
	"held":      "held",
	"delivered": "delivered",
	"bounced":   "bounced",
	"expired":   "expired",
	"discarded": "discarded",
	"dropped":   "discarded",
	"refused":   Refused,
	"rejected":  Refused,
}

// written is an address as it is kept: domains in their ASCII form.
func written(text string) string {
	if a, err := address.Parse(text); err == nil {
		return strings.ToLower(a.String())
	}
	return strings.ToLower(text)
}

func domain(text string) string {
	text = strings.TrimPrefix(text, "@")
	if d, err := address.ParseDomain(text); err == nil {
		return strings.ToLower(string(d))
	}
	return text
}

func whole(text string) bool {
	i := strings.LastIndexByte(text, '@')
	return i > 0 && (strings.Contains(text[i:], ".") || strings.HasSuffix(text, "]"))
}

func domainLike(text string) bool {
	i := strings.LastIndexByte(text, '.')
	if i <= 0 || len(text)-i < 3 || strings.ContainsAny(text, "@ <>\"/\\") {
		return false
	}
	for _, r := range text[i+1:] {
		if r >= '0' && r <= '9' {
			return false
		}
	}
	_, err := address.ParseDomain(text)
	return err == nil
}

func network(text string) (netip.Prefix, error) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Masked(), nil
	}
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Prefix{}, err
	}
	a = a.Unmap()
	return netip.PrefixFrom(a, a.BitLen()), nil
}

func shownPrefix(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return "in " + p.String()
}

func ipTerm(p netip.Prefix) Term {
	return Term{IP, p.String(), "from client " + shownPrefix(p) + ", or tried there", p}
}

func text(value string) Term {
	return Term{
		Text,
		strings.ToLower(value),
		"“" + value + "” in an address or the subject",
		netip.Prefix{},
	}
}

// byID reads our own ids, of messages, deliveries and refusals.
func byID(word string) (Term, bool) {
	head, _, _ := strings.Cut(word, "-")
	id, err := ident.Parse(head)
	if err != nil || !strings.ContainsAny(head, "0123456789") ||
		id.Time().Before(ident.Epoch.AddDate(1, 0, 0)) ||
		id.Time().After(ident.Epoch.AddDate(40, 0, 0)) {
		return Term{}, false
	}
	return Term{ID, id.String(), "id " + id.String(), netip.Prefix{}}, true
}

// Parse understands a line, with words of time as of now in a zone.
func Parse(line string, now time.Time, zone *time.Location) (Query, error) {
	q := Query{}
	words, err := split(line)
	if err != nil {
		return q, err
	}
	for i := 0; i < len(words); {
		w := words[i]
		if w.quoted {
			q.Terms = append(q.Terms, text(w.text))
			i++
			continue
		}
		if key, value, ok := strings.Cut(w.text, ":"); ok && keys[strings.ToLower(key)] {
			if value == "" && i+1 < len(words) { // from: somebody
				i++
				value = words[i].text
			}
			t, err := keyed(strings.ToLower(key), value)
			if err != nil {
				return q, err
			}
			q.Terms = append(q.Terms, t)
			i++
			continue
		}
		n, err := q.time(words[i:], now.In(zone))
		if err != nil {
			return q, err
		}
		if n > 0 {
			i += n
			continue
		}
		q.Terms = append(q.Terms, bare(w.text))
		i++
	}
	q.join()
	return q, nil
}

// join makes words that follow each other one text: a subject is typed without
// quotes.
func (q *Query) join() {
	var out []Term
	for _, t := range q.Terms {
		if n := len(out); n > 0 && t.Field == Text && out[n-1].Field == Text &&
			!strings.ContainsAny(t.Value+out[n-1].Value, "@.") {
			out[n-1] = text(out[n-1].Value + " " + t.Value)
			continue
		}
		out = append(out, t)
	}
	q.Terms = out
}

func bare(word string) Term {
	lower := strings.ToLower(word)
	inner := strings.TrimSuffix(strings.TrimPrefix(word, "<"), ">")
	if t, ok := byID(word); ok {
		return t
	}
	if p, err := network(word); err == nil {
		return ipTerm(p)
	}
	if s, ok := states[lower]; ok {
		return Term{State, s, "state " + s, netip.Prefix{}}
	}
	if (strings.Contains(lower, "-") || lower == string(diagnose.Greylisted)) &&
		slices.Contains(diagnose.Causes(), diagnose.Cause(lower)) {
		return Term{Cause, lower, "cause: " + lower, netip.Prefix{}}
	}
	switch {
	case word == "<>":
		return Term{Sender, "", "from the null sender", netip.Prefix{}}
	case word != inner && whole(inner):
		return Term{
			Text,
			strings.ToLower(inner),
			inner + " as an address or Message-ID",
			netip.Prefix{},
		}
	case whole(lower):
		a := written(word)
		return Term{Address, a, "from or to " + a, netip.Prefix{}}
	case strings.HasPrefix(word, "@"):
		d := domain(lower)
		return Term{
			Domain,
			d,
			"from or to the domain " + d + ", or tried at that host",
			netip.Prefix{},
		}
	case domainLike(lower):
		d := domain(lower)
		return Term{
			Dotted,
			d,
			"“" + d + "” as a domain, a host, or in an address or the subject",
			netip.Prefix{},
		}
	}
	return text(word)
}

type word struct {
	text   string
	quoted bool
}

// split takes a line apart at spaces; what stands in quotes stays together.
func split(line string) ([]word, error) {
	var out []word
	for line = strings.TrimSpace(line); line != ""; line = strings.TrimSpace(line) {
		if i := strings.IndexAny(line, " \t\""); i < 0 {
			return append(out, word{line, false}), nil
		} else if line[i] != '"' {
			out, line = append(out, word{line[:i], false}), line[i:]
		} else {
			end := strings.IndexByte(line[i+1:], '"')
			if end < 0 {
				return nil, fmt.Errorf("a quotation mark has no partner: %s", line[i:])
			}
			inside := line[i+1 : i+1+end]
			if key := strings.ToLower(strings.TrimSuffix(line[:i], ":")); i > 0 &&
				keys[key] { // subject:"night boat"
				out = append(out, word{key + ":" + inside, false})
			} else {
				if i > 0 {
					out = append(out, word{line[:i], false})
				}
				if inside != "" {
					out = append(out, word{inside, true})
				}
			}
			line = line[i+1+end+1:]
		}
	}
	return out, nil
}

// Match reports whether something found meets all conditions. It is what a look
// through an archive is made with; the database asks the same in its own way.
func (q Query) Match(f *mail.Found, events []mail.Event) bool {
	if !q.Since.IsZero() && f.ReceivedAt.Before(q.Since) ||
		!q.Until.IsZero() && !f.ReceivedAt.Before(q.Until) {
		return false
	}
	for _, t := range q.Terms {
		if !t.match(f, events) {
			return false
		}
	}
	return true
}

func (t Term) match(f *mail.Found, events []mail.Event) bool {
	v := t.Value
	sender := strings.ToLower(f.Sender)
	switch t.Field {
	case ID:
		return f.ID.String() == v
	case Header:
		return strings.Trim(f.MessageID, "<>") == strings.Trim(v, "<>")
	case Sender:
		return sender == v
	case SenderPart:
		return strings.Contains(sender, v)
	case SenderDomain:
		return domainOf(sender) == v
	case Recipient, RecipientPart, RecipientDomain:
		return anyRecipient(f, t)
	case Address:
		return sender == v || anyRecipient(f, Term{Field: Recipient, Value: v})
	case Dotted:
		return Term{Field: Domain, Value: v}.match(f, events) || strings.Contains(Words(f), v)
	case Domain:
		return domainOf(sender) == v || anyRecipient(f, Term{Field: RecipientDomain, Value: v}) ||
			tried(f, events, func(r mail.LastReply) bool { return strings.EqualFold(r.Host, v) })
	case Host:
		return tried(f, events, func(r mail.LastReply) bool { return strings.EqualFold(r.Host, v) })
	case Client:
		return t.contains(f.ClientAddress)
	case IP:
		return t.contains(f.ClientAddress) ||
			tried(f, events, func(r mail.LastReply) bool { return t.contains(r.Address) })
	case Text:
		return strings.Contains(Words(f), v)
	case Subject:
		return strings.Contains(strings.ToLower(f.Subject), v)
	case Listener:
		return f.Listener == v
	case Account:
		return strings.ToLower(f.Account) == v
	case State:
		if v == Refused {
			return f.Refused != nil
		}
		return slices.ContainsFunc(f.Deliveries, func(d mail.Delivery) bool {
			return string(d.State) == v || v == "waiting" &&
				d.State == mail.Sending
		})
	case Cause:
		return f.Refused != nil && string(f.Refused.Cause) == v ||
			slices.ContainsFunc(f.Deliveries,
				func(d mail.Delivery) bool { return string(d.Cause) == v })
	case Route:
		return slices.ContainsFunc(f.Deliveries, func(d mail.Delivery) bool { return d.Route == v })
	}
	return false
}

func (t Term) contains(ip string) bool {
	a, err := netip.ParseAddr(ip)
	return err == nil && t.Network.Contains(a.Unmap())
}

func domainOf(a string) string {
	if i := strings.LastIndexByte(a, '@'); i >= 0 {
		return a[i+1:]
	}
	return ""
}

// Recipients are all addresses that something found went to or was meant for.
func Recipients(f *mail.Found) []string {
	var out []string
	if f.Refused != nil && f.Refused.Recipient != "" {
		out = append(out, f.Refused.Recipient)
	}
	for i := range f.Deliveries {
		out = append(out, f.Deliveries[i].Recipient, f.Deliveries[i].Original)
	}
	return out
}

func anyRecipient(f *mail.Found, t Term) bool {
	return slices.ContainsFunc(Recipients(f), func(a string) bool {
		a = strings.ToLower(a)
		switch t.Field {
		case Recipient:
			return a == t.Value
		case RecipientDomain:
			return domainOf(a) == t.Value
		}
		return strings.Contains(a, t.Value)
	})
}

// tried goes through the answers that attempts got.
func tried(f *mail.Found, events []mail.Event, is func(mail.LastReply) bool) bool {
	one := func(r mail.LastReply) bool {
		return r.Stage != diagnose.StageMailbox && (is(r) || slices.ContainsFunc(r.Tried, is))
	}
	if slices.ContainsFunc(
		f.Deliveries,
		func(d mail.Delivery) bool { return d.Last != nil && one(*d.Last) },
	) {
		return true
	}
	return slices.ContainsFunc(events, func(e mail.Event) bool {
		r, ok := e.Reply()
		return ok && one(r)
	})
}

// Words are what a part is looked for in.
func Words(f *mail.Found) string {
	return strings.ToLower(
		strings.Join(
			append([]string{f.Sender, f.HeaderFrom, f.Subject, f.MessageID}, Recipients(f)...),
			"\n",
		),
	)
}
