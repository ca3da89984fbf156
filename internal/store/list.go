package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// ListCopies are the last good copies of what lists read from their sources.
type ListCopies struct{ *DB }

// ListCopy is one.
type ListCopy struct {
	List      string
	Source    string
	Entries   []string
	ReadAt    time.Time // when this copy was read
	LookedAt  time.Time // when it was looked at last
	Hash      string
	Skipped   int    // lines that are no entries
	Trouble   string // why the last look brought nothing; "" if it did
	TroubleAt *time.Time
}

const listCopyColumns = `list, source, entries, read_at, looked_at, hash, skipped, trouble, trouble_at`

// Copies are all of them; without entries if they are not wanted.
func (s ListCopies) Copies(ctx context.Context, entries bool) ([]ListCopy, error) {
	sql := `SELECT list, source, CASE WHEN $1 THEN entries ELSE '{}' END, read_at, looked_at, hash,
		skipped, trouble, trouble_at FROM list_copy ORDER BY list`
	rows, err := s.pool.Query(ctx, sql, entries)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[ListCopy])
}

// Copy is that of a list; ErrNotFound if there is none.
func (s ListCopies) Copy(ctx context.Context, list string) (ListCopy, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+listCopyColumns+` FROM list_copy WHERE list = $1`, list)
	if err != nil {
		return ListCopy{}, err
	}
	c, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[ListCopy])
	return c, found(err)
}

// Mine reports whether this node is to look at a list's source now: nobody has since then.
func (s ListCopies) Mine(ctx context.Context, list, source string, since time.Time) (mine bool, err error) {
	err = s.pool.QueryRow(ctx, `INSERT INTO list_copy AS c VALUES ($1, $2, '{}', '-infinity', now(), '', 0, '', NULL)
		ON CONFLICT (list) DO UPDATE SET looked_at = now(),
			entries = CASE WHEN c.source = $2 THEN c.entries ELSE '{}' END,
			hash = CASE WHEN c.source = $2 THEN c.hash ELSE '' END,
			source = $2
		WHERE c.looked_at < $3 OR c.source <> $2 RETURNING true`, list, source, since).Scan(&mine)
	if err == pgx.ErrNoRows {
		return false, nil
	}
	return mine, err
}

// Read puts a good copy on record.
func (s ListCopies) Read(ctx context.Context, c ListCopy) error {
	_, err := s.pool.Exec(ctx, `UPDATE list_copy SET entries = $3, read_at = now(), hash = $4,
		skipped = $5, trouble = '', trouble_at = NULL WHERE list = $1 AND source = $2`,
		c.List, c.Source, c.Entries, c.Hash, c.Skipped)
	return data(err)
}

// Failed puts on record that a look brought nothing; the copy stays.
func (s ListCopies) Failed(ctx context.Context, list, source, trouble string) error {
	_, err := s.pool.Exec(ctx, `UPDATE list_copy SET trouble = $3,
		trouble_at = coalesce(trouble_at, now()) WHERE list = $1 AND source = $2`, list, source, trouble)
	return data(err)
}

// Forget drops copies of lists that have no source any more.
func (s ListCopies) Forget(ctx context.Context, keep []string) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM list_copy WHERE NOT list = ANY($1)`, keep)
	return err
}
