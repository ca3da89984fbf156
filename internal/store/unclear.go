package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"gullroute/internal/core/ident"
)

// A commit whose answer is lost may have happened, may not have, or may be under way:
// waiting for a standby, it can come to light days later. What a client is told must hold
// all the same: after 250 the message is ours, after anything else nobody delivers it.

// ErrIncomplete reports that a message's content, which was stored ahead, is not all there.
var ErrIncomplete = errors.New("the content of the message is not all in the database")

// Unclear is an error after which it is not known whether a transaction was committed.
type Unclear struct {
	Cause  error
	pid    uint32 // of the database's process that has it
	cancel func(context.Context) error
}

func (u *Unclear) Error() string { return u.Cause.Error() }
func (u *Unclear) Unwrap() error { return u.Cause }

// unclear is the error of a connection that broke, or was too slow, while it committed.
func unclear(conn *pgconn.PgConn, cause error) error {
	return &Unclear{
		Cause:  fmt.Errorf("copy: %w", cause),
		pid:    conn.PID(),
		cancel: conn.CancelRequest,
	}
}

// Cancel asks the database to end what is unclear, so that a process which waits for a
// standby does not keep its connection. What it has committed stays.
func (u *Unclear) Cancel(ctx context.Context) {
	if u.cancel != nil {
		_ = u.cancel(ctx)
	}
}

// Fate is what became of an unclear commit.
type Fate int

// The fates.
const (
	FateOpen    Fate = iota // it is under way
	FateEntered             // it was committed
	FateNot                 // it was not, and will not be
)

// FateOf finds out what became of a commit by one of the messages it entered.
func (s Intake) FateOf(ctx context.Context, u *Unclear, id ident.ID) (Fate, error) {
	var running, there bool
	// First the process, then the message: in the other order it could commit in between.
	if err := s.pool.QueryRow(
		ctx,
		`SELECT EXISTS (SELECT FROM pg_stat_activity WHERE pid = $1 AND usename = current_user
			AND datname = current_database() AND pid <> pg_backend_pid() AND state <> 'idle')`,
		int64(u.pid),
	).Scan(&running); err != nil {
		return FateOpen, err
	}
	if err := s.pool.QueryRow(
		ctx,
		`SELECT EXISTS (SELECT FROM message WHERE id = $1)`,
		int64(id),
	).Scan(&there); err != nil {
		return FateOpen, err
	}
	switch {
	case there:
		return FateEntered, nil
	case running:
		return FateOpen, nil
	}
	return FateNot, nil
}

// Withdraw takes back messages whose clients were told no: those that are there are
// deleted, and those that come to light later are never delivered. It waits for no
// standby: it must be there before what it withdraws comes to light.
func (s Intake) Withdraw(ctx context.Context, ids []ident.ID) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SET LOCAL synchronous_commit = local`); err != nil {
			return err
		}
		if _, err := tx.Exec(
			ctx,
			`INSERT INTO withdrawn (message_id) SELECT unnest($1::bigint[]) ON CONFLICT DO NOTHING`,
			int64s(ids),
		); err != nil {
			return err
		}
		return unenter(ctx, tx, int64s(ids))
	})
}

func unenter(ctx context.Context, tx pgx.Tx, ids []int64) error {
	if err := unfile(ctx, tx, ids, slices.Min(ids), slices.Max(ids)); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `WITH gone AS (
			DELETE FROM mailbox_message WHERE id = ANY($1) AND id BETWEEN $2 AND $3
				RETURNING mailbox, size
		)
		INSERT INTO mailbox_delta SELECT mailbox, -count(*), -sum(size) FROM gone GROUP BY mailbox`,
		ids, slices.Min(ids), slices.Max(ids)); err != nil { // the bounds are for its index
		return err
	}
	for _, table := range []string{"delivery", "delivery_done", "content", "event"} {
		if _, err := tx.Exec(
			ctx,
			`DELETE FROM `+table+` WHERE message_id = ANY($1)`,
			ids,
		); err != nil {
			return err
		}
	}
	_, err := tx.Exec(ctx, `DELETE FROM message WHERE id = ANY($1)`, ids)
	return err
}

// withdrawnKept is how long a withdrawn message is watched for.
const withdrawnKept = 30 * 24 * time.Hour

// DropWithdrawn deletes withdrawn messages that have come to light, and returns how many.
func (s Intake) DropWithdrawn(ctx context.Context, now time.Time) (int, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT w.message_id FROM withdrawn w WHERE EXISTS (SELECT FROM message m
			WHERE m.id = w.message_id) LIMIT 10000`,
	)
	if err != nil {
		return 0, err
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err == nil && len(ids) > 0 {
		err = s.inTx(ctx, func(tx pgx.Tx) error { return unenter(ctx, tx, ids) })
	}
	if err == nil {
		_, err = s.pool.Exec(ctx, `DELETE FROM withdrawn WHERE at < $1`, now.Add(-withdrawnKept))
	}
	return len(ids), err
}
