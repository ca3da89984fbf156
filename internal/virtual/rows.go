// Package virtual runs the service's own parts in virtual time: queue, listeners
// and conversations over the simulated internet, with pipes for sockets and memory for
// the database. Two weeks pass in seconds. It is for tests and for the demo's
// history.
package virtual

import (
	"context"
	"io"
	"maps"
	"slices"
	"sync"
	"time"

	"gullroute/internal/core/archive"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// Rows is a store in memory that leases and records as the database does.
type Rows struct {
	store.Calm
	mu      sync.Mutex
	waiting map[mail.DeliveryID]*row
	content map[ident.ID][]byte
	message map[ident.ID]*mail.Message
	done    map[mail.DeliveryID]mail.Delivery
	tries   map[mail.DeliveryID][]time.Time
	events  map[ident.ID][]mail.Event
	notices []*store.Entry
	used    map[string][2]int64
	replied map[string]time.Time
	ledger
	frozen *Rows
	// ScramKeys are the sign-ins of mailboxes.
	ScramKeys map[string]string
}

type row struct {
	due    store.Due
	leased bool
}

// NewRows makes an empty store.
func NewRows() *Rows {
	return &Rows{
		waiting:   map[mail.DeliveryID]*row{},
		content:   map[ident.ID][]byte{},
		message:   map[ident.ID]*mail.Message{},
		done:      map[mail.DeliveryID]mail.Delivery{},
		tries:     map[mail.DeliveryID][]time.Time{},
		events:    map[ident.ID][]mail.Event{},
		used:      map[string][2]int64{},
		replied:   map[string]time.Time{},
		ScramKeys: map[string]string{},
	}
}

// Enter keeps messages.
func (r *Rows) Enter(_ context.Context, _ int, entries []*store.Entry) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.enter(entries)
	return nil
}

func (r *Rows) enter(entries []*store.Entry) {
	for _, e := range entries {
		m := e.Message
		r.message[m.ID] = m
		if e.Content != nil {
			r.content[m.ID] = e.Content
		}
		for i, d := range e.Deliveries {
			if d.State.Final() {
				r.tries[d.ID()] = append(r.tries[d.ID()], d.FinishedAt.Time)
				r.done[d.ID()] = *d
				r.put(e.Boxes[i])
				continue
			}
			r.waiting[d.ID()] = &row{
				store.Due{
					Delivery: *d,
					Proof:    m.Identity.Proof(),
					Sender:   m.Sender,
					Size:     m.Size,
					UTF8:     m.UTF8,
					EightBit: m.EightBit,
					Ret:      m.Ret,
					EnvID:    m.EnvID,
					Asked:    m.Asked,
					NoticeOf: m.NoticeOf,
					Received: m.ReceivedAt,
					Account:  m.Account,
					Client:   m.ClientAddress,
					Listener: m.Listener,
				},
				e.Leased[i],
			}
		}
		r.note(e.Events)
		if m.MadeHere() {
			r.notices = append(r.notices, e)
		}
	}
}

func (r *Rows) note(events []mail.Event) {
	for _, e := range events {
		r.events[e.MessageID] = append(r.events[e.MessageID], e)
	}
}

// StoreContent keeps content that is too large for one piece.
func (r *Rows) StoreContent(_ context.Context, id ident.ID, content io.Reader) error {
	text, err := io.ReadAll(content)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.content[id] = text
	return err
}

// DropContent forgets it.
func (r *Rows) DropContent(_ context.Context, id ident.ID) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.content, id)
	return nil
}

// OpenContent reads a message's content.
func (r *Rows) OpenContent(_ context.Context, id ident.ID) (*store.Content, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return store.ContentOf(r.content[id]), nil
}

// dueBefore are the rows that nobody works on and that ok takes, in the order of
// their time.
func (r *Rows) dueBefore(ok func(d *mail.Delivery) bool) []*row {
	var out []*row
	for _, one := range r.waiting {
		if !one.leased && ok(&one.due.Delivery) {
			out = append(out, one)
		}
	}
	slices.SortFunc(out, func(a, b *row) int {
		x, y := &a.due.Delivery, &b.due.Delivery
		if c := x.NextAttemptAt.Compare(y.NextAttemptAt.Time); c != 0 {
			return c
		}
		if x.MessageID != y.MessageID {
			return int(min(1, max(-1, x.MessageID-y.MessageID)))
		}
		return int(x.N - y.N)
	})
	return out
}

// LeaseDue takes what is due.
func (r *Rows) LeaseDue(_ context.Context, l store.Lease) ([]store.Due, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []store.Due
	per := map[ident.ID]int{}
	for _, one := range r.dueBefore(func(d *mail.Delivery) bool {
		return !d.NextAttemptAt.After(l.Now) && d.State != mail.Held && !slices.Contains(l.Skip,
			d.LaneID)
	}) {
		lane, limit := one.due.Delivery.LaneID, l.PerLane
		if slices.Contains(l.Try, lane) {
			limit = 1
		}
		if per[lane] >= limit || len(out) >= l.Total {
			continue
		}
		per[lane]++
		one.leased, one.due.Run = true, 1
		out = append(out, one.due)
	}
	return out, nil
}

// LeaseOverdue takes what should have expired.
func (r *Rows) LeaseOverdue(
	_ context.Context,
	_ int,
	now, _ time.Time,
	_ int,
) ([]store.Due, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []store.Due
	for _, one := range r.dueBefore(func(d *mail.Delivery) bool { return !d.ExpiresAt.After(now) }) {
		one.leased, one.due.Run = true, 1
		out = append(out, one.due)
	}
	return out, nil
}

// NextDue is when something is due next.
func (r *Rows) NextDue(
	_ context.Context,
	_ time.Time,
	skip []ident.ID,
	_ []string,
) (next time.Time, _ error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, one := range r.waiting {
		if at := one.due.Delivery.NextAttemptAt.Time; !one.leased &&
			one.due.Delivery.State != mail.Held &&
			(next.IsZero() || at.Before(next)) &&
			!slices.Contains(skip, one.due.Delivery.LaneID) {
			next = at
		}
	}
	return next, nil
}

// ReturnLeases lets go of rows.
func (r *Rows) ReturnLeases(_ context.Context, _ int, ids []mail.DeliveryID, due time.Time) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, id := range ids {
		if one := r.waiting[id]; one != nil {
			one.leased = false
			if due.After(one.due.Delivery.NextAttemptAt.Time) {
				one.due.Delivery.NextAttemptAt = mail.At(due)
			}
		}
	}
	return nil
}

// Finish records outcomes.
func (r *Rows) Finish(_ context.Context, _ int, outcomes []*store.Outcome) ([]*store.Entry, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, o := range outcomes {
		id := o.Delivery.ID()
		r.tries[id] = append(r.tries[id], o.At)
		if o.Delivery.State.Final() {
			d := *o.Delivery
			d.FinishedAt = mail.At(o.At)
			r.done[id] = d
			delete(r.waiting, id)
		} else if one := r.waiting[id]; one != nil {
			one.due.Delivery, one.leased = *o.Delivery, false
		}
		r.put(o.Mailbox)
		r.note(o.Events)
		r.enter(o.Generated)
	}
	return nil, nil
}

// put puts a message into a mailbox, if there is one. mu is held.
func (r *Rows) put(l *store.MailboxMessage) {
	if l != nil {
		u := r.used[l.Mailbox]
		r.used[l.Mailbox] = [2]int64{u[0] + 1, u[1] + int64(len(r.content[l.ID])+len(l.Head()))}
	}
}

// Unwarned are messages whose senders are to be told of a delay.
func (r *Rows) Unwarned(
	_ context.Context,
	after mail.DeliveryID,
	before time.Time,
	_ int,
) ([]store.Due, mail.DeliveryID, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	last := mail.DeliveryID{}
	var out []store.Due
	for id, one := range r.waiting {
		if id.Message > after.Message && id.Message < ident.Floor(before) {
			last.Message, last.N = max(last.Message, id.Message), 1
			if one.due.Delivery.WarnedAt.IsZero() && one.due.Sender != "" {
				out = append(out, one.due)
			}
		}
	}
	slices.SortFunc(out, func(a, b store.Due) int {
		return int(min(1, max(-1, a.Delivery.MessageID-b.Delivery.MessageID)))
	})
	return out, last, nil
}

// Warn records that senders were told.
func (r *Rows) Warn(
	_ context.Context,
	_ int,
	at time.Time,
	warnings []store.Warning,
) ([]*store.Entry, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, w := range warnings {
		for _, id := range w.Deliveries {
			if one := r.waiting[id]; one != nil {
				one.due.Delivery.WarnedAt = mail.At(at)
			}
		}
		r.note(w.Events)
		r.enter(w.Notices)
	}
	return nil, nil
}

// SetBackOff tells nobody: there is no other node.
func (r *Rows) SetBackOff(context.Context, store.BackOff) error { return nil }

// MailboxesUse is how full mailboxes are, in octets.
func (r *Rows) MailboxesUse(_ context.Context, mailboxes []string) (map[string]int64, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[string]int64{}
	for _, box := range mailboxes {
		out[box] = r.used[box][1]
	}
	return out, nil
}

// Replying reports whether a mailbox may answer a sender now.
func (r *Rows) Replying(
	_ context.Context,
	mailbox, sender string,
	now, since time.Time,
) (bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	key := mailbox + "\x00" + sender
	if r.replied[key].After(since) {
		return false, nil
	}
	r.replied[key] = now
	return true, nil
}

// Credentials are a mailbox's sign-in.
func (r *Rows) Credentials(_ context.Context, key string) (hash, scram string, err error) {
	if keys, ok := r.ScramKeys[key]; ok {
		return "", keys, nil
	}
	return "", "", store.ErrNotFound
}

// Done is a delivery that has come to its end, and whether it has.
func (r *Rows) Done(id mail.DeliveryID) (mail.Delivery, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	d, ok := r.done[id]
	return d, ok
}

// Tries are the times at which a delivery was tried.
func (r *Rows) Tries(id mail.DeliveryID) []time.Time {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.tries[id])
}

// Notices are the messages made here.
func (r *Rows) Notices() []*store.Entry {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.notices)
}

// Waiting is how many deliveries have not come to their end.
func (r *Rows) Waiting() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.waiting)
}

// Lines are all records as those of an archive, in order of their ids, and each
// message's content.
func (r *Rows) Lines() (messages []archive.MessageLine, refusals []mail.Refusal,
	sessions []mail.SessionRecord, content map[ident.ID][]byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.frozen != nil {
		return r.frozen.Lines()
	}
	of := map[ident.ID][]mail.Delivery{}
	for id, d := range r.done {
		of[id.Message] = append(of[id.Message], d)
	}
	for id, one := range r.waiting {
		of[id.Message] = append(of[id.Message], one.due.Delivery)
	}
	for id, m := range r.message {
		whole := *m
		whole.Deliveries = of[id]
		slices.SortFunc(whole.Deliveries, func(a, b mail.Delivery) int { return int(a.N - b.N) })
		messages = append(messages, archive.OfMessage(whole, r.events[id]))
	}
	slices.SortFunc(messages, func(a, b archive.MessageLine) int {
		return int(min(1, max(-1,
			a.Message.ID-b.Message.ID)))
	})
	refusals, sessions = r.ledger.all()
	slices.SortFunc(refusals,
		func(a, b mail.Refusal) int { return int(min(1, max(-1, a.ID-b.ID))) })
	slices.SortFunc(sessions,
		func(a, b mail.SessionRecord) int { return int(min(1, max(-1, a.ID-b.ID))) })
	return messages, refusals, sessions, r.content
}

// Freeze keeps the records as they are now, whatever still happens.
func (r *Rows) Freeze() {
	r.mu.Lock()
	defer r.mu.Unlock()
	frozen := &Rows{
		waiting: map[mail.DeliveryID]*row{},
		content: maps.Clone(r.content),
		message: maps.Clone(r.message),
		done:    maps.Clone(r.done),
		events:  maps.Clone(r.events),
	}
	frozen.refusals, frozen.sessions = r.ledger.all()
	for id, one := range r.waiting {
		copied := *one
		frozen.waiting[id] = &copied
	}
	r.frozen = frozen
}
