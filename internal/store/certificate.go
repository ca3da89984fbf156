package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
)

// Certificates are those that are kept, and how asking for them goes.
type Certificates struct{ *DB }

const certificateSQL = `SELECT id, name, chain, key, made_at, who, info, active_at FROM certificate `

func keptCertificate(row pgx.CollectableRow) (c mail.KeptCertificate, err error) {
	var info []byte
	if err = row.Scan(&c.ID, &c.Name, &c.Chain, &c.Key, &c.MadeAt, &c.Who, &info,
		&c.ActiveAt); err != nil {
		return c, err
	}
	c.MadeAt, c.ActiveAt = c.MadeAt.UTC(), c.ActiveAt.UTC()
	return c, json.Unmarshal(info, &c.Info)
}

// Add keeps one.
func (s Certificates) Add(
	ctx context.Context,
	c mail.KeptCertificate,
) (mail.KeptCertificate, error) {
	info, err := json.Marshal(c.Info)
	if err != nil {
		return c, err
	}
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, `INSERT INTO certificate (name, chain, key, who, info, active_at)
			VALUES ($1, $2, $3, $4, $5, $6) RETURNING id, made_at`, c.Name, c.Chain, c.Key, c.Who, info,
			c.ActiveAt).Scan(&c.ID, &c.MadeAt); err != nil {
			return err
		}
		return notify(ctx, tx, "certificate", nil)
	})
	c.MadeAt = c.MadeAt.UTC()
	return c, err
}

// List are all that are kept, or those of one name, the latest first.
func (s Certificates) List(ctx context.Context, name string) ([]mail.KeptCertificate, error) {
	rows, err := s.pool.Query(ctx, certificateSQL+`WHERE $1 = '' OR name = $1
		ORDER BY active_at DESC, id DESC`, name)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, keptCertificate)
}

// Activate says from when one is shown.
func (s Certificates) Activate(ctx context.Context, name string, id int64, at time.Time) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(
			ctx,
			`UPDATE certificate SET active_at = $3 WHERE id = $2 AND name = $1`,
			name,
			id,
			at,
		)
		if err == nil && tag.RowsAffected() == 0 {
			err = fault.ErrNotFound
		}
		if err != nil {
			return err
		}
		return notify(ctx, tx, "certificate", nil)
	})
}

// Forget drops those that ended before a time, and proofs that nobody looks at any more.
func (s Certificates) Forget(ctx context.Context, before time.Time) error {
	_, err := s.pool.Exec(
		ctx,
		`DELETE FROM certificate WHERE (info->>'until')::timestamptz < $1`,
		before,
	)
	if err != nil {
		return err
	}
	_, err = s.pool.Exec(
		ctx,
		`DELETE FROM certificate_proof WHERE made_at < now() - interval '1 day'`,
	)
	return err
}

// Tries are how asking for each went, by name.
func (s Certificates) Tries(ctx context.Context) (map[string]mail.CertificateTry, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT name, tried_at, next_at, failures, fault FROM certificate_try`,
	)
	if err != nil {
		return nil, err
	}
	out := map[string]mail.CertificateTry{}
	var t mail.CertificateTry
	_, err = pgx.ForEachRow(rows, []any{&t.Name, &t.TriedAt, &t.NextAt, &t.Failures, &t.Fault},
		func() error {
			t.TriedAt, t.NextAt = t.TriedAt.UTC(), t.NextAt.UTC()
			out[t.Name] = t
			return nil
		})
	return out, err
}

// PutTry notes how asking went.
func (s Certificates) PutTry(ctx context.Context, t mail.CertificateTry) error {
	_, err := s.pool.Exec(
		ctx,
		`INSERT INTO certificate_try (name, tried_at, next_at, failures, fault)
		VALUES ($1, $2, $3, $4, $5) ON CONFLICT (name) DO UPDATE SET tried_at = excluded.tried_at,
			next_at = excluded.next_at, failures = excluded.failures, fault = excluded.fault`,
		t.Name,
		t.TriedAt,
		t.NextAt,
		t.Failures,
		t.Fault,
	)
	return err
}

// Account is the key of our account at an authority; the one that is there already wins over made.
func (s Certificates) Account(
	ctx context.Context,
	directory string,
	made []byte,
) (key []byte, err error) {
	if _, err = s.pool.Exec(ctx, `INSERT INTO authority_account (directory, key) VALUES ($1, $2)
		ON CONFLICT DO NOTHING`, directory, made); err != nil {
		return nil, err
	}
	err = s.pool.QueryRow(ctx, `SELECT key FROM authority_account WHERE directory = $1`,
		directory).Scan(&key)
	return key, err
}

// PutProof lets every node show a proof.
func (s Certificates) PutProof(ctx context.Context, kind, name, value, key string) error {
	_, err := s.pool.Exec(ctx, `INSERT INTO certificate_proof (kind, name, value, key)
		VALUES ($1, $2, $3, $4) ON CONFLICT (kind, name) DO UPDATE SET value = excluded.value,
			key = excluded.key, made_at = now()`, kind, name, value, key)
	return err
}

// Proof is one that is shown now.
func (s Certificates) Proof(ctx context.Context, kind, name string) (value, key string, err error) {
	err = s.pool.QueryRow(ctx, `SELECT value, key FROM certificate_proof WHERE kind = $1 AND name = $2`,
		kind, name).
		Scan(&value, &key)
	if errors.Is(err, pgx.ErrNoRows) {
		err = fault.ErrNotFound
	}
	return value, key, err
}

// DropProof shows a proof no more.
func (s Certificates) DropProof(ctx context.Context, kind, name string) error {
	_, err := s.pool.Exec(
		ctx,
		`DELETE FROM certificate_proof WHERE kind = $1 AND name = $2`,
		kind,
		name,
	)
	return err
}
