package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"gullroute/internal/core/mail"
)

// AppPasswords are passwords of mailboxes for one program each, and when mailboxes were used.
type AppPasswords struct{ *DB }

// UseAppPassword finds a password of a mailbox by its hash and notes its use; ErrNotFound if
// there is none such.
func (s AppPasswords) UseAppPassword(
	ctx context.Context,
	key string,
	hash []byte,
	use, client string,
) (id int64,
	err error) {
	err = s.pool.QueryRow(ctx, `UPDATE app_password SET used_at = now(), used_by = $3, client = $4
		WHERE mailbox = $1 AND hash = $2 RETURNING id`, key, hash, use, client).Scan(&id)
	return id, found(err)
}

// Used notes that a mailbox is in use.
func (s AppPasswords) Used(ctx context.Context, key, use, client string) error {
	_, err := s.pool.Exec(
		ctx,
		`INSERT INTO mailbox_used (mailbox, protocol, at, client) VALUES ($1, $2, now(), $3)
		ON CONFLICT (mailbox, protocol) DO UPDATE SET at = excluded.at, client = excluded.client`,
		key,
		use,
		client,
	)
	return err
}

// Uses are when mailboxes were last used, by protocol, the latest first.
func (s AppPasswords) Uses(ctx context.Context, keys []string) (map[string][]mail.LastUse, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT mailbox, protocol, at, client FROM mailbox_used WHERE mailbox = ANY($1)
		ORDER BY at DESC`,
		keys,
	)
	if err != nil {
		return nil, err
	}
	out := map[string][]mail.LastUse{}
	var key string
	var u mail.LastUse
	_, err = pgx.ForEachRow(rows, []any{&key, &u.Protocol, &u.At, &u.Client}, func() error {
		u.At = u.At.UTC()
		out[key] = append(out[key], u)
		return nil
	})
	return out, err
}

// ErrNamed reports an app password of a name that is taken.
var ErrNamed = errors.New("there is an app password of that name")

// AddAppPassword adds one.
func (s AppPasswords) AddAppPassword(
	ctx context.Context,
	key, name, who string,
	hash []byte,
) error {
	_, err := s.pool.Exec(
		ctx,
		`INSERT INTO app_password (mailbox, name, hash, who) VALUES ($1, $2, $3, $4)`,
		key,
		name,
		hash,
		who,
	)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return ErrNamed
	}
	return err
}

// AppPasswords are those of a mailbox.
func (s AppPasswords) AppPasswords(ctx context.Context, key string) ([]mail.AppPassword, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT name, who, created_at, used_at, used_by, client FROM app_password
		WHERE mailbox = $1 ORDER BY created_at`,
		key,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.AppPassword, error) {
		var p mail.AppPassword
		var used *time.Time
		err := row.Scan(&p.Name, &p.Who, &p.CreatedAt, &used, &p.UsedBy, &p.Client)
		p.CreatedAt = p.CreatedAt.UTC()
		if used != nil {
			p.UsedAt = mail.At(*used)
		}
		return p, err
	})
}

// RevokeAppPassword takes one away, and tells all nodes whose sessions are over. ErrNotFound
// if there is none of that name.
func (s AppPasswords) RevokeAppPassword(ctx context.Context, key, name string) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		var id string
		err := tx.QueryRow(ctx, `DELETE FROM app_password WHERE mailbox = $1 AND name = $2 RETURNING 'app:' || id`, key,
			name).
			Scan(&id)
		if err != nil {
			return found(err)
		}
		return notify(ctx, tx, "app-password", []string{id})
	})
}
