package queue

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/apart"
	"gullroute/internal/engine/live"
	"gullroute/internal/engine/tally"
	"gullroute/internal/store"
)

// Group commit: a writer takes whatever has come in since its last commit. With
// fifty clients on two processors one writer measured steadier than two: its
// groups are larger.
const (
	intakeWriters = 1
	groupEntries  = 256
	groupOctets   = 8 << 20
	enterTimeout  = 20 * time.Second
)

// ErrStopped reports that the service is going down.
var ErrStopped = errors.New("the service is stopping")

// entryRequest is a message that waits for its commit.
type entryRequest struct {
	entry *store.Entry
	done  chan error
	state atomic.Int32
}

// The states of a request: who waits may leave until a writer takes it.
const (
	requestQueued = iota
	requestTaken
	requestLeft
)

// Enter commits a message with its deliveries and returns when it is flushed to
// disk; then the message is ours. On an error it is not. When ctx ends before a
// writer has taken it, it is left; after that the answer must be awaited: to go then
// would leave a message behind that its client believes refused.
func (q *Queue) Enter(ctx context.Context, e *store.Entry) error {
	req := &entryRequest{entry: e, done: make(chan error, 1)}
	select {
	case q.entries <- req:
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-req.done:
		return err
	case <-ctx.Done():
		if req.state.CompareAndSwap(requestQueued, requestLeft) {
			return ctx.Err()
		}
		return <-req.done
	}
}

// writeEntries is one writer. It has no timer: under light load a message is
// committed at once, under heavy load many share a commit.
func (q *Queue) writeEntries(ctx context.Context) {
	var unsure []ident.ID
	for {
		var first *entryRequest
		select {
		case first = <-q.entries:
		case <-ctx.Done():
			q.refuseRest()
			return
		}
		group := q.gather(first)
		unsure = q.settle(ctx, unsure)
		unsure = append(unsure, q.commit(ctx, group)...)
	}
}

func (q *Queue) gather(first *entryRequest) []*entryRequest {
	var group []*entryRequest
	octets := 0
	take := func(r *entryRequest) {
		if r.state.CompareAndSwap(requestQueued, requestTaken) {
			group, octets = append(group, r), octets+len(r.entry.Content)
		}
	}
	take(first)
	for len(group) < groupEntries && octets < groupOctets {
		select {
		case r := <-q.entries:
			take(r)
		default:
			return group
		}
	}
	return group
}

// settle takes out again what a failed commit may have left behind: its clients
// were told no, and nobody works on it.
func (q *Queue) settle(ctx context.Context, unsure []ident.ID) []ident.ID {
	if len(unsure) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, enterTimeout)
	defer cancel()
	if err := q.Store.Unenter(ctx, unsure); err != nil {
		return unsure
	}
	return nil
}

// commit enters a group and answers each. A message whose data the database refuses
// fails alone. It returns those of which it is not known whether they were entered.
func (q *Queue) commit(ctx context.Context, group []*entryRequest) []ident.ID {
	left, err := apart.Write(group, func(part []*entryRequest) error { return q.commitAll(ctx, part) }, func(r *entryRequest, err error) {
		q.Log.Error("a message is refused by the database", "message", r.entry.Message.ID, "session", r.entry.Message.SessionID, "error", err)
		q.Tally.Refuse("messages")
		r.done <- err
	})
	if err == nil {
		return nil
	}
	q.Log.Error("messages could not be entered", "messages", len(left), "error", err)
	var unsure []ident.ID
	for _, r := range left {
		unsure = append(unsure, r.entry.Message.ID)
		r.done <- err
	}
	return unsure
}

// commitAll enters a group, all or none.
func (q *Queue) commitAll(ctx context.Context, group []*entryRequest) error {
	entries := make([]*store.Entry, len(group))
	for i, r := range group {
		entries[i] = r.entry
	}
	q.reserve(entries)
	ctx, cancel := context.WithTimeout(ctx, enterTimeout)
	defer cancel()
	if err := q.Store.Enter(ctx, q.Node, entries); err != nil {
		q.unreserve(entries)
		return err
	}
	for _, r := range group {
		r.done <- nil
	}
	q.handOver(entries)
	return nil
}

func (q *Queue) refuseRest() {
	for {
		select {
		case r := <-q.entries:
			r.state.Store(requestTaken)
			r.done <- ErrStopped
		default:
			return
		}
	}
}

// reserve decides which deliveries this node takes on at once: those whose lane
// is open and has room in memory. The others wait in the database.
func (q *Queue) reserve(entries []*store.Entry) {
	now := time.Now()
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, e := range entries {
		e.Leased = make([]bool, len(e.Deliveries))
		for i, d := range e.Deliveries {
			l := q.lane(d)
			d.Bulk = q.volume.add(int64(d.LaneID), e.Message.Sender, now.Unix())
			r, elsewhere := q.rests[d.LaneID]
			switch {
			case d.State == mail.Held:
			case now.Before(l.restUntil):
				d.NextTryAt = mail.At(l.restUntil)
			case elsewhere:
				d.NextTryAt = mail.At(r.Until)
			case !config.On(l.route().Nodes, q.Name), q.paused(l) != nil, q.isFrozen(l.id, now):
			case q.stopping || q.window >= maxWindow || l.window >= q.share(d) || l.more && d.Bulk:
				l.more = true
			default:
				e.Leased[i] = true
				q.window++
				l.window++
			}
		}
	}
}

// share is how much of a lane's room in memory a letter may use: half of it is
// kept from bulk, so that a single letter has no hundred thousand before it.
// Queue.mu is held.
func (q *Queue) share(d *mail.Delivery) int {
	if d.Bulk {
		return q.allowance() / 2
	}
	return q.allowance()
}

func (q *Queue) unreserve(entries []*store.Entry) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, e := range entries {
		for i, d := range e.Deliveries {
			if e.Leased[i] {
				q.window--
				q.lane(d).window--
			}
		}
	}
}

// handOver gives what was just committed to its lanes.
func (q *Queue) handOver(entries []*store.Entry) {
	watched := q.Hub.Watched()
	for _, e := range entries {
		q.Tally.Add(tally.Received, e.Message.Size)
		if watched {
			q.publishReceived(e.Message)
		}
	}
	q.GiveBack(q.placeEntries(entries))
}

// placeEntries puts what was leased to us into its lanes, and returns what is to go
// back: a person has stopped its lane between the decision to take it and its commit.
func (q *Queue) placeEntries(entries []*store.Entry) (back []mail.DeliveryID) {
	now := time.Now()
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, e := range entries {
		for _, d := range e.Deliveries {
			q.flows.add(d.LaneID, now, 1, 0, 0)
		}
		jobs := jobsOf(e)
		kept := q.keep(e.Content, len(jobs))
		for _, j := range jobs {
			j.content = kept
			l := q.lane(j.deliveries[0])
			l.window -= len(j.deliveries) // place counts them again
			q.place(j)
			if q.paused(l) != nil || q.isFrozen(l.id, now) {
				back = append(back, q.unload(l)...)
			}
		}
		if len(jobs) == 0 && kept != nil {
			q.kept.Add(-int64(len(kept.data)))
		}
	}
	return back
}

func (q *Queue) publishReceived(m *mail.Message) {
	q.Hub.Publish(live.Event{Event: mail.Event{At: m.ReceivedAt, Kind: mail.EventReceived, MessageID: m.ID, Node: q.Name,
		Text: "received from " + m.ClientAddress + " by " + m.Listener}, Sender: m.Sender})
}

// jobsOf makes a job for each lane of the leased deliveries.
func jobsOf(e *store.Entry) []*job {
	var jobs []*job
	for i, d := range e.Deliveries {
		if !e.Leased[i] {
			continue
		}
		var j *job
		for _, known := range jobs {
			if known.lane() == d.LaneID {
				j = known
			}
		}
		if j == nil {
			m := e.Message
			j = &job{message: m.ID, received: m.ReceivedAt, sender: m.Sender, size: m.Size, utf8: m.UTF8, eightBit: m.EightBit,
				ret: m.Ret, envID: m.EnvID, noticeOf: m.NoticeOf, account: m.Account, client: m.ClientAddress, listener: m.Listener, direction: m.Direction, proof: m.Identity.Proof()}
			jobs = append(jobs, j)
		}
		j.deliveries = append(j.deliveries, d)
	}
	return jobs
}
