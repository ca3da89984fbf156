package store

import (
	"context"
	"time"
)

// OwnSessions are sessions of people on the page of their own mailbox.
type OwnSessions struct{ *DB }

// Begin keeps a session until it ends.
func (s OwnSessions) Begin(ctx context.Context, hash []byte, key string, ends time.Time) error {
	_, err := s.pool.Exec(ctx, `WITH old AS (DELETE FROM box_sign_in WHERE expires_at < now())
		INSERT INTO box_sign_in (hash, mailbox, expires_at) VALUES ($1, $2, $3)`, hash, key, ends)
	return err
}

// Mailbox is whose session it is, by its key; ErrNotFound if it is none or has ended.
func (s OwnSessions) Mailbox(ctx context.Context, hash []byte) (key string, err error) {
	err = s.pool.QueryRow(ctx, `SELECT mailbox FROM box_sign_in WHERE hash = $1 AND expires_at > now()`,
		hash).
		Scan(&key)
	return key, found(err)
}

// End ends a session.
func (s OwnSessions) End(ctx context.Context, hash []byte) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM box_sign_in WHERE hash = $1`, hash)
	return err
}

// Keep lets a session go on that has just changed the password, which ends all of them.
func (s OwnSessions) Keep(ctx context.Context, hash []byte, key string, ends time.Time) error {
	_, err := s.pool.Exec(
		ctx,
		`INSERT INTO box_sign_in (hash, mailbox, expires_at) VALUES ($1, $2, $3)
		ON CONFLICT DO NOTHING`,
		hash,
		key,
		ends,
	)
	return err
}
