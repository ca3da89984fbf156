package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/folder"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Mailboxes are what lies in mailboxes.
type Mailboxes struct{ *DB }

// MailboxMessage is a message put into a mailbox: the message's content behind a
// Return-Path, as RFC 5321 section 4.4 asks for it.
type MailboxMessage struct {
	Mailbox  string
	ID       ident.ID // of the message, whose content it refers to
	Sender   string
	Received time.Time
}

// Head is the line before the content.
func (l *MailboxMessage) Head() []byte { return returnPath(l.Sender) }

func returnPath(sender string) []byte { return []byte("Return-Path: <" + sender + ">\r\n") }

// mailboxSQL puts messages into mailboxes. A message that is there already stays as it is.
const mailboxSQL = `WITH fresh AS (
		INSERT INTO mailbox_message (mailbox, id, sender, subject, received_at, size)
		SELECT o.mailbox, m.id, o.sender, m.subject, o.at, m.size + o.head
			FROM unnest($1::text[], $2::bigint[], $3::text[], $4::timestamptz[], $5::bigint[])
				AS o(mailbox, id, sender, at, head) JOIN message m ON m.id = o.id
		ON CONFLICT DO NOTHING RETURNING mailbox, size
	)
	INSERT INTO mailbox_delta SELECT mailbox, count(*), sum(size) FROM fresh GROUP BY mailbox`

// queueMailbox adds a statement that puts messages into mailboxes.
func queueMailbox(b *pgx.Batch, list []*MailboxMessage) {
	if len(list) == 0 {
		return
	}
	var boxes, senders []string
	var ids []int64
	var ats []time.Time
	var heads []int64
	for _, l := range list {
		boxes, senders = append(boxes, l.Mailbox), append(senders, l.Sender)
		ids, ats, heads = append(
			ids,
			int64(l.ID),
		), append(
			ats,
			l.Received,
		), append(
			heads,
			int64(len(l.Head())),
		)
	}
	b.Queue(mailboxSQL, boxes, ids, senders, ats, heads)
}

// mailboxTables are the rows of messages that go into mailboxes as they are entered.
func mailboxTables(entries []*Entry) []table {
	each := func(visit func(e *Entry, l *MailboxMessage)) {
		for _, e := range entries {
			for _, l := range e.Boxes {
				if l != nil {
					visit(e, l)
				}
			}
		}
	}
	return []table{
		{"mailbox_message", "mailbox, id, sender, subject, received_at, size", func(w *rowWriter) {
			each(func(e *Entry, l *MailboxMessage) {
				w.row(6)
				w.text(l.Mailbox)
				w.int8(int64(l.ID))
				w.text(l.Sender)
				w.text(e.Message.Subject)
				w.time(l.Received)
				w.int8(e.Message.Size + int64(len(l.Head())))
			})
		}},
		{"mailbox_delta", "mailbox, messages, octets", func(w *rowWriter) {
			type use struct{ messages, octets int64 }
			uses := map[string]use{}
			each(func(e *Entry, l *MailboxMessage) {
				u := uses[l.Mailbox]
				uses[l.Mailbox] = use{
					u.messages + 1,
					u.octets + e.Message.Size + int64(len(l.Head())),
				}
			})
			for box, u := range uses {
				w.row(3)
				w.text(box)
				w.int8(u.messages)
				w.int8(u.octets)
			}
		}},
	}
}

// GatherMailboxes adds what was put into mailboxes to how full they are.
func (s Mailboxes) GatherMailboxes(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, `WITH d AS (DELETE FROM mailbox_delta RETURNING *)
		INSERT INTO mailbox_use AS u (mailbox, messages, octets)
		SELECT mailbox, sum(messages), sum(octets) FROM d GROUP BY mailbox ORDER BY mailbox
		ON CONFLICT (mailbox) DO UPDATE SET messages = u.messages + excluded.messages,
			octets = u.octets + excluded.octets`)
	return err
}

// MailboxUses are how full all mailboxes are.
func (s Mailboxes) MailboxUses(ctx context.Context) ([]mail.BoxUse, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT mailbox, sum(messages)::bigint, sum(octets)::bigint AS octets FROM (SELECT * FROM
			mailbox_use UNION ALL SELECT * FROM mailbox_delta) u GROUP BY mailbox ORDER BY octets DESC`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.BoxUse, error) {
		var u mail.BoxUse
		err := row.Scan(&u.Address, &u.Messages, &u.Used)
		return u, err
	})
}

// ClaimReport gives one node the sending of a day's report; again after ten
// minutes, if it was not sent.
func (s Counts) ClaimReport(ctx context.Context, day time.Time) (bool, error) {
	tag, err := s.pool.Exec(
		ctx,
		`INSERT INTO report_sent AS r (day) VALUES ($1) ON CONFLICT (day) DO UPDATE SET at = now()
			WHERE r.id = 0 AND r.at < now() - interval '10 minutes'`,
		day.Format("2006-01-02"),
	)
	return tag.RowsAffected() > 0, err
}

// ReportSent notes that a day's report was sent.
func (s Counts) ReportSent(ctx context.Context, day time.Time) error {
	_, err := s.pool.Exec(ctx, `UPDATE report_sent SET id = 1 WHERE day = $1`,
		day.Format("2006-01-02"))
	return err
}

// MailboxMessages lists a mailbox or one folder of it, newest first, from before an id on.
// What has just come is in the inbox.
func (s Mailboxes) MailboxMessages(
	ctx context.Context,
	mailbox, in string,
	before ident.ID,
	limit int,
) ([]mail.MailboxItem, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT m.id, m.sender, m.subject, m.received_at, m.size, coalesce(f.name, 'INBOX'), m.flags, m.keywords
		FROM mailbox_message m LEFT JOIN folder f ON f.id = m.folder
		WHERE m.mailbox = $1 AND ($2::bigint = 0 OR m.id < $2) AND ($4 = '' OR coalesce(f.name, 'INBOX') = $4)
			AND NOT EXISTS (SELECT FROM withdrawn w WHERE w.message_id = m.id)
				ORDER BY m.id DESC LIMIT $3`,
		mailbox,
		int64(before),
		limit,
		in,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.MailboxItem, error) {
		var m mail.MailboxItem
		var flags folder.Flags
		var keywords []string
		err := row.Scan(
			&m.ID,
			&m.Sender,
			&m.Subject,
			&m.ReceivedAt,
			&m.Size,
			&m.Folder,
			&flags,
			&keywords,
		)
		m.ReceivedAt, m.Flags = m.ReceivedAt.UTC(), flags.Names(keywords)
		return m, err
	})
}

// MailboxContent reads a message in a mailbox as it would be read there.
func (s Mailboxes) MailboxContent(
	ctx context.Context,
	mailbox string,
	id ident.ID,
) (*Content, error) {
	var i folder.Item
	err := s.pool.QueryRow(ctx, `SELECT sender, coalesce(content, id), plain FROM mailbox_message
		WHERE mailbox = $1 AND id = $2
			AND NOT EXISTS (SELECT FROM withdrawn w WHERE w.message_id = id)`,
		mailbox, int64(id)).Scan(&i.Sender, &i.Content, &i.Plain)
	if err != nil {
		return nil, found(err)
	}
	return &Content{ctx: ctx, rest: Head(&i), next: func(seq int) ([]byte, error) {
		return Filed(s).Piece(ctx, i.Content, seq)
	}}, nil
}

// Replying notes that a mailbox answers a sender by itself, and reports false if
// it did so since the given time.
func (s Mailboxes) Replying(
	ctx context.Context,
	mailbox, sender string,
	now, since time.Time,
) (bool, error) {
	tag, err := s.pool.Exec(ctx, `INSERT INTO replied AS r (mailbox, sender, at) VALUES ($1, $2, $3)
		ON CONFLICT (mailbox, sender) DO UPDATE SET at = excluded.at
			WHERE r.at < $4`, mailbox, sender, now, since)
	return tag.RowsAffected() > 0, err
}
