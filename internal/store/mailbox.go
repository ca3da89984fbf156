package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Mailboxes are what lies in mailboxes.
type Mailboxes struct{ *DB }

// MailboxMessage is a message put into a mailbox: the message's content behind a
// head of its own.
type MailboxMessage struct {
	Mailbox  string
	ID       ident.ID // of the message
	Sender   string
	Received time.Time
	Head     []byte
}

// queue adds two statements: the message, and its content, which never leaves
// the database. A message that is there already stays as it is.
func (l *MailboxMessage) queue(b *pgx.Batch) {
	b.Queue(`WITH fresh AS (
			INSERT INTO mailbox_message (mailbox, id, sender, subject, received_at, size, head)
			SELECT $1, m.id, $3, m.subject, $4, m.size + octet_length($5::bytea), $5 FROM message m
				WHERE m.id = $2
			ON CONFLICT DO NOTHING RETURNING mailbox, size
		)
		INSERT INTO mailbox_use AS u (mailbox, messages, octets) SELECT mailbox, 1, size FROM fresh
		ON CONFLICT (mailbox) DO UPDATE SET messages = u.messages + 1,
			octets = u.octets + excluded.octets`, l.Mailbox, int64(l.ID), l.Sender, l.Received, l.Head)
	b.Queue(`INSERT INTO mailbox_content (mailbox, id, seq, data)
		SELECT $1, message_id, seq, data FROM content WHERE message_id = $2
			ON CONFLICT DO NOTHING`, l.Mailbox, int64(l.ID))
}

// MailboxUses are how full all mailboxes are.
func (s Mailboxes) MailboxUses(ctx context.Context) ([]mail.BoxUse, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT mailbox, messages, octets FROM mailbox_use ORDER BY octets DESC`)
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

// MailboxMessages lists a mailbox, newest first, from before an id on.
func (s Mailboxes) MailboxMessages(
	ctx context.Context,
	mailbox string,
	before ident.ID,
	limit int,
) ([]mail.MailboxItem, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT id, sender, subject, received_at, size FROM mailbox_message
		WHERE mailbox = $1 AND ($2::bigint = 0 OR id < $2) ORDER BY id DESC LIMIT $3`,
		mailbox,
		int64(before),
		limit,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.MailboxItem, error) {
		var m mail.MailboxItem
		err := row.Scan(&m.ID, &m.Sender, &m.Subject, &m.ReceivedAt, &m.Size)
		m.ReceivedAt = m.ReceivedAt.UTC()
		return m, err
	})
}

// MailboxContent reads a message in a mailbox as it would be read there.
func (s Mailboxes) MailboxContent(
	ctx context.Context,
	mailbox string,
	id ident.ID,
) (*Content, error) {
	var head []byte
	err := s.pool.QueryRow(ctx, `SELECT head FROM mailbox_message WHERE mailbox = $1 AND id = $2`,
		mailbox, int64(id)).Scan(&head)
	if err != nil {
		return nil, found(err)
	}
	return &Content{ctx: ctx, rest: head, next: func(seq int) ([]byte, error) {
		var data []byte
		err := s.pool.QueryRow(ctx,
			`SELECT data FROM mailbox_content WHERE mailbox = $1 AND id = $2 AND seq = $3`, mailbox,
			int64(id), seq).Scan(&data)
		return data, found(err)
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
