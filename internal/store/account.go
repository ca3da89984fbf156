package store

import (
	"context"
	"time"

	"gullroute/internal/core/mail"
)

// Accounts are the people and programs that administer, and their tokens and sessions.
type Accounts struct{ *DB }

// SetAccount makes or changes a console account; password is a hash.
func (s Accounts) SetAccount(
	ctx context.Context,
	name string,
	role mail.Role,
	password string,
) error {
	_, err := s.pool.Exec(ctx, `INSERT INTO account (name, role, password) VALUES ($1, $2, $3)
		ON CONFLICT (name) DO UPDATE SET role = excluded.role,
			password = excluded.password`, name, role, password)
	return err
}

// Account reads a console account.
func (s Accounts) Account(
	ctx context.Context,
	name string,
) (role mail.Role, password string, err error) {
	err = s.pool.QueryRow(ctx, `SELECT role, password FROM account WHERE name = $1`,
		name).Scan(&role, &password)
	return role, password, found(err)
}

// SetToken makes or changes a bearer token, of which only the hash is kept.
func (s Accounts) SetToken(ctx context.Context, hash []byte, name string, role mail.Role) error {
	_, err := s.pool.Exec(ctx, `INSERT INTO token (hash, name, role) VALUES ($1, $2, $3)
		ON CONFLICT (hash) DO UPDATE SET name = excluded.name,
			role = excluded.role`, hash, name, role)
	return err
}

// Token finds who a bearer token is.
func (s Accounts) Token(ctx context.Context, hash []byte) (name string, role mail.Role, err error) {
	err = s.pool.QueryRow(ctx, `SELECT name, role FROM token WHERE hash = $1`,
		hash).Scan(&name, &role)
	return name, role, found(err)
}

// SignIn keeps a console session until it expires.
func (s Accounts) SignIn(
	ctx context.Context,
	hash []byte,
	account string,
	expires time.Time,
) error {
	_, err := s.pool.Exec(ctx, `WITH old AS (DELETE FROM sign_in WHERE expires_at < now())
		INSERT INTO sign_in (hash, account, expires_at) VALUES ($1, $2,
			$3)`, hash, account, expires)
	return err
}

// SignedIn finds whose console session it is.
func (s Accounts) SignedIn(
	ctx context.Context,
	hash []byte,
) (account string, role mail.Role, err error) {
	err = s.pool.QueryRow(
		ctx,
		`SELECT a.name, a.role FROM sign_in s JOIN account a ON a.name = s.account
		WHERE s.hash = $1 AND s.expires_at > now()`,
		hash,
	).Scan(&account, &role)
	return account, role, found(err)
}

// SignOut ends a console session.
func (s Accounts) SignOut(ctx context.Context, hash []byte) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM sign_in WHERE hash = $1`, hash)
	return err
}
