package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Lanes are the lanes, their names, rests and flow.
type Lanes struct{ *DB }

// nameLanes makes sure that the lanes of new deliveries are on record.
func (s *DB) nameLanes(ctx context.Context, entries []*Entry) error {
	var list []*mail.Delivery
	for _, e := range entries {
		list = append(list, e.Deliveries...)
	}
	return s.nameLanesOf(ctx, list)
}

// maxLaneNames bounds the lanes that are known to be on record.
const maxLaneNames = 50_000

// nameLanesOf puts lanes that are new today on record, all in one statement. They are
// named before the transaction that uses them: lanes outlive it, and no two
// transactions wait for each other's lanes.
func (s *DB) nameLanesOf(ctx context.Context, list []*mail.Delivery) error {
	today := time.Now().UTC().Truncate(24 * time.Hour)
	var ids []int64
	var routes, hops []string
	var fresh []ident.ID
	s.lanesMu.RLock()
	for _, d := range list {
		if !s.lanes[d.LaneID].Equal(today) && !slices.Contains(fresh, d.LaneID) {
			ids, routes, hops = append(ids,
				int64(d.LaneID)), append(routes, d.Route), append(hops, d.NextHop)
			fresh = append(fresh, d.LaneID)
		}
	}
	s.lanesMu.RUnlock()
	if len(fresh) == 0 {
		return nil
	}
	if _, err := s.pool.Exec(
		ctx,
		`INSERT INTO lane AS l (id, route, next_hop, seen_on) SELECT *, $4::date
			FROM unnest($1::bigint[], $2::text[], $3::text[]) ORDER BY 1
		ON CONFLICT (id) DO UPDATE SET seen_on = excluded.seen_on
			WHERE l.seen_on < excluded.seen_on`,
		ids,
		routes,
		hops,
		today,
	); err != nil {
		return data(fmt.Errorf("lane: %w", err))
	}
	s.lanesMu.Lock()
	defer s.lanesMu.Unlock()
	if len(s.lanes) >= maxLaneNames {
		clear(s.lanes)
	}
	for _, id := range fresh {
		s.lanes[id] = today
	}
	return nil
}

// Empty are those of some lanes in which no mail waits.
func (s Lanes) Empty(ctx context.Context, lanes []ident.ID) ([]ident.ID, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT id FROM unnest($1::bigint[]) l(id) WHERE NOT EXISTS (SELECT FROM delivery d
			WHERE d.lane = l.id)`,
		int64s(lanes),
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[ident.ID])
}

// ForgetLanes drops what is known of lanes that had no mail since a time: names that
// no history refers to any longer, rests that are over, last replies.
func (s Lanes) ForgetLanes(ctx context.Context, before time.Time) error {
	for _, sql := range []string{
		`DELETE FROM lane_back_off r WHERE until < now() - interval '1 hour' AND NOT EXISTS (SELECT
			FROM delivery d WHERE d.lane = r.lane)`,
		`DELETE FROM lane_last r WHERE at < now() - interval '1 day' AND NOT EXISTS (SELECT
			FROM delivery d WHERE d.lane = r.lane)`,
	} {
		if _, err := s.pool.Exec(ctx, sql); err != nil {
			return err
		}
	}
	// A day more than history: a lane is seen once a day only.
	_, err := s.pool.Exec(
		ctx,
		`DELETE FROM lane l WHERE seen_on < $1::timestamptz::date - 2 AND NOT EXISTS (SELECT
			FROM delivery d WHERE d.lane = l.id)`,
		before,
	)
	return err
}

// laneCounts are the lanes with mail: the counts that were gathered and what
// came since.
const laneCounts = `SELECT lane, sum(waiting)::bigint AS waiting, sum(deferred)::bigint AS deferred,
	sum(held)::bigint AS held, sum(octets)::bigint AS octets
	FROM (SELECT * FROM lane_count UNION ALL SELECT *
		FROM lane_delta) c GROUP BY lane HAVING sum(waiting + deferred + held) > 0`

// Lanes reads what waits, by lane; those with most first. What it costs grows
// with the lanes, not with their messages.
func (s Lanes) List(ctx context.Context) ([]mail.Lane, error) {
	rows, err := s.pool.Query(ctx, `
		SELECT c.lane, c.waiting, c.deferred, c.held, c.octets, l.route, l.next_hop, o.message_id,
			o.expires_at, least(f.due_at, b.due_at), r.reply, coalesce(r.cause, ''), r.at
		FROM (`+laneCounts+`) c
		JOIN lane l ON l.id = c.lane
		LEFT JOIN lane_last r ON r.lane = c.lane
		LEFT JOIN LATERAL (SELECT message_id, expires_at FROM delivery d WHERE d.lane = c.lane
			ORDER BY message_id, n LIMIT 1) o ON true
		LEFT JOIN LATERAL (SELECT due_at FROM delivery d WHERE d.lane = c.lane AND state <> 'held'
			AND NOT bulk ORDER BY due_at LIMIT 1) f ON true
		LEFT JOIN LATERAL (SELECT due_at FROM delivery d WHERE d.lane = c.lane AND state <> 'held'
			AND bulk ORDER BY due_at LIMIT 1) b ON true
		ORDER BY c.waiting + c.deferred + c.held DESC, l.route, l.next_hop`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.Lane, error) {
		var l mail.Lane
		var oldest *int64
		err := row.Scan(&l.ID, &l.Waiting, &l.Deferred, &l.Held, &l.Bytes, &l.Route, &l.NextHop,
			&oldest, optTime{&l.ExpiresAt}, optTime{&l.NextAttemptAt}, &l.Last, &l.Cause,
			optTime{&l.LastAt})
		if oldest != nil {
			l.OldestAt = mail.At(ident.ID(*oldest).Time())
		}
		return l, err
	})
}

// LaneName is the route and next hop of a lane, whether anything waits in it or
// not.
func (s Lanes) LaneName(ctx context.Context, id ident.ID) (route, nextHop string, err error) {
	err = s.pool.QueryRow(ctx, `SELECT route, next_hop FROM lane WHERE id = $1`,
		int64(id)).Scan(&route, &nextHop)
	return route, nextHop, found(err)
}

// LaneAges counts a lane's messages by how long they have been here. Bounds are
// ages, the youngest first; the last group is older than all of them. Of each at most so
// many are counted as most says.
func (s Lanes) LaneAges(
	ctx context.Context,
	id ident.ID,
	now time.Time,
	bounds []time.Duration,
	most int64,
) ([]mail.Age, error) {
	b := &pgx.Batch{}
	upper := int64(ident.Floor(now.Add(time.Hour)))
	ages := make([]mail.Age, 0, len(bounds)+1)
	for i := range len(bounds) + 1 {
		age, lower := mail.Age{}, int64(0)
		if i > 0 {
			age.From = bounds[i-1].Seconds()
		}
		if i < len(bounds) {
			age.To, lower = bounds[i].Seconds(), int64(ident.Floor(now.Add(-bounds[i])))
		}
		ages = append(ages, age)
		b.Queue(
			`SELECT count(*) FROM (SELECT FROM delivery WHERE lane = $1 AND message_id >= $2
				AND message_id < $3 LIMIT $4) c`,
			int64(id),
			lower,
			upper,
			most,
		)
		upper = lower
	}
	results := s.pool.SendBatch(ctx, b)
	defer results.Close()
	for i := range ages {
		if err := results.QueryRow().Scan(&ages[i].Messages); err != nil {
			return nil, err
		}
		ages[i].More = ages[i].Messages == most
	}
	return ages, nil
}

// Flow is what a lane received and finished in a minute.
type Flow struct {
	Lane                       ident.ID
	Minute                     time.Time
	Received, Finished, Failed int32
}

// AddFlow adds to what is on record.
func (s Lanes) AddFlow(ctx context.Context, flows []Flow) error {
	if len(flows) == 0 {
		return nil
	}
	var lanes []int64
	var minutes []time.Time
	var received, finished, failed []int32
	for _, f := range flows {
		lanes, minutes = append(lanes, int64(f.Lane)), append(minutes, f.Minute)
		received, finished = append(received, f.Received), append(finished, f.Finished)
		failed = append(failed, f.Failed)
	}
	_, err := s.pool.Exec(ctx, `INSERT INTO lane_minute (lane, minute, received, finished, failed)
		SELECT * FROM unnest($1::bigint[], $2::timestamptz[], $3::int[], $4::int[],
			$5::int[]) f(lane, minute, received, finished, failed) ORDER BY lane, minute
		ON CONFLICT (lane, minute) DO UPDATE SET received = lane_minute.received + excluded.received,
			finished = lane_minute.finished + excluded.finished,
			failed = lane_minute.failed + excluded.failed`,
		lanes, minutes, received, finished, failed)
	return err
}

// LaneFlow is what a lane received and finished, by minute, since a time.
func (s Lanes) LaneFlow(ctx context.Context, id ident.ID, since time.Time) ([]mail.Minute, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT minute, received, finished, failed FROM lane_minute WHERE lane = $1 AND minute >= $2
			ORDER BY minute`,
		int64(id),
		since,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.Minute, error) {
		var m mail.Minute
		err := row.Scan(&m.At, &m.Received, &m.Finished, &m.Failed)
		m.At = m.At.UTC()
		return m, err
	})
}

// BackOff is a lane's back-off after trouble with its host.
type BackOff struct {
	Lane         ident.ID
	Node         int
	Since, Until time.Time
	Failures     int
	Last         *mail.LastReply
	Cause        string
}

// SetBackOff records that a lane rests, and tells the other nodes; with Failures 0
// that it moves again. A rest that another node has set is left to it, unless
// that one is over.
func (s Lanes) SetBackOff(ctx context.Context, r BackOff) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if r.Failures == 0 {
			if _, err := tx.Exec(
				ctx,
				`DELETE FROM lane_back_off WHERE lane = $1`,
				int64(r.Lane),
			); err != nil {
				return err
			}
		} else if _, err := tx.Exec(ctx, `INSERT INTO lane_back_off (lane, node, since, until, failures)
			VALUES ($1, $2, $3, $4, $5)
			ON CONFLICT (lane) DO UPDATE SET node = excluded.node, since = excluded.since,
				until = excluded.until, failures = excluded.failures`,
			int64(r.Lane), r.Node, r.Since, r.Until, r.Failures); err != nil {
			return err
		}
		if r.Failures > 0 && r.Last != nil {
			reply, err := json.Marshal(r.Last)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(
				ctx,
				lastSQL+` VALUES ($1, now(), $2::jsonb, $3)`+lastConflict,
				int64(r.Lane),
				string(reply),
				r.Cause,
			); err != nil {
				return err
			}
		}
		return notify(ctx, tx, "back-off", []string{r.Lane.String()})
	})
}

const (
	lastSQL      = `INSERT INTO lane_last (lane, at, reply, cause)`
	lastConflict = ` ON CONFLICT (lane) DO UPDATE SET at = excluded.at, reply = excluded.reply,
		cause = excluded.cause`
)

// BackOffs are the rests on record of some lanes, or of all.
func (s Lanes) BackOffs(ctx context.Context, lanes []ident.ID) ([]BackOff, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT r.lane, r.node, r.since, r.until, r.failures, l.reply, coalesce(l.cause, '')
			FROM lane_back_off r LEFT JOIN lane_last l USING (lane)
		WHERE $1::bigint[] = '{}' OR r.lane = ANY($1)`,
		int64s(lanes),
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (BackOff, error) {
		var r BackOff
		err := row.Scan(&r.Lane, &r.Node, &r.Since, &r.Until, &r.Failures, &r.Last, &r.Cause)
		return r, err
	})
}

// lanesAtOnce is for how many lanes it is found out when something is due again.
const lanesAtOnce = 500

// GatherLanes adds up the changes of counts, and forgets what is long past. One
// node at a time does it.
func (s Lanes) GatherLanes(ctx context.Context) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		var mine bool
		if err := tx.QueryRow(ctx,
			`SELECT pg_try_advisory_xact_lock(hashtext('gull lanes'))`).Scan(&mine); err != nil ||
			!mine {
			return err
		}
		if _, err := tx.Exec(ctx, `SET LOCAL synchronous_commit = off`); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `WITH d AS (DELETE FROM lane_delta RETURNING *)
			INSERT INTO lane_count SELECT lane, sum(waiting), sum(deferred), sum(held), sum(octets),
				min(due) FROM d GROUP BY lane
			ON CONFLICT (lane) DO UPDATE SET waiting = lane_count.waiting + excluded.waiting,
				deferred = lane_count.deferred + excluded.deferred,
				held = lane_count.held + excluded.held,
					octets = lane_count.octets + excluded.octets, due = least(lane_count.due,
						excluded.due)`)
		if err != nil {
			return err
		}
		if tag.RowsAffected() > 0 {
			if _, err := tx.Exec(
				ctx,
				`DELETE FROM lane_count WHERE waiting = 0 AND deferred = 0 AND held = 0
					AND octets = 0`,
			); err != nil {
				return err
			}
		}
		// Lanes from which what was due has been taken: when is something due again?
		// What changes meanwhile is told by a change that is gathered later.
		_, err = tx.Exec(
			ctx,
			`WITH over AS (SELECT lane FROM lane_count WHERE due <= now()
				ORDER BY random() LIMIT $1)
			UPDATE lane_count c SET due = coalesce(least(
				(SELECT due_at FROM delivery d WHERE d.lane = c.lane AND state <> 'held'
					AND NOT bulk AND lease IS NULL ORDER BY due_at LIMIT 1),
				(SELECT due_at FROM delivery d WHERE d.lane = c.lane AND state <> 'held' AND bulk
					AND lease IS NULL ORDER BY due_at LIMIT 1)), 'infinity')
			FROM over WHERE c.lane = over.lane`,
			lanesAtOnce,
		)
		return err
	})
}

// QueueLength is how many deliveries wait, as far as it was gathered.
func (s Queue) QueueLength(ctx context.Context) (int64, error) {
	var n int64
	err := s.pool.QueryRow(ctx,
		`SELECT coalesce(sum(waiting + deferred + held), 0)::bigint FROM lane_count`).Scan(&n)
	return n, err
}

// ForgetFlow drops what came and went before a time; minutes with failures are kept longer.
func (s Lanes) ForgetFlow(ctx context.Context, before, failures time.Time) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM lane_minute WHERE minute < $2 OR minute < $1
		AND minute >= $1::timestamptz - interval '1 hour' AND failed = 0`, before, failures)
	return err
}

// Sweep frees the room of rows that are gone in the tables that are always in
// use. PostgreSQL would do it by itself, but once a minute at most, and at
// thousands of messages a second that is too late. A table that is being swept
// is left alone.
func (s Queue) Sweep(ctx context.Context, queue bool) error {
	tables := []string{"lane_delta", "lane_count"}
	if queue {
		tables = append(tables, "delivery")
	}
	for _, t := range tables {
		if _, err := s.pool.Exec(
			ctx,
			`VACUUM (SKIP_LOCKED, INDEX_CLEANUP ON, TRUNCATE OFF) `+t,
		); err != nil {
			return fmt.Errorf("sweep %s: %w", t, err)
		}
	}
	return nil
}

// List lists deliveries that are not finished, oldest first.
func (s Queue) List(ctx context.Context, f mail.Filter) ([]mail.QueueItem, error) {
	where, args := conditions(f, nil)
	args = append(args, f.Limit)
	rows, err := s.pool.Query(
		ctx,
		`SELECT `+queueColumns+`, d.lease IS NOT NULL, m.sender, m.subject, m.size, m.received_at
		FROM delivery d JOIN lane l ON l.id = d.lane JOIN message m ON m.id = d.message_id
		WHERE true`+where+fmt.Sprintf(` ORDER BY d.message_id, d.n LIMIT $%d`, len(args)),
		args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.QueueItem, error) {
		var it mail.QueueItem
		var leased bool
		err := scanDelivery(row, &it.Delivery, &leased, &it.Sender, &it.Subject, &it.Size,
			&it.ReceivedAt)
		it.ReceivedAt = it.ReceivedAt.UTC()
		return it, err
	})
}

// CountQueue counts what a filter selects, and how much of it a node works on at
// this moment.
func (s Queue) CountQueue(ctx context.Context, f mail.Filter) (messages, leased int64, err error) {
	where, args := conditions(f, nil)
	err = s.pool.QueryRow(
		ctx,
		`SELECT count(*), count(d.lease) FROM `+from(f)+` WHERE true`+where,
		args...).Scan(
		&messages,
		&leased,
	)
	return messages, leased, err
}
