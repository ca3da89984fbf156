package control

import (
	"gullroute/internal/core/config"
	"gullroute/internal/core/list"
	"gullroute/internal/core/repute"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/weigh"
)

// stranger says what is decided by who sends, as far as that is known before the content. The
// lists that are asked are those in force.
func (x *explainer) stranger() *smtp.Reply {
	t := x.l.Weighs(x.c.Service.Reputation)
	if x.l.Kind != config.Edge || x.out.Rule != config.RuleOurDomain {
		return nil
	}
	for _, p := range t.InFront {
		if p.Contains(x.env.Client) {
			x.note(
				"reputation",
				"passed",
				"%s is a relay in front of us: the client that it saw is weighed, "+
					"after the content",
				x.env.Client,
			)
			return nil
		}
	}
	door := repute.NewDoor(&x.c.Service.Reputation,
		func(name string) *list.Set { return x.c.Lists[name] }, x.on.InForce.Exceptions())
	r := door.Ask(x.env.Client, x.env.Sender, x.to, "")
	weighs := t.Score != repute.Off || t.Greylisting != repute.Off
	var known *repute.Client
	if r.Unproved || r.Says == "" && weighs {
		known = x.on.Weigher.Client(x.ctx, &t, weigh.Facts{Listener: x.l.Name, Client: x.env.Client,
			Sender: x.env.Sender})
		r = door.Ask(x.env.Client, x.env.Sender, x.to, known.SPF)
	}
	switch {
	case r.Says == repute.Deny:
		no := smtp.NewReply(550, "5.7.1", "%s is not welcome here", r.Why)
		return &no
	case r.Says == repute.Allow:
		x.note("reputation", "passed", "not weighed: allowed by %s", r.Why)
		return nil
	case !weighs:
		return nil
	}
	early := t.Early(known)
	if t.Score == repute.On && t.Final(early, x.c.DNSLists) {
		no := early.Reply()
		return &no
	}
	text := early.Words() + "; the name in EHLO and the content may add to it"
	if t.Greylisted(early) {
		text += "; if it is not known here it is asked to come again"
	}
	x.note("reputation", "passed", "%s", text)
	return nil
}
