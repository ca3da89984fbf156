package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// laneName is what a lane's number stands for.
type laneName struct{ route, nextHop string }

// nameLanes makes sure that the lanes of new deliveries are on record.
func (s *Store) nameLanes(ctx context.Context, entries []*Entry) error {
	for _, e := range entries {
		for _, d := range e.Deliveries {
			if err := s.nameLane(ctx, d); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Store) nameLanesOf(ctx context.Context, outcomes []*Outcome) error {
	for _, o := range outcomes {
		if err := s.nameLane(ctx, o.Delivery); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) nameLane(ctx context.Context, d *mail.Delivery) error {
	s.lanesMu.RLock()
	_, known := s.lanes[d.LaneID]
	s.lanesMu.RUnlock()
	if known {
		return nil
	}
	_, err := s.pool.Exec(ctx, `INSERT INTO lane (id, route, next_hop) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, int64(d.LaneID), d.Route, d.NextHop)
	if err != nil {
		return fmt.Errorf("lane: %w", err)
	}
	s.lanesMu.Lock()
	s.lanes[d.LaneID] = laneName{d.Route, d.NextHop}
	s.lanesMu.Unlock()
	return nil
}

// Lanes counts what waits, by lane; those with most first.
func (s *Store) Lanes(ctx context.Context) ([]mail.Lane, error) {
	rows, err := s.pool.Query(ctx, `
		SELECT c.*, l.route, l.next_hop, r.reply, coalesce(r.cause, '') FROM (
			SELECT lane, count(*) FILTER (WHERE state = 'waiting') AS waiting, count(*) FILTER (WHERE state = 'deferred') AS deferred,
				count(*) FILTER (WHERE state = 'held') AS held, sum(size)::bigint AS bytes, min(message_id) AS oldest,
				min(due_at) FILTER (WHERE lease IS NULL AND state <> 'held') AS due, min(expires_at) AS expires
			FROM delivery GROUP BY lane) c
		JOIN lane l ON l.id = c.lane
		LEFT JOIN LATERAL (SELECT reply, cause FROM delivery d WHERE d.lane = c.lane AND d.message_id = c.oldest AND reply IS NOT NULL LIMIT 1) r ON true
		ORDER BY c.waiting + c.deferred + c.held DESC, l.route, l.next_hop`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.Lane, error) {
		var l mail.Lane
		var oldest ident.ID
		err := row.Scan(&l.ID, &l.Waiting, &l.Deferred, &l.Held, &l.Bytes, &oldest, optTime{&l.NextTryAt}, optTime{&l.ExpiresAt},
			&l.Route, &l.NextHop, &l.Last, &l.Cause)
		l.OldestAt = mail.At(oldest.Time())
		return l, err
	})
}

// QueueFilter selects deliveries that are not finished. Zero fields select all.
type QueueFilter struct {
	Lane      ident.ID
	Route     string
	Message   ident.ID
	Delivery  mail.DeliveryID
	State     mail.State
	Sender    string // an address or a part of one
	Recipient string // an address or a part of one
	After     mail.DeliveryID
	Limit     int
}

func (f QueueFilter) where(args []any) (string, []any) {
	q := query{args: args}
	if f.Lane != 0 {
		q.and("d.lane = %s", int64(f.Lane))
	}
	if f.Route != "" {
		q.and("l.route = %s", f.Route)
	}
	if f.Message != 0 {
		q.and("d.message_id = %s", int64(f.Message))
	}
	if f.Delivery.N != 0 {
		q.and("d.message_id = %s", int64(f.Delivery.Message))
		q.and("d.n = %s", f.Delivery.N)
	}
	if f.State != "" {
		q.and("d.state = %s", string(f.State))
	}
	if f.After.N != 0 {
		fmt.Fprintf(&q, " AND (d.message_id, d.n) > (%s, %s)", q.arg(int64(f.After.Message)), q.arg(f.After.N))
	}
	q.andAddress("m.sender", f.Sender)
	q.andAddress("d.recipient", f.Recipient)
	return q.String(), q.args
}

// Queue lists deliveries that are not finished, oldest first.
func (s *Store) Queue(ctx context.Context, f QueueFilter) ([]mail.QueueItem, error) {
	where, args := f.where(nil)
	args = append(args, f.Limit)
	rows, err := s.pool.Query(ctx, `SELECT `+queueColumns+`, d.lease IS NOT NULL, m.sender, m.subject, m.size, m.received_at
		FROM delivery d JOIN lane l ON l.id = d.lane JOIN message m ON m.id = d.message_id
		WHERE true`+where+fmt.Sprintf(` ORDER BY d.message_id, d.n LIMIT $%d`, len(args)), args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.QueueItem, error) {
		var it mail.QueueItem
		var leased bool
		err := scanDelivery(row, &it.Delivery, &leased, &it.Sender, &it.Subject, &it.Size, &it.ReceivedAt)
		it.ReceivedAt = it.ReceivedAt.UTC()
		return it, err
	})
}
