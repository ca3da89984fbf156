package queue

import (
	"context"
	"fmt"
	"io"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/autoreply"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/mailbox"
	"gullroute/internal/store"
)

// intoMailbox delivers to mailboxes of ours: the letter is put there in the
// transaction that records it.
func (q *Queue) intoMailbox(l *lane, j *job) {
	cfg, now := q.cfg.Load(), time.Now()
	results := make([]deliver.Result, len(j.deliveries))
	letters := make([]*store.MailboxLetter, len(j.deliveries))
	replies := make([]*store.Entry, len(j.deliveries))
	for i, d := range j.deliveries {
		to, _ := address.Parse(d.Recipient)
		box := cfg.Mailbox(to)
		if f := q.noRoom(box, d, j.size); f != nil {
			results[i] = deliver.Result{Reply: f.Reply, Failure: f}
			continue
		}
		results[i] = deliver.Result{Reply: mail.LastReply{Stage: diagnose.StageMailbox, Host: q.Name, Code: 250, Enhanced: "2.1.5", Text: "put into mailbox " + d.Recipient}}
		letters[i] = mailbox.Letter(j.message, j.from(), d.Recipient, now)
		replies[i] = q.reply(cfg, box, j, d, now)
	}
	q.concludeWith(l, j, results, func(i int, o *store.Outcome) {
		o.Mailbox = letters[i]
		if replies[i] != nil {
			o.Begotten = append(o.Begotten, replies[i])
		}
	})
}

// noRoom reports a letter that its mailbox cannot hold: never, if it is larger
// than the quota (552 5.2.3), or not now (452 4.2.2).
func (q *Queue) noRoom(box *directory.Mailbox, d *mail.Delivery, size int64) *deliver.Failure {
	if box == nil || box.Quota == 0 {
		return nil
	}
	if size > int64(box.Quota) {
		return &deliver.Failure{Cause: diagnose.TooLarge, Permanent: true, Reply: mail.LastReply{Stage: diagnose.StageMailbox, Host: q.Name, Code: 552, Enhanced: "5.2.3",
			Text: fmt.Sprintf("the message has %d octets; mailbox %s holds at most %s", size, d.Recipient, box.Quota)}}
	}
	ctx, cancel := context.WithTimeout(q.ctx, enterTimeout)
	defer cancel()
	_, used, err := q.Store.MailboxUse(ctx, d.Recipient)
	if err != nil {
		return &deliver.Failure{Cause: diagnose.OurTrouble, Reply: mail.LastReply{Stage: diagnose.StageMailbox, Enhanced: "4.3.0", Text: "the mailbox cannot be read: " + err.Error()}}
	}
	if used+size <= int64(box.Quota) {
		return nil
	}
	return &deliver.Failure{Cause: diagnose.MailboxFull, Reply: mail.LastReply{Stage: diagnose.StageMailbox, Host: q.Name, Code: 452, Enhanced: "4.2.2",
		Text: fmt.Sprintf("mailbox %s is full: %d of %s are used", d.Recipient, used, box.Quota)}}
}

// replyAgain is how long a sender gets no second automatic reply.
const replyAgain = 7 * 24 * time.Hour

// reply makes the automatic reply of a mailbox, or nil: RFC 3834 says when not
// to answer, a peer's terms which text is for them.
func (q *Queue) reply(cfg *config.Compiled, box *directory.Mailbox, j *job, d *mail.Delivery, now time.Time) *store.Entry {
	to := j.from()
	if box == nil || box.Reply == nil || to.IsNull() {
		return nil
	}
	text := textFor(cfg, box.Reply, to)
	if text == "" || !autoreply.InSeason(*box.Reply, now) {
		return nil
	}
	section, err := q.header(j)
	if err != nil {
		q.Log.Error("no automatic reply: the message cannot be read", "message", j.message, "error", err)
		return nil
	}
	why := j.whyNoAnswer(cfg)
	if why == "" {
		why = autoreply.WhyNot(section, to, box)
	}
	if why != "" {
		q.Log.Info("no automatic reply", "message", j.message, "mailbox", d.Recipient, "why", why)
		return nil
	}
	ctx, cancel := context.WithTimeout(q.ctx, enterTimeout)
	defer cancel()
	if first, err := q.Store.Replying(ctx, d.Recipient, to.Key(), now, now.Add(-replyAgain)); err != nil || !first {
		return nil
	}
	id := q.IDs.Next()
	content := autoreply.Compose(autoreply.Answer{ID: id.String(), HostName: string(cfg.Service.HostName), From: box.Address, Name: box.Name, To: to, Text: text, Original: section, Now: now})
	e, fault := beget(cfg, j, id, to, content, "reply", now)
	if fault != nil {
		q.Log.Warn("an automatic reply cannot be delivered", "message", j.message, "to", to.String(), "reply", fault.String())
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
func (q *Queue) header(j *job) ([]byte, error) {
	content, err := q.letter(j).Content()
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
