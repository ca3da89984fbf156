package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
)

// TLSPolicies are what domains say of mail to them, as it was fetched last.
type TLSPolicies struct{ *DB }

const policySQL = `SELECT domain, policy, fetched_at, ends_at, asked_at, fault FROM tls_policy `

func tlsPolicy(row pgx.CollectableRow) (p mail.TLSPolicy, err error) {
	var text []byte
	if err = row.Scan(&p.Domain, &text, optTime{&p.FetchedAt}, optTime{&p.EndsAt}, &p.AskedAt,
		&p.Fault); err != nil || text == nil {
		return p, err
	}
	p.AskedAt = p.AskedAt.UTC()
	return p, json.Unmarshal(text, &p.Policy)
}

// Policy is a domain's; false if none was asked for.
func (s TLSPolicies) Policy(ctx context.Context, domain string) (mail.TLSPolicy, bool, error) {
	rows, err := s.pool.Query(ctx, policySQL+`WHERE domain = $1`, domain)
	if err != nil {
		return mail.TLSPolicy{}, false, err
	}
	p, err := pgx.CollectExactlyOneRow(rows, tlsPolicy)
	if errors.Is(err, pgx.ErrNoRows) {
		return p, false, nil
	}
	return p, err == nil, err
}

// Policies are all that are kept, by domain.
func (s TLSPolicies) Policies(
	ctx context.Context,
	after string,
	limit int,
) ([]mail.TLSPolicy, error) {
	rows, err := s.pool.Query(
		ctx,
		policySQL+`WHERE domain > $1 ORDER BY domain LIMIT $2`,
		after,
		limit,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, tlsPolicy)
}

// PutPolicy keeps what was fetched, or how asking went wrong: what was had before stays then.
func (s TLSPolicies) PutPolicy(ctx context.Context, p mail.TLSPolicy) error {
	var text []byte
	if p.Policy != nil {
		text, _ = json.Marshal(p.Policy)
	}
	_, err := s.pool.Exec(
		ctx,
		`INSERT INTO tls_policy (domain, policy, fetched_at, ends_at, asked_at, fault)
		VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT (domain) DO UPDATE SET policy = excluded.policy,
			fetched_at = excluded.fetched_at, ends_at = excluded.ends_at, asked_at = excluded.asked_at,
			fault = excluded.fault`,
		p.Domain,
		text,
		optional(p.FetchedAt),
		optional(p.EndsAt),
		p.AskedAt,
		p.Fault,
	)
	return err
}

// DropPolicies forgets those that ended before a time and were not asked for since.
func (s TLSPolicies) DropPolicies(ctx context.Context, before time.Time) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM tls_policy WHERE asked_at < $1
		AND coalesce(ends_at, asked_at) < $1`, before)
	return err
}
