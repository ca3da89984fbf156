package repute

import (
	"net/netip"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
	"gullroute/internal/core/list"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
)

// Standing is an exception that people made for a time.
type Standing struct {
	Kind  string     `json:"kind" enum:"network,sender,recipient"`
	Value string     `json:"value"`
	Says  string     `json:"says" enum:"allow,deny"`
	Until *time.Time `json:"until,omitempty" doc:"For good if not given"`
	Who   string     `json:"who"`
	Why   string     `json:"why"`
	Since time.Time  `json:"since"`
}

// The words of a standing.
const (
	Allow = "allow"
	Deny  = "deny"
)

// The kinds of what a standing is about.
const (
	OfNetwork   = "network"
	OfSender    = "sender"
	OfRecipient = "recipient"
)

// Check says what is wrong with a standing's value, and writes it in its one form.
func (s *Standing) Check() error {
	switch s.Kind {
	case OfNetwork:
		p, err := form.ParseNetwork(s.Value)
		if err != nil {
			return err
		}
		s.Value = p.String()
	default:
		p, err := address.ParsePattern(s.Value)
		if err != nil {
			return err
		}
		s.Value = p.String()
	}
	return nil
}

// exceptions are the exceptions of one kind, ready to be asked.
type exceptions struct {
	networks   []*list.Set
	senders    address.Patterns
	recipients address.Patterns
}

// Door says who is spared and who is refused, by the settings and by what people made for a
// time.
type Door struct{ allow, deny exceptions }

// NewDoor makes one. set finds a list; standings are those whose time is not over.
func NewDoor(t *Settings, set func(string) *list.Set, standings []Standing) *Door {
	d := &Door{compile(t.Allow, set), compile(t.Deny, set)}
	var own = map[string][]string{}
	for _, s := range standings {
		to := &d.allow
		if s.Says == Deny {
			to = &d.deny
		}
		switch s.Kind {
		case OfNetwork:
			own[s.Says] = append(own[s.Says], s.Value)
		case OfSender, OfRecipient:
			p, err := address.ParsePattern(s.Value)
			if err != nil {
				continue
			}
			if s.Kind == OfSender {
				to.senders = append(to.senders, p)
			} else {
				to.recipients = append(to.recipients, p)
			}
		}
	}
	for says, entries := range own {
		to := &d.allow
		if says == Deny {
			to = &d.deny
		}
		to.networks = append(
			to.networks,
			list.New(list.List{Kind: list.Networks, Entries: entries}),
		)
	}
	return d
}

func compile(e Exceptions, set func(string) *list.Set) exceptions {
	out := exceptions{senders: bind(e.Senders, set), recipients: bind(e.Recipients, set)}
	var own []string
	for _, n := range e.Networks {
		if name, ok := strings.CutPrefix(n, address.ListPrefix); !ok {
			own = append(own, n)
		} else if s := set(strings.TrimSpace(name)); s != nil {
			out.networks = append(out.networks, s)
		}
	}
	if len(own) > 0 {
		out.networks = append(out.networks, list.New(list.List{Kind: list.Networks, Entries: own}))
	}
	return out
}

func bind(ps address.Patterns, set func(string) *list.Set) address.Patterns {
	return ps.Bind(func(name string) address.Set {
		if s := set(name); s != nil {
			return s
		}
		return list.New(list.List{Kind: list.Addresses})
	})
}

func (e *exceptions) network(client netip.Addr) (string, bool) {
	for _, s := range e.networks {
		if p, ok := s.Holds(client); ok {
			return "network " + p.String(), true
		}
	}
	return "", false
}

// named reports that patterns name an address; where there are none, nobody is named.
func named(ps address.Patterns, a address.Address) (address.Pattern, bool) {
	if len(ps) == 0 {
		return address.Pattern{}, false
	}
	return ps.Match(a)
}

// Ruling is what the exceptions say of a client, a sender and a recipient.
type Ruling struct {
	Says string // allow, deny, or "" if they say nothing
	Why  string
	// Unproved is an allowance of a sender that counts once the sender is proved.
	Unproved bool
}

// Ask asks the exceptions. An allowed network comes first; then whatever is denied; then
// allowed recipients, and senders that are proved.
func (d *Door) Ask(client netip.Addr, sender, to address.Address, proved senderauth.Result) Ruling {
	if strings.EqualFold(to.Local, "postmaster") {
		return Ruling{Says: Allow, Why: "postmaster is always reached"}
	}
	if why, ok := d.allow.network(client); ok {
		return Ruling{Says: Allow, Why: why}
	}
	if why, ok := d.deny.network(client); ok {
		return Ruling{Says: Deny, Why: why}
	}
	if p, ok := named(d.deny.senders, sender); ok && !sender.IsNull() {
		return Ruling{Says: Deny, Why: "sender " + p.String()}
	}
	if p, ok := named(d.deny.recipients, to); ok {
		return Ruling{Says: Deny, Why: "recipient " + p.String()}
	}
	if p, ok := named(d.allow.recipients, to); ok {
		return Ruling{Says: Allow, Why: "recipient " + p.String()}
	}
	if p, ok := named(d.allow.senders, sender); ok && !sender.IsNull() {
		why := "sender " + p.String()
		if proved == senderauth.Pass {
			return Ruling{Says: Allow, Why: why}
		}
		return Ruling{Why: why, Unproved: true}
	}
	return Ruling{}
}

// Reply is what a client hears that is denied.
func (r Ruling) Reply() smtp.Reply {
	return smtp.NewReply(550, "5.7.1", "%s is not welcome here; write to postmaster if that is wrong",
		r.Why)
}

// Proved says whether a sender of the envelope is proved: by SPF, or by a DMARC pass of its own
// domain. A pass of another domain in From proves nothing of it.
func Proved(i *senderauth.Assessment, sender address.Address) senderauth.Result {
	if i != nil && (i.SPF.Result == senderauth.Pass || i.DMARC.Result == senderauth.Pass &&
		senderauth.Aligned(i.DMARC.Domain, sender.Domain, false)) {
		return senderauth.Pass
	}
	return ""
}

// Before is what is decided before the content.
type Before struct {
	Spared   string      // by what; "" if it is not
	Refuse   *smtp.Reply // it is not taken
	Denied   bool        // by an exception, and not by the score
	Greylist bool        // who is not known is asked to come again
	Early    *Score      // nil where nobody is weighed
}

// Before decides about a recipient. facts asks what is known of who sends; it is asked only
// where that counts.
func (t *Settings) Before(
	d *Door,
	client netip.Addr,
	sender, to address.Address,
	facts func() *Client,
	lists []DNSList,
) Before {
	r := d.Ask(client, sender, to, "")
	if r.Unproved {
		r = d.Ask(client, sender, to, facts().SPF)
	}
	switch {
	case r.Says == Allow:
		return Before{Spared: r.Why}
	case r.Says == Deny:
		no := r.Reply()
		return Before{Refuse: &no, Denied: true}
	case t.Score == Off && t.Greylisting == Off:
		return Before{}
	}
	early := t.Early(facts())
	out := Before{Early: &early, Greylist: t.Greylisted(early)}
	if t.Score == On && t.Final(early, lists) {
		no := early.Reply()
		out.Refuse = &no
	}
	return out
}

// Network is what of a client's address greylisting goes by: big senders come again from
// another address of the same network (RFC 6647 section 5).
func Network(client netip.Addr) string {
	bits := 24
	if client = client.Unmap(); client.Is6() {
		bits = 64
	}
	p, err := client.Prefix(bits)
	if err != nil {
		return client.String()
	}
	return p.String()
}

// Known is what is on record of a network, a sender and a recipient.
type Known struct {
	First  time.Time // when they came first
	Passed bool
}

// Wait is how long a client must still wait, 0 if it may pass.
func (t *Settings) Wait(k Known, now time.Time) time.Duration {
	if k.Passed {
		return 0
	}
	return max(0, t.GreylistFor-now.Sub(k.First))
}
