// Package relay decides whether a recipient is taken from a client: the relay
// rules in order, then our own domains, then no.
package relay

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/smtp"
)

// Decision is the answer and what made it.
type Decision struct {
	Allow    bool
	Rule     string // a relay rule's name, or one of the built-in ones
	Line     int    // of the rule in the configuration, 0 for a built-in one
	Revision int
	// Limits are the rule's, to be counted for Holder.
	Limits config.RuleLimits
	// OwnFrom is what is done about a From that is not the account's; "" if nothing.
	OwnFrom string
	// Why is one sentence.
	Why string
	// Reply is what the client is told if the answer is no.
	Reply smtp.Reply
}

// Decide applies the configuration to an envelope's recipient.
func Decide(c *config.Compiled, e config.Envelope, recipient address.Address) Decision {
	e.Client = e.Client.Unmap()
	var d *Decision
	c.EachRule(e, recipient, func(r *config.RelayRule) bool {
		if _, fails := Unmet(r, e, recipient); fails {
			return false
		}
		d = byRule(c, r, e)
		return true
	})
	if d != nil {
		return *d
	}
	ours := c.Domain(recipient.Domain)
	if ours != nil && ours.Kind != config.Local && strings.ContainsAny(recipient.Local, "%!@") &&
		c.Mailbox(recipient) == nil {
		return Decision{
			Rule:     config.RuleNoRule,
			Revision: c.Revision,
			Why: "an address within the address would be followed by the next server, which " +
				"trusts us",
			Reply: smtp.NewReply(
				550,
				"5.7.1",
				"<%s> holds a source route of its own (%%, ! or @ before the last @); that is not followed "+
					"here",
				recipient,
			),
		}
	}
	if recipient.Domain == "" || ours != nil {
		return Decision{Allow: true, Rule: config.RuleOurDomain, Revision: c.Revision,
			Why: "mail for our own domains is taken from anyone"}
	}
	out := Decision{
		Rule:     config.RuleNoRule,
		Revision: c.Revision,
		Why:      "no relay rule allows " + Holder(e) + " to send to outside domains",
		Reply: smtp.NewReply(550, "5.7.1",
			"relaying to %s is not allowed from %s: no relay rule matches",
			address.DisplayDomain(recipient.Domain), e.Client),
	}
	if !e.Account.IsNull() {
		out.Reply = smtp.NewReply(550, "5.7.1",
			"relaying to %s is not allowed for %s: no relay rule matches",
			address.DisplayDomain(recipient.Domain), e.Account.Display())
	}
	return out
}

// Holder is whose limits an envelope counts for: the account, or the client's
// address.
func Holder(e config.Envelope) string {
	if !e.Account.IsNull() {
		return e.Account.Display()
	}
	return e.Client.String()
}

func byRule(c *config.Compiled, r *config.RelayRule, e config.Envelope) *Decision {
	d := &Decision{
		Allow:    r.Action == "allow",
		Rule:     r.Name,
		Line:     r.Line,
		Revision: c.Revision,
		Limits:   r.Limits,
	}
	switch {
	case d.Allow && r.OwnSender && !Belongs(c, e):
		d.Allow = false
		d.Why = "relay rule " + r.Name + " allows only senders that belong to the account"
		d.Reply = smtp.NewReply(550, "5.7.1",
			"<%s> does not belong to %s; send as one of your own addresses", e.Sender.Display(),
			e.Account.Display())
	case d.Allow:
		if r.OwnSender {
			d.OwnFrom = cmp.Or(r.OwnFrom, config.OwnFromRefuse)
		}
		d.Why = "relay rule " + r.Name + " allows it"
	default:
		d.Why = "relay rule " + r.Name + " refuses it"
		say := r.Say
		if say == "" {
			say = "sending from " + Holder(e) + " is refused by relay rule " + r.Name
		}
		d.Reply = smtp.NewReply(550, "5.7.1", "%s", say)
	}
	return d
}

// Belongs reports whether the sender is one of the account's. The null sender is
// anybody's: without it mail programs could not send receipts.
func Belongs(c *config.Compiled, e config.Envelope) bool {
	if e.Sender.IsNull() {
		return true
	}
	box := c.Mailbox(e.Account)
	return box != nil && (box.May(e.Sender) || c.Mailbox(e.Sender) == box)
}

// Unmet is the first condition of a rule that an envelope does not meet, in
// words.
func Unmet(r *config.RelayRule, e config.Envelope, recipient address.Address) (string, bool) {
	if len(r.Networks) > 0 &&
		!slices.ContainsFunc(
			r.Networks,
			func(n netip.Prefix) bool { return n.Contains(e.Client) },
		) {
		return "the client is in none of its networks", true
	}
	if len(r.Listeners) > 0 && !slices.Contains(r.Listeners, e.Listener) {
		return "it is for listener " + strings.Join(r.Listeners, ", "), true
	}
	if len(r.Accounts) > 0 {
		if e.Account.IsNull() {
			return "it is for people who signed in", true
		}
		if _, ok := r.Accounts.Match(e.Account); !ok {
			return "the account is not among its accounts", true
		}
	}
	if len(r.Certificates) > 0 && !slices.ContainsFunc(e.Certificates, func(name string) bool {
		return slices.ContainsFunc(r.Certificates,
			func(want string) bool { return strings.EqualFold(want, name) })
	}) {
		return "no client certificate has one of its names", true
	}
	if _, ok := r.Senders.Match(e.Sender); !ok {
		return "the sender is not among its senders", true
	}
	if _, ok := r.Recipients.Match(recipient); !ok {
		return "the recipient is not among its recipients", true
	}
	return "", false
}
