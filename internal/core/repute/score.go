package repute

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
)

// Listing is what a DNS list says of something.
type Listing struct {
	List    string `json:"list"`
	Kind    string `json:"kind" enum:"block,allow"`
	About   string `json:"about" doc:"The address or domain that it was asked about"`
	Listed  bool   `json:"listed"`
	Answers string `json:"answers,omitempty"`
	Text    string `json:"text,omitempty" doc:"Why, in the list's words"`
	Points  int    `json:"points"`
	AskAt   string `json:"ask_at,omitempty"`
	Trouble string `json:"trouble,omitempty" doc:"Why it was not asked, or did not answer"`
}

// The states of a reverse name.
const (
	NameGood   = "good"
	NameNone   = "none"
	NameForged = "forged"
)

// Client is what is known of a client before any content.
type Client struct {
	Address   netip.Addr        `json:"address"`
	Name      string            `json:"name,omitempty" doc:"Its reverse name"`
	NameState string            `json:"name_state,omitempty" enum:"good,none,forged" doc:"forged: the name does not lead back. Empty if DNS did not say"`
	Greeting  string            `json:"greeting,omitempty" doc:"What is false about its name in EHLO"`
	SPF       senderauth.Result `json:"spf,omitempty"`
	Listings  []Listing         `json:"listings"`
}

// Part is what one signal counts.
type Part struct {
	Signal string `json:"signal"`
	Points int    `json:"points"`
	Why    string `json:"why,omitempty"`
}

// Score is the sum of signals, and what they are.
type Score struct {
	Points int    `json:"points"`
	Parts  []Part `json:"parts"`
	askAt  []string
}

func (s *Score) add(signal string, points int, why string, is bool) {
	if is && points != 0 {
		s.Points += points
		s.Parts = append(s.Parts, Part{signal, points, why})
	}
}

func (s *Score) listings(all []Listing) {
	for _, l := range all {
		points := l.Points
		if l.Kind == Welcome {
			points = -points
		}
		why := l.About + " is on it"
		if l.Text != "" {
			why += ": " + l.Text
		}
		s.add("list "+l.List, points, why, l.Listed)
		if l.Listed && l.Kind == Block {
			at := l.List
			if l.AskAt != "" {
				at += ", ask at " + l.AskAt
			}
			s.askAt = append(s.askAt, at)
		}
	}
}

// Early is the score of what is known before the content.
func (t *Settings) Early(c *Client) Score {
	p, s := &t.Points, Score{Parts: []Part{}}
	s.listings(c.Listings)
	s.add("no reverse name", p.NoReverseName, c.Address.String()+" has no name",
		c.NameState == NameNone)
	s.add("forged reverse name", p.ForgedReverseName, c.Name+" does not lead back to "+
		c.Address.String(), c.NameState == NameForged)
	s.add("false greeting", p.FalseGreeting, c.Greeting, c.Greeting != "")
	s.add("SPF fails", p.SPFFail, "", c.SPF == senderauth.Fail)
	s.add("SPF softfails", p.SPFSoftFail, "", c.SPF == senderauth.SoftFail)
	return s
}

// Message is what is known with the content.
type Message struct {
	Header       message.Header
	Identity     *senderauth.Assessment
	Links        []parts.Link
	Listings     []Listing // of its domains
	FirstContact bool
	Threat       string // what a scanner found
	Infected     bool
	Unwanted     bool
}

// Late is the whole score.
func (t *Settings) Late(c *Client, m *Message) Score {
	p, s := &t.Points, t.Early(c)
	s.listings(m.Listings)
	if i := m.Identity; i != nil {
		signed := slices.ContainsFunc(i.DKIM,
			func(x senderauth.Signature) bool { return x.Result == senderauth.Pass })
		s.add("DKIM fails", p.DKIMFail, "no signature is good", len(i.DKIM) > 0 && !signed)
		asks := i.DMARC.Policy != "none"
		s.add(
			"DMARC fails",
			p.DMARCFail,
			"",
			i.DMARC.Result == senderauth.Fail && asks && i.Proof() != senderauth.Pass,
		)
		s.add("DMARC fails, noted", p.DMARCNoted, "", i.DMARC.Result == senderauth.Fail && !asks)
	}
	s.add("first contact", p.FirstContact, "", m.FirstContact)
	why := malformed(m.Header)
	s.add("malformed header", p.MalformedHeader, why, why != "")
	for _, l := range m.Links {
		if l.Deceives() {
			s.add(
				"deceiving link",
				p.DeceivingLink,
				"it shows "+l.Shown+" and leads to "+l.Host,
				true,
			)
			break
		}
	}
	s.add("infected", p.Infected, m.Threat, m.Infected)
	s.add("unwanted", p.Unwanted, m.Threat, m.Unwanted)
	return s
}

// malformed says what is wrong with a header section, "" if nothing is.
func malformed(h message.Header) string {
	switch n := h.Count("From"); {
	case n == 0:
		return "it has no From"
	case n > 1:
		return fmt.Sprintf("it has %d From fields", n)
	}
	if h.First("Date") == "" {
		return "it has no Date"
	}
	id := strings.TrimSpace(h.First("Message-ID"))
	if id != "" &&
		(len(id) < 5 || id[0] != '<' || id[len(id)-1] != '>' || !strings.Contains(id, "@")) {
		return "its Message-ID is none"
	}
	return ""
}

// The fates of a score.
const (
	Pass   = "pass"
	Marked = "mark"
	Held   = "hold"
	Refuse = "refuse"
)

// Fate is what is done with a score.
func (t *Settings) Fate(s Score) string {
	at := func(threshold int) bool { return threshold > 0 && s.Points >= threshold }
	switch {
	case at(t.Thresholds.Refuse):
		return Refuse
	case at(t.Thresholds.Hold):
		return Held
	case at(t.Thresholds.Mark):
		return Marked
	}
	return Pass
}

// Final reports an early score that is refused whatever the content may be: lists that may
// still take points off are taken into account.
func (t *Settings) Final(s Score, lists []DNSList) bool {
	for i := range lists {
		l := &lists[i]
		if l.Kind == Welcome && !l.Off && (l.About(AsksFrom) || l.About(AsksLinks)) {
			s.Points -= l.Points
		}
	}
	return t.Fate(s) == Refuse
}

// Greylisted reports an early score whose client is asked to come again.
func (t *Settings) Greylisted(s Score) bool {
	switch t.Greylisting {
	case All:
		return true
	case ByScore:
		return t.Score == On && t.Thresholds.Greylist > 0 && s.Points >= t.Thresholds.Greylist
	}
	return false
}

// Reply is what a client hears that is refused by its score.
func (s Score) Reply() smtp.Reply {
	if len(s.askAt) > 0 {
		return smtp.NewReply(550, "5.7.1", "refused: listed by %s (score %d)",
			strings.Join(s.askAt, "; "), s.Points)
	}
	return smtp.NewReply(
		550,
		"5.7.1",
		"refused: too much speaks against the message (score %d: %s)",
		s.Points,
		s.signals(),
	)
}

func (s Score) signals() string {
	out := make([]string, len(s.Parts))
	for i, p := range s.Parts {
		out[i] = fmt.Sprintf("%s %d", p.Signal, p.Points)
	}
	return strings.Join(out, ", ")
}

// FieldName is the header field in which the score stands. What others wrote there is taken out.
const FieldName = "Gull-Score"

// Field is the header field.
func (s Score) Field() string {
	text := fmt.Sprintf("%s: %d", FieldName, s.Points)
	for i, p := range s.Parts {
		sep := ";\r\n\t"
		if i == 0 {
			sep = "\r\n\t"
		}
		text += fmt.Sprintf("%s%s %d", sep, ascii(p.Signal), p.Points)
	}
	return text + "\r\n"
}

func ascii(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' || r == ';' {
			return '?'
		}
		return r
	}, s)
}

// Words tell a score in a sentence.
func (s Score) Words() string {
	if len(s.Parts) == 0 {
		return fmt.Sprintf("score %d: nothing speaks against it", s.Points)
	}
	return fmt.Sprintf("score %d: %s", s.Points, s.signals())
}

// FalseGreeting says what is false about a client's name in EHLO, "" if nothing is. ours are
// our own names; exists asks DNS, and answers true where that does not say.
func FalseGreeting(helo string, client netip.Addr, ours []string, exists func(string) bool) string {
	name := strings.ToLower(strings.TrimSuffix(helo, "."))
	if text, ok := strings.CutPrefix(name, "["); ok {
		text = strings.TrimPrefix(strings.TrimSuffix(text, "]"), "ipv6:")
		if ip, err := netip.ParseAddr(text); err == nil && ip.Unmap() != client.Unmap() {
			return "it calls itself " + helo + ", which is another's address"
		}
		return ""
	}
	if ip, err := netip.ParseAddr(name); err == nil {
		return "it calls itself " + ip.String() + ", which is no name"
	}
	domain, err := address.ParseDomain(name)
	switch {
	case err != nil || !strings.Contains(domain, "."):
		return "it calls itself " + helo + ", which is no name in DNS"
	case slices.Contains(ours, domain):
		return "it calls itself " + helo + ", which is us"
	case !exists(domain):
		return "it calls itself " + helo + ", which does not exist"
	}
	return ""
}
