package receive

import (
	"bytes"
	"context"
	"io"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
	asking "gullroute/internal/engine/senderauth"
	"gullroute/internal/engine/spool"
	"gullroute/internal/store"
)

// identify finds who a stranger's message is from, and what is to be done about it.
// It returns nil where nothing is asked: our people and machines, a neighbour that
// passes on what it took itself, whom a relay rule allows, a listener that is not
// to ask.
func (se contentTalk) identify(s *spool.Spool, section []byte) *senderauth.Assessment {
	term := senderauth.Action(se.conf.Identity)
	if se.trusted() || se.conf.Kind == config.LMTP || term == senderauth.Off ||
		se.server.SenderChecker == nil || !se.seen.IsValid() {
		return nil
	}
	for _, r := range se.rcpts {
		if r.decision.Rule != config.RuleOurDomain {
			return nil
		}
	}
	c := se.server.SenderChecker.Check(
		context.Background(),
		asking.Facts{Client: se.seen, Helo: se.greeting, Sender: se.mail.From, Header: section,
			Content: func() (io.Reader, error) { return s.Open(), nil }},
	)
	agreed := senderauth.Agreed{}
	if p := se.cfg.Peer(c.DMARC.Domain); p != nil && c.DMARC.Domain != "" && p.Identity != "" {
		agreed = senderauth.Agreed{Peer: p.Name, Term: senderauth.Action(p.Identity)}
	}
	c.Heed(se.cfg.Service.Forwards.Heeds)
	c.Decide(term, agreed)
	if se.server.Judged != nil {
		se.server.Judged(se.seen, &c)
	}
	return &c
}

// unproved refuses a message by what was found of it, or returns nil.
func (se contentTalk) unproved(
	c *senderauth.Assessment,
	sum message.Summary,
	size int64,
) *smtp.Reply {
	if c == nil || c.Action != senderauth.Refuse {
		return nil
	}
	r := c.Reply()
	se.refuseMessage(refused{cause: diagnose.SenderUnproved, reply: r, summary: sum, size: size})
	r = se.weigh(r, 1)
	return &r
}

// holdUnproved holds an entry's deliveries by what was found of it.
func holdUnproved(e *store.Entry, node string) {
	c := e.Message.Identity
	if c == nil || c.Action != senderauth.Hold {
		return
	}
	for _, d := range e.Deliveries {
		d.State = mail.Held
	}
	e.Events = append(e.Events, mail.Event{
		At:        e.Message.ReceivedAt,
		Kind:      mail.EventHeld,
		MessageID: e.Message.ID,
		Node:      node,
		Text:      "held: " + c.Reason,
		Detail:    map[string]any{"by": mail.HeldByIdentity},
	})
}

// head puts a message's own header section behind what we write before it.
func (se contentTalk) head(
	received, section []byte,
	c *senderauth.Assessment,
	s *spool.Spool,
	old int,
) {
	var b bytes.Buffer
	if c != nil {
		b.WriteString(c.Field(string(se.cfg.Service.HostName)))
	}
	if se.score != nil {
		b.WriteString(se.score.Field())
	}
	b.Write(received)
	b.Write(section)
	if !bytes.HasPrefix(s.Head()[old:], []byte("\r\n")) { // a body without an empty line before it
		b.WriteString("\r\n")
	}
	s.ReplaceHead(old, b.Bytes())
}

// ownNames are those by which Authentication-Results of ours are known.
func (se contentTalk) ownNames() []string {
	return []string{string(se.cfg.Service.HostName), string(se.conf.GreetingName)}
}
