package store

import (
	"context"
	"errors"
)

// Alone does something while no other node does it; mine is false if another one does. It holds a
// connection of its own meanwhile, and with it the lock: a node that dies lets go of both.
func (db *DB) Alone(ctx context.Context, what string, do func() error) (mine bool, err error) {
	conn, err := db.pool.Acquire(ctx)
	if err != nil {
		return false, err
	}
	defer conn.Release()
	if err := conn.QueryRow(ctx, `SELECT pg_try_advisory_lock(hashtext($1))`,
		what).Scan(&mine); err != nil || !mine {
		return false, err
	}
	err = do()
	after := context.WithoutCancel(ctx)
	if _, stuck := conn.Exec(after, `SELECT pg_advisory_unlock(hashtext($1))`, what); stuck != nil {
		// It must not go back into the pool with the lock.
		err = errors.Join(err, conn.Conn().Close(after))
	}
	return true, err
}
