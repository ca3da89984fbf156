package queue

import (
	"context"
	"fmt"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/mailbox"
	"gullroute/internal/store"
)

// mailboxStore knows how full mailboxes are, and who was replied to.
type mailboxStore interface {
	MailboxesUse(ctx context.Context, mailboxes []string) (octets map[string]int64, err error)
	MailboxUse(ctx context.Context, mailbox string) (messages, octets int64, err error)
	Replying(ctx context.Context, mailbox, sender string, now, since time.Time) (bool, error)
}

// intoMailbox delivers to mailboxes of ours: the message is put there in the
// transaction that records it.
func (s *sender) intoMailbox(l *lane, j *job) {
	cfg, now := s.cfg.Load(), time.Now()
	results := make([]deliver.Result, len(j.deliveries))
	messages := make([]*store.MailboxMessage, len(j.deliveries))
	replies := make([]*store.Entry, len(j.deliveries))
	for i, d := range j.deliveries {
		to, _ := address.Parse(d.Recipient)
		box := cfg.Mailbox(to)
		if f := s.noRoom(box, d, j.size); f != nil {
			results[i] = deliver.Result{Reply: f.Reply, Failure: f}
			continue
		}
		results[i] = deliver.Result{Reply: *mail.IntoMailbox(s.Name, d.Recipient)}
		messages[i] = mailbox.Message(j.message, j.from(), d.Recipient, now)
		replies[i] = s.author.reply(cfg, box, j, d, now)
	}
	s.concludeWith(l, j, results, func(i int, o *store.Outcome) {
		o.Mailbox = messages[i]
		if replies[i] != nil {
			o.Generated = append(o.Generated, replies[i])
		}
	})
}

// noRoom reports a message that its mailbox cannot hold: never, if it is larger
// than the quota (552 5.2.3), or not now (452 4.2.2).
func (s *sender) noRoom(box *directory.Mailbox, d *mail.Delivery, size int64) *deliver.Failure {
	if box == nil || box.Quota == 0 && box.Reading.Messages == 0 {
		return nil
	}
	if box.Quota > 0 && size > int64(box.Quota) {
		return &deliver.Failure{
			Cause:     diagnose.TooLarge,
			Permanent: true,
			Reply: mail.LastReply{
				Stage:    diagnose.StageMailbox,
				Host:     s.Name,
				Code:     552,
				Enhanced: "5.2.3",
				Text: fmt.Sprintf("the message has %d octets; mailbox %s holds at most %s", size,
					d.Recipient, box.Quota),
			},
		}
	}
	ctx, cancel := context.WithTimeout(s.ctx, enterTimeout)
	defer cancel()
	octets, err := s.Store.MailboxesUse(ctx, []string{d.Recipient})
	used, messages := octets[d.Recipient], int64(0)
	if err == nil && box.Reading.Messages > 0 {
		messages, _, err = s.Store.MailboxUse(ctx, d.Recipient)
	}
	if err != nil {
		return &deliver.Failure{
			Cause: diagnose.OurTrouble,
			Reply: mail.LastReply{
				Stage:    diagnose.StageMailbox,
				Enhanced: "4.3.0",
				Text:     "the mailbox cannot be read: " + err.Error(),
			},
		}
	}
	text := ""
	switch most := int64(box.Reading.Messages); {
	case box.Quota > 0 && used+size > int64(box.Quota):
		text = fmt.Sprintf("mailbox %s is full: %d of %s are used", d.Recipient, used, box.Quota)
	case most > 0 && messages >= most:
		text = fmt.Sprintf("mailbox %s is full: it holds %d messages, and %d at most", d.Recipient,
			messages, most)
	default:
		return nil
	}
	return &deliver.Failure{
		Cause: diagnose.MailboxFull,
		Reply: mail.LastReply{
			Stage:    diagnose.StageMailbox,
			Host:     s.Name,
			Code:     452,
			Enhanced: "4.2.2",
			Text:     text,
		},
	}
}
