package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/review"
)

// Findings are findings that somebody has accepted.
type Findings struct{ *DB }

// Accepted are the findings that somebody decided to live with, by key.
func (s Findings) Accepted(ctx context.Context) (map[string]review.Acceptance, error) {
	rows, err := s.pool.Query(ctx, `SELECT key, who, at, because FROM accepted`)
	if err != nil {
		return nil, err
	}
	out := map[string]review.Acceptance{}
	var key string
	var a review.Acceptance
	_, err = pgx.ForEachRow(rows, []any{&key, &a.Who, &a.At, &a.Because}, func() error {
		a.At = a.At.UTC()
		out[key] = a
		return nil
	})
	return out, err
}

// Accept puts a decision to live with a finding on record.
func (s Findings) Accept(ctx context.Context, who, key, because string) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(
			ctx,
			`INSERT INTO accepted (key, who, because) VALUES ($1, $2, $3)
				ON CONFLICT (key) DO UPDATE SET who = excluded.who, at = now(),
					because = excluded.because`,
			key,
			who,
			because,
		); err != nil {
			return err
		}
		return addRecord(ctx, tx, who,
			Record{What: "finding", Name: key, After: map[string]any{"accepted because": because}})
	})
}

// Reopen takes such a decision back.
func (s Findings) Reopen(ctx context.Context, who, key string) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM accepted WHERE key = $1`, key)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return addRecord(ctx, tx, who,
			Record{What: "finding", Name: key, Before: map[string]any{"accepted": true}})
	})
}

// WithoutPassword are mailboxes that may send and have no password, the first of them.
func (s Directory) WithoutPassword(ctx context.Context, limit int) ([]string, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT address FROM mailbox WHERE may_submit AND password = '' ORDER BY key LIMIT $1`,
		limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// UnusedSince are mailboxes to which somebody signed in once, and nobody since a time, the
// first of them.
func (s Directory) UnusedSince(ctx context.Context, since time.Time, limit int) ([]string, error) {
	rows, err := s.pool.Query(ctx, `SELECT m.address FROM mailbox m
		WHERE (SELECT max(u.at) FROM mailbox_used u WHERE u.mailbox = m.key) < $1 ORDER BY m.key LIMIT $2`,
		since, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// KeepsSecrets reports whether anything is kept under the key file.
func (s Secrets) KeepsSecrets(ctx context.Context) (bool, error) {
	var kept bool
	err := s.pool.QueryRow(ctx,
		`SELECT EXISTS (SELECT FROM secret) OR EXISTS (SELECT FROM dkim_key)`).Scan(&kept)
	return kept, err
}

// Now is the database's clock.
func (s *DB) Now(ctx context.Context) (time.Time, error) {
	var t time.Time
	err := s.pool.QueryRow(ctx, `SELECT clock_timestamp()`).Scan(&t)
	return t, err
}
