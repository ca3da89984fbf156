package store

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Intake are where messages come in.
type Intake struct{ *DB }

// PieceSize is the size of the pieces in which content is kept, in octets.
const PieceSize = 256 << 10

// Entry is a message to enter with its deliveries.
type Entry struct {
	Message    *mail.Message
	Deliveries []*mail.Delivery
	// Content is at most PieceSize octets; nil if it was stored ahead by
	// StoreContent: then all of Message.Size must be there.
	Content []byte
	// Leased says, for each delivery, whether the entering node keeps it.
	Leased []bool
	// Boxes hold, for each delivery, what goes into a mailbox with the message: then the
	// delivery is at its end. Nil if none does.
	Boxes  []*MailboxMessage
	Events []mail.Event
}

// Enter commits messages with their content and deliveries, all or none, by bulk
// copy (see copyIn). When it returns without error they are flushed to disk. After an
// error that is *Unclear they may be there; after any other they are not.
func (s Intake) Enter(ctx context.Context, node int, entries []*Entry) error {
	if err := s.nameLanes(ctx, entries); err != nil {
		return err
	}
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	var counts increments
	counts.entered(entries)
	return data(full(copyIn(ctx, conn.Conn().PgConn(), s.before(node, entries),
		append(entryTables(node, entries), counts.table()))))
}

// before is what must hold in the transaction that enters messages: that the run which
// leases their deliveries goes on, and that content stored ahead is there. It was stored
// in a transaction of its own, and on another host if there was a promotion in between.
func (s Intake) before(node int, entries []*Entry) string {
	first := ""
	if slices.ContainsFunc(
		entries,
		func(e *Entry) bool { return slices.Contains(e.Leased, true) },
	) {
		first = s.alive(node)
	}
	for _, e := range entries {
		if e.Content == nil {
			first += fmt.Sprintf("SELECT whole(%d, %d);", int64(e.Message.ID), e.Message.Size)
		}
	}
	return first
}

const eventColumns = "message_id, n, at, kind, node, text, detail"

// entryTables are the rows of entries, table by table.
func entryTables(node int, entries []*Entry) []table {
	return append([]table{
		{
			"message",
			"id, received_at, sender, header_from, subject, message_id, size, listener, " +
				"client_address, helo, " +
				"account, session_id, revision, protocol, hops, utf8, eight_bit, ret, env_id, " +
				"notice_of, direction, identity, gates, severity, score, asked",
			func(w *rowWriter) {
				for _, e := range entries {
					writeMessage(w, e.Message)
				}
			},
		},
		{"content", "message_id, seq, data", func(w *rowWriter) {
			for _, e := range entries {
				if e.Content != nil {
					w.row(3)
					w.int8(int64(e.Message.ID))
					w.int4(0)
					w.bytes(e.Content)
				}
			}
		}},
		{
			"delivery",
			"message_id, n, recipient, original, via, orcpt, notify, state, lane, rule, " +
				"route_why, revision, due_at, expires_at, lease, size, domain, bulk, detour, " +
				"cause, reply",
			func(w *rowWriter) {
				for _, e := range entries {
					for i, d := range e.Deliveries {
						if !d.State.Final() {
							writeDelivery(w, d, e.Message.Size, node, e.Leased[i])
						}
					}
				}
			},
		},
		{"delivery_done", doneColumns, func(w *rowWriter) {
			for _, e := range entries {
				for _, d := range e.Deliveries {
					if d.State.Final() {
						writeDone(w, d)
					}
				}
			}
		}},
		{"event", eventColumns, func(w *rowWriter) {
			for _, e := range entries {
				writeEvents(w, e.Events)
			}
		}},
		wordsOfEntries(entries),
	}, mailboxTables(entries)...)
}

func writeMessage(w *rowWriter, m *mail.Message) {
	w.row(26)
	w.int8(int64(m.ID))
	w.time(m.ReceivedAt)
	w.text(m.Sender)
	w.text(m.HeaderFrom)
	w.text(m.Subject)
	w.text(m.MessageID)
	w.int8(m.Size)
	w.text(m.Listener)
	w.text(m.ClientAddress)
	w.text(m.Helo)
	w.text(m.Account)
	w.int8(int64(m.SessionID))
	w.int4(int32(m.Revision))
	w.text(m.Protocol)
	w.int4(int32(m.Hops))
	w.bool(m.UTF8)
	w.bool(m.EightBit)
	w.text(m.Ret)
	w.text(m.EnvID)
	w.int8(int64(m.NoticeOf))
	w.text(cmp.Or(m.Direction, mail.In))
	if m.Identity != nil {
		w.jsonOf(m.Identity)
	} else {
		w.null()
	}
	if len(m.Gates) > 0 {
		w.texts(m.Gates)
	} else {
		w.null()
	}
	w.int2(int16(m.Severity.Rank()))
	if m.Score != nil {
		w.int2(*m.Score)
	} else {
		w.null()
	}
	w.text(m.Asked.String())
}

func writeDelivery(w *rowWriter, d *mail.Delivery, size int64, node int, leased bool) {
	w.row(21)
	writePlan(w, d)
	w.time(d.NextAttemptAt.Time)
	w.time(d.ExpiresAt.Time)
	if leased {
		w.int4(int32(node))
	} else {
		w.null()
	}
	w.int8(size)
	w.text(strings.ToLower(d.Recipient[strings.LastIndexByte(d.Recipient, '@')+1:]))
	w.bool(d.Bulk)
	w.text(string(d.Detour))
	w.text(string(d.Cause))
	if d.Last != nil {
		w.jsonOf(d.Last)
	} else {
		w.null()
	}
}

// writePlan writes what a waiting and a finished delivery have in common: its key,
// whom it is for, and how it was decided on.
func writePlan(w *rowWriter, d *mail.Delivery) {
	w.int8(int64(d.MessageID))
	w.int2(d.N)
	w.text(d.Recipient)
	w.text(d.Original)
	w.text(joinVia(d.Via))
	w.text(d.ORCPT)
	w.int2(d.Notify)
	w.text(string(d.State))
	w.int8(int64(d.LaneID))
	w.text(d.Rule)
	w.text(d.RouteWhy)
	w.int4(int32(d.Revision))
}

func writeEvents(w *rowWriter, events []mail.Event) {
	for i := range events {
		e := &events[i]
		w.row(7)
		w.int8(int64(e.MessageID))
		w.int2(e.N)
		w.time(e.At)
		w.text(string(e.Kind))
		w.text(e.Node)
		w.text(e.Text)
		w.json(e.Detail)
	}
}

// viaSeparator stands between aliases in the column via; no address holds it.
const viaSeparator = "\n"

func joinVia(via []string) string { return strings.Join(via, viaSeparator) }

// StoreContent stores large content ahead of its message, piece by piece. It need not be
// flushed by itself: the message's commit comes after it in the log, flushes both, and
// happens only if all of it is there.
func (s Intake) StoreContent(ctx context.Context, id ident.ID, content io.Reader) error {
	return full(s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SET LOCAL synchronous_commit = off`); err != nil {
			return err
		}
		piece := make([]byte, PieceSize)
		for seq := int32(0); ; seq++ {
			n, err := io.ReadFull(content, piece)
			if n > 0 {
				if _, err := tx.Exec(
					ctx,
					`INSERT INTO content (message_id, seq, data) VALUES ($1, $2, $3)`,
					int64(id),
					seq,
					piece[:n],
				); err != nil {
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
	}))
}

// DropContent removes content stored ahead of a message that never came.
func (s Intake) DropContent(ctx context.Context, id ident.ID) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM content WHERE message_id = $1`, int64(id))
	return err
}
