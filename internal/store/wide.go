package store

import (
	"context"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/snag"
	"gullroute/internal/core/whose"
	"time"

	"github.com/jackc/pgx/v5"
)

// wide is a trouble that many places show at the same time.
type wide struct {
	troubles                  []whose.Trouble
	since, last               time.Time
	waiting, failed, attempts int64
	first                     int64 // the trouble that weighs most
	places                    []string
}

// openAtHops gathers the open troubles at next hops by cause, the heaviest first.
func openAtHops(ctx context.Context, tx pgx.Tx, now time.Time) (map[diagnose.Cause]*wide, error) {
	rows, err := tx.Query(
		ctx,
		`SELECT id, cause, place, coalesce(evidence->'reply'->>'address', ''),
			since, last_at, waiting, failed, attempts
		FROM snag WHERE NOT closed AND place_kind = 'next-hop'
			AND last_at > $1::timestamptz - interval '2 hours' ORDER BY weight DESC LIMIT 20000`,
		now,
	)
	if err != nil {
		return nil, err
	}
	by := map[diagnose.Cause]*wide{}
	for rows.Next() {
		var id, waiting, failed, attempts int64
		var t whose.Trouble
		var last time.Time
		if err := rows.Scan(
			&id,
			&t.Cause,
			&t.NextHop,
			&t.Address,
			&t.Since,
			&last,
			&waiting,
			&failed,
			&attempts,
		); err != nil {
			return nil, err
		}
		w := by[t.Cause]
		if w == nil {
			w = &wide{first: id, since: t.Since, last: last}
			by[t.Cause] = w
		}
		t.Waiting = waiting
		w.troubles = append(w.troubles, t)
		w.waiting, w.failed, w.attempts = w.waiting+waiting, w.failed+failed, w.attempts+attempts
		if t.Since.Before(w.since) {
			w.since = t.Since
		}
		if last.After(w.last) {
			w.last = last
		}
		if len(w.places) < maxTouched {
			w.places = append(w.places, t.NextHop)
		}
	}
	return by, rows.Err()
}

// gatherWide opens one trouble of ours where many places show the same at the same time
// and little gets through elsewhere, and ends it when that is over.
func gatherWide(ctx context.Context, tx pgx.Tx, now time.Time, next func() ident.ID) error {
	by, err := openAtHops(ctx, tx, now)
	if err != nil {
		return err
	}
	rows, err := tx.Query(ctx, successesSince, now.Add(-whose.Recent))
	if err != nil {
		return err
	}
	successes, err := collectSuccesses(rows)
	if err != nil {
		return err
	}
	causes := []string{}
	for cause, w := range by {
		if len(w.troubles) < snag.WideFrom || !snag.Wide(cause) ||
			whose.Judge(w.troubles, successes, whose.Checks{}).Whose != whose.Ours {
			continue
		}
		causes = append(causes, string(cause))
		if _, err := tx.Exec(
			ctx,
			`INSERT INTO snag AS s (id, cause, place_kind, place, since, last_at, waiting, failed,
				attempts, weight, holds_all, by_delivery, quiet, domains, evidence, parts)
			SELECT $1, $2, 'ourselves', '', $3, $4, $5, $6, $7, $8, true, false, '1 hour', $9, evidence,
				$11 FROM snag WHERE id = $10
			ON CONFLICT (cause, place_kind, place) WHERE NOT closed DO UPDATE
				SET last_at = excluded.last_at, waiting = excluded.waiting,
					failed = excluded.failed, attempts = excluded.attempts,
						weight = excluded.weight,
				domains = excluded.domains, evidence = excluded.evidence, parts = excluded.parts`,
			int64(
				next(),
			),
			cause,
			w.since,
			w.last,
			w.waiting,
			w.failed,
			w.attempts,
			w.waiting+w.failed,
			w.places,
			w.first,
			len(w.troubles),
		); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(
		ctx,
		`UPDATE snag SET closed = true, closed_at = $1, ended = 'fewer places show it'
			WHERE NOT closed AND parts > 0 AND NOT cause = ANY($2)`,
		now,
		causes,
	); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `UPDATE snag s SET part_of = w.whole FROM (
			SELECT p.id, coalesce(w.id, 0) AS whole FROM snag p
				LEFT JOIN snag w ON w.cause = p.cause AND NOT w.closed AND w.parts > 0
			WHERE NOT p.closed AND p.place_kind = 'next-hop') w WHERE w.id = s.id
				AND s.part_of <> w.whole`)
	return err
}
