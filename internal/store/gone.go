package store

import (
	"context"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/directory"
	"gullroute/internal/core/mail"
)

// asideSQL is what is written behind the address of a mailbox whose mail is set aside: until when
// it was somebody's.
const asideSQL = `to_char(now() AT TIME ZONE 'UTC', '" (until "YYYY-MM-DD HH24:MI:SS.US" UTC)"')`

// keepGone keeps mailboxes that go as they were.
func keepGone(ctx context.Context, tx pgx.Tx, who string, keys []string) error {
	_, err := tx.Exec(ctx, `INSERT INTO mailbox_gone (name, row, who)
		SELECT address || `+asideSQL+`, to_jsonb(m), $2 FROM mailbox m WHERE key = ANY($1)
		ON CONFLICT (name) DO NOTHING`, keys, who)
	return err
}

// Gone are the mailboxes whose mail is set aside, the latest first.
func (s Directory) Gone(ctx context.Context) ([]mail.GoneMailbox, error) {
	rows, err := s.pool.Query(ctx, `SELECT name, coalesce(g.who, ''), coalesce(u.messages, 0),
			coalesce(u.octets, 0), split_part(name, ' (until ', 1) IN (SELECT address FROM mailbox)
		FROM mailbox_gone g FULL JOIN (
			SELECT mailbox AS name, sum(messages)::bigint AS messages, sum(octets)::bigint AS octets
			FROM (SELECT mailbox, messages, octets FROM mailbox_use
				UNION ALL SELECT mailbox, messages, octets FROM mailbox_delta) x
			WHERE mailbox LIKE '% (until %' GROUP BY mailbox) u USING (name)
		ORDER BY split_part(name, ' (until ', 2) DESC, name`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (m mail.GoneMailbox, err error) {
		if err = row.Scan(&m.Aside, &m.By, &m.Messages, &m.Octets, &m.Taken); err != nil {
			return m, err
		}
		var until string
		m.Address, until, _ = strings.Cut(m.Aside, " (until ")
		m.RemovedAt, _ = time.Parse("2006-01-02 15:04:05.000000 UTC)", until)
		return m, nil
	})
}

// GoneMailbox is one as it was; nil if only its mail is known.
func (s Directory) GoneMailbox(ctx context.Context, aside string) (*directory.Mailbox, error) {
	rows, err := s.pool.Query(ctx, `SELECT address, name, addresses, generated, quota, forward_to,
			keep_copy, may_submit, send_as, reply, reading FROM
			(SELECT (jsonb_populate_record(NULL::mailbox, row)).* FROM mailbox_gone WHERE name = $1) m`, aside)
	if err != nil {
		return nil, err
	}
	var found *directory.Mailbox
	return found, eachMailbox(rows, func(m *directory.Mailbox) { found = m })
}

// GiveBack writes a mailbox that had gone, with its password and its mail. It reports false if
// somebody gave it back meanwhile.
func (s Directory) GiveBack(
	ctx context.Context,
	aside string,
	c DirectoryChange,
) (given bool, err error) {
	m := c.Mailboxes[0]
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtext($1))`, aside); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT FROM mailbox_gone WHERE name = $1
			UNION ALL SELECT FROM mailbox_use WHERE mailbox = $1)`, aside).Scan(&given); err != nil || !given {
			return err
		}
		if err := writeDirectory(ctx, tx, &c); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `WITH was AS (DELETE FROM mailbox_gone WHERE name = $1
				RETURNING (jsonb_populate_record(NULL::mailbox, row)).*)
			UPDATE mailbox m SET password = was.password, scram = was.scram FROM was WHERE m.key = $2`,
			aside, m.Address.Key()); err != nil {
			return err
		}
		for _, name := range []string{"mailbox_message", "mailbox_use", "mailbox_delta", "folder"} {
			if _, err := tx.Exec(ctx, `UPDATE `+name+` SET mailbox = $2 WHERE mailbox = $1`, aside,
				m.Address.String()); err != nil {
				return err
			}
		}
		return nil
	})
	return given && err == nil, err
}
