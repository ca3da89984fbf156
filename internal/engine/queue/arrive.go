package queue

import (
	"context"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/mailbox"
	"gullroute/internal/store"
)

// A message for a mailbox of ours is in it when its 250 is said: the commit that takes it
// puts it there. What needs more than that goes through the queue as all else does: a
// mailbox that is full or answers by itself, a sender who wants to be told, a lane that
// somebody stopped, a decision of an earlier revision.

// arrivals decide, for one group, which messages go straight into mailboxes.
type arrivals struct {
	cfg  *config.Compiled
	node string
	now  time.Time
	room map[string]int64 // octets that are left in the mailboxes with a quota
}

// arrivals reads how full the mailboxes are that the group is for. What cannot be read
// has no room.
func (s *scheduler) arrivals(ctx context.Context, entries []*store.Entry) *arrivals {
	a := &arrivals{cfg: s.cfg.Load(), node: s.Name, now: time.Now(), room: map[string]int64{}}
	var boxes []string
	for _, e := range entries {
		for _, d := range e.Deliveries {
			if box := a.box(d); box != nil && box.Quota > 0 {
				if _, known := a.room[d.Recipient]; !known {
					boxes, a.room[d.Recipient] = append(boxes, d.Recipient), int64(box.Quota)
				}
			}
		}
	}
	if len(boxes) == 0 {
		return a
	}
	asking, cancel := context.WithTimeout(ctx, enterTimeout)
	defer cancel()
	used, err := s.Store.MailboxesUse(asking, boxes)
	for _, box := range boxes {
		a.room[box] -= used[box]
		if err != nil {
			a.room[box] = 0
		}
	}
	return a
}

// arrived tells that messages are in mailboxes.
func (b *base) arrived(messages []*store.MailboxMessage) {
	if b.Arrived == nil {
		return
	}
	var boxes []string
	for _, m := range messages {
		if m != nil {
			boxes = append(boxes, m.Mailbox)
		}
	}
	if len(boxes) > 0 {
		b.Arrived(boxes...)
	}
}

// box is the mailbox that a delivery may go straight into, or nil.
func (a *arrivals) box(d *mail.Delivery) *directory.Mailbox {
	if d.NextHop != "local" || d.State != mail.Waiting || d.Revision != a.cfg.Revision ||
		smtp.Notify(d.Notify).WantsSuccess() {
		return nil
	}
	to, err := address.Parse(d.Recipient)
	if err != nil {
		return nil
	}
	box := a.cfg.Mailbox(to)
	if box == nil || box.Reply != nil ||
		box.Reading.Messages > 0 { // these are counted in the queue
		return nil
	}
	return box
}

// put puts a message into a mailbox, if it may be: then its delivery is at its end with
// the commit. The lane is locked.
func (a *arrivals) put(
	m *mail.Message,
	d *mail.Delivery,
	l *lane,
	closed bool,
) *store.MailboxMessage {
	box := a.box(d)
	r := l.route()
	if box == nil || closed || r.NextHop != "mailbox" || !config.On(r.Nodes, a.node) {
		return nil
	}
	if box.Quota > 0 {
		if m.Size > a.room[d.Recipient] {
			return nil
		}
		a.room[d.Recipient] -= m.Size
	}
	from, _ := address.Parse(m.Sender)
	at := mail.At(a.now)
	d.State, d.Cause, d.Attempts = mail.Delivered, diagnose.NoCause, 1
	d.FirstAttemptAt, d.LastAttemptAt, d.FinishedAt = at, at, at
	d.Last = mail.IntoMailbox(a.node, d.Recipient)
	return mailbox.Message(m.ID, from, d.Recipient, a.now)
}
