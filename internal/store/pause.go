package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
)

// Pauses are what people have stopped.
type Pauses struct{ *DB }

// SetPause stops something, or changes why and until when, and tells all nodes.
func (s Pauses) SetPause(ctx context.Context, p mail.Pause) error {
	var until *time.Time
	if !p.Until.IsZero() {
		until = &p.Until.Time
	}
	return s.inTx(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(
			ctx,
			`INSERT INTO pause (kind, name, who, why, until) VALUES ($1, $2, $3, $4, $5)
			ON CONFLICT (kind, name) DO UPDATE SET who = excluded.who, why = excluded.why,
				until = excluded.until`,
			p.Kind,
			p.Name,
			p.Who,
			p.Why,
			until,
		)
		if err != nil {
			return err
		}
		return notify(ctx, tx, "pause", nil)
	})
}

// EndPause lets something go on. It reports false if it was not stopped.
func (s Pauses) EndPause(ctx context.Context, kind, name string) (bool, error) {
	ended := false
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM pause WHERE kind = $1 AND name = $2`, kind, name)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		ended = true
		return notify(ctx, tx, "pause", nil)
	})
	return ended, err
}

// Pauses are all that count now; those whose time is over are taken out.
func (s Pauses) List(ctx context.Context) ([]mail.Pause, error) {
	if _, err := s.pool.Exec(ctx, `DELETE FROM pause WHERE until <= now()`); err != nil {
		return nil, err
	}
	rows, err := s.pool.Query(ctx,
		`SELECT kind, name, who, why, since, until FROM pause ORDER BY kind, name`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.Pause, error) {
		var p mail.Pause
		err := row.Scan(&p.Kind, &p.Name, &p.Who, &p.Why, &p.Since, optTime{&p.Until})
		p.Since = p.Since.UTC()
		return p, err
	})
}

// Nodes are the services that run, and those that fell silent within a day.
func (s Runs) Nodes(ctx context.Context) ([]mail.Node, error) {
	rows, err := s.pool.Query(ctx, `SELECT DISTINCT ON (name) name, id, started_at, seen_at,
			(SELECT count(*) FROM (SELECT FROM delivery d WHERE d.lease = n.id LIMIT 50000) c), gone
				OR seen_at < now() - $1::interval, facts, begin_anew
		FROM node n WHERE seen_at > now() - interval '1 day' ORDER BY name, id DESC`, deadAfter)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.Node, error) {
		var n mail.Node
		var silent bool
		err := row.Scan(&n.Name, &n.Number, &n.StartedAt, &n.SeenAt, &n.Leased, &silent, &n.Facts,
			&n.BeginsAnew)
		n.StartedAt, n.SeenAt, n.State = n.StartedAt.UTC(), n.SeenAt.UTC(), "running"
		if silent {
			n.State = "silent"
		}
		return n, err
	})
}

// BeginAnew asks the running service of this name to begin anew.
func (s Runs) BeginAnew(ctx context.Context, name string) error {
	tag, err := s.pool.Exec(ctx, `UPDATE node SET begin_anew = true
		WHERE name = $1 AND NOT gone AND seen_at > now() - $2::interval`, name, deadAfter)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// RunningNodes are the names of the services that run.
func (s Runs) RunningNodes(ctx context.Context) ([]string, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT DISTINCT name FROM node WHERE NOT gone AND seen_at > now() - $1::interval
			ORDER BY name`,
		deadAfter,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Tell sends word to all nodes.
func (s Notices) Tell(ctx context.Context, kind string, keys []string) error {
	return s.inTx(ctx, func(tx pgx.Tx) error { return notify(ctx, tx, kind, keys) })
}
