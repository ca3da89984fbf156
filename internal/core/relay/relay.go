// Package relay decides whether a recipient is taken from a client: the relay
// rules in order, then our own domains, then no.
package relay

import (
	"net/netip"
	"slices"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/smtp"
)

// Facts is what a decision is made on.
type Facts struct {
	Client    netip.Addr
	Listener  string
	Sender    address.Address
	Recipient address.Address
}

// Decision is the answer and what made it.
type Decision struct {
	Allow    bool
	Rule     string // a relay rule's name, or one of the built-in ones
	Line     int    // of the rule in the configuration, 0 for a built-in one
	Revision int
	// Why is one sentence.
	Why string
	// Reply is what the client is told if the answer is no.
	Reply smtp.Reply
}

// Decide applies the configuration to the facts.
func Decide(c *config.Compiled, f Facts) Decision {
	f.Client = f.Client.Unmap()
	for i := range c.RelayRules {
		if r := &c.RelayRules[i]; matches(r, f) {
			return byRule(c, r, f)
		}
	}
	if d := c.Domain(f.Recipient.Domain); d != nil || f.Recipient.Domain == "" {
		return Decision{Allow: true, Rule: config.RuleOurDomain, Revision: c.Revision,
			Why: "mail for our own domains is taken from anyone"}
	}
	return Decision{Rule: config.RuleNoRule, Revision: c.Revision,
		Why: "no relay rule allows " + f.Client.String() + " to send to outside domains",
		Reply: smtp.NewReply(550, "5.7.1", "relaying to %s is not allowed from %s: no relay rule matches",
			address.DisplayDomain(f.Recipient.Domain), f.Client)}
}

func byRule(c *config.Compiled, r *config.RelayRule, f Facts) Decision {
	d := Decision{Allow: r.Action == "allow", Rule: r.Name, Line: r.Line, Revision: c.Revision}
	if d.Allow {
		d.Why = "relay rule " + r.Name + " allows it"
		return d
	}
	d.Why = "relay rule " + r.Name + " refuses it"
	say := r.Say
	if say == "" {
		say = "sending from " + f.Client.String() + " is refused by relay rule " + r.Name
	}
	d.Reply = smtp.NewReply(550, "5.7.1", "%s", say)
	return d
}

func matches(r *config.RelayRule, f Facts) bool {
	if len(r.Networks) > 0 && !slices.ContainsFunc(r.Networks, func(n netip.Prefix) bool { return n.Contains(f.Client) }) {
		return false
	}
	if len(r.Listeners) > 0 && !slices.Contains(r.Listeners, f.Listener) {
		return false
	}
	if _, ok := r.Senders.Match(f.Sender); !ok {
		return false
	}
	_, ok := r.Recipients.Match(f.Recipient)
	return ok
}
