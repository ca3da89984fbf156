package store

import (
	"context"
	"fmt"
	"io"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// PieceSize is the size of the pieces in which content is kept, in octets.
const PieceSize = 256 << 10

// Entry is a message to enter with its deliveries.
type Entry struct {
	Message    *mail.Message
	Deliveries []*mail.Delivery
	// Content is at most PieceSize octets; nil if it was stored ahead by
	// StoreContent.
	Content []byte
	// Leased says, for each delivery, whether the entering node keeps it.
	Leased []bool
	Events []mail.Event
}

var (
	messageColumns = []string{"id", "received_at", "sender", "header_from", "subject", "message_id", "size", "listener",
		"client_address", "helo", "account", "session_id", "revision", "protocol", "hops", "utf8", "eight_bit", "ret", "env_id", "notice_of"}
	contentColumns  = []string{"message_id", "seq", "data"}
	deliveryColumns = []string{"message_id", "n", "recipient", "original", "via", "orcpt", "notify", "state", "lane",
		"rule", "route_why", "revision", "due_at", "expires_at", "lease", "size"}
	eventColumns = []string{"message_id", "n", "at", "kind", "node", "text", "detail"}
)

// Enter commits messages with their content and deliveries, all or none, by
// bulk copy. When it returns without error they are flushed to disk.
func (s *Store) Enter(ctx context.Context, node int, entries []*Entry) error {
	if err := s.nameLanes(ctx, entries); err != nil {
		return err
	}
	return s.inTx(ctx, func(tx pgx.Tx) error { return enter(ctx, tx, node, entries) })
}

func enter(ctx context.Context, tx pgx.Tx, node int, entries []*Entry) error {
	i := 0
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"message"}, messageColumns, pgx.CopyFromFunc(func() ([]any, error) {
		if i == len(entries) {
			return nil, nil
		}
		m := entries[i].Message
		i++
		return []any{int64(m.ID), m.ReceivedAt, m.Sender, m.HeaderFrom, m.Subject, m.MessageID, m.Size, m.Listener,
			m.ClientAddress, m.Helo, m.Account, int64(m.SessionID), int32(m.Revision), m.Protocol, int32(m.Hops), m.UTF8, m.EightBit, m.Ret, m.EnvID, int64(m.NoticeOf)}, nil
	}))
	if err != nil {
		return fmt.Errorf("message: %w", err)
	}
	i = 0
	_, err = tx.CopyFrom(ctx, pgx.Identifier{"content"}, contentColumns, pgx.CopyFromFunc(func() ([]any, error) {
		for i < len(entries) && entries[i].Content == nil {
			i++
		}
		if i == len(entries) {
			return nil, nil
		}
		e := entries[i]
		i++
		return []any{int64(e.Message.ID), int32(0), e.Content}, nil
	}))
	if err != nil {
		return fmt.Errorf("content: %w", err)
	}
	return enterDeliveries(ctx, tx, node, entries)
}

func enterDeliveries(ctx context.Context, tx pgx.Tx, node int, entries []*Entry) error {
	i, j := 0, 0
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"delivery"}, deliveryColumns, pgx.CopyFromFunc(func() ([]any, error) {
		for i < len(entries) && j == len(entries[i].Deliveries) {
			i, j = i+1, 0
		}
		if i == len(entries) {
			return nil, nil
		}
		e := entries[i]
		d := e.Deliveries[j]
		var lease any
		if e.Leased[j] {
			lease = int32(node)
		}
		j++
		return []any{int64(d.MessageID), d.N, d.Recipient, d.Original, d.Via, d.ORCPT, d.Notify, string(d.State), int64(d.LaneID),
			d.Rule, d.RouteWhy, int32(d.Revision), d.NextTryAt.Time, d.ExpiresAt.Time, lease, e.Message.Size}, nil
	}))
	if err != nil {
		return fmt.Errorf("delivery: %w", err)
	}
	var events []mail.Event
	for _, e := range entries {
		events = append(events, e.Events...)
	}
	return copyEvents(ctx, tx, events)
}

func copyEvents(ctx context.Context, tx pgx.Tx, events []mail.Event) error {
	if len(events) == 0 {
		return nil
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"event"}, eventColumns, pgx.CopyFromSlice(len(events), func(i int) ([]any, error) {
		e := &events[i]
		return []any{int64(e.MessageID), e.N, e.At, string(e.Kind), e.Node, e.Text, e.Detail}, nil
	}))
	if err != nil {
		return fmt.Errorf("event: %w", err)
	}
	return nil
}

// StoreContent stores large content ahead of its message, piece by piece. It
// need not be flushed by itself: the message's commit comes after it in the log
// and flushes both.
func (s *Store) StoreContent(ctx context.Context, id ident.ID, content io.Reader) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SET LOCAL synchronous_commit = off`); err != nil {
			return err
		}
		piece := make([]byte, PieceSize)
		for seq := int32(0); ; seq++ {
			n, err := io.ReadFull(content, piece)
			if n > 0 {
				if _, err := tx.Exec(ctx, `INSERT INTO content (message_id, seq, data) VALUES ($1, $2, $3)`, int64(id), seq, piece[:n]); err != nil {
					return err
				}
			}
			if err == io.EOF || err == io.ErrUnexpectedEOF {
				return nil
			}
			if err != nil {
				return err
			}
		}
	})
}

// DropContent removes content stored ahead of a message that never came.
func (s *Store) DropContent(ctx context.Context, id ident.ID) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM content WHERE message_id = $1`, int64(id))
	return err
}
