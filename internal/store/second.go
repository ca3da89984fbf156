package store

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// SecondFactors are those of people who administer.
type SecondFactors struct{ *DB }

// Second is somebody's second factor as it is kept.
type Second struct {
	Secret   []byte // encrypted
	On       bool   // it was confirmed
	Passkeys int
	Recovery int // codes that are left
}

// Second reads somebody's second factor.
func (s SecondFactors) Second(ctx context.Context, name string) (x Second, err error) {
	err = s.pool.QueryRow(ctx, `SELECT second, second_on, cardinality(recovery),
		(SELECT count(*) FROM passkey k WHERE k.account = a.name) FROM account a
		WHERE name = $1`, name).Scan(&x.Secret, &x.On, &x.Recovery, &x.Passkeys)
	return x, found(err)
}

// BeginSecond keeps a secret that is still to be confirmed. It reports false where one is on.
func (s SecondFactors) BeginSecond(ctx context.Context, name string, secret []byte) (bool, error) {
	tag, err := s.pool.Exec(ctx, `UPDATE account SET second = $2, second_step = 0
		WHERE name = $1 AND NOT second_on`, name, secret)
	return tag.RowsAffected() == 1, err
}

// ConfirmSecond turns it on, with hashes of recovery codes.
func (s SecondFactors) ConfirmSecond(ctx context.Context, name string, recovery [][]byte) error {
	_, err := s.pool.Exec(ctx, `UPDATE account SET second_on = true, recovery = $2
		WHERE name = $1 AND second IS NOT NULL`, name, recovery)
	return err
}

// DropSecond takes it away; passkeys too, if all second factors are to go.
func (s SecondFactors) DropSecond(ctx context.Context, name string, all bool) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if all {
			if _, err := tx.Exec(ctx, `DELETE FROM passkey WHERE account = $1`, name); err != nil {
				return err
			}
		}
		tag, err := tx.Exec(
			ctx,
			`UPDATE account a SET second = NULL, second_on = false, second_step = 0,
			recovery = CASE WHEN EXISTS (SELECT FROM passkey k WHERE k.account = a.name)
				THEN recovery ELSE '{}' END WHERE name = $1`,
			name,
		)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}

// UseStep notes a time step whose code was used. It reports false if that, or a later one, was
// used before: a code that somebody looked at over a shoulder opens nothing.
func (s SecondFactors) UseStep(ctx context.Context, name string, step int64) (bool, error) {
	tag, err := s.pool.Exec(ctx, `UPDATE account SET second_step = $2 WHERE name = $1
		AND second_step < $2`, name, step)
	return tag.RowsAffected() == 1, err
}

// UseRecovery uses a recovery code up.
func (s SecondFactors) UseRecovery(ctx context.Context, name string, hash []byte) (bool, error) {
	tag, err := s.pool.Exec(ctx, `UPDATE account SET recovery = array_remove(recovery, $2)
		WHERE name = $1 AND $2 = ANY(recovery)`, name, hash)
	return tag.RowsAffected() == 1, err
}
