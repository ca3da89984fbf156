package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/snag"
)

// AlertTerms say what people are told.
type AlertTerms struct {
	Now           time.Time
	From          snag.Severity
	After, Remind time.Duration
	Limit         int
	Targets       []string
}

// Alert is one thing to tell one target.
type Alert struct {
	ID       int64
	Kind     string // opened, worse, reminder, over
	Target   string
	At       time.Time
	Attempts int
	Snag     snag.Snag
	// Damaged says why the snag on record cannot be read: then there is nothing to tell.
	Damaged error
}

// ClaimAlerts finds what is to be told and puts it down for each target, as it
// stands now; explain fills in the words.
func (s Snags) ClaimAlerts(ctx context.Context, t AlertTerms, explain func(*snag.Snag)) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		var mine bool
		if err := tx.QueryRow(ctx, `SELECT pg_try_advisory_xact_lock($1)`,
			snagLock).Scan(&mine); err != nil ||
			!mine {
			return err
		}
		rows, err := tx.Query(
			ctx,
			`SELECT CASE WHEN closed THEN 'over' WHEN alerted = 0 THEN 'opened'
				WHEN severity > alerted THEN 'worse' ELSE 'reminder' END, `+snagColumns+` FROM snag
			WHERE closed AND alerted > 0
				OR NOT closed AND severity >= $2 AND part_of = 0 AND muted_until < $1
					AND since <= $1::timestamptz - $3::interval AND (alerted = 0
						OR severity > alerted OR alerted_at < $1::timestamptz - $4::interval)
			ORDER BY severity DESC, id LIMIT $5`,
			t.Now,
			int16(t.From),
			t.After,
			t.Remind,
			t.Limit,
		)
		if err != nil {
			return err
		}
		list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (a Alert, err error) {
			a.Snag, err = scanSnagWith(row, &a.Kind)
			return a, err
		})
		if err != nil {
			return err
		}
		b := &pgx.Batch{}
		for i := range list {
			x := &list[i].Snag
			explain(x)
			text, err := json.Marshal(x)
			if err != nil { // told as far as it can be
				text = fmt.Appendf(nil, `{"id":"%s","cause":%q}`, x.ID, x.Cause)
			}
			for _, target := range t.Targets {
				b.Queue(
					`INSERT INTO alert (kind, target, at, due_at, snag) VALUES ($1, $2, $3, $3,
						$4)`,
					list[i].Kind,
					target,
					t.Now,
					text,
				)
			}
			b.Queue(
				`UPDATE snag SET alerted = CASE WHEN closed THEN 0 ELSE severity END,
					alerted_at = $2 WHERE id = $1`,
				int64(x.ID),
				t.Now,
			)
		}
		return tx.SendBatch(ctx, b).Close()
	})
}

// DueAlerts takes what is to be told now, and puts each off in case it cannot be.
func (s Snags) DueAlerts(ctx context.Context, now time.Time, limit int) ([]Alert, error) {
	rows, err := s.pool.Query(
		ctx,
		`UPDATE alert SET tries = tries + 1, due_at = $1::timestamptz + least(interval '1 hour',
			interval '5 seconds' * power(2, tries))
		WHERE id IN (SELECT id FROM alert WHERE due_at <= $1
			ORDER BY id LIMIT $2 FOR UPDATE SKIP LOCKED) RETURNING id, kind, target, at, tries,
				snag`,
		now,
		limit,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (a Alert, err error) {
		var text []byte
		if err = row.Scan(&a.ID, &a.Kind, &a.Target, &a.At, &a.Attempts, &text); err == nil {
			a.Damaged = json.Unmarshal(text, &a.Snag) // one that cannot be read holds up no other
		}
		return a, err
	})
}

// AlertTold forgets what was told.
func (s Snags) AlertTold(ctx context.Context, id int64) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM alert WHERE id = $1`, id)
	return err
}
