package store

import (
	"context"
	"strings"
)

// contactsLooked is how many messages of each of two are looked through for the other.
const contactsLooked = 1000

// Met reports whether mail between two addresses is on record, in either direction, among
// the latest messages of each.
func (s Messages) Met(ctx context.Context, a, b string) (met bool, err error) {
	const between = `EXISTS (SELECT FROM (SELECT m.id FROM message m
			WHERE hashtextextended(lower(m.sender), 0) = hashtextextended($1::text, 0)
				AND lower(m.sender) = $1 ORDER BY m.id DESC LIMIT $3) m
		WHERE EXISTS (SELECT FROM delivery d WHERE d.message_id = m.id
				AND (lower(d.recipient) = $2 OR lower(d.original) = $2))
			OR EXISTS (SELECT FROM delivery_done d WHERE d.message_id = m.id
				AND (lower(d.recipient) = $2 OR lower(d.original) = $2)))`
	a, b = strings.ToLower(a), strings.ToLower(b)
	for _, pair := range [][2]string{{a, b}, {b, a}} {
		if err = s.pool.QueryRow(ctx, `SELECT `+between, pair[0], pair[1], contactsLooked).
			Scan(&met); err != nil || met {
			return met, err
		}
	}
	return false, nil
}
