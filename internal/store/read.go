package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Messages are messages, their deliveries, events and content.
type Messages struct{ *DB }

const messageSelect = `m.id, m.received_at, m.sender, m.header_from, m.subject, m.message_id,
	m.size, m.listener, m.client_address,
	m.helo, m.account, m.session_id, m.revision, m.protocol, m.hops, m.utf8, m.eight_bit, m.ret,
		m.env_id, m.notice_of, m.direction, m.identity, m.gates, m.severity, m.score,
		m.asked`

func messageTargets(m *mail.Message) []any {
	return []any{
		&m.ID,
		&m.ReceivedAt,
		&m.Sender,
		&m.HeaderFrom,
		&m.Subject,
		&m.MessageID,
		&m.Size,
		&m.Listener,
		&m.ClientAddress,
		&m.Helo,
		&m.Account,
		&m.SessionID,
		&m.Revision,
		&m.Protocol,
		&m.Hops,
		&m.UTF8,
		&m.EightBit,
		&m.Ret,
		&m.EnvID,
		&m.NoticeOf,
		&m.Direction,
		&m.Identity,
		&m.Gates,
		severity{&m.Severity},
		&m.Score,
		asked{&m.Asked},
	}
}

func scanMessage(row pgx.CollectableRow) (mail.Message, error) {
	var m mail.Message
	err := row.Scan(messageTargets(&m)...)
	m.ReceivedAt = m.ReceivedAt.UTC()
	return m, err
}

// Message reads a message with all its deliveries.
func (s Messages) Message(ctx context.Context, id ident.ID) (mail.Message, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+messageSelect+` FROM message m WHERE m.id = $1`,
		int64(id))
	if err != nil {
		return mail.Message{}, err
	}
	m, err := pgx.CollectExactlyOneRow(rows, scanMessage)
	if err != nil {
		return m, found(err)
	}
	list := []mail.Message{m}
	err = s.addDeliveries(ctx, list)
	return list[0], err
}

// maxGenerated bounds what is shown of what a message generated.
const maxGenerated = 50

// Generated are the messages that a message generated, the first of them: notices,
// automatic replies, and notices of others about it.
func (s Messages) Generated(ctx context.Context, id ident.ID) ([]mail.Message, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT `+messageSelect+` FROM message m WHERE notice_of = $1 AND notice_of <> 0 ORDER BY id
			LIMIT $2`,
		int64(id),
		maxGenerated,
	)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, scanMessage)
	if err != nil || len(list) == 0 {
		return []mail.Message{}, err
	}
	return list, s.addDeliveries(ctx, list)
}

// LatestTo is the last message to a recipient that has left since a time.
func (s Messages) LatestTo(
	ctx context.Context,
	recipient string,
	since time.Time,
) (ident.ID, error) {
	var id ident.ID
	err := s.pool.QueryRow(
		ctx,
		`SELECT message_id FROM delivery_done WHERE `+sameAs("lower(recipient)", "lower($1)")+`
			AND message_id >= $2 ORDER BY message_id DESC LIMIT 1`,
		recipient,
		int64(ident.Floor(since)),
	).Scan(&id)
	return id, found(err)
}

// addDeliveries fills in the deliveries of messages: waiting ones and finished
// ones alike.
func (s Messages) addDeliveries(ctx context.Context, messages []mail.Message) error {
	byID := map[ident.ID]*mail.Message{}
	ids := make([]int64, len(messages))
	for i := range messages {
		messages[i].Deliveries = []mail.Delivery{}
		byID[messages[i].ID] = &messages[i]
		ids[i] = int64(messages[i].ID)
	}
	rows, err := s.pool.Query(ctx, `
		SELECT `+queueColumns+`, NULL::timestamptz FROM delivery d JOIN lane l ON l.id = d.lane
			WHERE d.message_id = ANY($1)
		UNION ALL
		SELECT d.message_id, d.n, d.recipient, d.original, d.via, d.orcpt, d.notify, d.state,
			d.lane, l.route, l.next_hop,
			d.rule, d.route_why, d.revision, d.attempts, d.first_attempt_at, d.last_attempt_at,
				NULL, d.expires_at, d.reply, d.cause, false, '', NULL, d.finished_at
		FROM delivery_done d JOIN lane l ON l.id = d.lane WHERE d.message_id = ANY($1)
		ORDER BY 1, 2`, ids)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var d mail.Delivery
		if err := scanDelivery(rows, &d, optTime{&d.FinishedAt}); err != nil {
			return err
		}
		m := byID[d.MessageID]
		m.Deliveries = append(m.Deliveries, d)
	}
	return rows.Err()
}

// Events reads what happened to a message beyond what its rows tell, in order.
func (s Messages) Events(ctx context.Context, id ident.ID) ([]mail.Event, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT message_id, n, at, kind, node, text, detail FROM event WHERE message_id = $1
		UNION ALL
		SELECT d.message_id, d.n, a.at, 'action', a.node, a.told, jsonb_build_object('action', a.id)
			FROM (
			SELECT message_id, n, unnest(actions) AS action FROM delivery WHERE message_id = $1
			UNION ALL SELECT message_id, n, unnest(actions) FROM delivery_done
				WHERE message_id = $1) d
		JOIN action a ON a.id = d.action ORDER BY 3, 2`,
		int64(id),
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanEvent)
}

func scanEvent(row pgx.CollectableRow) (mail.Event, error) {
	var e mail.Event
	err := row.Scan(&e.MessageID, &e.N, &e.At, &e.Kind, &e.Node, &e.Text, &e.Detail)
	e.At = e.At.UTC()
	if e.N > 0 {
		e.Delivery = mail.DeliveryID{Message: e.MessageID, N: e.N}.String()
	}
	return e, err
}

// query collects conditions and their arguments.
type query struct {
	strings.Builder
	args []any
}

func (q *query) arg(v any) string {
	q.args = append(q.args, v)
	return fmt.Sprintf("$%d", len(q.args))
}

func (q *query) and(condition string, v any) {
	fmt.Fprintf(q, " AND "+condition, q.arg(v))
}

// andAddress asks for a whole address, which an index finds, or a part of one.
func (q *query) andAddress(column, text string) {
	switch {
	case text == "":
	case text == "<>":
		q.WriteString(" AND " + column + " = ''")
	case wholeAddress(text):
		q.and("lower("+column+") = %s", strings.ToLower(text))
	default:
		q.and("lower("+column+") LIKE %s", "%"+escapeLike(strings.ToLower(text))+"%")
	}
}

func wholeAddress(text string) bool {
	local, domain, ok := strings.Cut(text, "@")
	return ok && local != "" && strings.Contains(domain, ".")
}

func escapeLike(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s)
}

// Content reads a message's content piece by piece.
type Content struct {
	ctx  context.Context
	next func(seq int) ([]byte, error)
	seq  int
	rest []byte
	done bool
}

// ContentOf is content that is in memory.
func ContentOf(data []byte) *Content { return &Content{rest: data, done: true} }

// OpenContent reads the content of a message; ErrNotFound if there is none.
func (s Messages) OpenContent(ctx context.Context, id ident.ID) (*Content, error) {
	c := &Content{ctx: ctx, next: func(seq int) ([]byte, error) {
		var data []byte
		err := s.pool.QueryRow(ctx, `SELECT data FROM content WHERE message_id = $1 AND seq = $2`,
			int64(id), seq).Scan(&data)
		return data, found(err)
	}}
	first, err := c.next(0)
	if err != nil {
		return nil, err
	}
	c.rest, c.seq = first, 1
	c.done = len(first) < PieceSize
	return c, nil
}

// Read gives the content as it was stored.
func (c *Content) Read(p []byte) (int, error) {
	for len(c.rest) == 0 {
		if c.done {
			return 0, io.EOF
		}
		data, err := c.next(c.seq)
		if errors.Is(err, ErrNotFound) {
			c.done = true
			continue
		}
		if err != nil {
			return 0, err
		}
		c.seq++
		c.rest, c.done = data, len(data) < PieceSize
	}
	n := copy(p, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

func found(err error) error {
	if errors.Is(err, pgx.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// optTime scans a time that may be null.
type optTime struct{ t *mail.OptTime }

// Scan takes null for the zero time.
func (o optTime) Scan(v any) error {
	t, _ := v.(time.Time)
	o.t.Time = t
	if !t.IsZero() {
		o.t.Time = t.UTC()
	}
	return nil
}
