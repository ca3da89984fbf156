package store

import (
	"context"
	"time"
)

// SignIns are where accounts have proven who they are.
type SignIns struct{ *DB }

// Proven reports whether an account has signed in from an address.
func (s SignIns) Proven(ctx context.Context, account, client string) (known bool, err error) {
	err = s.pool.QueryRow(ctx,
		`SELECT EXISTS (SELECT FROM signin_proof WHERE account = $1 AND client = $2)`, account,
		client).Scan(&known)
	return known, err
}

// Prove notes that an account has signed in from an address.
func (s SignIns) Prove(ctx context.Context, account, client string) error {
	_, err := s.pool.Exec(ctx, `INSERT INTO signin_proof AS p (account, client) VALUES ($1, $2)
		ON CONFLICT (account, client) DO UPDATE SET seen_on = current_date
			WHERE p.seen_on < current_date`, account, client)
	return err
}

// ForgetProofs forgets where accounts signed in that did not come back since a time.
func (s SignIns) ForgetProofs(ctx context.Context, before time.Time) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM signin_proof WHERE seen_on < $1::timestamptz::date`,
		before)
	return err
}

// SharedValue is a value that all nodes have; the first that asks gives it.
func (s SignIns) SharedValue(
	ctx context.Context,
	name string,
	fresh []byte,
) (value []byte, err error) {
	if _, err := s.pool.Exec(
		ctx,
		`INSERT INTO shared_value (name, value) VALUES ($1, $2) ON CONFLICT DO NOTHING`,
		name,
		fresh,
	); err != nil {
		return nil, err
	}
	err = s.pool.QueryRow(ctx, `SELECT value FROM shared_value WHERE name = $1`, name).Scan(&value)
	return value, err
}
