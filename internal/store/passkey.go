package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
)

// Passkeys are those of people who administer.
type Passkeys struct{ *DB }

// Passkey is one as it is kept.
type Passkey struct {
	mail.Passkey
	Key        []byte // the authenticator's name for it
	Credential []byte // JSON
}

// Passkeys are somebody's, the oldest first.
func (s Passkeys) Passkeys(ctx context.Context, name string) ([]Passkey, error) {
	rows, err := s.pool.Query(ctx, `SELECT encode(id, 'hex'), id, name, made_at, last_at, credential
		FROM passkey WHERE account = $1 ORDER BY made_at, id`, name)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p Passkey, err error) {
		err = row.Scan(&p.ID, &p.Key, &p.Name, &p.MadeAt, optTime{&p.LastAt}, &p.Credential)
		p.MadeAt = p.MadeAt.UTC()
		return p, err
	})
}

// Handle is what somebody's passkeys know him by.
func (s Passkeys) Handle(ctx context.Context, name string) (handle []byte, err error) {
	err = s.pool.QueryRow(ctx, `SELECT handle FROM account WHERE name = $1`, name).Scan(&handle)
	return handle, found(err)
}

// OfHandle is who is known by a handle and may sign in; ErrNotFound if nobody.
func (s Passkeys) OfHandle(ctx context.Context, handle []byte) (name string, err error) {
	err = s.pool.QueryRow(ctx, `SELECT name FROM account WHERE handle = $1 AND NOT off`, handle).
		Scan(&name)
	return name, found(err)
}

// AddPasskey keeps one, with hashes of recovery codes where they are given. It reports false if
// it is known already.
func (s Passkeys) AddPasskey(
	ctx context.Context,
	account string,
	p Passkey,
	recovery [][]byte,
) (added bool, err error) {
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `INSERT INTO passkey (id, account, name, credential)
			VALUES ($1, $2, $3, $4) ON CONFLICT (id) DO NOTHING`, p.Key, account, p.Name, p.Credential)
		if added = tag.RowsAffected() == 1; err == nil && added && recovery != nil {
			_, err = tx.Exec(
				ctx,
				`UPDATE account SET recovery = $2 WHERE name = $1`,
				account,
				recovery,
			)
		}
		return err
	})
	return added, err
}

// UsePasskey notes its use, and what the authenticator counts.
func (s Passkeys) UsePasskey(ctx context.Context, key, credential []byte) error {
	_, err := s.pool.Exec(ctx, `UPDATE passkey SET last_at = now(), credential = $2 WHERE id = $1`,
		key, credential)
	return err
}

// RemovePasskey takes one of somebody's away, and with the last of his second factors the codes
// for recovery.
func (s Passkeys) RemovePasskey(ctx context.Context, account, id string) (name string, err error) {
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `DELETE FROM passkey WHERE account = $1 AND encode(id, 'hex') = $2
			RETURNING name`, account, id).Scan(&name)
		if err == nil {
			_, err = tx.Exec(
				ctx,
				`UPDATE account SET recovery = '{}' WHERE name = $1 AND NOT second_on
				AND NOT EXISTS (SELECT FROM passkey WHERE account = $1)`,
				account,
			)
		}
		return err
	})
	return name, found(err)
}

// Spend uses up what opens something once. It reports false if it was used before.
func (s Passkeys) Spend(ctx context.Context, hash []byte, ends time.Time) (bool, error) {
	tag, err := s.pool.Exec(ctx, `WITH old AS (DELETE FROM spent WHERE ends_at < now())
		INSERT INTO spent (hash, ends_at) VALUES ($1, $2) ON CONFLICT (hash) DO NOTHING`, hash, ends)
	return tag.RowsAffected() == 1, err
}
