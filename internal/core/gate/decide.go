package gate

import (
	netmail "net/mail"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/list"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
)

// Message is what is known of a message. Before its content Late is false, and what only
// the content tells is not known.
type Message struct {
	Listener   string
	Client     netip.Addr
	Account    address.Address
	Sender     address.Address
	Trusted    bool                     // from our people or machines
	Ours       func(domain string) bool // whether a domain is ours
	At         time.Time
	Late       bool
	Recipients int
	Size       int64
	Header     message.Header
	Identity   *senderauth.Assessment
	Score      *int // of reputation; nil if none was made
	// Parts takes the content apart; it is asked once, and only if a gate needs it.
	Parts func() *parts.Report
	// Scan shows the content to a scanner; it is asked once, and only if a gate needs it. Where
	// it is nil the verdict is not known.
	Scan func() Verdict
	// FirstContact says whether sender and recipient have no mail on record.
	FirstContact func(to *Recipient) bool

	taken   bool
	report  *parts.Report
	scanned *Verdict
	known   map[int]answer // by condition
}

type answer struct {
	holds bool
	why   string
}

// Recipient is one of a message's: as it was given, and where it ends.
type Recipient struct {
	Given  address.Address
	Finals []address.Address
}

func (r *Recipient) all() []address.Address { return append([]address.Address{r.Given}, r.Finals...) }

// direction is in, out or between.
func (m *Message) direction(to *Recipient) string {
	switch {
	case m.Ours != nil && to.Given.Domain != "" && !m.Ours(to.Given.Domain):
		return "out"
	case m.Trusted:
		return "between"
	}
	return "in"
}

// Taken is what is in the content; it is taken apart if it was not yet.
func (m *Message) Taken() *parts.Report { return m.parts() }

func (m *Message) parts() *parts.Report {
	if !m.taken && m.Parts != nil {
		m.report = m.Parts()
	}
	m.taken = true
	return m.report
}

// Verdict is what a scanner says of a message.
type Verdict struct {
	Word    string `json:"word" enum:"clean,infected,unwanted,none,too_large"`
	Threat  string `json:"threat,omitempty" doc:"The scanner's name for what it found"`
	Scanner string `json:"scanner,omitempty"`
	Why     string `json:"why,omitempty" doc:"Why nobody answered"`
}

// The words of a verdict.
const (
	Clean    = "clean"
	Infected = "infected"
	Unwanted = "unwanted"
	NoAnswer = "none"
	TooLarge = "too_large"
)

func (v Verdict) words() string {
	switch {
	case v.Word == NoAnswer:
		return "no scanner answered: " + v.Why
	case v.Word == TooLarge:
		return "too large for the scanners"
	case v.Threat != "":
		return "scanner " + v.Scanner + " says " + v.Word + ": " + v.Threat
	}
	return "scanner " + v.Scanner + " says " + v.Word
}

// Verdict asks a scanner, unless it was asked already.
func (m *Message) Verdict() Verdict {
	if m.scanned == nil {
		v := m.Scan()
		m.scanned = &v
	}
	return *m.scanned
}

// Report is what was found in the content, nil if nobody asked.
func (m *Message) Report() *parts.Report { return m.report }

// From are the addresses in the field From.
func (m *Message) From() (out []address.Address) {
	for _, f := range m.Header {
		if !strings.EqualFold(f.Name, "From") {
			continue
		}
		list, err := netmail.ParseAddressList(f.Value)
		if err != nil {
			continue
		}
		for _, a := range list {
			if parsed, err := address.Parse(a.Address); err == nil {
				out = append(out, parsed)
			}
		}
	}
	return out
}

// proofs are what is known of who sent a message, in the words of the condition.
func (m *Message) proofs() []string {
	if m.Identity == nil {
		return nil
	}
	out := []string{map[senderauth.Result]string{senderauth.Pass: "proved",
		senderauth.Fail: "forged", "": "unproved"}[m.Identity.Proof()]}
	switch m.Identity.SPF.Result {
	case senderauth.Fail, senderauth.SoftFail, senderauth.None:
		out = append(out, "spf_"+string(m.Identity.SPF.Result))
	}
	signed, failed := false, false
	for _, s := range m.Identity.DKIM {
		signed = signed || s.Result == senderauth.Pass
		failed = failed || s.Result == senderauth.Fail
	}
	switch {
	case !signed && failed:
		out = append(out, "dkim_fail")
	case !signed:
		out = append(out, "dkim_none")
	}
	switch m.Identity.DMARC.Result {
	case senderauth.Fail, senderauth.None:
		out = append(out, "dmarc_"+string(m.Identity.DMARC.Result))
	}
	return out
}

// verdict is whether conditions hold, as far as it is known.
type verdict int

const (
	no verdict = iota
	yes
	unknown
)

// Met is one gate that a message met.
type Met struct {
	Gate     string   `json:"gate"`
	Position int      `json:"position" doc:"Among the gates, from 1"`
	Watching bool     `json:"watching,omitempty" doc:"It only watches: nothing was done"`
	Severity string   `json:"severity"`
	Why      []string `json:"why" doc:"The conditions that held, in words"`
	Effects  []string `json:"effects" doc:"What it did, or would have done"`
}

// Changes are what gates change in a message's content.
type Changes struct {
	Remove   []Removal
	Harmless string // text, html or ""
	AddText  []string
	Mark     []string // before the subject
	Fields   []string
}

// Removal names files that a gate takes out.
type Removal struct {
	Gate  string
	terms fileTerms
}

// RemoveAll names every file, by the word of a person.
func RemoveAll() Removal { return Removal{terms: fileTerms{all: true}} }

// By says who takes them out.
func (r Removal) By() string {
	if r.Gate == "" {
		return "the person who released the message"
	}
	return "gate " + r.Gate
}

// Meant says whether a part is one of the files, and by which term.
func (r Removal) Meant(p *parts.Part) (term string, ok bool) {
	if p.Container {
		return "", false
	}
	_, term, ok = r.terms.part(p)
	return term, ok
}

// Any reports whether anything is changed.
func (c *Changes) Any() bool {
	return len(c.Remove)+len(c.AddText)+len(c.Mark)+len(c.Fields) > 0 || c.Harmless != ""
}

// Key is the same for changes that are the same.
func (c *Changes) Key() string {
	var b strings.Builder
	for _, r := range c.Remove {
		b.WriteString("\x00r" + r.Gate)
	}
	b.WriteString("\x00h" + c.Harmless)
	for _, list := range [][]string{c.AddText, c.Mark, c.Fields} {
		b.WriteString("\x00" + strings.Join(list, "\x01"))
	}
	return b.String()
}

// Fate is what is decided of one recipient.
type Fate struct {
	Met      []Met
	Refuse   *smtp.Reply // it is not taken
	By       string      // the gate that refuses, discards or holds first
	Discard  bool
	Hold     bool
	Redirect []address.Address
	Copies   []address.Address
	Route    string
	RouteBy  string
	Until    time.Time // delayed:  then; zero is not delayed
	UntilBy  string
	Changes  Changes
}

// Severity is the worst of what was met and not only watched.
func (f *Fate) Severity() mail.Severity {
	worst := 0
	for _, m := range f.Met {
		if !m.Watching {
			worst = max(worst, mail.Severity(m.Severity).Rank())
		}
	}
	return mail.SeverityOf(worst)
}

// Early asks the gates with what is known before the content. A refusal is final only where
// no gate before it, still to be decided, would let the message past.
func (c *Chain) Early(m *Message, to Recipient) (Fate, bool) {
	f := Fate{}
	for _, g := range c.gates {
		v, why := c.meets(g, m, &to)
		switch {
		case v == unknown && g.Stop && !g.Watch:
			return Fate{}, false
		case v != yes:
			continue
		}
		c.apply(g, m, &f, why)
		if f.Refuse != nil {
			return f, true
		}
		if g.Stop && !g.Watch {
			return Fate{}, false
		}
	}
	return Fate{}, false
}

// Decide asks the gates about one recipient, with all that is known.
func (c *Chain) Decide(m *Message, to Recipient) Fate {
	f := Fate{}
	if c.Empty() {
		return f
	}
	for _, g := range c.gates {
		v, why := c.meets(g, m, &to)
		if v != yes {
			continue
		}
		c.apply(g, m, &f, why)
		if !g.Watch && (g.Stop || f.Refuse != nil || f.Discard) {
			break
		}
	}
	return f
}

// meets says whether a message meets a gate, and by what.
func (c *Chain) meets(g *compiled, m *Message, to *Recipient) (verdict, []string) {
	var why []string
	out := yes
	for _, x := range g.all {
		if (x.dear || x.scan) && out == unknown {
			continue
		}
		switch v, words := m.ask(x, to); v {
		case no:
			return no, nil
		case unknown:
			out = unknown
		default:
			why = append(why, words)
		}
	}
	for _, x := range g.none {
		switch v, _ := m.ask(x, to); v {
		case yes:
			return no, nil
		case unknown:
			out = unknown
		}
	}
	if len(g.any) == 0 {
		return out, why
	}
	some := no
	for _, x := range g.any {
		v, words := m.ask(x, to)
		if v == yes {
			return out, append(why, words)
		}
		if v == unknown {
			some = unknown
		}
	}
	if some == no {
		return no, nil
	}
	return unknown, nil
}

// ask answers a condition, from what is known already where it can.
func (m *Message) ask(x *condition, to *Recipient) (verdict, string) {
	if x.late && !m.Late || x.scan && m.Scan == nil {
		return unknown, ""
	}
	if !x.each {
		if a, ok := m.known[x.n]; ok {
			return a.verdict(), a.why
		}
	}
	holds, why := x.ask(m, to)
	a := answer{holds, why}
	if !x.each {
		if m.known == nil {
			m.known = map[int]answer{}
		}
		m.known[x.n] = a
	}
	return a.verdict(), a.why
}

func (a answer) verdict() verdict {
	if a.holds {
		return yes
	}
	return no
}

// apply adds the effects of a gate that is met.
func (c *Chain) apply(g *compiled, m *Message, f *Fate, why []string) {
	met := Met{Gate: g.Name, Position: g.position, Watching: g.Watch, Severity: g.Severity,
		Why: why, Effects: g.words()}
	if met.Severity == "" {
		met.Severity = "none"
	}
	f.Met = append(f.Met, met)
	if g.Watch {
		return
	}
	if g.Action() != GoOn && f.By == "" {
		f.By = g.Name
	}
	switch g.Action() {
	case Refuse:
		r := g.reply()
		f.Refuse, f.By = &r, g.Name
		return
	case Discard:
		f.Discard, f.By = true, g.Name
		return
	case Hold:
		f.Hold = true
	}
	if len(f.Redirect) == 0 {
		f.Redirect = g.Then.RedirectTo
	}
	for _, a := range g.Then.CopyTo {
		if !slices.Contains(f.Copies, a) {
			f.Copies = append(f.Copies, a)
		}
	}
	if f.Route == "" && g.Then.Route != "" {
		f.Route, f.RouteBy = g.Then.Route, g.Name
	}
	if len(g.Then.Delay) > 0 {
		at, ok := opens(g.delay, m.At)
		if g.wait > 0 && (!ok || m.At.Add(g.wait).Before(at)) {
			at, ok = m.At.Add(g.wait), true
		}
		switch {
		case !ok: // hours that never come: a person must see that
			f.Hold = true
		case at.After(f.Until) && at.After(m.At):
			f.Until, f.UntilBy = at, g.Name
		}
	}
	if g.remove.given() {
		f.Changes.Remove = append(f.Changes.Remove, Removal{g.Name, g.remove})
	}
	if g.Then.Clean == "text" || f.Changes.Harmless == "" {
		f.Changes.Harmless = g.Then.Clean
	}
	add := func(list *[]string, text string) {
		if text != "" && !slices.Contains(*list, text) {
			*list = append(*list, text)
		}
	}
	add(&f.Changes.AddText, g.Then.AddText)
	add(&f.Changes.Mark, g.Then.Mark.Subject)
	for _, field := range g.Then.Mark.Header {
		add(&f.Changes.Fields, field)
	}
}

// opens is the first moment from at on that is within the hours of one of the sets.
func opens(sets []*list.Set, at time.Time) (first time.Time, ok bool) {
	for _, s := range sets {
		if next, there := s.Next(at); there && (!ok || next.Before(first)) {
			first, ok = next, true
		}
	}
	return first, ok
}

// reply is what a client hears that a gate refuses.
func (g *compiled) reply() smtp.Reply {
	code, enhanced := 550, g.Then.Code
	if enhanced == "" {
		enhanced = "5.7.1"
	}
	if enhanced[0] == '4' {
		code = 451
	}
	return smtp.NewReply(code, enhanced, "%s", g.Then.Refuse)
}

// words are what a gate does, in the order in which it is done.
func (g *compiled) words() []string {
	out := []string{}
	add := func(is bool, words string) {
		if is {
			out = append(out, words)
		}
	}
	add(g.Action() == Refuse, "refused")
	add(g.Then.Discard, "discarded")
	add(g.Then.Hold, "held")
	add(len(g.Then.RedirectTo) > 0, "redirected to "+display(g.Then.RedirectTo))
	add(len(g.Then.CopyTo) > 0, "copied to "+display(g.Then.CopyTo))
	add(g.Then.Route != "", "sent by route "+g.Then.Route)
	add(len(g.Then.Delay) > 0, "delayed:  "+strings.Join(g.Then.Delay, ", "))
	add(len(g.Then.RemoveAttachments) > 0, "attachments taken out: "+
		strings.Join(g.Then.RemoveAttachments, ", "))
	add(g.Then.Clean == "text", "HTML made plain text")
	add(g.Then.Clean == "html", "HTML cleaned")
	add(g.Then.AddText != "", "text added at the end")
	add(g.Then.Mark.Subject != "", "subject marked "+g.Then.Mark.Subject)
	add(len(g.Then.Mark.Header) > 0, "fields written: "+strings.Join(g.Then.Mark.Header, "; "))
	add(g.Stop, "gates behind it not asked")
	return out
}

func display(list []address.Address) string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.Display()
	}
	return strings.Join(out, ", ")
}
