package store

import (
	"context"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Held are deliveries that are held.
type Held struct{ *DB }

// heldSQL are held deliveries, each with who holds it: a person by an action, or what stands in
// the history of its message.
const heldSQL = `SELECT d.message_id, d.n, m.received_at, coalesce(a.at, m.received_at) AS since,
		CASE WHEN a.id IS NOT NULL THEN 'person' ELSE coalesce(e.detail->>'by', 'other') END AS by,
		CASE WHEN a.id IS NOT NULL THEN a.who ELSE coalesce(e.detail->>'name', '') END AS name,
		CASE WHEN a.id IS NOT NULL THEN a.why ELSE coalesce(e.text, '') END AS why,
		m.severity, m.score, m.sender, m.header_from, d.recipient, m.subject, m.size, m.direction,
		m.client_address
	FROM delivery d JOIN message m ON m.id = d.message_id
	LEFT JOIN action a ON a.id = d.action AND a.verb = 'hold'
	LEFT JOIN LATERAL (SELECT detail, text FROM event WHERE message_id = d.message_id
		AND kind = 'held' ORDER BY n LIMIT 1) e ON true
	WHERE d.state = 'held'`

// List reads what is held, newest first.
func (s Held) List(ctx context.Context, f mail.HeldFilter) ([]mail.HeldItem, error) {
	q := query{}
	if f.After.N != 0 {
		after := q.arg(int64(f.After.Message))
		q.WriteString(" AND (d.message_id < " + after + " OR d.message_id = " + after +
			" AND d.n > " + q.arg(f.After.N) + ")")
	}
	if f.Find != "" {
		like := q.arg("%" + escapeLike(strings.ToLower(f.Find)) + "%")
		q.WriteString(
			` AND (lower(m.sender) LIKE ` + like + ` OR lower(m.header_from) LIKE ` + like +
				` OR lower(d.recipient) LIKE ` + like + ` OR lower(m.subject) LIKE ` + like + `)`,
		)
	}
	if f.Severity != "" {
		q.WriteString(" AND m.severity >= " + q.arg(f.Severity.Rank()))
	}
	sql := "SELECT * FROM (" + heldSQL + q.String() + ") h WHERE true"
	q.Reset()
	if f.By != "" {
		q.WriteString(" AND by = " + q.arg(f.By))
	}
	if f.Name != "" {
		q.WriteString(" AND name = " + q.arg(f.Name))
	}
	sql += q.String() + " ORDER BY message_id DESC, n LIMIT " + q.arg(f.Limit)
	rows, err := s.pool.Query(ctx, sql, q.args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.HeldItem, error) {
		var h mail.HeldItem
		err := row.Scan(&h.ID.Message, &h.ID.N, &h.Received, &h.Since, &h.By, &h.Name, &h.Why,
			severity{&h.Severity}, &h.Score, &h.Sender, &h.From, &h.Recipient, &h.Subject, &h.Size,
			&h.Direction, &h.Client)
		h.MessageID, h.Received, h.Since = h.ID.Message, h.Received.UTC(), h.Since.UTC()
		return h, err
	})
}

// HeldSum is how much is held.
type HeldSum struct {
	Messages int64 `json:"messages" doc:"Deliveries"`
	Bytes    int64 `json:"bytes"`
}

// Sum is how much is held, by the index of what is held alone.
func (s Held) Sum(ctx context.Context) (x HeldSum, err error) {
	err = s.pool.QueryRow(ctx, `SELECT count(*), coalesce(sum(size), 0)::bigint FROM delivery
		WHERE state = 'held'`).Scan(&x.Messages, &x.Bytes)
	return x, err
}

// Over are deliveries that were held before a time, of messages from the world or of others,
// oldest first.
func (s Held) Over(
	ctx context.Context,
	before time.Time,
	fromWorld bool,
	limit int,
) ([]mail.DeliveryID, error) {
	rows, err := s.pool.Query(ctx, `SELECT message_id, n FROM (`+heldSQL+
		` AND d.lease IS NULL AND d.message_id < $1 AND (m.direction = 'in') = $2) h
		WHERE since < $3 ORDER BY message_id, n LIMIT $4`,
		int64(ident.Floor(before)), fromWorld, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (id mail.DeliveryID, err error) {
		err = row.Scan(&id.Message, &id.N)
		return id, err
	})
}
