package store

import (
	"context"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/senderauth"
)

// Queue are the deliveries that wait.
type Queue struct{ *DB }

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
	Asked    mail.Demands
	NoticeOf ident.ID
	Received time.Time
	Account  string
	Client   string
	Listener string
	// Run is the one that it is leased to.
	Run int
	// Direction is the message's; Proof what was found of its sender.
	Direction string
	Proof     senderauth.Result
}

// dueColumns are read by scanDue behind queueColumns; m is message. The last is
// senderauth.Assessment.Proof.
const dueColumns = `, m.sender, m.size, m.utf8, m.eight_bit, m.ret, m.env_id, m.asked, m.notice_of,
	m.received_at, m.account, m.client_address, m.listener, m.direction,
	CASE WHEN m.identity IS NULL THEN '' WHEN m.identity->'dmarc'->>'result' = 'pass'
			OR m.identity->'arc'->>'vouched' <> '' THEN 'pass'
		WHEN 'fail' IN (m.identity->'dmarc'->>'result', m.identity->'spf'->>'result') THEN 'fail'
		WHEN m.identity->'spf'->>'result' = 'pass' THEN 'pass' ELSE '' END`

// queueColumns are read by scanDelivery; d is delivery, l is lane.
const queueColumns = `d.message_id, d.n, d.recipient, d.original, d.via, d.orcpt, d.notify, d.state,
	d.lane, l.route, l.next_hop,
	d.rule, d.route_why, d.revision, d.attempts, d.first_attempt_at, d.last_attempt_at, d.due_at,
		d.expires_at, d.reply, d.cause, d.bulk, d.detour, d.warned_at`

// Lease says what a node takes from the queue.
type Lease struct {
	Node int
	Now  time.Time
	// Skip are lanes from which nothing is taken, Try those from which one
	// message is to try whether the host is well again.
	Skip, Try []ident.ID
	// Routes are those from which nothing is taken.
	Routes []string
	// From is the lane to begin behind, so that all have their turn.
	From           ident.ID
	PerLane, Total int
}

// laneDue are the lanes with a time before which nothing of them is due, but for
// those in $1 and those of the routes in $2.
const laneDue = `SELECT c.lane AS id, min(c.due) AS due FROM (SELECT lane, due
	FROM lane_count UNION ALL SELECT lane, due FROM lane_delta) c
	WHERE c.lane <> ALL($1) AND ($2::text[] = '{}' OR NOT EXISTS (SELECT FROM lane l
		WHERE l.id = c.lane AND l.route = ANY($2))) GROUP BY c.lane`

// LeaseDue takes what is due for a node, lane by lane until there is enough. A
// lane with a hundred thousand messages costs no more than one with a single
// message: what is due in it is found by index, messages of bulk senders behind
// the others. Rows that are leased already are passed over; a lane has at most
// its window of them.
func (s Queue) LeaseDue(ctx context.Context, l Lease) ([]Due, error) {
	return s.leasing(ctx, l.Node, `
		WITH lanes AS (SELECT id FROM (`+laneDue+`) l WHERE due <= $5 ORDER BY id <= $3, id),
			picked AS MATERIALIZED (
			SELECT p.message_id, p.n FROM lanes, LATERAL (
				SELECT * FROM (SELECT d.message_id, d.n FROM delivery d
					WHERE d.lane = lanes.id AND d.state <> 'held' AND NOT d.bulk AND d.lease IS NULL
						AND d.due_at <= $5
					ORDER BY d.due_at LIMIT CASE WHEN lanes.id = ANY($6) THEN 1
						ELSE $7::int END FOR UPDATE SKIP LOCKED) f
				UNION ALL
				SELECT * FROM (SELECT d.message_id, d.n FROM delivery d
					WHERE d.lane = lanes.id AND d.state <> 'held' AND d.bulk AND d.lease IS NULL
						AND d.due_at <= $5
					ORDER BY d.due_at LIMIT CASE WHEN lanes.id = ANY($6) THEN 1
						ELSE $7::int END FOR UPDATE SKIP LOCKED) b
				LIMIT CASE WHEN lanes.id = ANY($6) THEN 1 ELSE $7::int END) p
			WHERE (SELECT set_config('gull.leasing', 'yes',
				true)) = 'yes' -- see the trigger changed
			LIMIT $8
		), taken AS (
			UPDATE delivery d SET lease = $4 FROM picked p WHERE d.message_id = p.message_id
				AND d.n = p.n`+notWithdrawn+`
			RETURNING d.*
		)
		SELECT `+queueColumns+dueColumns+`
		FROM taken d JOIN lane l ON l.id = d.lane JOIN message m ON m.id = d.message_id
		ORDER BY d.bulk, d.due_at, d.message_id,
			d.n`, int64s(l.Skip), append([]string{}, l.Routes...), int64(l.From), l.Node, l.Now, int64s(l.Try), l.PerLane, l.Total)
}

// notWithdrawn keeps from delivery what has come to light after its client was told no.
const notWithdrawn = ` AND NOT EXISTS (SELECT FROM withdrawn w WHERE w.message_id = d.message_id)`

func scanDue(row pgx.CollectableRow) (Due, error) {
	var due Due
	err := scanDelivery(
		row,
		&due.Delivery,
		&due.Sender,
		&due.Size,
		&due.UTF8,
		&due.EightBit,
		&due.Ret,
		&due.EnvID,
		asked{&due.Asked},
		&due.NoticeOf,
		&due.Received,
		&due.Account,
		&due.Client,
		&due.Listener,
		&due.Direction,
		&due.Proof,
	)
	return due, err
}

// scanDelivery reads queueColumns and what follows them.
func scanDelivery(row pgx.CollectableRow, d *mail.Delivery, more ...any) error {
	var via string
	err := row.Scan(
		append([]any{
			&d.MessageID,
			&d.N,
			&d.Recipient,
			&d.Original,
			&via,
			&d.ORCPT,
			&d.Notify,
			&d.State,
			&d.LaneID,
			&d.Route,
			&d.NextHop,
			&d.Rule,
			&d.RouteWhy,
			&d.Revision,
			&d.Attempts,
			optTime{&d.FirstAttemptAt},
			optTime{&d.LastAttemptAt},
			optTime{&d.NextAttemptAt},
			optTime{&d.ExpiresAt},
			&d.Last,
			&d.Cause,
			&d.Bulk,
			&d.Detour,
			optTime{&d.WarnedAt},
		}, more...)...)
	if via != "" {
		d.Via = strings.Split(via, viaSeparator)
	}
	d.Key, d.Last = d.ID(), inFull(d.Last, d.Recipient)
	return err
}

// NextDue is when the next delivery without a lease may be due; zero if there is
// none to come.
func (s Queue) NextDue(
	ctx context.Context,
	now time.Time,
	skip []ident.ID,
	routes []string,
) (time.Time, error) {
	var t *time.Time
	err := s.pool.QueryRow(ctx,
		`SELECT min(due) FROM (`+laneDue+`) l WHERE due > $3 AND due < 'infinity'`, int64s(skip),
		append([]string{}, routes...), now).Scan(&t)
	if err != nil || t == nil {
		return time.Time{}, err
	}
	return *t, nil
}

// ReturnLeases gives deliveries back untried: they are due at the given time.
func (s Queue) ReturnLeases(
	ctx context.Context,
	node int,
	ids []mail.DeliveryID,
	due time.Time,
) error {
	messages, ns := split(ids)
	_, err := s.pool.Exec(ctx, `UPDATE delivery d SET lease = NULL, due_at = greatest(d.due_at, $4)
		FROM unnest($1::bigint[], $2::smallint[]) AS o(message_id, n)
		WHERE d.message_id = o.message_id AND d.n = o.n AND d.lease = $3`, messages, ns, node, due)
	return err
}

// LeaseOverdue takes for a node, whatever their lane, deliveries whose time is
// up: those of messages that came before a time, and those whose end a person
// changed.
func (s Queue) LeaseOverdue(
	ctx context.Context,
	node int,
	now, before time.Time,
	limit int,
) ([]Due, error) {
	return s.leasing(ctx, node, `
		WITH picked AS MATERIALIZED (
			SELECT * FROM (SELECT message_id, n FROM delivery
				WHERE message_id < $3 AND expires_at <= $2 AND lease IS NULL AND state <> 'held'
				ORDER BY message_id LIMIT $4 FOR UPDATE SKIP LOCKED) a
			UNION
			SELECT * FROM (SELECT message_id, n FROM delivery
				WHERE own_end AND expires_at <= $2 AND lease IS NULL AND state <> 'held'
				ORDER BY expires_at LIMIT $4 FOR UPDATE SKIP LOCKED) b
		), taken AS (
			UPDATE delivery d SET lease = $1 FROM picked p WHERE d.message_id = p.message_id
				AND d.n = p.n`+notWithdrawn+` RETURNING d.*
		)
		SELECT `+queueColumns+dueColumns+`
		FROM taken d JOIN lane l ON l.id = d.lane
			JOIN message m ON m.id = d.message_id`, node, now, int64(ident.Floor(before)), limit)
}

// Unwarned reads, in order of ids behind after, deliveries of messages that came
// before a time and whose senders were not told of the delay.
func (s Queue) Unwarned(
	ctx context.Context,
	after mail.DeliveryID,
	before time.Time,
	limit int,
) (due []Due, last mail.DeliveryID, err error) {
	rows, err := s.pool.Query(ctx, `SELECT `+queueColumns+dueColumns+`
		FROM (SELECT * FROM delivery WHERE (message_id, n) > ($1, $2) AND message_id < $3
			ORDER BY message_id, n LIMIT $4) d
		JOIN lane l ON l.id = d.lane JOIN message m ON m.id = d.message_id ORDER BY d.message_id,
			d.n`, int64(after.Message), after.N, int64(ident.Floor(before)), limit)
	if err != nil {
		return nil, after, err
	}
	all, err := pgx.CollectRows(rows, scanDue)
	if err != nil {
		return nil, after, err
	}
	for i := range all {
		last = all[i].Delivery.ID()
		if all[i].Delivery.WarnedAt.IsZero() && all[i].Sender != "" &&
			all[i].Delivery.State != mail.Held && all[i].Delivery.Cause != diagnose.SenderDelays {
			due = append(due, all[i])
		}
	}
	return due, last, nil
}

// Warn enters the notices of delays and records that the senders were told.
// Notices about deliveries of which another node has told meanwhile are dropped.
func (s Queue) Warn(
	ctx context.Context,
	node int,
	at time.Time,
	warnings []Warning,
) (dropped []*Entry, err error) {
	var notices []*Entry
	for _, w := range warnings {
		notices = append(notices, w.Notices...)
	}
	if err := s.nameLanes(ctx, notices); err != nil {
		return nil, err
	}
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		var told []*Entry
		var events []mail.Event
		dropped = nil
		var ids []mail.DeliveryID
		for _, w := range warnings {
			ids = append(ids, w.Deliveries...)
		}
		messages, ns := split(ids)
		rows, err := tx.Query(
			ctx,
			`UPDATE delivery d SET warned_at = $3 FROM unnest($1::bigint[],
				$2::smallint[]) AS o(message_id, n)
			WHERE d.message_id = o.message_id AND d.n = o.n AND d.warned_at IS NULL
				RETURNING d.message_id`,
			messages,
			ns,
			at,
		)
		if err != nil {
			return err
		}
		first := map[ident.ID]bool{}
		var id ident.ID
		if _, err := pgx.ForEachRow(
			rows,
			[]any{&id},
			func() error { first[id] = true; return nil },
		); err != nil {
			return err
		}
		for _, w := range warnings {
			if first[w.Deliveries[0].Message] {
				told, events = append(told, w.Notices...), append(events, w.Events...)
			} else {
				dropped = append(dropped, w.Notices...)
			}
		}
		if len(told) == 0 {
			return nil
		}
		var counts increments
		counts.entered(told)
		return copyIn(ctx, tx.Conn().PgConn(), Intake(s).before(node, told),
			append(entryTables(node, told),
				table{"event", eventColumns, func(w *rowWriter) { writeEvents(w, events) }},
				counts.table()))
	})
	return dropped, data(err)
}

// Warning are the notices of delay about some deliveries of a message.
type Warning struct {
	Deliveries []mail.DeliveryID
	Notices    []*Entry
	Events     []mail.Event
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
func (s Queue) PlannedBefore(
	ctx context.Context,
	revision int,
	after mail.DeliveryID,
	limit int,
) ([]Due, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+queueColumns+dueColumns+`
		FROM (SELECT * FROM delivery WHERE (message_id, n) > ($1, $2) AND lease IS NULL
			AND revision < $3 AND detour = '' ORDER BY message_id, n LIMIT $4) d
		JOIN lane l ON l.id = d.lane JOIN message m ON m.id = d.message_id ORDER BY d.message_id,
			d.n`, int64(after.Message), after.N, revision, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanDue)
}

// Stranded reads waiting deliveries of the lanes of a route, in order of their ids
// behind after.
func (s Queue) Stranded(
	ctx context.Context,
	route string,
	after mail.DeliveryID,
	limit int,
) ([]Due, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+queueColumns+dueColumns+`
		FROM (SELECT d.* FROM lane l JOIN delivery d ON d.lane = l.id WHERE l.route = $3
			AND (d.message_id, d.n) > ($1, $2) AND d.lease IS NULL ORDER BY d.message_id,
				d.n LIMIT $4) d
		JOIN lane l ON l.id = d.lane JOIN message m ON m.id = d.message_id ORDER BY d.message_id,
			d.n`, int64(after.Message), after.N, route, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanDue)
}

// Reroute puts waiting deliveries into the lanes they are planned for now, due
// immediately. What is leased meanwhile is left alone: its node plans it anew.
func (s Queue) Reroute(ctx context.Context, moved []*mail.Delivery) (int64, error) {
	if len(moved) == 0 {
		return 0, nil
	}
	var messages, lanes []int64
	var ns []int16
	var whys []string
	var revisions []int32
	if err := s.nameLanesOf(ctx, moved); err != nil {
		return 0, err
	}
	for _, d := range moved {
		messages, ns, lanes = append(messages,
			int64(d.MessageID)), append(ns, d.N), append(lanes, int64(d.LaneID))
		whys, revisions = append(whys, d.RouteWhy), append(revisions, int32(d.Revision))
	}
	tag, err := s.pool.Exec(
		ctx,
		`UPDATE delivery d SET lane = o.lane, route_why = o.why, revision = o.revision,
			due_at = CASE WHEN d.state = 'held' THEN d.due_at ELSE now() END, cause = '',
				reply = NULL
		FROM unnest($1::bigint[], $2::smallint[], $3::bigint[], $4::text[],
			$5::int[]) AS o(message_id, n, lane, why, revision)
		WHERE d.message_id = o.message_id AND d.n = o.n AND d.lease IS NULL`,
		messages,
		ns,
		lanes,
		whys,
		revisions,
	)
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
	Identity   *senderauth.Assessment
	Recipients []string
}

// RecentEnvelopes reads the last messages that came by a listener, newest first,
// from before an id.
func (s Messages) RecentEnvelopes(
	ctx context.Context,
	before ident.ID,
	limit int,
) ([]Envelope, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT id, sender, size, listener, client_address, account, identity
		FROM message WHERE listener <> '' AND ($1::bigint = 0 OR id < $1)
			ORDER BY id DESC LIMIT $2`,
		int64(before),
		limit,
	)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (Envelope, error) {
		var e Envelope
		err := row.Scan(&e.ID, &e.Sender, &e.Size, &e.Listener, &e.Client, &e.Account,
			&e.Identity)
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
	if rows, err = s.pool.Query(
		ctx,
		`SELECT message_id, original FROM delivery WHERE message_id = ANY($1)
		UNION SELECT message_id, original FROM delivery_done WHERE message_id = ANY($1)
			AND message_id >= $2`,
		ids,
		ids[len(ids)-1],
	); err != nil {
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
