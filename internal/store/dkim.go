package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
)

// Keys are the keys that sign.
type Keys struct{ *DB }

// ErrExists reports what is there already.
var ErrExists = fault.ErrExists

const dkimColumns = `domain, selector, algorithm, record, state, takes_over, extract(epoch
	FROM overlap)::bigint, fault, who, made_at, checked_at, seen_at, signing_at, retired_at`

func scanKey(row pgx.CollectableRow) (mail.DKIMKey, error) {
	var k mail.DKIMKey
	err := row.Scan(&k.Domain, &k.Selector, &k.Algorithm, &k.Record.Value, &k.State, &k.TakesOver,
		&k.Overlap, &k.Fault, &k.Who, &k.MadeAt, optTime{&k.CheckedAt}, optTime{&k.SeenAt},
		optTime{&k.SigningAt}, optTime{&k.RetiredAt})
	k.MadeAt = k.MadeAt.UTC()
	return k, err
}

// AddKey keeps a key with its encrypted private half.
func (s Keys) AddKey(ctx context.Context, k mail.DKIMKey, encrypted []byte) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(
			ctx,
			`INSERT INTO dkim_key (domain, selector, algorithm, record, encrypted, takes_over,
				overlap, who) VALUES ($1, $2, $3, $4, $5, $6, make_interval(secs => $7), $8)`,
			k.Domain,
			k.Selector,
			k.Algorithm,
			k.Record.Value,
			encrypted,
			k.TakesOver,
			k.Overlap,
			k.Who,
		)
		var pg *pgconn.PgError
		if errors.As(err, &pg) && pg.Code == "23505" {
			return ErrExists
		}
		if err != nil {
			return err
		}
		return keyRecord(ctx, tx, k.Who, k.Domain, k.Selector,
			map[string]any{"state": mail.KeyMade, "algorithm": k.Algorithm})
	})
}

func keyRecord(
	ctx context.Context,
	tx pgx.Tx,
	who, domain, selector string,
	after map[string]any,
) error {
	if err := addRecord(
		ctx,
		tx,
		who,
		Record{What: "dkim", Name: selector + "._domainkey." + domain, After: after},
	); err != nil {
		return err
	}
	return notify(ctx, tx, "dkim", nil)
}

// List lists the keys of a domain, or all of them.
func (s Keys) List(ctx context.Context, domain string) ([]mail.DKIMKey, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT `+dkimColumns+` FROM dkim_key WHERE $1 = '' OR domain = $1 ORDER BY domain,
			made_at DESC, selector`,
		domain,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanKey)
}

// SigningKeys are the private halves of keys in use, encrypted.
func (s Keys) SigningKeys(ctx context.Context) (map[[2]string][]byte, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT domain, selector, encrypted FROM dkim_key WHERE state = 'signing'`)
	if err != nil {
		return nil, err
	}
	out := map[[2]string][]byte{}
	var domain, selector string
	var encrypted []byte
	_, err = pgx.ForEachRow(rows, []any{&domain, &selector, &encrypted}, func() error {
		out[[2]string{domain, selector}] = append([]byte{}, encrypted...)
		return nil
	})
	return out, err
}

// CheckedKey notes what DNS says of a key: nothing wrong, or what is there in its
// place. A key that was made becomes published when it is seen.
func (s Keys) CheckedKey(ctx context.Context, domain, selector, fault string, now time.Time) error {
	_, err := s.pool.Exec(ctx, `UPDATE dkim_key SET checked_at = $4, fault = $3,
		seen_at = CASE WHEN $3 <> '' THEN NULL ELSE coalesce(seen_at, $4) END,
		state = CASE WHEN state = 'made' AND $3 = '' THEN 'published' WHEN state = 'published'
			AND $3 <> '' THEN 'made' ELSE state END
		WHERE domain = $1 AND selector = $2`, domain, selector, fault, now)
	return err
}

// UseKey lets a key sign. The domain's other keys of the same kind of algorithm
// retire: RSA and Ed25519 sign beside each other.
func (s Keys) UseKey(ctx context.Context, who, domain, selector string, now time.Time) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(
			ctx,
			`UPDATE dkim_key SET state = 'signing', takes_over = false, signing_at = $3,
				retired_at = NULL WHERE domain = $1 AND selector = $2 AND state <> 'signing'`,
			domain,
			selector,
			now,
		)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		if _, err := tx.Exec(
			ctx,
			`UPDATE dkim_key o SET state = 'retired', retired_at = $3 FROM dkim_key k
				WHERE k.domain = $1 AND k.selector = $2 AND o.domain = $1 AND o.selector <> $2
					AND o.state = 'signing'
			AND split_part(o.algorithm, '-', 1) = split_part(k.algorithm, '-', 1)`,
			domain,
			selector,
			now,
		); err != nil {
			return err
		}
		return keyRecord(ctx, tx, who, domain, selector, map[string]any{"state": mail.KeySigning})
	})
}

// RetireKey lets a key sign no more.
func (s Keys) RetireKey(ctx context.Context, who, domain, selector string, now time.Time) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(
			ctx,
			`UPDATE dkim_key SET state = 'retired', takes_over = false, retired_at = $3
				WHERE domain = $1 AND selector = $2 AND state <> 'retired'`,
			domain,
			selector,
			now,
		)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return keyRecord(ctx, tx, who, domain, selector, map[string]any{"state": mail.KeyRetired})
	})
}

// RemoveKey forgets a key.
func (s Keys) RemoveKey(ctx context.Context, who, domain, selector string) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM dkim_key WHERE domain = $1 AND selector = $2`, domain,
			selector)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return keyRecord(ctx, tx, who, domain, selector, map[string]any{"state": "removed"})
	})
}
