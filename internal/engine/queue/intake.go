package queue

import (
	"context"
	"errors"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
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

type entryRequest struct {
	entry *store.Entry
	done  chan error
}

// Enter commits a message with its deliveries and returns when it is flushed to
// disk; then the message is ours. On an error it is not.
func (q *Queue) Enter(ctx context.Context, e *store.Entry) error {
	req := &entryRequest{e, make(chan error, 1)}
	select {
	case q.entries <- req:
	case <-ctx.Done():
		return ctx.Err()
	}
	// From here on the answer must be awaited: to give up now would leave a
	// message behind that its client believes refused.
	return <-req.done
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
		if err := q.commit(ctx, group); err != nil {
			q.Log.Error("messages could not be entered", "messages", len(group), "error", err)
			for _, r := range group {
				unsure = append(unsure, r.entry.Message.ID)
			}
		}
	}
}

func (q *Queue) gather(first *entryRequest) []*entryRequest {
	group, octets := []*entryRequest{first}, len(first.entry.Content)
	for len(group) < groupEntries && octets < groupOctets {
		select {
		case r := <-q.entries:
			group = append(group, r)
			octets += len(r.entry.Content)
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

func (q *Queue) commit(ctx context.Context, group []*entryRequest) error {
	entries := make([]*store.Entry, len(group))
	for i, r := range group {
		entries[i] = r.entry
	}
	q.reserve(entries)
	ctx, cancel := context.WithTimeout(ctx, enterTimeout)
	defer cancel()
	err := q.Store.Enter(ctx, q.Node, entries)
	for _, r := range group {
		r.done <- err
	}
	if err != nil {
		q.unreserve(entries)
		return err
	}
	q.handOver(entries)
	return nil
}

func (q *Queue) refuseRest() {
	for {
		select {
		case r := <-q.entries:
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
			q.flows.add(d.LaneID, now, 1, 0, 0)
			r, elsewhere := q.rests[d.LaneID]
			switch {
			case d.State == mail.Held:
			case now.Before(l.restUntil):
				d.NextTryAt = mail.At(l.restUntil)
			case elsewhere:
				d.NextTryAt = mail.At(r.Until)
			case !config.On(l.route.Nodes, q.Name), q.paused(l) != nil, q.isFrozen(l.id, now):
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
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, e := range entries {
		jobs := jobsOf(e)
		kept := q.keep(e.Content, len(jobs))
		for _, j := range jobs {
			j.content = kept
			q.lanes[j.lane()].window -= len(j.deliveries) // place counts them again
			q.place(j)
		}
		if len(jobs) == 0 && kept != nil {
			q.kept.Add(-int64(len(kept.data)))
		}
	}
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
				ret: m.Ret, envID: m.EnvID, noticeOf: m.NoticeOf, account: m.Account, client: m.ClientAddress, listener: m.Listener, direction: m.Direction}
			jobs = append(jobs, j)
		}
		j.deliveries = append(j.deliveries, d)
	}
	return jobs
}
