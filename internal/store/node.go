package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
)

// deadAfter is how long a node may be silent before its leases are taken.
const deadAfter = 30 * time.Second

// watched is when a node was last heard of, by its word and by our own clock: a
// clock that is set must not make a living node look dead.
type watched struct {
	seenAt time.Time // as the node wrote it
	since  time.Time // when we first saw it so
}

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

// Heartbeat says that a node lives. It reports whether the node was taken for dead
// meanwhile: then what it held is another's.
func (s *Store) Heartbeat(ctx context.Context, node int) (takenOver bool, err error) {
	err = s.pool.QueryRow(ctx, `WITH was AS (SELECT id, gone FROM node WHERE id = $1 FOR UPDATE)
		UPDATE node n SET seen_at = clock_timestamp(), gone = false, released = false FROM was WHERE n.id = was.id RETURNING was.gone`, node).Scan(&takenOver)
	return takenOver, err
}

// ReleaseDead makes due what dead nodes held, and returns how many deliveries.
// The whole queue is looked at, but only after a node has died: leases are in no
// index.
func (s *Store) ReleaseDead(ctx context.Context) (int64, error) {
	var released int64
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		silent, err := s.silent(ctx, tx)
		if err != nil {
			return err
		}
		if len(silent) > 0 {
			if _, err := tx.Exec(ctx, `UPDATE node SET gone = true WHERE id = ANY($1)`, silent); err != nil {
				return err
			}
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

// silent are the nodes whose word has not changed for long, by our own clock.
func (s *Store) silent(ctx context.Context, tx pgx.Tx) ([]int, error) {
	rows, err := tx.Query(ctx, `SELECT id, seen_at FROM node WHERE NOT gone`)
	if err != nil {
		return nil, err
	}
	s.nodesMu.Lock()
	defer s.nodesMu.Unlock()
	now, known := time.Now(), map[int]watched{}
	var dead []int
	var id int
	var seenAt time.Time
	_, err = pgx.ForEachRow(rows, []any{&id, &seenAt}, func() error {
		w, ok := s.nodes[id]
		if !ok || !w.seenAt.Equal(seenAt) {
			w = watched{seenAt, now}
		}
		known[id] = w
		if now.Sub(w.since) > s.deadAfter {
			dead = append(dead, id)
		}
		return nil
	})
	s.nodes = known
	return dead, err
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
