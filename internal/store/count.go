package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
)

// Counts are the figures by hour.
type Counts struct{ *DB }

// The kinds of what is to be counted (table count_log).
const (
	countReceived = 1
	countEnded    = 2
	countDeferred = 3
	countRefused  = 4
	countBack     = 5 // what was dropped is back in the queue
)

// keys are rows that are to be counted from the tables.
type keys struct {
	kind int16
	ids  []int64
	ns   []int16
	ats  []time.Time
}

// increments are what a commit adds to the counts: the sums of what happened in it,
// and keys of what must be read to be counted.
type increments struct {
	sums report.Count
	ids  []int64 // of the messages that are entered
	keys []keys
}

// entered adds messages that are entered, and those of their deliveries that are at their
// end with that.
func (x *increments) entered(entries []*Entry) {
	for _, e := range entries {
		from := report.OriginOf(e.Message)
		from.Direction = cmp.Or(from.Direction, mail.In)
		x.sums.Add(from.Received(func(yield func(string) bool) {
			for _, d := range e.Deliveries {
				if !yield(d.Original) {
					return
				}
			}
		}))
		for _, d := range e.Deliveries {
			if d.State.Final() {
				x.sums.Add(from.Ended(d))
			}
		}
		x.ids = append(x.ids, int64(e.Message.ID))
	}
}

// finished adds outcomes, as far as they were recorded.
func (x *increments) finished(outcomes []*Outcome, recorded map[mail.DeliveryID]bool) {
	unknown := keys{kind: countEnded}
	later := keys{kind: countDeferred}
	for _, o := range outcomes {
		id := o.Delivery.ID()
		switch {
		case !recorded[id]:
		case o.Delivery.State.Final() && o.Origin == nil:
			unknown.ids, unknown.ns = append(
				unknown.ids,
				int64(id.Message),
			), append(
				unknown.ns,
				id.N,
			)
		case o.Delivery.State.Final():
			d := *o.Delivery
			d.FinishedAt = mail.At(o.At)
			x.sums.Add(o.Origin.Ended(&d))
		default:
			for i := range o.Events {
				e := &o.Events[i]
				switch {
				case e.Kind != mail.EventDeferred:
				case o.Origin == nil:
					later.ids, later.ns = append(
						later.ids,
						int64(id.Message),
					), append(
						later.ns,
						id.N,
					)
					later.ats = append(later.ats, e.At)
				default:
					x.sums.Add(o.Origin.Deferred(o.Delivery.Recipient, e))
				}
			}
		}
	}
	x.keys = append(x.keys, unknown, later)
}

// table is the log of what is to be counted.
func (x *increments) table() table {
	return table{"count_log", "kind, ids, ns, ats, sums", func(w *rowWriter) {
		if len(x.ids) > 0 || x.sums.Len() > 0 {
			w.row(5)
			w.int2(countReceived)
			w.int8s(x.ids)
			w.null()
			w.null()
			w.bytes(x.sums.Log())
		}
		for _, k := range x.keys {
			if len(k.ids) == 0 {
				continue
			}
			w.row(5)
			w.int2(k.kind)
			w.int8s(k.ids)
			w.int2s(k.ns)
			w.times(k.ats)
			w.null()
		}
	}}
}

// countAtOnce is how many commits are counted together.
const countAtOnce = 400

// Count counts what is to be counted, a part of it. It reports whether there is more. One
// node at a time does it.
func (s Counts) Count(ctx context.Context) (more bool, err error) {
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		var mine bool
		if err := tx.QueryRow(ctx,
			`SELECT pg_try_advisory_xact_lock(hashtext('gull counts'))`).Scan(&mine); err != nil ||
			!mine {
			return err
		}
		more, err = count(ctx, tx, countAtOnce)
		return err
	})
	if err = data(err); errors.Is(err, ErrData) {
		return true, s.countOneByOne(ctx)
	}
	return more, err
}

// countOneByOne counts commits each by itself where together they were refused, and
// takes out of the log the one that can't be counted. It reports that one's error.
func (s Counts) countOneByOne(ctx context.Context) error {
	for range countAtOnce {
		err := data(s.inTx(ctx, func(tx pgx.Tx) error {
			_, err := count(ctx, tx, 1)
			return err
		}))
		if err == nil {
			continue
		}
		if errors.Is(err, ErrData) {
			_, gone := s.pool.Exec(ctx,
				`DELETE FROM count_log WHERE seq = (SELECT min(seq) FROM count_log)`)
			err = errors.Join(
				fmt.Errorf("what one commit holds can't be counted and is left out: %w", err),
				gone,
			)
		}
		return err
	}
	return nil
}

// countAll counts until nothing is left.
func (s Counts) countAll(ctx context.Context) error {
	for {
		var more bool
		err := s.inTx(ctx, func(tx pgx.Tx) error {
			if _, err := tx.Exec(
				ctx,
				`SELECT pg_advisory_xact_lock(hashtext('gull counts'))`,
			); err != nil {
				return err
			}
			var err error
			more, err = count(ctx, tx, countAtOnce)
			return err
		})
		if err != nil || !more {
			return err
		}
	}
}

// count takes keys out of the log and counts their rows, in one transaction.
func count(ctx context.Context, tx pgx.Tx, limit int) (more bool, err error) {
	// Rows are found by their keys, whatever the planner takes their number for.
	if _, err := tx.Exec(
		ctx,
		`SET LOCAL synchronous_commit = off; SET LOCAL enable_hashjoin = off;
			SET LOCAL enable_mergejoin = off; SET LOCAL enable_seqscan = off; SET LOCAL jit = off`,
	); err != nil {
		return false, err
	}
	// What was withdrawn did not happen.
	rows, err := tx.Query(
		ctx,
		`DELETE FROM count_log l WHERE seq IN (SELECT seq FROM count_log ORDER BY seq LIMIT $1)
			RETURNING kind, ids, ns, ats, sums, kind = 1 AND EXISTS (SELECT FROM withdrawn w
				WHERE w.message_id = ANY(l.ids)) AS withdrawn`,
		limit,
	)
	if err != nil {
		return false, err
	}
	var taken [6]keys
	var sums logged
	var k keys
	var packed []byte
	var withdrawn bool
	n := 0
	if _, err := pgx.ForEachRow(rows, []any{&k.kind, &k.ids, &k.ns, &k.ats, &packed, &withdrawn},
		func() error {
			n++
			switch {
			case withdrawn:
				return nil
			case packed != nil:
				return sums.add(packed)
			}
			t := &taken[k.kind]
			t.ids, t.ns, t.ats = append(t.ids, k.ids...), append(t.ns, k.ns...), append(t.ats, k.ats...)
			return nil
		}); err != nil || n == 0 {
		return false, err
	}
	if err := sums.write(ctx, tx); err != nil {
		return false, err
	}
	for kind := countReceived; kind <= countBack; kind++ {
		t := &taken[kind]
		if len(t.ids) == 0 {
			continue
		}
		args := []any{t.ids}
		if kind == countEnded || kind == countDeferred || kind == countBack {
			args = append(args, t.ns)
		}
		if kind == countDeferred || kind == countBack {
			args = append(args, t.ats)
		}
		gates := gatesSQL[kind]
		if gates == "" {
			gates = noGates
		}
		if _, err := tx.Exec(ctx, `WITH facts AS (`+factsSQL[kind]+`), gates AS (`+gates+`)`+addUp,
			args...); err != nil {
			return false, err
		}
	}
	return n == limit, nil
}

// The facts of rows, one for each thing counted. total says whether it counts in
// all; a message of several recipients counts once, and once for each of them.
const (
	messageFacts = `m.direction, CASE m.sender WHEN '' THEN '<>' ELSE lower(m.sender) END AS sender,
		CASE m.sender WHEN '' THEN '<>' ELSE split_part(lower(m.sender), '@',
			-1) END AS sender_domain,
		nullif(m.client_address, '') AS client, nullif(m.listener, '') AS listener,
			nullif(lower(m.account), '') AS account`
	noMessageFacts = `NULL AS direction, NULL AS sender, NULL AS sender_domain, NULL AS client,
		NULL AS listener, NULL AS account`
	deliveryFacts = `lower(d.recipient) AS recipient, split_part(lower(d.recipient), '@',
		-1) AS recipient_domain`
	noDeliveryFacts = `NULL AS recipient, NULL AS recipient_domain, NULL AS host, NULL AS route,
		NULL AS cause`
	hostFact = `CASE WHEN d.reply->>'stage' NOT IN ('mailbox', 'route')
		THEN nullif(d.reply->>'host', '') END AS host`
	// Sent on by an alias or a forward, to another domain than it was addressed to.
	forwardedSQL = `d.via <> '' AND split_part(lower(d.recipient), '@',
		-1) <> split_part(lower(d.original), '@', -1)`
)

var factsSQL = [...]string{
	countReceived: `SELECT true AS total, 'received' AS kind, m.received_at AS at, 1 AS n,
		m.size AS bytes, NULL::bigint AS delay, ` + messageFacts + `, ` + noDeliveryFacts + `
			FROM unnest($1::bigint[]) k(id) JOIN message m ON m.id = k.id
		UNION ALL
		SELECT false, 'received', r.received_at, 1, r.size, NULL, ` + noMessageFacts + `,
			r.recipient, NULL, NULL, NULL, NULL FROM (
			SELECT DISTINCT m.id, m.received_at, m.size, lower(d.original) AS recipient
				FROM unnest($1::bigint[]) k(id) JOIN message m ON m.id = k.id
			JOIN LATERAL (SELECT original FROM delivery
				WHERE message_id = k.id UNION ALL SELECT original FROM delivery_done
					WHERE message_id = k.id) d ON true) r
		UNION ALL
		SELECT false, 'received', r.received_at, 1, r.size, NULL, ` + noMessageFacts + `, NULL,
			r.domain, NULL, NULL, NULL FROM (
			SELECT DISTINCT m.id, m.received_at, m.size, split_part(lower(d.original), '@',
				-1) AS domain FROM unnest($1::bigint[]) k(id) JOIN message m ON m.id = k.id
			JOIN LATERAL (SELECT original FROM delivery
				WHERE message_id = k.id UNION ALL SELECT original FROM delivery_done
					WHERE message_id = k.id) d ON true) r`,
	countEnded: `SELECT true AS total, CASE WHEN d.state = 'delivered' AND ` + forwardedSQL +
		` THEN 'forwarded' ELSE d.state END AS kind, d.finished_at AS at, 1 AS n, m.size AS bytes,
			CASE WHEN d.state = 'delivered' THEN greatest(0, extract(epoch
				FROM d.finished_at - m.received_at) * 1000)::bigint END AS delay,
			` + messageFacts + `, ` + deliveryFacts + `, ` + hostFact + `, l.route, nullif(d.cause,
				'') AS cause
		FROM unnest($1::bigint[], $2::smallint[]) k(id, n)
			JOIN delivery_done d ON d.message_id = k.id AND d.n = k.n JOIN message m ON m.id = k.id
				JOIN lane l ON l.id = d.lane`,
	countDeferred: `SELECT true AS total, 'deferred' AS kind, e.at, 1 AS n, m.size AS bytes,
		NULL::bigint AS delay,
			` + messageFacts + `, ` + deliveryFacts + `, ` + hostFact + `, d.route, d.cause
		FROM unnest($1::bigint[], $2::smallint[], $3::timestamptz[]) k(id, n, at)
			JOIN event e ON e.message_id = k.id AND e.at = k.at AND e.n = k.n
				AND e.kind = 'deferred' JOIN message m ON m.id = k.id
		CROSS JOIN LATERAL (SELECT coalesce(e.detail->>'recipient', (SELECT recipient FROM delivery
			WHERE message_id = k.id AND n = k.n), (SELECT recipient FROM delivery_done
				WHERE message_id = k.id AND n = k.n)) AS recipient,
			e.detail->'reply' AS reply, e.detail->>'route' AS route,
				e.detail->>'cause' AS cause) d`,
	countRefused: `SELECT true AS total, 'rejected' AS kind, m.at, 1 AS n, CASE m.stage
		WHEN 'content' THEN m.size ELSE 0 END AS bytes, NULL::bigint AS delay, 'in' AS direction,
			CASE WHEN m.sender <> '' THEN lower(m.sender) WHEN m.stage IN ('sender', 'recipient',
				'content') THEN '<>' END AS sender,
			CASE WHEN m.sender <> '' THEN split_part(lower(m.sender), '@', -1)
				WHEN m.stage IN ('sender', 'recipient', 'content') THEN '<>' END AS sender_domain,
			nullif(m.client_address, '') AS client, nullif(m.listener, '') AS listener,
				nullif(lower(m.account), '') AS account,
			nullif(lower(m.recipient), '') AS recipient, nullif(split_part(lower(m.recipient), '@',
				-1), '') AS recipient_domain, NULL AS host, NULL AS route, nullif(m.cause,
					'') AS cause
		FROM unnest($1::bigint[]) k(id) JOIN refusal m ON m.id = k.id`,
	countBack: `SELECT true AS total, 'discarded' AS kind, k.at, -1 AS n, -m.size AS bytes,
		NULL::bigint AS delay,
			` + messageFacts + `, ` + deliveryFacts + `, NULL AS host, l.route, 'dropped' AS cause
		FROM unnest($1::bigint[], $2::smallint[], $3::timestamptz[]) k(id, n, at)
			JOIN message m ON m.id = k.id
		CROSS JOIN LATERAL (SELECT recipient, lane FROM delivery WHERE message_id = k.id
			AND n = k.n UNION ALL SELECT recipient, lane FROM delivery_done WHERE message_id = k.id
				AND n = k.n) d
		JOIN lane l ON l.id = d.lane`,
}

// gatesSQL are the gates that were met by what is counted. A message may meet several.
var gatesSQL = map[int]string{
	countReceived: `SELECT m.received_at AS at, g AS gate, 'received' AS kind, m.size AS bytes
		FROM unnest($1::bigint[]) k(id) JOIN message m ON m.id = k.id, unnest(m.gates) g`,
	countRefused: `SELECT m.at, m.gate, 'rejected' AS kind, CASE m.stage WHEN 'content' THEN m.size
		ELSE 0 END AS bytes
		FROM unnest($1::bigint[]) k(id) JOIN refusal m ON m.id = k.id WHERE m.gate <> ''`,
}

// noGates are those that nothing else meets.
const noGates = `SELECT now() AS at, '' AS gate, '' AS kind, 0::bigint AS bytes WHERE false`

// addUp adds facts to the counts of every kind of figure. The delays of what was
// delivered are counted by eighths of an octave too, for the median.
const addUp = `, hours AS MATERIALIZED (
		SELECT date_trunc('hour', f.at, 'UTC') AS at, v.dim, v.value, f.kind, sum(f.n) AS n,
			sum(f.bytes) AS bytes, sum(coalesce(f.delay, 0)) AS delay, max(coalesce(f.delay,
				0)) AS delay_max
		FROM facts f CROSS JOIN LATERAL (VALUES
			('total', CASE WHEN f.total THEN '' END), ('direction', f.direction), ('sender',
				f.sender), ('sender_domain', f.sender_domain), ('client', f.client), ('listener',
					f.listener),
			('account', f.account), ('recipient', f.recipient), ('recipient_domain',
				f.recipient_domain), ('host', f.host), ('route', f.route), ('cause', f.cause),
			('delay', CASE WHEN f.delay IS NOT NULL
				THEN lpad(floor(8 * ln((f.delay + 1)::float8) / ln(2::float8) + 1e-9)::text, 3,
					'0') END)) v(dim, value)
		WHERE v.value IS NOT NULL GROUP BY 1, 2, 3, 4
		UNION ALL
		SELECT date_trunc('hour', g.at, 'UTC'), 'gate', g.gate, g.kind, count(*), sum(g.bytes), 0, 0
			FROM gates g GROUP BY 1, 3, 4
	)` + addHours

// addHours adds what is in hours to the report.Tiers.
const addHours = `
	INSERT INTO count_sum AS c (tier, at, dim, value, kind, n, bytes, delay, delay_max)
	SELECT t.tier, date_bin(t.length, h.at, '0001-01-01 00:00:00+00'), h.dim,
		left(h.value, 400), h.kind, sum(h.n),
		sum(h.bytes), sum(h.delay), max(h.delay_max)
	FROM hours h CROSS JOIN (VALUES ('hour', interval '1 hour'), ('day', '1 day'),
		('week', '7 days'), ('4 weeks', '28 days')) t(tier, length) GROUP BY 1, 2, 3, 4, 5
		ORDER BY 3, 1, 2, 5, 4
	ON CONFLICT (dim, tier, at, kind, value) DO UPDATE SET n = c.n + excluded.n,
		bytes = c.bytes + excluded.bytes, delay = c.delay + excluded.delay,
			delay_max = greatest(c.delay_max, excluded.delay_max)`

// Sums reads what was counted, added up over spans for each value of a dimension:
// those with most first.
func (s Counts) Sums(
	ctx context.Context,
	dim string,
	kinds []string,
	value string,
	spans []report.Span,
	limit int,
) ([]report.Sum, error) {
	q := query{}
	q.and("dim = %s", dim)
	q.and("kind = ANY(%s)", kinds)
	if value != "" {
		q.and("value = %s", value)
	}
	q.inSpans(spans)
	sql := `WITH s AS (SELECT value, kind, sum(n)::bigint AS n, sum(bytes)::bigint,
		sum(delay)::bigint, max(delay_max)::bigint FROM count_sum
			WHERE true` + q.String() + ` GROUP BY value, kind HAVING sum(n) <> 0)
		SELECT * FROM s`
	if limit > 0 {
		sql += ` WHERE value IN (SELECT value FROM s GROUP BY value ORDER BY sum(n) DESC,
			value LIMIT ` + q.arg(
			limit,
		) + `)`
	}
	rows, err := s.pool.Query(ctx, sql, q.args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (report.Sum, error) {
		var x report.Sum
		err := row.Scan(&x.Value, &x.Kind, &x.N, &x.Bytes, &x.Delay, &x.DelayMax)
		return x, err
	})
}

// Busiest reads the busiest days of those accounts that sent most, since a day: messages and
// recipients. Days is on how many days anything was counted.
func (s Counts) Busiest(
	ctx context.Context,
	since time.Time,
	limit int,
) (list []report.Busy, days int, err error) {
	rows, err := s.pool.Query(ctx, `WITH d AS (
			SELECT value, at, coalesce(sum(n) FILTER (WHERE kind = 'received'), 0)::bigint AS messages,
				coalesce(sum(n) FILTER (WHERE kind <> 'received'), 0)::bigint AS recipients
			FROM count_sum WHERE dim = 'account' AND tier = 'day' AND at >= $1 AND value <> ''
				AND kind = ANY('{received,delivered,forwarded,bounced,expired}') GROUP BY 1, 2)
		SELECT value, max(messages), max(recipients), (SELECT count(DISTINCT at) FROM d)
		FROM d GROUP BY 1 ORDER BY 3 DESC, 2 DESC, 1 LIMIT $2`, since, limit)
	if err != nil {
		return nil, 0, err
	}
	list, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (report.Busy, error) {
		var b report.Busy
		err := row.Scan(&b.Account, &b.Messages, &b.Recipients, &days)
		return b, err
	})
	return list, days, err
}

// Movers reads the values whose counts changed most between two periods, those first.
func (s Counts) Movers(
	ctx context.Context,
	dim string,
	kinds []string,
	now, before []report.Span,
	limit int,
) ([]report.Mover, error) {
	q := query{}
	sums := func(sign string, spans []report.Span) {
		q.WriteString("SELECT value, " + sign + "sum(n) AS n FROM count_sum WHERE true")
		q.and("dim = %s", dim)
		q.and("kind = ANY(%s)", kinds)
		q.inSpans(spans)
		q.WriteString(" GROUP BY value")
	}
	q.WriteString("SELECT value, coalesce(sum(n) FILTER (WHERE n > 0), 0)::bigint, " +
		"coalesce(-sum(n) FILTER (WHERE n < 0), 0)::bigint FROM (")
	sums("", now)
	q.WriteString(" UNION ALL ")
	sums("-", before)
	q.WriteString(") s GROUP BY value HAVING sum(n) <> 0 ORDER BY abs(sum(n)) DESC, value LIMIT " +
		q.arg(limit))
	rows, err := s.pool.Query(ctx, q.String(), q.args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (report.Mover, error) {
		var m report.Mover
		err := row.Scan(&m.Value, &m.Now, &m.Before)
		return m, err
	})
}

func (q *query) inSpans(spans []report.Span) {
	q.WriteString(" AND (false")
	for _, s := range spans {
		q.WriteString(
			" OR tier = " + q.arg(
				s.Tier,
			) + " AND at >= " + q.arg(s.From) + " AND at < " + q.arg(s.To),
		)
	}
	q.WriteString(")")
}

// SumHours reads one value's counts hour by hour.
func (s Counts) SumHours(
	ctx context.Context,
	dim, value string,
	from, to time.Time,
) ([]report.Hour, error) {
	q := query{}
	q.and("tier = %s", "hour")
	q.and("dim = %s", dim)
	q.and("value = %s", value)
	q.and("at >= %s", from)
	q.and("at < %s", to)
	rows, err := s.pool.Query(
		ctx,
		`SELECT at, kind, n, bytes, delay, delay_max FROM count_sum WHERE n <> 0`+q.String()+`
			ORDER BY at, kind`,
		q.args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (report.Hour, error) {
		var h report.Hour
		err := row.Scan(&h.At, &h.Kind, &h.N, &h.Bytes, &h.Delay, &h.DelayMax)
		h.At = h.At.UTC()
		return h, err
	})
}

// Since reads the counts by kind since an hour.
func (s Counts) Since(ctx context.Context, since time.Time) ([]mail.Count, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT at, kind, n, bytes FROM count_sum WHERE dim = 'total' AND tier = 'hour' AND at >= $1
			AND n <> 0 ORDER BY at, kind`,
		since,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.Count, error) {
		var c mail.Count
		err := row.Scan(&c.Hour, &c.Kind, &c.N, &c.Bytes)
		c.Hour = c.Hour.UTC()
		return c, err
	})
}

// ForgetCounts drops counts that are past their time: those by single addresses
// and accounts hour by hour sooner than the others.
func (s Counts) ForgetCounts(ctx context.Context, fine, all time.Time) error {
	for _, dim := range report.Fine {
		if _, err := s.pool.Exec(
			ctx,
			`DELETE FROM count_sum WHERE dim = $1 AND tier = 'hour' AND at < $2`,
			dim,
			fine.UTC().Truncate(24*time.Hour),
		); err != nil {
			return err
		}
	}
	for _, dim := range report.Dims {
		for _, tier := range report.Tiers {
			if _, err := s.pool.Exec(
				ctx,
				`DELETE FROM count_sum WHERE dim = $1 AND tier = $2 AND at < $3`,
				dim,
				tier.Name,
				all,
			); err != nil {
				return err
			}
		}
	}
	return nil
}

// CountBacklog is how many messages are still to be counted.
func (s Counts) CountBacklog(ctx context.Context) (n int64, err error) {
	err = s.pool.QueryRow(ctx,
		`SELECT coalesce(sum(greatest(cardinality(ids), 1)), 0) FROM count_log`).
		Scan(&n)
	return n, err
}
