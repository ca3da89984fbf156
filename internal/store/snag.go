package store

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/snag"
)

// Snags are the troubles on record, and the alerts about them.
type Snags struct{ *DB }

// SnagSeen is what was seen of one trouble since it was last written.
type SnagSeen struct {
	ID        ident.ID // if it is new
	Cause     diagnose.Cause
	Place     snag.Place
	First     time.Time
	Last      time.Time
	N, Failed int64
	Hours     map[time.Time]int64 // how often, by the beginning of the hour
	Senders   []string
	Domains   []string
	Lanes     []ident.ID
	Evidence  snag.Evidence
}

// maxTouched is how many senders, domains and lanes of a trouble are kept.
const maxTouched = 20

// reopenFor is how long after its end a trouble that is seen again is the same.
const reopenFor = "1 hour"

// SeeSnags opens troubles and adds to those that are open.
func (s Snags) SeeSnags(ctx context.Context, seen []SnagSeen) error {
	b := &pgx.Batch{}
	for i := range seen {
		x := &seen[i]
		evidence, err := json.Marshal(x.Evidence)
		if err != nil {
			return err
		}
		b.Queue(`UPDATE snag SET closed = false, closed_at = NULL, ended = '' WHERE id = (
				SELECT id FROM snag WHERE closed AND cause = $1 AND place_kind = $2 AND place = $3
					AND closed_at > $4::timestamptz - interval '`+reopenFor+`'
						AND closed_at < $4 ORDER BY closed_at DESC LIMIT 1)
			AND NOT EXISTS (SELECT FROM snag WHERE NOT closed AND cause = $1 AND place_kind = $2
				AND place = $3)`, x.Cause, x.Place.Kind, x.Place.Name, x.Last)
		b.Queue(
			`INSERT INTO snag AS s (id, cause, place_kind, place, since, last_at, failed, attempts,
				weight, holds_all, by_delivery, quiet, senders, domains, lanes, evidence)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $7, $9, $10, $11, $12, $13, $14, $15)
			ON CONFLICT (cause, place_kind, place) WHERE NOT closed DO UPDATE
				SET last_at = greatest(s.last_at, excluded.last_at),
					failed = s.failed + excluded.failed, attempts = s.attempts + excluded.attempts,
				weight = s.waiting + s.failed + excluded.failed, evidence = excluded.evidence,
				senders = (SELECT coalesce(array_agg(x), '{}') FROM (SELECT DISTINCT x
					FROM unnest(s.senders || excluded.senders) x LIMIT $16) u),
				domains = (SELECT coalesce(array_agg(x), '{}') FROM (SELECT DISTINCT x
					FROM unnest(s.domains || excluded.domains) x LIMIT $16) u),
				lanes = (SELECT coalesce(array_agg(x), '{}') FROM (SELECT DISTINCT x
					FROM unnest(s.lanes || excluded.lanes) x LIMIT $16) u)`,
			int64(x.ID),
			x.Cause,
			x.Place.Kind,
			x.Place.Name,
			x.First,
			x.Last,
			x.Failed,
			x.N,
			snag.HoldsAll(x.Cause),
			snag.EndsOnceThrough(x.Cause),
			snag.Quiet(x.Cause),
			x.Senders,
			x.Domains,
			int64s(x.Lanes),
			evidence,
			maxTouched,
		)
		for at, n := range x.Hours {
			b.Queue(
				`INSERT INTO snag_hour AS h SELECT id, $4, $5 FROM snag WHERE NOT closed
					AND cause = $1 AND place_kind = $2 AND place = $3
				ON CONFLICT (snag, at) DO UPDATE SET n = h.n + excluded.n`,
				x.Cause,
				x.Place.Kind,
				x.Place.Name,
				at,
				n,
			)
		}
		if snag.HoldsAll(x.Cause) { // a host has one such trouble at a time
			b.Queue(
				`UPDATE snag SET closed = true, closed_at = $4,
					ended = 'it became another: ' || $5::text WHERE NOT closed AND holds_all
						AND place_kind = $2 AND place = $3 AND cause <> $1 AND last_at <= $4`,
				x.Cause,
				x.Place.Kind,
				x.Place.Name,
				x.Last,
				diagnose.Explain(x.Cause).Title,
			)
		}
	}
	return s.writeSnags(ctx, b)
}

// snagLock is held by who writes troubles: one at a time, since each may touch
// many in any order.
const snagLock = 4617

func (s Snags) writeSnags(ctx context.Context, b *pgx.Batch) error {
	return data(s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SET LOCAL synchronous_commit = off`); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock($1)`, snagLock); err != nil {
			return err
		}
		return tx.SendBatch(ctx, b).Close()
	}))
}

// OpenPlaces are the places of open troubles that a message getting through ends.
func (s Snags) OpenPlaces(ctx context.Context, limit int) ([]snag.Place, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT DISTINCT place_kind, place FROM snag WHERE NOT closed AND by_delivery LIMIT $1`,
		limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[snag.Place])
}

// EndSnags closes the troubles at places at which messages got through since.
func (s Snags) EndSnags(ctx context.Context, through map[snag.Place]time.Time) error {
	b := &pgx.Batch{}
	for p, at := range through {
		b.Queue(
			`UPDATE snag SET closed = true, closed_at = $3, ended = 'a message got through'`+afterFix+`
				WHERE NOT closed AND by_delivery AND place_kind = $1 AND place = $2
					AND last_at < $3`,
			p.Kind,
			p.Name,
			at,
		)
	}
	return s.writeSnags(ctx, b)
}

// EndReached closes the troubles of connecting at next hops that answered a message
// since: they were reached.
func (s Snags) EndReached(ctx context.Context, at map[string]time.Time) error {
	var causes []string
	for _, c := range diagnose.Causes() {
		if snag.OfConnecting(c) {
			causes = append(causes, string(c))
		}
	}
	b := &pgx.Batch{}
	for hop, when := range at {
		b.Queue(
			`UPDATE snag SET closed = true, closed_at = $2, ended = 'the host answers again'`+afterFix+`
			WHERE NOT closed AND cause = ANY($3) AND place_kind = 'next-hop' AND place = $1
				AND last_at < $2`,
			hop,
			when,
			causes,
		)
	}
	return s.writeSnags(ctx, b)
}

// EndSnag closes a trouble of a domain.
func (s Snags) EndSnag(
	ctx context.Context,
	c diagnose.Cause,
	domain, why string,
	now time.Time,
) error {
	_, err := s.pool.Exec(
		ctx,
		`UPDATE snag SET closed = true, closed_at = $4, ended = $3 WHERE NOT closed AND cause = $1
			AND place_kind = 'domain' AND place = $2`,
		c,
		domain,
		why,
		now,
	)
	return err
}

// RefreshSnags counts what open troubles hold up, rates them, ends those of which
// nothing was seen for long, and puts together what many places show at the same time. Only
// one node does it at a time; the others do nothing.
func (s Snags) RefreshSnags(ctx context.Context, now time.Time, next func() ident.ID) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		var mine bool
		if err := tx.QueryRow(ctx, `SELECT pg_try_advisory_xact_lock($1)`,
			snagLock).Scan(&mine); err != nil ||
			!mine {
			return err
		}
		_, err := tx.Exec(ctx, `WITH lanes AS MATERIALIZED (`+laneCounts+`), counted AS (
				SELECT s.id, CASE
					WHEN s.place_kind = 'address' THEN (SELECT count(*) FROM (SELECT FROM delivery d
						WHERE lower(d.recipient) = s.place AND d.cause = s.cause LIMIT 1000) x)
					WHEN s.holds_all THEN (SELECT coalesce(sum(waiting + deferred + held), 0)
						FROM lanes WHERE lane = ANY(s.lanes))
					WHEN s.place_kind = 'sender' THEN (SELECT count(*) FROM (SELECT FROM delivery d
						JOIN message m ON m.id = d.message_id
						WHERE d.lane = ANY(s.lanes) AND d.cause = s.cause
							AND split_part(lower(m.sender), '@', -1) = s.place LIMIT 1000) x)
					WHEN s.place_kind IN ('next-hop', 'route', 'domain')
						THEN (SELECT coalesce(sum(deferred), 0) FROM lanes
							WHERE lane = ANY(s.lanes))
					ELSE 0 END AS waiting
				FROM snag s WHERE NOT s.closed AND s.parts = 0)
			UPDATE snag s SET waiting = c.waiting, weight = c.waiting + s.failed FROM counted c
				WHERE c.id = s.id AND s.waiting <> c.waiting`)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(
			ctx,
			`UPDATE snag SET closed = true, closed_at = $1, ended = CASE WHEN by_delivery
				AND failed = 0 THEN 'nothing waits for it any more'
					ELSE 'nothing was seen of it since' END`+afterFix+`
			WHERE NOT closed AND parts = 0 AND cause <> '`+string(
				diagnose.NotReady,
			)+`' AND (last_at < $1::timestamptz - quiet AND waiting = 0
				OR last_at < $1::timestamptz - interval '10 seconds' AND waiting = 0 AND failed = 0)`,
			now,
		); err != nil {
			return err
		}
		if err := gatherWide(ctx, tx, now, next); err != nil {
			return err
		}
		return rateSnags(ctx, tx, now)
	})
}

// rateSnags puts a severity to every open trouble.
func rateSnags(ctx context.Context, tx pgx.Tx, now time.Time) error {
	rows, err := tx.Query(
		ctx,
		`SELECT id, cause, place_kind, place, waiting, failed, since, severity FROM snag
			WHERE NOT closed`,
	)
	if err != nil {
		return err
	}
	by := map[snag.Severity][]int64{}
	for rows.Next() {
		var id, waiting, failed int64
		var c diagnose.Cause
		var p snag.Place
		var since time.Time
		var is int16
		if err := rows.Scan(&id, &c, &p.Kind, &p.Name, &waiting, &failed, &since, &is); err != nil {
			return err
		}
		if want := snag.Rate(c, p, waiting, failed, since, now); want != snag.Severity(is) {
			by[want] = append(by[want], id)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for severity, ids := range by {
		if _, err := tx.Exec(
			ctx,
			`UPDATE snag SET severity = $1 WHERE id = ANY($2)`,
			int16(severity),
			ids,
		); err != nil {
			return err
		}
	}
	return nil
}

const snagColumns = `id, cause, place_kind, place, severity, closed, since, last_at, closed_at,
	ended, waiting, failed, attempts, senders, domains, lanes, evidence, part_of, parts, note,
		note_by, mine, muted_until, fix, fixed_at`

// afterFix adds to what ended a trouble what somebody had done about it shortly before.
const afterFix = ` || CASE WHEN fixed_at > now() - interval '1 hour' THEN ', after: ' || fix ELSE '' END`

func scanSnag(row pgx.CollectableRow) (snag.Snag, error) { return scanSnagWith(row) }

// scanSnagWith reads columns before those of the trouble too.
func scanSnagWith(row pgx.CollectableRow, first ...any) (x snag.Snag, err error) {
	var closed bool
	var severity int16
	var lanes []int64
	var muted time.Time
	err = row.Scan(
		append(first, &x.ID, &x.Cause, &x.Place.Kind, &x.Place.Name, &severity, &closed, &x.Since,
			&x.LastAt, optTime{&x.ClosedAt}, &x.Ended, &x.Waiting, &x.Failed, &x.Attempts,
			&x.Senders, &x.Domains, &lanes, &x.Evidence, &x.PartOf, &x.Parts, &x.Note, &x.NoteBy,
			&x.Mine, &muted, &x.Fix, optTime{&x.FixedAt})...)
	x.Severity, x.Since, x.LastAt, x.State = snag.Severity(
		severity,
	), x.Since.UTC(), x.LastAt.UTC(), "open"
	if closed {
		x.State = "closed"
	}
	if muted.After(time.Now()) {
		x.MutedUntil = mail.At(muted)
	}
	x.Lanes = make([]ident.ID, len(lanes))
	for i, l := range lanes {
		x.Lanes[i] = ident.ID(l)
	}
	return x, err
}

// List lists troubles: the open ones worst first, the closed ones newest first.
func (s Snags) List(ctx context.Context, f snag.Filter) ([]snag.Snag, error) {
	q := &query{}
	if f.Closed {
		q.WriteString(" AND closed")
	} else {
		q.WriteString(" AND NOT closed")
	}
	if !f.Muted && !f.Closed {
		q.WriteString(" AND muted_until < now()")
	}
	if f.PartOf != 0 {
		q.and("part_of = %s", int64(f.PartOf))
	} else if !f.Parts && !f.Closed && f.Lane == 0 {
		q.WriteString(" AND part_of = 0")
	}
	if f.Cause != "" {
		q.and("cause = %s", f.Cause)
	}
	if f.Place != "" {
		q.and("place LIKE %s", part(strings.ToLower(f.Place)))
	}
	if f.Lane != 0 {
		q.and("%s = ANY(lanes)", int64(f.Lane))
	}
	if f.After != "" {
		var after ident.ID
		if err := after.UnmarshalText([]byte(f.After)); err != nil {
			return nil, err
		}
		if f.Closed {
			q.and("(closed_at, id) < (SELECT closed_at, id FROM snag WHERE id = %s)", int64(after))
		} else {
			q.and("(severity, weight, id) < (SELECT severity, weight, id FROM snag WHERE id = %s)",
				int64(after))
		}
	}
	order := " ORDER BY severity DESC, weight DESC, id DESC LIMIT "
	if f.Closed {
		order = " ORDER BY closed_at DESC, id DESC LIMIT "
	}
	rows, err := s.pool.Query(
		ctx,
		`SELECT `+snagColumns+` FROM snag WHERE true`+q.String()+order+q.arg(f.Limit),
		q.args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanSnag)
}

// Snag reads one trouble with its hours.
func (s Snags) Snag(ctx context.Context, id ident.ID) (snag.Snag, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+snagColumns+` FROM snag WHERE id = $1`, int64(id))
	if err != nil {
		return snag.Snag{}, err
	}
	x, err := pgx.CollectExactlyOneRow(rows, scanSnag)
	if err != nil {
		return x, found(err)
	}
	hours, err := s.pool.Query(
		ctx,
		`SELECT at, n FROM snag_hour WHERE snag = $1 AND at > now() - interval '7 days'
			ORDER BY at`,
		int64(id),
	)
	if err != nil {
		return x, err
	}
	x.Hours, err = pgx.CollectRows(hours, pgx.RowToStructByPos[snag.Hour])
	for i := range x.Hours {
		x.Hours[i].At = x.Hours[i].At.UTC()
	}
	return x, err
}

// SnagCounts are how many are open by severity, without muted ones and parts.
func (s Snags) SnagCounts(ctx context.Context) (map[snag.Severity]int, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT severity, count(*) FROM snag WHERE NOT closed AND part_of = 0
			AND muted_until < now() GROUP BY severity`,
	)
	if err != nil {
		return nil, err
	}
	out := map[snag.Severity]int{}
	var severity int16
	var n int
	_, err = pgx.ForEachRow(rows, []any{&severity, &n}, func() error {
		out[snag.Severity(severity)] = n
		return nil
	})
	return out, err
}

// MarkFix notes what somebody did about a trouble.
func (s Snags) MarkFix(ctx context.Context, id ident.ID, what string, at time.Time) error {
	_, err := s.pool.Exec(ctx, `UPDATE snag SET fix = $2, fixed_at = $3 WHERE id = $1`,
		int64(id), what, at)
	return err
}

// ChangeSnag writes what a person said.
func (s Snags) ChangeSnag(ctx context.Context, id ident.ID, who string, c snag.Change) error {
	tag, err := s.pool.Exec(
		ctx,
		`UPDATE snag SET note = coalesce($2, note), note_by = CASE WHEN $2::text IS NULL
			THEN note_by ELSE $5 END, mine = coalesce($3, mine), muted_until = coalesce($4,
				muted_until) WHERE id = $1`,
		int64(id),
		c.Note,
		c.Mine,
		c.MutedUntil,
		who,
	)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return err
}

// ForgetSnags drops closed troubles that ended before a time, and what open ones
// were met before it.
func (s Snags) ForgetSnags(ctx context.Context, before time.Time) error {
	if _, err := s.pool.Exec(ctx, `DELETE FROM snag_hour WHERE at < $1`, before); err != nil {
		return err
	}
	_, err := s.pool.Exec(ctx, `DELETE FROM snag WHERE closed AND closed_at < $1`, before)
	return err
}

// SnagParts are the lanes of the troubles that one of ours is made of.
func (s Snags) SnagParts(ctx context.Context, id ident.ID) ([]ident.ID, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT DISTINCT unnest(lanes) FROM snag WHERE part_of = $1 AND NOT closed LIMIT 500`,
		int64(id))
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	out := make([]ident.ID, len(list))
	for i, l := range list {
		out[i] = ident.ID(l)
	}
	return out, err
}
