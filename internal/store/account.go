package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
)

// Accounts are the people and programs that administer, and their tokens and sessions.
type Accounts struct{ *DB }

// errNobodyLeft takes back what would leave no administrator.
var errNobodyLeft = errors.New("no administrator would be left")

const personSQL = `SELECT name, role, about, off, must_change, made_at, made_by, password_at, last_at,
	last_from, (SELECT count(*) FROM sign_in s WHERE s.account = a.name AND s.expires_at > now()),
	second_on, (SELECT count(*) FROM passkey k WHERE k.account = a.name), issuer, domains
	FROM account a`

func person(row pgx.CollectableRow) (p mail.Person, err error) {
	err = row.Scan(&p.Name, &p.Role, &p.About, &p.Off, &p.MustChange, &p.MadeAt, &p.MadeBy,
		&p.PasswordAt, optTime{&p.LastAt}, &p.LastFrom, &p.Sessions, &p.Second, &p.Passkeys,
		&p.Issuer, &p.Domains)
	p.MadeAt, p.PasswordAt = p.MadeAt.UTC(), p.PasswordAt.UTC()
	return p, err
}

// People are all who administer, by name.
func (s Accounts) People(ctx context.Context) ([]mail.Person, error) {
	rows, err := s.pool.Query(ctx, personSQL+` ORDER BY name`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, person)
}

// Person reads one of them.
func (s Accounts) Person(ctx context.Context, name string) (mail.Person, error) {
	rows, err := s.pool.Query(ctx, personSQL+` WHERE name = $1`, name)
	if err != nil {
		return mail.Person{}, err
	}
	p, err := pgx.CollectExactlyOneRow(rows, person)
	return p, found(err)
}

// AddPerson adds one; password is a hash. added says that nobody had the name.
func (s Accounts) AddPerson(
	ctx context.Context,
	p mail.Person,
	password string,
) (added bool, err error) {
	tag, err := s.pool.Exec(
		ctx,
		`INSERT INTO account (name, role, about, must_change, made_by, password, domains)
		VALUES ($1, $2, $3, $4, $5, $6, coalesce($7::text[], '{}')) ON CONFLICT (name) DO NOTHING`,
		p.Name,
		p.Role,
		p.About,
		p.MustChange,
		p.MadeBy,
		password,
		p.Domains,
	)
	return tag.RowsAffected() == 1, err
}

// OfferFirst keeps the link by which the first administrator is made, in place of an earlier
// one. It reports false where somebody administers already.
func (s Accounts) OfferFirst(ctx context.Context, hash []byte, ends time.Time) (bool, error) {
	tag, err := s.pool.Exec(ctx, `INSERT INTO first_link (hash, ends_at)
		SELECT $1, $2 WHERE NOT EXISTS (SELECT FROM account)
		ON CONFLICT (one) DO UPDATE SET hash = excluded.hash, ends_at = excluded.ends_at`, hash, ends)
	return tag.RowsAffected() == 1, err
}

// UseFirst makes the first administrator by that link, once. It reports false if the link is
// none, or no longer, or if somebody administers already.
func (s Accounts) UseFirst(
	ctx context.Context,
	hash []byte,
	p mail.Person,
	password string,
) (used bool, err error) {
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM first_link WHERE hash = $1 AND ends_at > now()
			AND NOT EXISTS (SELECT FROM account)`, hash)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		used = true
		_, err = tx.Exec(ctx, `INSERT INTO account (name, role, made_by, password)
			VALUES ($1, 'administrator', $2, $3)`, p.Name, p.MadeBy, password)
		return err
	})
	return used && err == nil, err
}

// ChangePerson writes what may be changed of one. It refuses, as false, what would leave no
// administrator who may sign in.
func (s Accounts) ChangePerson(ctx context.Context, p mail.Person) (bool, error) {
	return s.leavingOne(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(
			ctx,
			`UPDATE account SET role = $2, about = $3, off = $4, must_change = $5,
				domains = coalesce($6::text[], '{}') WHERE name = $1`,
			p.Name,
			p.Role,
			p.About,
			p.Off,
			p.MustChange,
			p.Domains,
		)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		if err == nil && p.Off {
			_, err = tx.Exec(ctx, `DELETE FROM sign_in WHERE account = $1`, p.Name)
		}
		return err
	})
}

// RemovePerson takes one out, with his sessions. It refuses, as false, what would leave no
// administrator who may sign in.
func (s Accounts) RemovePerson(ctx context.Context, name string) (bool, error) {
	return s.leavingOne(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM account WHERE name = $1`, name)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}

// leavingOne does something with accounts unless no administrator would be left.
func (s Accounts) leavingOne(ctx context.Context, do func(tx pgx.Tx) error) (left bool, err error) {
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `LOCK TABLE account IN SHARE ROW EXCLUSIVE MODE`); err != nil {
			return err
		}
		if err := do(tx); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT FROM account WHERE role = 'administrator'
			AND NOT off AND domains = '{}')`).Scan(&left)
		if err == nil && !left {
			return errNobodyLeft
		}
		return err
	})
	if err == errNobodyLeft {
		return false, nil
	}
	return left, err
}

// Linked lets somebody in whom the provider of single sign-on knows: he is made if he is new, and
// his role and bounds are as the provider says now. It reports false where his name is another's.
func (s Accounts) Linked(ctx context.Context, p mail.Person, subject string) (bool, error) {
	linked := true
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `UPDATE account SET role = $3, domains = coalesce($4::text[], '{}')
			WHERE issuer = $1 AND subject = $2`, p.Issuer, subject, p.Role, p.Domains)
		if err != nil || tag.RowsAffected() == 1 {
			return err
		}
		tag, err = tx.Exec(ctx, `INSERT INTO account
			(name, role, about, made_by, password, domains, issuer, subject)
			VALUES ($1, $2, $3, $4, '', coalesce($5::text[], '{}'), $6, $7)
			ON CONFLICT (name) DO NOTHING`,
			p.Name, p.Role, p.About, p.MadeBy, p.Domains, p.Issuer, subject)
		linked = tag.RowsAffected() == 1
		return err
	})
	return linked, err
}

// OfSubject is whom a provider knows by a subject, and whether he may not sign in.
func (s Accounts) OfSubject(
	ctx context.Context,
	issuer, subject string,
) (name string, off bool, err error) {
	err = s.pool.QueryRow(ctx, `SELECT name, off FROM account WHERE issuer = $1 AND subject = $2`,
		issuer, subject).Scan(&name, &off)
	return name, off, found(err)
}

// SetPassword writes a password's hash and ends all sessions but one.
func (s Accounts) SetPassword(
	ctx context.Context,
	name, password string,
	mustChange bool,
	keep int64,
) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(
			ctx,
			`UPDATE account SET password = $2, must_change = $3, password_at = now()
			WHERE name = $1`,
			name,
			password,
			mustChange,
		)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		if err == nil {
			_, err = tx.Exec(ctx, `DELETE FROM sign_in WHERE account = $1 AND id <> $2`, name, keep)
		}
		return err
	})
}

// Password reads a person's password as it is kept, "" of somebody who may not sign in.
func (s Accounts) Password(
	ctx context.Context,
	name string,
) (role mail.Role, hash string, err error) {
	err = s.pool.QueryRow(ctx, `SELECT role, CASE WHEN off THEN '' ELSE password END FROM account
		WHERE name = $1`, name).Scan(&role, &hash)
	return role, hash, found(err)
}

// SetToken makes or changes a bearer token, of which only the hash is kept.
func (s Accounts) SetToken(ctx context.Context, hash []byte, name string, role mail.Role) error {
	_, err := s.pool.Exec(ctx, `INSERT INTO token (hash, name, role) VALUES ($1, $2, $3)
		ON CONFLICT (hash) DO UPDATE SET name = excluded.name,
			role = excluded.role`, hash, name, role)
	return err
}

// AddToken makes a token.
func (s Accounts) AddToken(ctx context.Context, hash []byte, t mail.Token) (id int64, err error) {
	err = s.pool.QueryRow(ctx, `INSERT INTO token (hash, name, role, about, made_by, ends_at, domains)
		VALUES ($1, $2, $3, $4, $5, $6, coalesce($7::text[], '{}')) RETURNING id`,
		hash, t.Name, t.Role, t.About, t.MadeBy, optional(t.EndsAt), t.Domains).
		Scan(&id)
	return id, err
}

// Tokens are all of them, the newest first.
func (s Accounts) Tokens(ctx context.Context) ([]mail.Token, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT id, name, role, about, created_at, made_by, ends_at, last_at,
		last_from, domains FROM token ORDER BY id DESC`,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (t mail.Token, err error) {
		err = row.Scan(&t.ID, &t.Name, &t.Role, &t.About, &t.MadeAt, &t.MadeBy, optTime{&t.EndsAt},
			optTime{&t.LastAt}, &t.LastFrom, &t.Domains)
		t.MadeAt = t.MadeAt.UTC()
		return t, err
	})
}

// RevokeToken ends one for good.
func (s Accounts) RevokeToken(ctx context.Context, id int64) (name string, err error) {
	err = s.pool.QueryRow(ctx, `DELETE FROM token WHERE id = $1 RETURNING name`, id).Scan(&name)
	return name, found(err)
}

// Token finds who a bearer token is, and notes once a minute that it was used.
func (s Accounts) Token(
	ctx context.Context,
	hash []byte,
	from string,
) (t mail.Token, err error) {
	var used bool
	err = s.pool.QueryRow(ctx, `SELECT name, role, domains, coalesce(last_at > now() - interval '1 minute', false)
		FROM token WHERE hash = $1 AND (ends_at IS NULL OR ends_at > now())`, hash).
		Scan(&t.Name, &t.Role, &t.Domains, &used)
	if err == nil && !used {
		// a database that takes no writes just now still knows who it is
		_, _ = s.pool.Exec(
			ctx,
			`UPDATE token SET last_at = now(), last_from = $2 WHERE hash = $1`,
			hash,
			from,
		)
	}
	return t, found(err)
}

// SignIn keeps a session until it expires.
func (s Accounts) SignIn(ctx context.Context, hash []byte, x mail.PersonSession) error {
	_, err := s.pool.Exec(ctx, `WITH old AS (DELETE FROM sign_in WHERE expires_at < now()),
			seen AS (UPDATE account SET last_at = now(), last_from = $4 WHERE name = $2)
		INSERT INTO sign_in (hash, account, expires_at, client, program, way)
			VALUES ($1, $2, $3, $4, $5, $6)`,
		hash, x.Name, x.ExpiresAt, x.Client, x.Program, x.Way)
	return err
}

// SignedIn finds whose session it is, and notes once a minute that it was used.
func (s Accounts) SignedIn(
	ctx context.Context,
	hash []byte,
) (p mail.Person, x mail.PersonSession, err error) {
	var used bool
	err = s.pool.QueryRow(ctx, `SELECT a.name, a.role, a.must_change, a.domains, a.second_on,
			(SELECT count(*) FROM passkey k WHERE k.account = a.name), s.id, s.way,
			s.last_at > now() - interval '1 minute'
		FROM sign_in s JOIN account a ON a.name = s.account
		WHERE s.hash = $1 AND s.expires_at > now() AND NOT a.off`, hash).
		Scan(&p.Name, &p.Role, &p.MustChange, &p.Domains, &p.Second, &p.Passkeys, &x.ID, &x.Way, &used)
	if err == nil && !used {
		_, _ = s.pool.Exec(ctx, `UPDATE sign_in SET last_at = now() WHERE hash = $1`, hash)
	}
	return p, x, found(err)
}

// SignOut ends a session.
func (s Accounts) SignOut(ctx context.Context, hash []byte) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM sign_in WHERE hash = $1`, hash)
	return err
}

// Sessions are the open ones, of somebody or of everybody, the last used first.
func (s Accounts) Sessions(ctx context.Context, name string) ([]mail.PersonSession, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT id, account, made_at, last_at, expires_at, client, program, way
		FROM sign_in WHERE expires_at > now() AND ($1 = '' OR account = $1) ORDER BY last_at DESC, id`,
		name,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x mail.PersonSession, err error) {
		err = row.Scan(&x.ID, &x.Name, &x.MadeAt, &x.LastAt, &x.ExpiresAt, &x.Client, &x.Program,
			&x.Way)
		x.MadeAt, x.LastAt, x.ExpiresAt = x.MadeAt.UTC(), x.LastAt.UTC(), x.ExpiresAt.UTC()
		return x, err
	})
}

// EndSession ends one of somebody's sessions, or with 0 all of them.
func (s Accounts) EndSession(ctx context.Context, name string, id int64) (ended int64, err error) {
	tag, err := s.pool.Exec(ctx, `DELETE FROM sign_in WHERE account = $1 AND ($2 = 0 OR id = $2)`,
		name, id)
	return tag.RowsAffected(), err
}

// SignOutAll ends every session of the console and takes every token away.
func (s Accounts) SignOutAll(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, `WITH gone AS (DELETE FROM sign_in) DELETE FROM token`)
	return err
}
