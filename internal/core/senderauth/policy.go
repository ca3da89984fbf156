package senderauth

import (
	"fmt"

	"gullroute/internal/core/smtp"
)

// Action is what is done about a message whose sender is not who it says.
type Action string

// The actions; a listener's or a peer's term is one of them, or off.
const (
	Off    Action = "off"
	Note   Action = "note"
	Hold   Action = "hold"
	Refuse Action = "refuse"
)

// Agreed is what a peer's term says of messages in its domains' name; "" if there
// is none.
type Agreed struct {
	Peer string
	Term Action
}

// Decide says what is done about a message by the term of its listener, and by what
// was agreed with those in whose name it comes. A listener does at most what the
// domain itself asks; a peer's term holds whatever the domain publishes.
func (c *Assessment) Decide(listener Action, agreed Agreed) {
	c.Action, c.Reason = Note, ""
	if agreed.Term != "" {
		if c.proved() || c.vouched() || agreed.Term == Note || agreed.Term == Off ||
			c.DMARC.Result == TempError {
			return
		}
		c.Action = agreed.Term
		c.Reason = fmt.Sprintf(
			"it was agreed with %s that messages in the name of %s must prove it: %s",
			agreed.Peer,
			c.DMARC.Domain,
			c.unproved(),
		)
		return
	}
	policy := ""
	switch {
	case c.vouched():
		c.Reason = fmt.Sprintf(
			"%s, which passed it on, saw %s proved",
			c.Chain.Vouched,
			c.DMARC.Domain,
		)
	case c.DMARC.Result == Fail:
		policy = c.DMARC.Policy
	case c.DMARC.Result == None && c.SPF.Result == Fail:
		policy = "reject"
	case c.DMARC.Result == PermError && c.DMARC.Domain != "": // several domains in From
		policy = "quarantine"
	}
	switch {
	case listener != Hold && listener != Refuse, policy == "", policy == "none":
		return
	case listener == Refuse && policy == "reject":
		c.Action = Refuse
	default:
		c.Action = Hold
	}
	c.Reason = c.unproved()
	if c.DMARC.Result == Fail {
		c.Reason += fmt.Sprintf("; %s asks for p=%s (%s)", c.DMARC.Domain, c.DMARC.Policy,
			c.DMARC.At)
	}
}

func (c *Assessment) unproved() string {
	if c.DMARC.Result == Fail || c.DMARC.Result == PermError {
		return c.DMARC.Why
	}
	if c.SPF.Result == Fail {
		return fmt.Sprintf("%s says by SPF that this client does not send for it", c.SPF.Domain)
	}
	return proofs(c.SPF, c.DKIM)
}

// proved reports that the domain in From is proved, be it that it publishes no
// DMARC record.
func (c *Assessment) proved() bool {
	if c.DMARC.Result != None {
		return c.DMARC.Result == Pass
	}
	if c.SPF.Result == Pass && Aligned(c.SPF.Domain, c.DMARC.Domain, false) {
		return true
	}
	for _, s := range c.DKIM {
		if s.Result == Pass && Aligned(s.Domain, c.DMARC.Domain, false) {
			return true
		}
	}
	return false
}

// Reply refuses the message, by the codes of RFC 7372.
func (c *Assessment) Reply() smtp.Reply {
	enhanced := "5.7.26" // several checks failed
	if c.DMARC.Result == None && c.SPF.Result == Fail {
		enhanced = "5.7.23"
	}
	return smtp.NewReply(550, enhanced, "%s", c.Reason)
}
