package store

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
)

// Outcomes are where attempts are recorded.
type Outcomes struct{ *DB }

// Outcome is how an attempt ended. Delivery holds the new state, cause and last
// reply; the rest of it is as it was taken from the queue.
type Outcome struct {
	Delivery *mail.Delivery
	// Run is the one that it was leased to.
	Run int
	// Origin is what is counted of its message; if it is nil that is read from the tables.
	Origin *report.Origin
	At     time.Time
	Events []mail.Event
	// Lane is where the attempt was made, if the delivery goes on by another.
	Lane ident.ID
	// Mailbox is set when the message goes into a mailbox of ours, in the same
	// transaction.
	Mailbox *MailboxMessage
	// Generated are messages that it generates, entered in the same transaction: the
	// notice of a failure, an automatic reply.
	Generated []*Entry
}

// Finish records outcomes, all or none: what is final leaves the queue, what is
// deferred is due again later. It may be called again with the same outcomes
// after a lost answer: what is recorded already is left alone, and so is what another
// run has recorded, or may be trying, meanwhile. New messages are leased to a run; foreign
// are those that are not there, because their outcome is another run's.
func (s Outcomes) Finish(
	ctx context.Context,
	node int,
	outcomes []*Outcome,
) (foreign []*Entry, err error) {
	var notices []*Entry
	var used []*mail.Delivery
	for _, o := range outcomes {
		used = append(used, o.Delivery)
		notices = append(notices, o.Generated...)
	}
	for _, n := range notices {
		used = append(used, n.Deliveries...)
	}
	if err := s.nameLanesOf(ctx, used); err != nil {
		return nil, err
	}
	err = data(s.inTx(ctx, func(tx pgx.Tx) error {
		done, err := s.record(ctx, tx, outcomes)
		if err != nil {
			return err
		}
		var events []mail.Event
		var entered, others []*Entry
		for _, o := range outcomes {
			if done[o.Delivery.ID()] {
				events, entered = append(events, o.Events...), append(entered, o.Generated...)
			} else {
				others = append(others, o.Generated...)
			}
		}
		if foreign, err = missing(ctx, tx, others); err != nil || len(done) == 0 {
			return err
		}
		var counts increments
		counts.finished(outcomes, done)
		counts.entered(entered)
		tables := append(entryTables(node, entered),
			table{"event", eventColumns, func(w *rowWriter) { writeEvents(w, events) }},
			counts.table())
		return copyIn(ctx, tx.Conn().PgConn(), (Intake(s)).before(node, entered), tables)
	}))
	return foreign, err
}

// missing are those of some messages that are not there.
func missing(ctx context.Context, tx pgx.Tx, entries []*Entry) ([]*Entry, error) {
	if len(entries) == 0 {
		return nil, nil
	}
	var ids []ident.ID
	for _, e := range entries {
		ids = append(ids, e.Message.ID)
	}
	rows, err := tx.Query(ctx, `SELECT id FROM message WHERE id = ANY($1)`, int64s(ids))
	if err != nil {
		return nil, err
	}
	there, err := pgx.CollectRows(rows, pgx.RowTo[ident.ID])
	return slices.DeleteFunc(entries,
		func(e *Entry) bool { return slices.Contains(there, e.Message.ID) }), err
}

// outcomeRows are the columns of many outcomes.
type outcomeRows struct {
	messages []int64
	ns       []int16
	runs     []int32
	states   []string
	lanes    []int64
	attempts []int32
	firsts   []*time.Time
	ats      []time.Time
	dues     []time.Time
	replies  []*string
	causes   []string
	whys     []string
	revs     []int32
	detours  []string
	tried    []int64 // the lanes of the attempts
}

func (r *outcomeRows) add(o *Outcome) {
	d := o.Delivery
	r.messages = append(r.messages, int64(d.MessageID))
	r.ns = append(r.ns, d.N)
	r.runs = append(r.runs, int32(o.Run))
	r.states = append(r.states, string(d.State))
	r.lanes = append(r.lanes, int64(d.LaneID))
	r.attempts = append(r.attempts, int32(d.Attempts))
	var first *time.Time
	if !d.FirstAttemptAt.IsZero() {
		first = &d.FirstAttemptAt.Time
	}
	r.firsts = append(r.firsts, first)
	r.ats = append(r.ats, o.At)
	r.dues = append(r.dues, d.NextAttemptAt.Time)
	r.replies = append(r.replies, replyJSON(d.Last))
	r.causes = append(r.causes, string(d.Cause))
	r.whys = append(r.whys, d.RouteWhy)
	r.revs = append(r.revs, int32(d.Revision))
	r.detours = append(r.detours, string(d.Detour))
	lane := d.LaneID
	if o.Lane != 0 {
		lane = o.Lane
	}
	r.tried = append(r.tried, int64(lane))
}

func replyJSON(r *mail.LastReply) *string {
	if r == nil {
		return nil
	}
	b, err := json.Marshal(r)
	if err != nil {
		return nil
	}
	s := string(inert.StoredJSON(b))
	return &s
}

// record moves rows in one round trip. It returns those that were there to be
// moved: not those that were recorded before. An end counts whoever leases the delivery
// by now: the remote host has spoken.
func (s Outcomes) record(
	ctx context.Context,
	tx pgx.Tx,
	outcomes []*Outcome,
) (map[mail.DeliveryID]bool, error) {
	var final, later outcomeRows
	var messages []*MailboxMessage
	for _, o := range outcomes {
		if o.Mailbox != nil {
			messages = append(messages, o.Mailbox)
		}
		if o.Delivery.State.Final() {
			final.add(o)
		} else {
			later.add(o)
		}
	}
	b := &pgx.Batch{}
	queueMailbox(b, messages)
	if len(final.ns) > 0 {
		b.Queue(
			`WITH gone AS (
				DELETE FROM delivery d USING unnest($1::bigint[], $2::smallint[]) AS o(message_id,
					n)
				WHERE d.message_id = o.message_id AND d.n = o.n RETURNING d.*
			)
			INSERT INTO delivery_done (message_id, n, recipient, original, via, orcpt, notify,
				state, lane, rule, route_why, revision,
				attempts, first_attempt_at, last_attempt_at, expires_at, finished_at, reply, cause,
					action, actions)
			SELECT g.message_id, g.n, g.recipient, g.original, g.via, g.orcpt, g.notify, o.state,
				o.lane, g.rule, o.why, o.revision,
				o.attempts, o.first, o.at, g.expires_at, o.at, o.reply::jsonb, o.cause, g.action,
					g.actions
			FROM gone g JOIN unnest($1::bigint[], $2::smallint[], $3::text[], $4::bigint[],
				$5::int[], $6::timestamptz[], $7::timestamptz[], $8::text[], $9::text[],
					$10::text[], $11::int[])
				AS o(message_id, n, state, lane, attempts, first, at, reply, cause, why,
					revision) ON g.message_id = o.message_id AND g.n = o.n
			RETURNING message_id, n`,
			final.messages,
			final.ns,
			final.states,
			final.lanes,
			final.attempts,
			final.firsts,
			final.ats,
			final.replies,
			final.causes,
			final.whys,
			final.revs,
		)
	}
	if len(later.ns) > 0 {
		b.Queue(
			`UPDATE delivery d SET state = o.state, lane = o.lane, attempts = o.attempts,
				first_attempt_at = o.first, last_attempt_at = o.at,
				due_at = o.due, lease = NULL, reply = o.reply::jsonb, cause = o.cause,
					route_why = o.why, revision = o.revision, detour = o.detour
			FROM unnest($1::bigint[], $2::smallint[], $3::text[], $4::bigint[], $5::int[],
				$6::timestamptz[], $7::timestamptz[], $8::timestamptz[], $9::text[], $10::text[],
					$11::text[], $12::int[], $13::int[], $14::text[])
				AS o(message_id, n, state, lane, attempts, first, at, due, reply, cause, why,
					revision, run, detour)
			WHERE d.message_id = o.message_id AND d.n = o.n AND d.lease = o.run
				RETURNING d.message_id, d.n`,
			later.messages,
			later.ns,
			later.states,
			later.lanes,
			later.attempts,
			later.firsts,
			later.ats,
			later.dues,
			later.replies,
			later.causes,
			later.whys,
			later.revs,
			later.runs,
			later.detours,
		)
		b.Queue(lastSQL+`
			SELECT DISTINCT ON (lane) lane, at, reply::jsonb, cause FROM unnest($1::bigint[],
				$2::timestamptz[], $3::text[], $4::text[]) AS o(lane, at, reply, cause)
			WHERE reply IS NOT NULL ORDER BY lane,
				at DESC`+lastConflict, later.tried, later.ats, later.replies, later.causes)
	}
	results := tx.SendBatch(ctx, b)
	defer results.Close()
	moved := map[mail.DeliveryID]bool{}
	if len(messages) > 0 {
		if _, err := results.Exec(); err != nil {
			return nil, err
		}
	}
	for _, rows := range []*outcomeRows{&final, &later} {
		if len(rows.ns) == 0 {
			continue
		}
		found, err := results.Query()
		if err != nil {
			return nil, err
		}
		var id mail.DeliveryID
		if _, err := pgx.ForEachRow(
			found,
			[]any{&id.Message, &id.N},
			func() error { moved[id] = true; return nil },
		); err != nil {
			return nil, err
		}
	}
	if len(later.ns) > 0 {
		if _, err := results.Exec(); err != nil {
			return nil, err
		}
	}
	return moved, results.Close()
}
