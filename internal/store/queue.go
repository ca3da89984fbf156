package store

import (
	"context"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Due is a delivery taken from the queue, with what of its message is needed to
// send it.
type Due struct {
	Delivery mail.Delivery
	Sender   string
	Size     int64
	UTF8     bool
	EightBit bool
	Ret      string
	EnvID    string
	NoticeOf ident.ID
	Received time.Time
	Account  string
	Client   string
	Listener string
}

// dueColumns are read by scanDue behind queueColumns; m is message.
const dueColumns = `, m.sender, m.size, m.utf8, m.eight_bit, m.ret, m.env_id, m.notice_of, m.received_at, m.account, m.client_address, m.listener`

// queueColumns are read by scanDelivery; d is delivery, l is lane.
const queueColumns = `d.message_id, d.n, d.recipient, d.original, d.via, d.orcpt, d.notify, d.state, d.lane, l.route, l.next_hop,
	d.rule, d.route_why, d.revision, d.attempts, d.first_try_at, d.last_try_at, d.due_at, d.expires_at, d.reply, d.cause`

// LeaseDue takes what is due for a node: up to perLane of each lane but the
// skipped ones and those of routes that belong to other nodes, one of each lane
// that is only to be tried, and up to total. The lanes are found by hopping from
// one to the next along the index of due rows, so that a lane with a hundred
// thousand letters costs no more than one with a single letter. Rows that are
// leased already are passed over; a lane has at most its window of them.
func (s *Store) LeaseDue(ctx context.Context, node int, now time.Time, skip, try []ident.ID, notHere []string, perLane, total int) ([]Due, error) {
	rows, err := s.pool.Query(ctx, `
		WITH RECURSIVE lanes(id) AS (
			(SELECT lane FROM delivery ORDER BY lane LIMIT 1)
			UNION ALL
			SELECT (SELECT d.lane FROM delivery d WHERE d.lane > lanes.id ORDER BY d.lane LIMIT 1)
			FROM lanes WHERE lanes.id IS NOT NULL
		), picked AS MATERIALIZED (
			SELECT p.message_id, p.n FROM lanes, LATERAL (
				SELECT d.message_id, d.n FROM delivery d
				WHERE d.lane = lanes.id AND d.lease IS NULL AND d.state <> 'held' AND d.due_at <= $2
				ORDER BY d.due_at LIMIT CASE WHEN lanes.id = ANY($6) THEN 1 ELSE $4::int END FOR UPDATE SKIP LOCKED) p
			WHERE lanes.id IS NOT NULL AND lanes.id <> ALL($3)
				AND ($7::text[] = '{}' OR NOT EXISTS (SELECT 1 FROM lane l WHERE l.id = lanes.id AND l.route = ANY($7)))
			LIMIT $5
		), taken AS (
			UPDATE delivery d SET lease = $1 FROM picked p WHERE d.message_id = p.message_id AND d.n = p.n
			RETURNING d.*
		)
		SELECT `+queueColumns+dueColumns+`
		FROM taken d JOIN lane l ON l.id = d.lane JOIN message m ON m.id = d.message_id
		ORDER BY d.message_id, d.n`, node, now, int64s(skip), perLane, total, int64s(try), append([]string{}, notHere...))
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanDue)
}

func scanDue(row pgx.CollectableRow) (Due, error) {
	var due Due
	err := scanDelivery(row, &due.Delivery, &due.Sender, &due.Size, &due.UTF8, &due.EightBit, &due.Ret, &due.EnvID, &due.NoticeOf, &due.Received, &due.Account, &due.Client, &due.Listener)
	return due, err
}

// scanDelivery reads queueColumns and what follows them.
func scanDelivery(row pgx.CollectableRow, d *mail.Delivery, more ...any) error {
	var via string
	err := row.Scan(append([]any{&d.MessageID, &d.N, &d.Recipient, &d.Original, &via, &d.ORCPT, &d.Notify, &d.State, &d.LaneID, &d.Route, &d.NextHop,
		&d.Rule, &d.RouteWhy, &d.Revision, &d.Attempts, optTime{&d.FirstTryAt}, optTime{&d.LastTryAt}, optTime{&d.NextTryAt}, optTime{&d.ExpiresAt}, &d.Last, &d.Cause}, more...)...)
	if via != "" {
		d.Via = strings.Split(via, viaSeparator)
	}
	d.Key = d.ID()
	return err
}

// NextDue is when the next delivery without a lease is due; zero if there is
// none.
func (s *Store) NextDue(ctx context.Context, skip []ident.ID) (time.Time, error) {
	var t *time.Time
	err := s.pool.QueryRow(ctx, `
		WITH RECURSIVE lanes(id) AS (
			(SELECT lane FROM delivery ORDER BY lane LIMIT 1)
			UNION ALL
			SELECT (SELECT d.lane FROM delivery d WHERE d.lane > lanes.id ORDER BY d.lane LIMIT 1)
			FROM lanes WHERE lanes.id IS NOT NULL
		)
		SELECT min(p.due_at) FROM lanes, LATERAL (
			SELECT due_at FROM delivery d WHERE d.lane = lanes.id AND d.lease IS NULL AND d.state <> 'held' ORDER BY due_at LIMIT 1) p
		WHERE lanes.id IS NOT NULL AND lanes.id <> ALL($1)`, int64s(skip)).Scan(&t)
	if err != nil || t == nil {
		return time.Time{}, err
	}
	return *t, nil
}

// ReturnLeases gives deliveries back untried: they are due at the given time.
func (s *Store) ReturnLeases(ctx context.Context, node int, ids []mail.DeliveryID, due time.Time) error {
	messages, ns := split(ids)
	_, err := s.pool.Exec(ctx, `UPDATE delivery d SET lease = NULL, due_at = greatest(d.due_at, $4)
		FROM unnest($1::bigint[], $2::smallint[]) AS o(message_id, n)
		WHERE d.message_id = o.message_id AND d.n = o.n AND d.lease = $3`, messages, ns, node, due)
	return err
}

// LeaseOverdue takes for a node, whatever their lane, deliveries whose time is
// up: those of messages older than before.
func (s *Store) LeaseOverdue(ctx context.Context, node int, now, before time.Time, limit int) ([]Due, error) {
	rows, err := s.pool.Query(ctx, `
		WITH picked AS MATERIALIZED (
			SELECT message_id, n FROM delivery
			WHERE message_id < $3 AND expires_at <= $2 AND lease IS NULL AND state <> 'held'
			ORDER BY message_id LIMIT $4 FOR UPDATE SKIP LOCKED
		), taken AS (
			UPDATE delivery d SET lease = $1 FROM picked p WHERE d.message_id = p.message_id AND d.n = p.n RETURNING d.*
		)
		SELECT `+queueColumns+dueColumns+`
		FROM taken d JOIN lane l ON l.id = d.lane JOIN message m ON m.id = d.message_id`, node, now, int64(ident.Floor(before)), limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanDue)
}

// Flush makes waiting deliveries that match due now, and returns how many of
// each lane. It does not touch what is being sent, nor when a delivery is given
// up.
func (s *Store) Flush(ctx context.Context, f QueueFilter) (map[ident.ID]int64, error) {
	where, args := f.where(nil)
	rows, err := s.pool.Query(ctx, `WITH due AS (
			UPDATE delivery d SET due_at = now() FROM message m, lane l
			WHERE m.id = d.message_id AND l.id = d.lane AND d.lease IS NULL AND d.state <> 'held' AND d.due_at > now()`+where+` RETURNING d.lane)
		SELECT lane, count(*) FROM due GROUP BY lane`, args...)
	if err != nil {
		return nil, err
	}
	lanes := map[ident.ID]int64{}
	var lane ident.ID
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&lane, &n}, func() error { lanes[lane] = n; return nil })
	return lanes, err
}

func int64s(ids []ident.ID) []int64 {
	out := make([]int64, len(ids))
	for i, id := range ids {
		out[i] = int64(id)
	}
	return out
}

func split(ids []mail.DeliveryID) (messages []int64, ns []int16) {
	for _, id := range ids {
		messages = append(messages, int64(id.Message))
		ns = append(ns, id.N)
	}
	return messages, ns
}

// PlannedBefore reads waiting deliveries that were planned under an earlier
// revision, in order of their ids behind after.
func (s *Store) PlannedBefore(ctx context.Context, revision int, after mail.DeliveryID, limit int) ([]Due, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+queueColumns+dueColumns+`
		FROM (SELECT * FROM delivery WHERE (message_id, n) > ($1, $2) AND lease IS NULL AND revision < $3 ORDER BY message_id, n LIMIT $4) d
		JOIN lane l ON l.id = d.lane JOIN message m ON m.id = d.message_id ORDER BY d.message_id, d.n`, int64(after.Message), after.N, revision, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanDue)
}

// Reroute puts waiting deliveries into the lanes they are planned for now, due
// at once. What is leased meanwhile is left alone: its node plans it anew.
func (s *Store) Reroute(ctx context.Context, moved []*mail.Delivery) (int64, error) {
	if len(moved) == 0 {
		return 0, nil
	}
	var messages, lanes []int64
	var ns []int16
	var whys []string
	var revisions []int32
	for _, d := range moved {
		if err := s.nameLane(ctx, d); err != nil {
			return 0, err
		}
		messages, ns, lanes = append(messages, int64(d.MessageID)), append(ns, d.N), append(lanes, int64(d.LaneID))
		whys, revisions = append(whys, d.RouteWhy), append(revisions, int32(d.Revision))
	}
	tag, err := s.pool.Exec(ctx, `UPDATE delivery d SET lane = o.lane, route_why = o.why, revision = o.revision,
			due_at = CASE WHEN d.state = 'held' THEN d.due_at ELSE now() END, cause = '', reply = NULL
		FROM unnest($1::bigint[], $2::smallint[], $3::bigint[], $4::text[], $5::int[]) AS o(message_id, n, lane, why, revision)
		WHERE d.message_id = o.message_id AND d.n = o.n AND d.lease IS NULL`, messages, ns, lanes, whys, revisions)
	return tag.RowsAffected(), err
}

// Envelope is one that was taken, to rehearse with.
type Envelope struct {
	ID         ident.ID
	Sender     string
	Size       int64
	Listener   string
	Client     string
	Account    string
	Recipients []string
}

// RecentEnvelopes reads the last messages that came by a listener, newest first,
// from before an id.
func (s *Store) RecentEnvelopes(ctx context.Context, before ident.ID, limit int) ([]Envelope, error) {
	rows, err := s.pool.Query(ctx, `SELECT id, sender, size, listener, client_address, account
		FROM message WHERE listener <> '' AND ($1::bigint = 0 OR id < $1) ORDER BY id DESC LIMIT $2`, int64(before), limit)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (Envelope, error) {
		var e Envelope
		err := row.Scan(&e.ID, &e.Sender, &e.Size, &e.Listener, &e.Client, &e.Account)
		return e, err
	})
	if err != nil || len(list) == 0 {
		return list, err
	}
	at := make(map[ident.ID]*Envelope, len(list))
	ids := make([]int64, len(list))
	for i := range list {
		at[list[i].ID], ids[i] = &list[i], int64(list[i].ID)
	}
	// The least of the ids lets PostgreSQL pass over the partitions before it.
	if rows, err = s.pool.Query(ctx, `SELECT message_id, original FROM delivery WHERE message_id = ANY($1)
		UNION SELECT message_id, original FROM delivery_done WHERE message_id = ANY($1) AND message_id >= $2`, ids, ids[len(ids)-1]); err != nil {
		return nil, err
	}
	var id ident.ID
	var original string
	_, err = pgx.ForEachRow(rows, []any{&id, &original}, func() error {
		at[id].Recipients = append(at[id].Recipients, original)
		return nil
	})
	return list, err
}
