package queue

import (
	"context"
	"io"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/autoreply"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/store"
)

// replyAgain is how long a sender gets no second automatic reply.
const replyAgain = 7 * 24 * time.Hour

// reply makes the automatic reply of a mailbox, or nil: RFC 3834 says when not
// to answer, a peer's terms which text is for them.
func (a *author) reply(
	cfg *config.Compiled,
	box *directory.Mailbox,
	j *job,
	d *mail.Delivery,
	now time.Time,
) *store.Entry {
	to := j.from()
	if box == nil || box.Reply == nil || to.IsNull() {
		return nil
	}
	text := textFor(cfg, box.Reply, to)
	if text == "" || !autoreply.InSeason(*box.Reply, now) {
		return nil
	}
	section, err := a.header(j)
	if err != nil {
		a.Log.Error("no automatic reply: the message cannot be read", "message", j.message,
			"error", err)
		return nil
	}
	why := j.whyNoAnswer(cfg)
	if why == "" {
		why = autoreply.WhyNot(section, to, box)
	}
	if why != "" {
		a.Log.Info("no automatic reply", "message", j.message, "mailbox", d.Recipient, "why", why)
		return nil
	}
	ctx, cancel := context.WithTimeout(a.ctx, enterTimeout)
	defer cancel()
	if first, err := a.Store.Replying(ctx, d.Recipient, to.Key(), now,
		now.Add(-replyAgain)); err != nil ||
		!first {
		return nil
	}
	id := a.IDs.Next()
	content := autoreply.Compose(autoreply.Answer{
		ID:       id.String(),
		HostName: string(cfg.Service.HostName),
		From:     box.Address,
		Name:     box.Name,
		To:       to,
		Text:     text,
		Original: section,
		Now:      now,
	})
	e, fault := generate(cfg, j, id, to, content, "reply", now)
	if fault != nil {
		a.Log.Warn("an automatic reply cannot be delivered", "message", j.message,
			"to", to.String(), "reply", fault.String())
		return nil
	}
	return e
}

// textFor chooses the text for a sender: inside for our own people, outside
// for others, or as agreed with a peer.
func textFor(cfg *config.Compiled, r *directory.Reply, to address.Address) string {
	which := "outside"
	if cfg.Domain(to.Domain) != nil {
		which = "inside"
	}
	if p := cfg.Peer(to.Domain); p != nil && p.AutomaticReplies != "" {
		which = p.AutomaticReplies
	}
	switch {
	case which == "none":
		return ""
	case which == "inside" && r.Inside != "":
		return r.Inside
	}
	return r.Outside
}

// header reads a message's header section.
func (a *author) header(j *job) ([]byte, error) {
	content, err := a.message(j).Content()
	if err != nil {
		return nil, err
	}
	head := make([]byte, message.MaxHeader)
	n, err := io.ReadFull(content, head)
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
		return nil, err
	}
	section, _ := message.SplitHeader(head[:n])
	return section, nil
}
