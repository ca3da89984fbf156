package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Actions are what people do with deliveries that wait, and the record of it.
type Actions struct{ *DB }

// Change is what an action does with deliveries in the database.
type Change struct {
	Verb   string
	Action int64
	At     time.Time
	// Of expire: at a time, or so much later or earlier.
	ExpireAt time.Time
	ExpireBy time.Duration
	Reply    *mail.LastReply // of drop
}

// changes are the assignments of each verb and what a row must be for it.
var changes = map[string]struct{ set, where string }{
	mail.VerbHold: {"state = 'held'", "d.state <> 'held'"},
	mail.VerbRelease: {
		"state = CASE WHEN d.attempts > 0 THEN 'deferred' ELSE 'waiting' END, due_at = $4, " +
			"expires_at = greatest(d.expires_at, $4::timestamptz + interval '1 day')",
		"d.state = 'held'",
	},
	mail.VerbFlush: {"due_at = $4", "d.state <> 'held'"},
	mail.VerbExpire: {
		"own_end = true, expires_at = coalesce($5, d.expires_at + $6::interval), due_at = " +
			"least(d.due_at, greatest($4, coalesce($5, d.expires_at + $6::interval)))",
		"true",
	},
}

// Pick reads the ids of what a filter selects, in their order. Whether anybody
// works on it is not asked: so the statistics that choose the plan are those of the
// filter alone.
func (s Actions) Pick(ctx context.Context, f mail.Filter, limit int) ([]mail.DeliveryID, error) {
	where, args := conditions(f, []any{limit})
	rows, err := s.pool.Query(
		ctx,
		`SELECT d.message_id, d.n FROM `+from(
			f,
		)+` WHERE true`+where+` ORDER BY d.message_id, d.n LIMIT $1`,
		args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.DeliveryID, error) {
		var id mail.DeliveryID
		err := row.Scan(&id.Message, &id.N)
		return id, err
	})
}

// freeSQL are those of some deliveries that nobody works on. Whoever leases one
// meanwhile is first: the row is looked at again when its lock is had.
const freeSQL = `FROM unnest($1::bigint[], $2::smallint[]) o(message_id, n)
	WHERE d.message_id = o.message_id AND d.n = o.n AND d.lease IS NULL`

// Act does one step of an action with deliveries that nobody works on, and returns
// how many that were. Each step is a transaction of its own, so that no lock is held
// for long.
func (s Actions) Act(ctx context.Context, c Change, ids []mail.DeliveryID) (int64, error) {
	messages, ns := split(ids)
	args := []any{messages, ns, c.Action, c.At}
	var tag pgconn.CommandTag
	var err error
	switch change, ok := changes[c.Verb]; {
	case c.Verb == mail.VerbDrop:
		tag, err = s.pool.Exec(
			ctx,
			`WITH gone AS (DELETE FROM delivery d USING `+strings.TrimPrefix(
				freeSQL,
				"FROM ",
			)+` RETURNING d.*), kept AS (
			INSERT INTO delivery_done (message_id, n, recipient, original, via, orcpt, notify,
				state, lane, rule, route_why, revision,
				attempts, first_attempt_at, last_attempt_at, expires_at, finished_at, reply, cause,
					action, actions)
			SELECT message_id, n, recipient, original, via, orcpt, notify, 'discarded', lane, rule,
				route_why, revision,
				attempts, first_attempt_at, last_attempt_at, expires_at, $4, $5::jsonb, 'dropped',
					$3, actions || $3::bigint FROM gone
			RETURNING message_id, n
		), counted AS (
			INSERT INTO count_log (kind, ids, ns) SELECT 2, array_agg(message_id), array_agg(n)
				FROM kept HAVING count(*) > 0
		) SELECT FROM kept`,
			append(args, replyJSON(c.Reply))...)
	case !ok:
		err = fmt.Errorf("no verb %q", c.Verb)
	default:
		if c.Verb == mail.VerbExpire {
			var at *time.Time
			if !c.ExpireAt.IsZero() {
				at = &c.ExpireAt
			}
			args = append(args, at, c.ExpireBy)
		}
		tag, err = s.pool.Exec(
			ctx,
			`UPDATE delivery d SET action = $3, actions = actions || $3::bigint,
				`+change.set+` `+freeSQL+` AND `+change.where+` AND $4::timestamptz IS NOT NULL`,
			args...)
	}
	return tag.RowsAffected(), err
}

// Restore puts back into the queue what an action dropped, up to limit deliveries,
// and returns how many. A message whose time is up meanwhile gets a day more.
func (s Actions) Restore(
	ctx context.Context,
	c Change,
	dropped int64,
	limit int,
) (n int64, err error) {
	if err := (Counts(s)).countAll(ctx); err != nil { // what is taken back was counted before
		return 0, err
	}
	err = s.pool.QueryRow(ctx, `WITH picked AS MATERIALIZED (
			SELECT message_id, n FROM delivery_done WHERE action = $4 AND action <> 0
				AND state = 'discarded'
			ORDER BY message_id, n LIMIT $3 FOR UPDATE SKIP LOCKED
		), back AS (
			DELETE FROM delivery_done d USING picked p WHERE d.message_id = p.message_id
				AND d.n = p.n RETURNING d.*
		), kept AS (
			INSERT INTO delivery (message_id, n, recipient, original, via, orcpt, notify, state,
				lane, rule, route_why, revision,
				attempts, first_attempt_at, last_attempt_at, due_at, expires_at, size, cause,
					domain, action, actions)
			SELECT b.message_id, b.n, b.recipient, b.original, b.via, b.orcpt, b.notify, CASE
				WHEN b.attempts > 0 THEN 'deferred' ELSE 'waiting' END, b.lane, b.rule, b.route_why,
					b.revision,
				b.attempts, b.first_attempt_at, b.last_attempt_at, $2, greatest(b.expires_at,
					$2::timestamptz + interval '1 day'), m.size, '',
						substring(lower(b.recipient) from '[^@]*$'), $1, b.actions || $1::bigint
			FROM back b JOIN message m ON m.id = b.message_id
		), uncounted AS (
			INSERT INTO count_log (kind, ids, ns, ats) SELECT 5, array_agg(message_id),
				array_agg(n), array_agg(finished_at) FROM back HAVING count(*) > 0
		)
		SELECT count(*) FROM back`, c.Action, c.At, limit, dropped).Scan(&n)
	return n, err
}

// LeaseSelected takes for a node what a filter selects and nobody works on, in
// order of ids, held messages too.
func (s Actions) LeaseSelected(
	ctx context.Context,
	node int,
	action int64,
	f mail.Filter,
	limit int,
) ([]Due, error) {
	where, args := conditions(f, []any{node, action, limit})
	return s.leasing(ctx, node, `
		WITH picked AS MATERIALIZED (
			SELECT d.message_id, d.n FROM `+from(f)+` WHERE d.lease IS NULL`+where+`
				ORDER BY d.message_id, d.n LIMIT $3 FOR UPDATE OF d
		), taken AS (
			UPDATE delivery d SET lease = $1, action = $2, actions = actions || $2::bigint
				FROM picked p WHERE d.message_id = p.message_id
					AND d.n = p.n`+notWithdrawn+` RETURNING d.*
		)
		SELECT `+queueColumns+dueColumns+`
		FROM taken d JOIN lane l ON l.id = d.lane JOIN message m ON m.id = d.message_id
			ORDER BY d.message_id, d.n`, args...)
}

// Redirect puts deliveries leased to a node into the lanes they are given, due
// immediately, and lets go of them.
func (s Actions) Redirect(
	ctx context.Context,
	node int,
	at time.Time,
	moved []*mail.Delivery,
) error {
	if len(moved) == 0 {
		return nil
	}
	var messages, lanes []int64
	var ns []int16
	var recipients, vias, whys, detours []string
	var revisions []int32
	if err := s.nameLanesOf(ctx, moved); err != nil {
		return err
	}
	for _, d := range moved {
		messages, ns, lanes = append(messages,
			int64(d.MessageID)), append(ns, d.N), append(lanes, int64(d.LaneID))
		recipients, vias = append(recipients, d.Recipient), append(vias, joinVia(d.Via))
		whys, detours, revisions = append(whys,
			d.RouteWhy), append(detours, string(d.Detour)), append(revisions, int32(d.Revision))
	}
	_, err := s.pool.Exec(
		ctx,
		`UPDATE delivery d SET lane = o.lane, recipient = o.recipient,
			domain = substring(lower(o.recipient) from '[^@]*$'), via = o.via, route_why = o.why,
			detour = o.detour, revision = o.revision, lease = NULL, due_at = CASE
				WHEN d.state = 'held' THEN d.due_at ELSE $10 END, cause = '', reply = NULL
		FROM unnest($1::bigint[], $2::smallint[], $3::bigint[], $4::text[], $5::text[], $6::text[],
			$7::text[], $8::int[])
			AS o(message_id, n, lane, recipient, via, why, detour, revision)
		WHERE d.message_id = o.message_id AND d.n = o.n AND d.lease = $9`,
		messages,
		ns,
		lanes,
		recipients,
		vias,
		whys,
		detours,
		revisions,
		node,
		at,
	)
	return err
}

// SetExpiry sets when deliveries leased to a node expire, and lets go of
// them.
func (s Actions) SetExpiry(ctx context.Context, node int, list []*mail.Delivery) error {
	var messages []int64
	var ns []int16
	var expires []time.Time
	for _, d := range list {
		messages, ns, expires = append(messages,
			int64(d.MessageID)), append(ns, d.N), append(expires, d.ExpiresAt.Time)
	}
	_, err := s.pool.Exec(
		ctx,
		`UPDATE delivery d SET own_end = true, expires_at = o.expires, lease = NULL
			FROM unnest($1::bigint[], $2::smallint[], $3::timestamptz[]) AS o(message_id, n,
				expires)
		WHERE d.message_id = o.message_id AND d.n = o.n AND d.lease = $4`,
		messages,
		ns,
		expires,
		node,
	)
	return err
}

// LanesOf are the lanes of what a filter selects.
func (s Actions) LanesOf(ctx context.Context, f mail.Filter) ([]ident.ID, error) {
	if f.Lane != 0 {
		return []ident.ID{f.Lane}, nil
	}
	where, args := conditions(f, nil)
	rows, err := s.pool.Query(
		ctx,
		`SELECT DISTINCT d.lane FROM `+from(f)+` WHERE true`+where,
		args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[ident.ID])
}

// LeasedLanes are the lanes with deliveries that a filter selects and a node
// works on.
func (s Actions) LeasedLanes(ctx context.Context, f mail.Filter) (map[ident.ID]int64, error) {
	where, args := conditions(f, nil)
	rows, err := s.pool.Query(
		ctx,
		`SELECT d.lane, count(*) FROM `+from(
			f,
		)+` WHERE d.lease IS NOT NULL`+where+` GROUP BY d.lane`,
		args...)
	if err != nil {
		return nil, err
	}
	out := map[ident.ID]int64{}
	var lane ident.ID
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&lane, &n}, func() error { out[lane] = n; return nil })
	return out, err
}

// BeginAction puts an action on record before it begins.
func (s Actions) BeginAction(ctx context.Context, a mail.Action) (int64, error) {
	var filter, detail []byte
	var err error
	if a.Filter != nil {
		if filter, err = json.Marshal(a.Filter); err != nil {
			return 0, err
		}
	}
	if a.Detail != nil {
		if detail, err = json.Marshal(a.Detail); err != nil {
			return 0, err
		}
	}
	var id int64
	err = s.pool.QueryRow(
		ctx,
		`INSERT INTO action (who, verb, on_what, told, node, filter, detail, why, undoes)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING id`,
		a.Who,
		a.Verb,
		a.On,
		a.Told,
		a.Node,
		filter,
		detail,
		a.Why,
		a.Undoes,
	).Scan(&id)
	return id, err
}

// EndAction records what an action came to. What it takes back is marked.
func (s Actions) EndAction(ctx context.Context, id, touched, sending int64) error {
	_, err := s.pool.Exec(
		ctx,
		`WITH this AS (UPDATE action SET touched = $2, sending = $3, done_at = now() WHERE id = $1
			RETURNING id, undoes)
		UPDATE action a SET undone_by = this.id FROM this WHERE a.id = this.undoes
			AND this.undoes <> 0`,
		id,
		touched,
		sending,
	)
	return err
}

const actionColumns = `id, at, who, verb, on_what, filter, detail, why, touched, sending, done_at,
	undoes, undone_by`

func scanAction(row pgx.CollectableRow) (mail.Action, error) {
	var a mail.Action
	err := row.Scan(&a.ID, &a.At, &a.Who, &a.Verb, &a.On, &a.Filter, &a.Detail, &a.Why, &a.Touched,
		&a.Sending, optTime{&a.DoneAt}, &a.Undoes, &a.UndoneBy)
	a.At = a.At.UTC()
	return a, err
}

// List lists what people did, newest first, from before an id.
func (s Actions) List(ctx context.Context, before int64, limit int) ([]mail.Action, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT `+actionColumns+` FROM action WHERE $1::bigint = 0 OR id < $1 ORDER BY id DESC
			LIMIT $2`,
		before,
		limit,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanAction)
}

// Action reads one action.
func (s Actions) Action(ctx context.Context, id int64) (mail.Action, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+actionColumns+` FROM action WHERE id = $1`, id)
	if err != nil {
		return mail.Action{}, err
	}
	a, err := pgx.CollectExactlyOneRow(rows, scanAction)
	return a, found(err)
}
