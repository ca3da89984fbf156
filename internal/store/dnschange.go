package store

import (
	"context"
	"encoding/json"
	"errors"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
)

// DNSChanges are the changes of records that we made at DNS servers.
type DNSChanges struct{ *DB }

const dnsChangeSQL = `SELECT id, at, who, domain, why, server, zone, change, ttl, back_at, back_who
	FROM dns_change `

func dnsChange(row pgx.CollectableRow) (c mail.DNSChange, err error) {
	var text []byte
	if err = row.Scan(&c.ID, &c.At, &c.Who, &c.Domain, &c.Why, &c.Server, &c.Zone, &text, &c.TTL,
		optTime{&c.BackAt}, &c.BackWho); err != nil {
		return c, err
	}
	c.At = c.At.UTC()
	return c, json.Unmarshal(text, &c.Change)
}

// Add puts a change on record that is about to be made.
func (s DNSChanges) Add(ctx context.Context, c mail.DNSChange) (mail.DNSChange, error) {
	text, err := json.Marshal(c.Change)
	if err != nil {
		return c, err
	}
	err = s.pool.QueryRow(ctx, `INSERT INTO dns_change (who, domain, why, server, zone, change,
		ttl) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id, at`, c.Who, c.Domain, c.Why, c.Server, c.Zone, text,
		c.TTL).Scan(&c.ID, &c.At)
	c.At = c.At.UTC()
	return c, err
}

// Drop takes a change from the record that was not made after all.
func (s DNSChanges) Drop(ctx context.Context, id int64) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM dns_change WHERE id = $1`, id)
	return err
}

// Get is one of them.
func (s DNSChanges) Get(ctx context.Context, id int64) (mail.DNSChange, error) {
	rows, err := s.pool.Query(ctx, dnsChangeSQL+`WHERE id = $1`, id)
	if err != nil {
		return mail.DNSChange{}, err
	}
	c, err := pgx.CollectExactlyOneRow(rows, dnsChange)
	if errors.Is(err, pgx.ErrNoRows) {
		err = fault.ErrNotFound
	}
	return c, err
}

// List is one page of them, the latest first, of one domain or of all (""); before is the id of the
// last one of the page before, 0 for the first.
func (s DNSChanges) List(
	ctx context.Context,
	domain string,
	before int64,
	limit int,
) ([]mail.DNSChange, error) {
	rows, err := s.pool.Query(
		ctx,
		dnsChangeSQL+`WHERE ($1 = 0 OR id < $1) AND ($2 = '' OR domain = $2)
		ORDER BY id DESC LIMIT $3`,
		before,
		domain,
		limit,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, dnsChange)
}

// Back notes that one was taken back.
func (s DNSChanges) Back(ctx context.Context, who string, id int64) error {
	_, err := s.pool.Exec(ctx, `UPDATE dns_change SET back_at = now(), back_who = $2
		WHERE id = $1 AND back_at IS NULL`, id, who)
	return err
}
