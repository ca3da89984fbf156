package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/transcript"
)

// MessagesFrom reads messages with ids in [lower, upper), the first of them, with
// their deliveries.
func (s Messages) MessagesFrom(
	ctx context.Context,
	lower, upper ident.ID,
	limit int,
) ([]mail.Message, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT `+messageSelect+` FROM message m WHERE m.id >= $1 AND m.id < $2 ORDER BY m.id
			LIMIT $3`,
		int64(lower),
		int64(upper),
		limit,
	)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, scanMessage)
	if err != nil || len(list) == 0 {
		return list, err
	}
	return list, s.addDeliveries(ctx, list)
}

// EventsFrom reads the recorded events of messages with ids in [lower, upper], by
// message.
func (s Messages) EventsFrom(
	ctx context.Context,
	lower, upper ident.ID,
) (map[ident.ID][]mail.Event, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT message_id, n, at, kind, node, text, detail FROM event WHERE message_id >= $1
			AND message_id <= $2
		UNION ALL
		SELECT d.message_id, d.n, a.at, 'action', a.node, a.told, jsonb_build_object('action', a.id)
			FROM (
			SELECT message_id, n, unnest(actions) AS action FROM delivery WHERE message_id >= $1
				AND message_id <= $2 AND action <> 0
			UNION ALL SELECT message_id, n, unnest(actions) FROM delivery_done
				WHERE message_id >= $1 AND message_id <= $2 AND action <> 0) d
		JOIN action a ON a.id = d.action ORDER BY 1, 3, 2`,
		int64(lower),
		int64(upper),
	)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, scanEvent)
	out := map[ident.ID][]mail.Event{}
	for _, e := range list {
		out[e.MessageID] = append(out[e.MessageID], e)
	}
	return out, err
}

// RefusalsFrom reads refusals with ids in [lower, upper), the first of them.
func (s Sessions) RefusalsFrom(
	ctx context.Context,
	lower, upper ident.ID,
	limit int,
) ([]mail.Refusal, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT `+refusalColumns+` FROM refusal WHERE id >= $1 AND id < $2 ORDER BY id LIMIT $3`,
		int64(lower), int64(upper), limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRefusal)
}

// SessionsFrom reads sessions with ids in [lower, upper), the first of them, with
// their transcripts.
func (s Sessions) SessionsFrom(
	ctx context.Context,
	lower, upper ident.ID,
	limit int,
) ([]mail.Session, map[ident.ID][]transcript.Line, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT `+sessionColumns+` FROM session WHERE id >= $1 AND id < $2 ORDER BY id LIMIT $3`,
		int64(lower), int64(upper), limit)
	if err != nil {
		return nil, nil, err
	}
	list, err := pgx.CollectRows(rows, scanSession)
	if err != nil || len(list) == 0 {
		return list, nil, err
	}
	rows, err = s.pool.Query(ctx,
		`SELECT session_id, data FROM transcript WHERE session_id >= $1 AND session_id <= $2`,
		int64(list[0].ID), int64(list[len(list)-1].ID))
	if err != nil {
		return nil, nil, err
	}
	lines := map[ident.ID][]transcript.Line{}
	var id ident.ID
	var data []byte
	_, err = pgx.ForEachRow(rows, []any{&id, &data}, func() error {
		text, err := unpack.DecodeAll(data, nil)
		if err == nil {
			lines[id], err = transcript.Read(text)
		}
		return err
	})
	return list, lines, err
}
