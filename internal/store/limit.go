package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// statementLimit bounds a statement whose caller sets no limit, and the begin and the
// commit of a transaction: a frozen host answers nothing and breaks no connection. It is
// below the time after which leases are another's. What takes longer says so.
const statementLimit = 15 * time.Second

func limited(ctx context.Context) (context.Context, context.CancelFunc) {
	if _, ok := ctx.Deadline(); ok {
		return ctx, func() {}
	}
	return context.WithTimeout(ctx, statementLimit)
}

// limitedRows, limitedRow and limitedBatch let go of their limit at their end.
type limitedRows struct {
	pgx.Rows
	cancel context.CancelFunc
}

// Next is pgx.Rows's.
func (r limitedRows) Next() bool {
	if r.Rows.Next() {
		return true
	}
	r.cancel()
	return false
}

// Close is pgx.Rows's.
func (r limitedRows) Close() { r.Rows.Close(); r.cancel() }

type limitedRow struct {
	pgx.Row
	cancel context.CancelFunc
}

// Scan is pgx.Row's.
func (r limitedRow) Scan(to ...any) error { defer r.cancel(); return r.Row.Scan(to...) }

type limitedBatch struct {
	pgx.BatchResults
	cancel context.CancelFunc
}

// Close is pgx.BatchResults's.
func (b limitedBatch) Close() error { defer b.cancel(); return b.BatchResults.Close() }
