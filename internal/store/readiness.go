package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/readiness"
)

// Readiness are what was last seen of our domains from outside.
type Readiness struct{ *DB }

// maxChanges is how many changes of a domain's readiness are shown and kept.
const maxChanges = 100

// ReadinessHistory is what is on record of a domain; empty if nothing is.
func (s Readiness) ReadinessHistory(ctx context.Context, domain string) (*readiness.Looks, error) {
	h := &readiness.Looks{Changes: []readiness.Turn{}}
	var text []byte
	err := s.pool.QueryRow(ctx, `SELECT report, passed FROM readiness WHERE domain = $1`,
		domain).Scan(&text, &h.Passed)
	if errors.Is(err, pgx.ErrNoRows) {
		return h, nil
	}
	if err != nil {
		return h, err
	}
	if err := json.Unmarshal(text, &h.Last); err != nil {
		return h, err
	}
	rows, err := s.pool.Query(ctx,
		`SELECT change FROM readiness_change WHERE domain = $1 ORDER BY id DESC LIMIT $2`, domain,
		maxChanges)
	if err != nil {
		return h, err
	}
	h.Changes, err = pgx.CollectRows(rows, pgx.RowTo[readiness.Turn])
	return h, err
}

// SetReadiness puts a look on record, with what changed by it.
func (s Readiness) SetReadiness(
	ctx context.Context,
	r readiness.Readiness,
	h *readiness.Looks,
) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(
			ctx,
			`INSERT INTO readiness (domain, at, report, passed) VALUES ($1, $2, $3, $4)
			ON CONFLICT (domain) DO UPDATE SET at = excluded.at, report = excluded.report,
				passed = excluded.passed`,
			r.Domain,
			r.CheckedAt,
			r,
			append([]string{}, h.Passed...),
		); err != nil {
			return err
		}
		for _, c := range h.Fresh {
			if _, err := tx.Exec(
				ctx,
				`INSERT INTO readiness_change (domain, at, change) VALUES ($1, $2, $3)`,
				r.Domain,
				c.At,
				c,
			); err != nil {
				return err
			}
		}
		_, err := tx.Exec(
			ctx,
			`DELETE FROM readiness_change WHERE domain = $1 AND id < (SELECT id
				FROM readiness_change WHERE domain = $1 ORDER BY id DESC OFFSET $2 LIMIT 1)`,
			r.Domain,
			maxChanges,
		)
		return err
	})
}

// ReadinessDue reports whether no look at any domain was taken since a time.
func (s Readiness) ReadinessDue(ctx context.Context, since time.Time) (bool, error) {
	var due bool
	err := s.pool.QueryRow(ctx, `SELECT coalesce(max(at), 'epoch') < $1 FROM readiness`,
		since).Scan(&due)
	return due, err
}

// AllReadiness are the last looks at every domain.
func (s Readiness) AllReadiness(ctx context.Context) ([]readiness.Readiness, error) {
	rows, err := s.pool.Query(ctx, `SELECT report FROM readiness ORDER BY domain`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[readiness.Readiness])
}
