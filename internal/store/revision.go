package store

import (
	"context"

	"gullroute/internal/core/mail"

	"github.com/jackc/pgx/v5"
)

// LatestRevision is the configuration in force; ErrNotFound before the first.
func (s *Store) LatestRevision(ctx context.Context) (mail.Revision, error) {
	var r mail.Revision
	err := s.pool.QueryRow(ctx, `SELECT number, applied_at, who, text FROM config_revision ORDER BY number DESC LIMIT 1`).
		Scan(&r.Number, &r.AppliedAt, &r.Who, &r.Text)
	return r, found(err)
}

// AddRevision puts a configuration on record and returns its number. The same
// text as the latest makes no new revision.
func (s *Store) AddRevision(ctx context.Context, who, text string) (int, error) {
	var number int
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `LOCK TABLE config_revision IN EXCLUSIVE MODE`); err != nil {
			return err
		}
		var last string
		err := tx.QueryRow(ctx, `SELECT number, text FROM config_revision ORDER BY number DESC LIMIT 1`).Scan(&number, &last)
		if err != nil && found(err) != ErrNotFound {
			return err
		}
		if err == nil && last == text {
			return nil
		}
		number++
		_, err = tx.Exec(ctx, `INSERT INTO config_revision (number, who, text) VALUES ($1, $2, $3)`, number, who, text)
		return err
	})
	return number, err
}
