package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
)

// deadAfter is how long a node may be silent before its leases are taken.
const deadAfter = 30 * time.Second

// RegisterNode adds a running service and returns the number its leases carry.
// Earlier runs of the same name are over: what they held is due again once
// ReleaseDead has been called.
func (s *Store) RegisterNode(ctx context.Context, name string) (int, error) {
	if _, err := s.pool.Exec(ctx, `UPDATE node SET gone = true WHERE name = $1`, name); err != nil {
		return 0, err
	}
	var id int
	err := s.pool.QueryRow(ctx, `INSERT INTO node (name) VALUES ($1) RETURNING id`, name).Scan(&id)
	return id, err
}

// Heartbeat says that a node lives.
func (s *Store) Heartbeat(ctx context.Context, node int) error {
	_, err := s.pool.Exec(ctx, `UPDATE node SET seen_at = now() WHERE id = $1`, node)
	return err
}

// ReleaseDead makes due what dead nodes held, and returns how many deliveries.
// The whole queue is looked at, but only after a node has died: leases are in no
// index.
func (s *Store) ReleaseDead(ctx context.Context) (int64, error) {
	var released int64
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE node SET gone = true WHERE NOT gone AND seen_at < now() - $1::interval`, deadAfter); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `SELECT id FROM node WHERE gone AND NOT released FOR UPDATE SKIP LOCKED`)
		if err != nil {
			return err
		}
		dead, err := pgx.CollectRows(rows, pgx.RowTo[int])
		if err != nil || len(dead) == 0 {
			return err
		}
		tag, err := tx.Exec(ctx, `UPDATE delivery SET lease = NULL WHERE lease = ANY($1)`, dead)
		if err != nil {
			return err
		}
		released = tag.RowsAffected()
		_, err = tx.Exec(ctx, `UPDATE node SET released = true WHERE id = ANY($1)`, dead)
		return err
	})
	return released, err
}

// ReleaseNode makes due what a node holds: at a graceful stop.
func (s *Store) ReleaseNode(ctx context.Context, node int) error {
	_, err := s.pool.Exec(ctx, `UPDATE delivery SET lease = NULL WHERE lease = $1`, node)
	if err == nil {
		_, err = s.pool.Exec(ctx, `UPDATE node SET gone = true, released = true WHERE id = $1`, node)
	}
	return err
}

// Unenter takes messages out again whose clients were told that they were not
// taken, because the answer to a commit was lost.
func (s *Store) Unenter(ctx context.Context, ids []ident.ID) error {
	_, err := s.pool.Exec(ctx, `
		WITH d AS (DELETE FROM delivery WHERE message_id = ANY($1)),
		     c AS (DELETE FROM content WHERE message_id = ANY($1))
		DELETE FROM message WHERE id = ANY($1)`, ids)
	return err
}
