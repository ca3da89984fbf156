package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/readiness"
	"gullroute/internal/core/snag"
)

// Bounds of what is told of a trouble, and how long before it began changes are looked for.
const (
	maxMoments = 20
	maxSimilar = 5
	lookBack   = 24 * time.Hour
)

// Story reads what has to do with a trouble: the last success before it at the same place
// and the first after it, revisions, what people did, what changed in the world for the
// domains of its senders, and troubles like it that are over.
func (s Snags) Story(ctx context.Context, x *snag.Snag) (snag.Story, error) {
	st := snag.Story{Moments: []snag.Moment{}, Similar: []snag.Past{}}
	until := time.Now()
	if x.State == "closed" {
		until = x.ClosedAt.Time
	}
	for _, read := range []func(context.Context, *snag.Story, *snag.Snag, time.Time) error{
		s.successes, s.changes, s.deeds, s.world, s.similar,
	} {
		if err := read(ctx, &st, x, until); err != nil {
			return st, err
		}
	}
	st.Tell(x)
	return st, nil
}

// successes are the last before it began, and the first since it was last met.
func (s Snags) successes(ctx context.Context, st *snag.Story, x *snag.Snag, _ time.Time) error {
	what := "split_part(lower(recipient), '@', -1)"
	switch x.Place.Kind {
	case snag.Address:
		what = "lower(recipient)"
	case snag.NextHop, snag.Domain:
	default:
		return nil
	}
	for _, part := range []struct{ when, order, text string }{
		{"message_id < $4 AND finished_at < $2", "DESC", "the last message before it got through"},
		{"message_id >= $4 AND finished_at > $3", "ASC", "a message got through again"},
	} {
		rows, err := s.pool.Query(ctx, `SELECT finished_at, message_id FROM delivery_done
			WHERE `+sameAs(what, "$1")+` AND state = 'delivered' AND `+part.when+`
				AND $2::timestamptz IS NOT NULL AND $3::timestamptz IS NOT NULL
			ORDER BY message_id `+part.order+` LIMIT 1`,
			x.Place.Name, x.Since, x.LastAt, int64(ident.Floor(x.Since)))
		if err != nil {
			return err
		}
		found, err := pgx.CollectRows(
			rows,
			func(row pgx.CollectableRow) (m snag.Moment, err error) {
				m.Kind, m.Text = snag.MomentSuccess, part.text
				return m, row.Scan(&m.At, &m.Message)
			},
		)
		if err != nil {
			return err
		}
		st.Moments = append(st.Moments, found...)
	}
	return nil
}

// changes are the revisions from a day before until it ended.
func (s Snags) changes(ctx context.Context, st *snag.Story, x *snag.Snag, until time.Time) error {
	rows, err := s.pool.Query(ctx, `SELECT applied_at, number, who, why FROM config_revision
		WHERE applied_at BETWEEN $1 AND $2 ORDER BY number DESC LIMIT $3`,
		x.Since.Add(-lookBack), until, maxMoments)
	if err != nil {
		return err
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (m snag.Moment, err error) {
		var who, why string
		err = row.Scan(&m.At, &m.Revision, &who, &why)
		m.Kind, m.Text = snag.MomentChange, fmt.Sprintf("revision %d came into force, by %s",
			m.Revision, who)
		if why != "" {
			m.Text += ": " + why
		}
		return m, err
	})
	st.Moments = append(st.Moments, list...)
	return err
}

// deeds are what people did about it, by its number or by its lanes.
func (s Snags) deeds(ctx context.Context, st *snag.Story, x *snag.Snag, until time.Time) error {
	lanes := make([]string, len(x.Lanes))
	for i, l := range x.Lanes {
		lanes[i] = l.String()
	}
	rows, err := s.pool.Query(ctx, `SELECT at, who, verb, on_what, touched FROM action
		WHERE at BETWEEN $1 AND $2 AND (why LIKE $3 OR filter->>'lane' = ANY($4))
		ORDER BY id DESC LIMIT $5`,
		x.Since, until.Add(time.Minute), "snag "+x.ID.String()+":%", lanes, maxMoments)
	if err != nil {
		return err
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (m snag.Moment, err error) {
		var who, verb, what string
		var touched int64
		err = row.Scan(&m.At, &who, &verb, &what, &touched)
		m.Kind, m.Text = snag.MomentAction, fmt.Sprintf("%s: %s of %s (%d messages)", who, verb,
			what, touched)
		return m, err
	})
	st.Moments = append(st.Moments, list...)
	return err
}

// world is what changed for the domains of its senders, as the world sees them.
func (s Snags) world(ctx context.Context, st *snag.Story, x *snag.Snag, until time.Time) error {
	domains := []string{x.Place.Name}
	for _, a := range x.Senders {
		domains = append(domains, a[strings.LastIndexByte(a, '@')+1:])
	}
	rows, err := s.pool.Query(ctx, `SELECT domain, at, change FROM readiness_change
		WHERE domain = ANY($1) AND at BETWEEN $2 AND $3 ORDER BY id DESC LIMIT $4`,
		domains, x.Since.Add(-lookBack), until, maxMoments)
	if err != nil {
		return err
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (m snag.Moment, err error) {
		var domain string
		var turn readiness.Turn
		err = row.Scan(&domain, &m.At, &turn)
		m.Kind, m.Text = snag.MomentWorld, domain+": "+turn.String()
		return m, err
	})
	st.Moments = append(st.Moments, list...)
	return err
}

// similar are troubles of the same cause that are over, those at the same place first.
func (s Snags) similar(ctx context.Context, st *snag.Story, x *snag.Snag, _ time.Time) error {
	rows, err := s.pool.Query(ctx, `SELECT id, place_kind, place, since, closed_at, ended FROM snag
		WHERE closed AND cause = $1 AND id <> $2
		ORDER BY place_kind = $3 AND place = $4 DESC, closed_at DESC LIMIT $5`,
		x.Cause, int64(x.ID), x.Place.Kind, x.Place.Name, maxSimilar)
	if err != nil {
		return err
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (p snag.Past, err error) {
		err = row.Scan(&p.ID, &p.Place.Kind, &p.Place.Name, &p.Since, &p.Until, &p.Ended)
		p.Since, p.Until = p.Since.UTC(), p.Until.UTC()
		return p, err
	})
	st.Similar = append(st.Similar, list...)
	return err
}
