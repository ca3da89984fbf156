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
	if f.Recipient != "" {
		q.WriteString(" AND lower(d.recipient) = lower(" + q.arg(f.Recipient) + ")")
	}
	if len(f.Within) > 0 {
		of := q.arg(f.Within)
		q.WriteString(
			" AND (d.domain = ANY(" + of + ") OR " + domainSQL("m.sender") + " = ANY(" + of + "))",
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
	return s.list(ctx, sql, q.args...)
}

func (s Held) list(ctx context.Context, sql string, args ...any) ([]mail.HeldItem, error) {
	rows, err := s.pool.Query(ctx, sql, args...)
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

// ClaimDigest gives one node the telling of people at an hour, and says since when what is held
// was not told: since the hour before, or for a day.
func (s Held) ClaimDigest(
	ctx context.Context,
	slot time.Time,
) (since time.Time, mine bool, err error) {
	err = s.pool.QueryRow(ctx, `WITH before AS (SELECT max(slot) AS slot FROM digest_sent),
			claimed AS (INSERT INTO digest_sent (slot) VALUES ($1) ON CONFLICT DO NOTHING RETURNING slot)
		SELECT greatest(before.slot, claimed.slot - interval '1 day') FROM before, claimed
			WHERE before.slot IS NULL OR before.slot < claimed.slot`, slot).Scan(&since)
	if err == pgx.ErrNoRows {
		return since, false, nil
	}
	return since, err == nil, err
}

// ForgetDigests drops what was told long ago.
func (s Held) ForgetDigests(ctx context.Context, before time.Time) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM digest_sent WHERE slot < $1`, before)
	return err
}

// Came are deliveries of messages from the world that came in a time and are held by no person,
// newest first.
func (s Held) Came(
	ctx context.Context,
	since, until time.Time,
	limit int,
) ([]mail.HeldItem, error) {
	list, err := s.list(ctx, `SELECT * FROM (`+heldSQL+` AND m.direction = 'in'
		AND d.message_id >= $1 AND d.message_id < $2) h
		WHERE by IN ('gate', 'score', 'identity') ORDER BY message_id DESC, n LIMIT $3`,
		int64(ident.Floor(since)), int64(ident.Floor(until)), limit)
	return list, err
}

// Item is a delivery if it is held.
func (s Held) Item(ctx context.Context, id mail.DeliveryID) (mail.HeldItem, error) {
	list, err := s.list(ctx, heldSQL+` AND d.message_id = $1 AND d.n = $2`, int64(id.Message), id.N)
	if err == nil && len(list) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return mail.HeldItem{}, err
	}
	return list[0], nil
}
