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
	var known *repute.Client
	b := t.Before(door, x.env.Client, x.env.Sender, x.to, func() *repute.Client {
		if known == nil {
			known = x.on.Weigher.Client(x.ctx, &t, weigh.Facts{Listener: x.l.Name,
				Client: x.env.Client, Sender: x.env.Sender})
		}
		return known
	}, x.c.DNSLists)
	switch {
	case b.Refuse != nil:
		return b.Refuse
	case b.Spared != "":
		x.note("reputation", "passed", "not weighed: allowed by %s", b.Spared)
	case b.Early != nil:
		text := b.Early.Words() + "; the name in EHLO and the content may add to it"
		if b.Greylist {
			text += "; if it is not known here it is asked to come again"
		}
		x.note("reputation", "passed", "%s", text)
	}
	return nil
}
