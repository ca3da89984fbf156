package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/whose"
)

// SuccessKey is where messages got through, in five minutes.
type SuccessKey struct {
	At             time.Time
	NextHop, Route string
	IPv6           bool
}

// SuccessStep is how long a count of successes is.
const SuccessStep = 5 * time.Minute

// AddSuccesses adds to what got through, and forgets what is of no use any more.
func (s Snags) AddSuccesses(ctx context.Context, n map[SuccessKey]int64) error {
	if len(n) == 0 {
		return nil
	}
	ats, hops := make([]time.Time, 0, len(n)), make([]string, 0, len(n))
	routes, v6 := make([]string, 0, len(n)), make([]bool, 0, len(n))
	counts := make([]int64, 0, len(n))
	var last time.Time
	for k, c := range n {
		ats, hops, routes = append(ats, k.At), append(hops, k.NextHop), append(routes, k.Route)
		v6, counts = append(v6, k.IPv6), append(counts, c)
		if k.At.After(last) {
			last = k.At
		}
	}
	b := &pgx.Batch{}
	b.Queue(`INSERT INTO success AS s
		SELECT * FROM unnest($1::timestamptz[], $2::text[], $3::text[], $4::bool[], $5::bigint[])
		ORDER BY 1, 2, 3, 4
		ON CONFLICT (at, next_hop, route, ipv6) DO UPDATE SET messages = s.messages + excluded.messages`,
		ats, hops, routes, v6, counts)
	b.Queue(`DELETE FROM success WHERE at < $1`, last.Add(-2*whose.Recent))
	return s.writeSnags(ctx, b)
}

// Successes are what got through since a time, by place.
func (s Snags) Successes(ctx context.Context, since time.Time) ([]whose.Success, error) {
	rows, err := s.pool.Query(ctx, successesSince, since)
	if err != nil {
		return nil, err
	}
	return collectSuccesses(rows)
}

const successesSince = `SELECT next_hop, route, ipv6, sum(messages)::bigint FROM success
	WHERE at >= $1 GROUP BY 1, 2, 3 LIMIT 20000`

func collectSuccesses(rows pgx.Rows) ([]whose.Success, error) {
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x whose.Success, err error) {
		err = row.Scan(&x.NextHop, &x.Route, &x.IPv6, &x.Messages)
		return x, err
	})
}
