package store

import (
	"context"
	"fmt"
	"reflect"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/address"
	"gullroute/internal/core/archive"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
)

// Histories are a past that is put in whole, as the demo does.
type Histories struct{ *DB }

// History is a stretch of records to be put beside those that are there.
type History struct {
	Messages []archive.MessageLine
	Contents [][]byte // of the messages
	Refusals []mail.Refusal
	Sessions []mail.SessionRecord
}

// LoadHistory puts records in, as if they had happened here: what waits goes into
// the queue, what went into mailboxes of ours lies there, and everything is counted.
func (s Histories) LoadHistory(ctx context.Context, h History) error {
	var entries []*Entry
	var done []mail.Delivery
	var used []*mail.Delivery // whose lanes are named
	var events []mail.Event
	final := keys{kind: countEnded}
	later := keys{kind: countDeferred}
	boxes := &pgx.Batch{}
	var boxed []*MailboxMessage
	for i := range h.Messages {
		m := &h.Messages[i].Message
		e := &Entry{Message: m}
		if len(h.Contents[i]) <= PieceSize {
			e.Content = h.Contents[i]
		}
		for k := range m.Deliveries {
			d := &m.Deliveries[k]
			used = append(used, d)
			if !d.State.Final() {
				e.Deliveries, e.Leased = append(e.Deliveries, d), append(e.Leased, false)
				continue
			}
			done = append(done, *d)
			final.ids, final.ns = append(final.ids, int64(m.ID)), append(final.ns, d.N)
			if d.State == mail.Delivered && d.Last != nil && d.Last.Stage == diagnose.StageMailbox {
				l := MailboxMessage{
					Mailbox:  d.Recipient,
					ID:       m.ID,
					Sender:   m.Sender,
					Received: d.FinishedAt.Time,
				}
				boxed = append(boxed, &l)
			}
		}
		for _, ev := range h.Messages[i].Events {
			events = append(events, ev)
			if ev.Kind == mail.EventDeferred {
				later.ids, later.ns, later.ats = append(later.ids,
					int64(m.ID)), append(later.ns, ev.N), append(later.ats, ev.At)
			}
		}
		entries = append(entries, e)
	}
	if err := s.nameLanesOf(ctx, used); err != nil {
		return err
	}
	entered, refused := keys{kind: countReceived}, keys{kind: countRefused}
	for _, e := range entries {
		entered.ids = append(entered.ids, int64(e.Message.ID))
	}
	for _, r := range h.Refusals {
		refused.ids = append(refused.ids, int64(r.ID))
	}
	tables := append(entryTables(0, entries),
		table{"content", "message_id, seq, data", func(w *rowWriter) { h.writeLarge(w) }},
		table{"delivery_done", doneColumns, func(w *rowWriter) {
			for i := range done {
				writeDone(w, &done[i])
			}
		}},
		table{"event", eventColumns, func(w *rowWriter) { writeEvents(w, events) }})
	tables = append(append(tables, recordTables(h.Sessions, h.Refusals)...),
		(&increments{keys: []keys{entered, final, later, refused}}).table())
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if err := copyIn(ctx, tx.Conn().PgConn(), "", tables); err != nil {
			return err
		}
		queueMailbox(boxes, boxed)
		for _, b := range boxed { // or who has the address would begin with nothing: see setAside
			if a, err := address.Parse(b.Mailbox); err == nil {
				boxes.Queue(`INSERT INTO mailbox (key, address, name, addresses, generated, quota,
						forward_to, keep_copy, may_submit, send_as)
					VALUES ($1, $2, '', '{}', '{}', 0, '{}', false, false, '{}')
					ON CONFLICT (key) DO NOTHING`, a.Key(), a.String())
			}
		}
		for _, e := range entries {
			for _, d := range e.Deliveries {
				if d.Attempts > 0 {
					boxes.Queue(
						`UPDATE delivery SET attempts = $3, first_attempt_at = $4,
							last_attempt_at = $5, reply = $6::jsonb, cause = $7, warned_at = $8
								WHERE message_id = $1 AND n = $2`,
						int64(d.MessageID),
						d.N,
						d.Attempts,
						d.FirstAttemptAt.Time,
						d.LastAttemptAt.Time,
						replyJSON(d.Last),
						string(d.Cause),
						optional(d.WarnedAt),
					)
				}
			}
		}
		return tx.SendBatch(ctx, boxes).Close()
	})
}

func optional(t mail.OptTime) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t.Time
}

func (h History) writeLarge(w *rowWriter) {
	for i, text := range h.Contents {
		if len(text) <= PieceSize {
			continue
		}
		for seq := int32(0); len(text) > 0; seq++ {
			n := min(len(text), PieceSize)
			w.row(3)
			w.int8(int64(h.Messages[i].Message.ID))
			w.int4(seq)
			w.bytes(text[:n])
			text = text[n:]
		}
	}
}

const doneColumns = `message_id, n, recipient, original, via, orcpt, notify, state, lane, rule,
	route_why, revision, attempts, first_attempt_at, last_attempt_at, expires_at, finished_at,
		reply, cause`

func writeDone(w *rowWriter, d *mail.Delivery) {
	w.row(19)
	writePlan(w, d)
	w.int4(int32(d.Attempts))
	for _, t := range []mail.OptTime{d.FirstAttemptAt, d.LastAttemptAt} {
		if t.IsZero() {
			w.null()
		} else {
			w.time(t.Time)
		}
	}
	w.time(d.ExpiresAt.Time)
	w.time(d.FinishedAt.Time)
	switch {
	case d.Last == nil:
		w.null()
	case d.State == mail.Delivered && reflect.DeepEqual(d.Last, mail.IntoMailbox(d.Last.Host, d.Recipient)):
		w.jsonOf(briefReply{d.Last.Stage, d.Last.Host})
	default:
		w.jsonOf(d.Last)
	}
	w.text(string(d.Cause))
}

// briefReply stands for mail.IntoMailbox: half of the row would be that one sentence.
type briefReply struct {
	Stage diagnose.Stage `json:"stage"`
	Host  string         `json:"host"`
}

// inFull is a reply as it was before it was written as a briefReply.
func inFull(r *mail.LastReply, recipient string) *mail.LastReply {
	if r != nil && r.Stage == diagnose.StageMailbox && r.Code == 0 && r.Text == "" {
		return mail.IntoMailbox(r.Host, recipient)
	}
	return r
}

// briefSQL is the text of a delivery's briefReply.
var briefSQL = func() string {
	r := mail.IntoMailbox("", "")
	return fmt.Sprintf("'%d %s %s' || d.recipient", r.Code, r.Enhanced, r.Text)
}()

// CountHistory counts all that is to be counted now, and finds the last answers
// of lanes.
func (s Histories) CountHistory(ctx context.Context) error {
	if _, err := s.pool.Exec(
		ctx,
		lastSQL+` SELECT DISTINCT ON (lane) lane, last_attempt_at, reply, cause FROM delivery
			WHERE reply IS NOT NULL ORDER BY lane, last_attempt_at DESC`+lastConflict,
	); err != nil {
		return err
	}
	return (Counts(s)).countAll(ctx)
}
