package engine

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
)

// Explain says what would be decided, by the very functions that decide; nothing
// is sent.
func (e *Engine) Explain(q mail.Question) ([]mail.Answer, error) {
	c := e.Config()
	client, err := netip.ParseAddr(q.Client)
	if err != nil {
		return nil, fmt.Errorf("client: %q is not an IP address", q.Client)
	}
	listener, err := pickListener(c, q.Listener)
	if err != nil {
		return nil, err
	}
	var from address.Address
	if q.From != "" && q.From != "<>" {
		if from, err = address.Parse(q.From); err != nil {
			return nil, fmt.Errorf("from: %w", err)
		}
	}
	answers := []mail.Answer{}
	for _, text := range q.To {
		to, err := parseRecipient(text)
		if err != nil {
			return nil, fmt.Errorf("to: %w", err)
		}
		answers = append(answers, explainOne(c, listener, client, from, to, q.Size))
	}
	return answers, nil
}

func parseRecipient(text string) (address.Address, error) {
	if strings.EqualFold(text, "postmaster") {
		return address.Address{Local: "postmaster"}, nil
	}
	return address.Parse(text)
}

func pickListener(c *config.Compiled, name string) (*config.Listener, error) {
	if name != "" {
		if l := c.Listener(name); l != nil {
			return l, nil
		}
		var names []string
		for _, l := range c.Listeners {
			names = append(names, l.Name)
		}
		return nil, fmt.Errorf("listener: there is none named %q; there are: %s", name, strings.Join(names, ", "))
	}
	if len(c.Listeners) == 0 {
		return nil, errors.New("listener: the configuration has none")
	}
	return &c.Listeners[0], nil
}

func explainOne(c *config.Compiled, l *config.Listener, client netip.Addr, from, to address.Address, size int64) mail.Answer {
	d := relay.Decide(c, relay.Facts{Client: client, Listener: l.Name, Sender: from, Recipient: to})
	a := mail.Answer{Recipient: to.Display(), Allowed: d.Allow, Rule: d.Rule, RuleLine: d.Line, Revision: d.Revision, Why: d.Why, Ways: []mail.Way{},
		Reply: smtp.NewReply(250, "2.1.5", "recipient ok").String()}
	if size > int64(l.Limits.MessageSize) {
		a.Allowed, a.Why = false, fmt.Sprintf("listener %s takes at most %d octets", l.Name, l.Limits.MessageSize)
		a.Reply = smtp.NewReply(552, "5.3.4", "the message has %d octets; %d are allowed here", size, l.Limits.MessageSize).String()
		return a
	}
	if !d.Allow {
		a.Reply = d.Reply.String()
		return a
	}
	legs, refusal := route.Plan(c, from, to)
	if refusal != nil {
		a.Allowed, a.Why, a.Reply = false, "the relay rules allow it, but "+refusal.Text(), refusal.String()
		return a
	}
	for _, leg := range legs {
		w := mail.Way{Recipient: leg.Recipient.Display(), Via: []string{}, Route: leg.Route.Name, NextHop: address.DisplayDomain(leg.NextHop),
			Lane: ident.ID(leg.Lane()).String(), Stranded: leg.Stranded(), Why: leg.Why}
		for _, v := range leg.Via {
			w.Via = append(w.Via, v.Display())
		}
		a.Ways = append(a.Ways, w)
	}
	return a
}
