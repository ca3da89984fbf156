package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/repute"
)

// Reputation is what is on record of strangers.
type Reputation struct{ *DB }

// Came notes that a client came with a message from a sender to a recipient, and says what is
// known of the three. It is one statement: clients come again at several nodes. Those that
// first came before since, and did not pass, begin anew.
func (s Reputation) Came(
	ctx context.Context,
	network, sender, recipient string,
	since, ripe time.Time,
) (k repute.Known, err error) {
	err = s.pool.QueryRow(ctx, `INSERT INTO greylist AS g (network, sender, recipient) VALUES ($1, $2, $3)
		ON CONFLICT (network, sender, recipient) DO UPDATE SET
			tries = CASE WHEN g.passed OR g.first_at > $4 THEN least(g.tries, 1000000) + 1 ELSE 1 END,
			passed = g.passed OR g.first_at > $4 AND g.first_at <= $5,
			first_at = CASE WHEN g.passed OR g.first_at > $4 THEN g.first_at ELSE now() END,
			last_at = now()
		RETURNING first_at, passed`, network, sender, recipient, since, ripe).
		Scan(&k.First, &k.Passed)
	return k, data(err)
}

// ForgetCame drops those that did not come again in time, and those that have been away for
// longer than who has passed is known.
func (s Reputation) ForgetCame(ctx context.Context, waited, kept time.Time) error {
	for { // in pieces, so that no statement takes long
		tag, err := s.pool.Exec(ctx, `DELETE FROM greylist WHERE (network, sender, recipient) IN (
			SELECT network, sender, recipient FROM greylist
			WHERE last_at < $2 OR last_at < $1 AND NOT passed LIMIT 10000)`, waited, kept)
		if err != nil || tag.RowsAffected() < 10000 {
			return err
		}
	}
}

// Greylist are how many wait and how many have passed, of a network or all.
func (s Reputation) Greylist(ctx context.Context, network string) (waiting, passed int, err error) {
	err = s.pool.QueryRow(ctx, `SELECT count(*) FILTER (WHERE NOT passed), count(*) FILTER (WHERE passed)
		FROM greylist WHERE $1 = '' OR network = $1`, network).
		Scan(&waiting, &passed)
	return waiting, passed, err
}

// Standings are those whose time is not over.
func (s Reputation) Standings(ctx context.Context) ([]repute.Standing, error) {
	rows, err := s.pool.Query(ctx, `SELECT kind, value, says, until, who, why, since FROM standing
		WHERE until IS NULL OR until > now() ORDER BY since DESC, kind, value`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[repute.Standing])
}

// SetStanding spares or refuses somebody, and tells all nodes.
func (s Reputation) SetStanding(ctx context.Context, x repute.Standing) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `INSERT INTO standing (kind, value, says, until, who, why)
			VALUES ($1, $2, $3, $4, $5, $6)
			ON CONFLICT (kind, value) DO UPDATE SET says = excluded.says, until = excluded.until,
				who = excluded.who, why = excluded.why, since = now()`,
			x.Kind, x.Value, x.Says, x.Until, x.Who, x.Why)
		if err != nil {
			return data(err)
		}
		return notify(ctx, tx, "standing", nil)
	})
}

// EndStanding ends one. It reports false if there was none.
func (s Reputation) EndStanding(ctx context.Context, kind, value string) (bool, error) {
	ended := false
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM standing WHERE kind = $1 AND value = $2`, kind, value)
		if ended = err == nil && tag.RowsAffected() > 0; !ended {
			return data(err)
		}
		return notify(ctx, tx, "standing", nil)
	})
	return ended, err
}

// ForgetStandings drops those whose time is over.
func (s Reputation) ForgetStandings(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM standing WHERE until < now()`)
	return err
}

// Seen is what we saw of a client or of a domain's senders.
type Seen struct {
	Messages int        `json:"messages" doc:"At most 1,000 are counted"`
	Refusals int        `json:"refusals" doc:"At most 1,000 are counted"`
	Last     *time.Time `json:"last,omitempty"`
}

// maxSeen bounds how many messages and refusals are counted.
const maxSeen = 1000

// SeenOfClient is what we saw of a client's address since a time.
func (s Reputation) SeenOfClient(
	ctx context.Context,
	client string,
	since time.Time,
) (Seen, error) {
	const of = `client_address <> '' AND nullif(client_address, '')::inet = $1::text::inet`
	return s.seen(ctx, of, of, client, since)
}

// SeenOfDomain is what we saw of a domain's senders since a time.
func (s Reputation) SeenOfDomain(
	ctx context.Context,
	domain string,
	since time.Time,
) (Seen, error) {
	of := sameAs(domainSQL("sender"), "$1::text")
	return s.seen(ctx, of, domainSQL("sender")+" = $1", domain, since)
}

func (s Reputation) seen(
	ctx context.Context,
	messages, refusals, of string,
	since time.Time,
) (x Seen, err error) {
	err = s.pool.QueryRow(ctx, `WITH m AS (SELECT received_at AS at FROM message WHERE `+messages+`
				ORDER BY id DESC LIMIT $3),
			r AS (SELECT at FROM refusal WHERE `+refusals+` ORDER BY id DESC LIMIT $3)
		SELECT (SELECT count(*) FROM m WHERE at > $2), (SELECT count(*) FROM r WHERE at > $2),
			greatest((SELECT max(at) FROM m), (SELECT max(at) FROM r))`, of, since, maxSeen).
		Scan(&x.Messages, &x.Refusals, &x.Last)
	return x, err
}
