package store

import (
	"context"
	"time"

	"gullroute/internal/core/ident"
)

// deadAfter is how long a node may be silent before its leases are taken.
const deadAfter = 30 * time.Second

// RegisterNode adds a running service and returns the number its leases carry.
// Earlier runs of the same name are over: what they held is due at once.
func (s *Store) RegisterNode(ctx context.Context, name string) (int, error) {
	if _, err := s.pool.Exec(ctx, `UPDATE node SET gone = true WHERE name = $1`, name); err != nil {
		return 0, err
	}
	var id int
	err := s.pool.QueryRow(ctx, `INSERT INTO node (name) VALUES ($1) RETURNING id`, name).Scan(&id)
	if err != nil {
		return 0, err
	}
	_, err = s.ReleaseDead(ctx)
	return id, err
}

// Heartbeat says that a node lives.
func (s *Store) Heartbeat(ctx context.Context, node int) error {
	_, err := s.pool.Exec(ctx, `UPDATE node SET seen_at = now() WHERE id = $1`, node)
	return err
}

// ReleaseDead makes due what dead nodes held, and returns how many deliveries.
func (s *Store) ReleaseDead(ctx context.Context) (int64, error) {
	tag, err := s.pool.Exec(ctx, `
		WITH dead AS (
			UPDATE node SET gone = true WHERE NOT gone AND seen_at < now() - $1::interval RETURNING id
		)
		UPDATE delivery SET lease = NULL
		WHERE lease IN (SELECT id FROM dead UNION ALL SELECT id FROM node WHERE gone)`, deadAfter)
	return tag.RowsAffected(), err
}

// ReleaseNode makes due what a node holds: at a graceful stop.
func (s *Store) ReleaseNode(ctx context.Context, node int) error {
	_, err := s.pool.Exec(ctx, `UPDATE delivery SET lease = NULL WHERE lease = $1`, node)
	if err == nil {
		_, err = s.pool.Exec(ctx, `UPDATE node SET gone = true WHERE id = $1`, node)
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
