package store

import (
	"context"
	"encoding/json"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
)

// Kept is what people keep of how they look at things: views, columns, choices.
type Kept struct{ *DB }

// everybody owns what is shared.
const everybody = ""

// maxKept is how many things one owner keeps.
const maxKept = 200

// List is what somebody keeps, and what is shared.
func (s Kept) List(ctx context.Context, who string) ([]mail.Kept, error) {
	rows, err := s.pool.Query(ctx, `SELECT kind, name, owner = $2, value, who, changed_at FROM kept
		WHERE owner IN ($1, $2) ORDER BY kind, name, owner`, who, everybody)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (k mail.Kept, err error) {
		var value []byte
		if err = row.Scan(&k.Kind, &k.Name, &k.Shared, &value, &k.By, &k.ChangedAt); err == nil {
			err = json.Unmarshal(value, &k.Value)
		}
		return k, err
	})
}

// Keep writes one thing, in place of one of the same name.
func (s Kept) Keep(ctx context.Context, who string, k mail.Kept) error {
	value, err := json.Marshal(k.Value)
	if err != nil {
		return err
	}
	owner := ownerOf(who, k.Shared)
	return s.inTx(ctx, func(tx pgx.Tx) error {
		var n int
		if err := tx.QueryRow(ctx, `SELECT count(*) FROM kept
			WHERE owner = $1 AND (kind, name) <> ($2, $3)`, owner, k.Kind, k.Name).Scan(&n); err != nil {
			return err
		}
		if n >= maxKept {
			return fault.Refuse(
				"name",
				"%d things are kept already, and no more fit; remove one",
				n,
			)
		}
		_, err := tx.Exec(ctx, `INSERT INTO kept (owner, kind, name, value, who)
			VALUES ($1, $2, $3, $4, $5) ON CONFLICT (owner, kind, name) DO UPDATE
			SET value = excluded.value, who = excluded.who, changed_at = now()`,
			owner, k.Kind, k.Name, value, who)
		return err
	})
}

// Drop takes one thing away.
func (s Kept) Drop(ctx context.Context, who, kind, name string, shared bool) error {
	tag, err := s.pool.Exec(ctx, `DELETE FROM kept WHERE owner = $1 AND kind = $2 AND name = $3`,
		ownerOf(who, shared), kind, name)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

func ownerOf(who string, shared bool) string {
	if shared {
		return everybody
	}
	return who
}
