package store

import (
	"context"
	"encoding/hex"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/audit"
)

// Audit is the record of who did what.
type Audit struct{ *DB }

// auditLock is taken by whoever writes an entry: each stands behind one other.
const auditLock = 0x67756c6c61 // "gulla"

// Add writes an entry behind the last one.
func (s Audit) Add(ctx context.Context, e *audit.Deed) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock($1)`, int64(auditLock)); err != nil {
			return err
		}
		var last int64
		before := []byte{}
		err := tx.QueryRow(ctx, `SELECT id, link FROM audit ORDER BY id DESC LIMIT 1`).
			Scan(&last, &before)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		e.ID, e.At = last+1, e.At.UTC().Truncate(time.Microsecond)
		if e.Detail == nil {
			e.Detail = []byte("{}")
		}
		_, err = tx.Exec(
			ctx,
			`INSERT INTO audit (id, at, who, role, client, action, target, status, why,
			detail, before, link) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`,
			e.ID,
			e.At,
			e.Who,
			e.Role,
			e.Client,
			e.Action,
			e.Target,
			e.Status,
			e.Why,
			string(e.Detail),
			before,
			e.Next(before),
		)
		return err
	})
}

const auditSQL = `SELECT id, at, who, role, client, action, target, status, why, detail, before, link
	FROM audit WHERE true`

func auditEntry(row pgx.CollectableRow) (e audit.Deed, err error) {
	var detail string
	var before, link []byte
	err = row.Scan(
		&e.ID,
		&e.At,
		&e.Who,
		&e.Role,
		&e.Client,
		&e.Action,
		&e.Target,
		&e.Status,
		&e.Why,
		&detail,
		&before,
		&link,
	)
	e.At, e.Detail = e.At.UTC(), []byte(detail)
	e.Before, e.Link = hex.EncodeToString(before), hex.EncodeToString(link)
	return e, err
}

// List reads entries, newest first.
func (s Audit) List(ctx context.Context, f audit.Filter) ([]audit.Deed, error) {
	q := query{}
	if f.Who != "" {
		q.and("who = %s", f.Who)
	}
	if f.Action != "" {
		q.and("action = %s", f.Action)
	}
	if f.Target != "" {
		q.and("target ILIKE %s", "%"+escapeLike(f.Target)+"%")
	}
	if !f.Since.IsZero() {
		q.and("at >= %s", f.Since)
	}
	if !f.Until.IsZero() {
		q.and("at < %s", f.Until)
	}
	if f.After > 0 {
		q.and("id < %s", f.After)
	}
	rows, err := s.pool.Query(
		ctx,
		auditSQL+q.String()+" ORDER BY id DESC LIMIT "+q.arg(f.Limit),
		q.args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, auditEntry)
}

// auditAtOnce is how many entries are read at a time while the chain is inspected.
const auditAtOnce = 5000

// Inspect looks at the whole chain, in its order.
func (s Audit) Inspect(ctx context.Context) (audit.Inspection, error) {
	var in audit.Inspector
	for {
		rows, err := s.pool.Query(
			ctx,
			auditSQL+" AND id > $1 ORDER BY id LIMIT $2",
			in.Last,
			auditAtOnce,
		)
		if err != nil {
			return in.Inspection, err
		}
		list, err := pgx.CollectRows(rows, auditEntry)
		if err != nil {
			return in.Inspection, err
		}
		for i := range list {
			if !in.Add(&list[i]) {
				return in.Inspection, nil
			}
		}
		if len(list) < auditAtOnce {
			return in.Inspection, nil
		}
	}
}

// Forget drops entries from before a time, and never the last one: the chain goes on from it.
func (s Audit) Forget(ctx context.Context, before time.Time) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM audit WHERE id < (SELECT coalesce(min(id),
		(SELECT max(id) FROM audit)) FROM audit WHERE at >= $1)`, before)
	return err
}
