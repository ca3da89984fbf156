package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
)

// Secrets are passwords for others, encrypted.
type Secrets struct{ *DB }

// SetSecret keeps a encrypted secret.
func (s Secrets) SetSecret(ctx context.Context, who, name string, encrypted []byte) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `INSERT INTO secret (name, encrypted, who) VALUES ($1, $2, $3)
			ON CONFLICT (name) DO UPDATE SET encrypted = excluded.encrypted, who = excluded.who,
				changed_at = now()`, name, encrypted, who); err != nil {
			return err
		}
		if err := addRecord(
			ctx,
			tx,
			who,
			Record{What: "secret", Name: name, After: map[string]any{"set": true}},
		); err != nil {
			return err
		}
		return notify(ctx, tx, "secret", nil)
	})
}

// RemoveSecret takes one out.
func (s Secrets) RemoveSecret(ctx context.Context, who, name string) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM secret WHERE name = $1`, name)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		if err := addRecord(
			ctx,
			tx,
			who,
			Record{What: "secret", Name: name, Before: map[string]any{"set": true}},
		); err != nil {
			return err
		}
		return notify(ctx, tx, "secret", nil)
	})
}

// Secret reads a encrypted secret.
func (s Secrets) Secret(ctx context.Context, name string) ([]byte, error) {
	var encrypted []byte
	err := s.pool.QueryRow(ctx, `SELECT encrypted FROM secret WHERE name = $1`,
		name).Scan(&encrypted)
	return encrypted, found(err)
}

// List lists names, never values.
func (s Secrets) List(ctx context.Context) ([]mail.SecretLine, error) {
	rows, err := s.pool.Query(ctx, `SELECT name, who, changed_at FROM secret ORDER BY name`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.SecretLine, error) {
		var l mail.SecretLine
		err := row.Scan(&l.Name, &l.Who, &l.ChangedAt)
		l.ChangedAt = l.ChangedAt.UTC()
		return l, err
	})
}
