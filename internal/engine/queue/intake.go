package queue

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/batch"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// Group commit: a writer takes whatever has come in since its last commit. With
// fifty clients on two processors one writer measured steadier than two: its
// groups are larger.
const (
	intakeWriters = 1
	groupEntries  = 256
	groupOctets   = 8 << 20
	// enterTimeout bounds a transaction: well below store.deadAfter.
	enterTimeout = 8 * time.Second
	// fateLimit is how long a client waits for us to find out what became of a commit
	// whose answer is lost.
	fateLimit     = 6 * time.Second
	fateEvery     = 100 * time.Millisecond
	withdrawLimit = 3 * time.Second
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
// disk; then the message is ours. On an error it is not, and nobody will deliver it. When
// ctx ends before a writer has taken it, it is left; after that the answer must be
// awaited: to go then would leave a message behind that its client believes refused.
func (q *Queue) Enter(ctx context.Context, e *store.Entry) error {
	if err := q.Taking(); err != nil {
		return err
	}
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
	for {
		var first *entryRequest
		select {
		case first = <-q.entries:
		case <-ctx.Done():
			q.refuseRest()
			return
		}
		group := q.gather(first)
		if err := q.Taking(); err != nil { // since they asked
			for _, r := range group {
				r.done <- err
			}
			continue
		}
		q.commit(ctx, group)
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

// commit enters a group and answers each. A message whose data the database refuses
// fails alone. None is answered before it is known what became of it, or it is withdrawn.
func (q *Queue) commit(ctx context.Context, group []*entryRequest) {
	left, err := batch.Write(group, func(part []*entryRequest) error { return q.commitAll(ctx, part) }, func(r *entryRequest, err error) {
		q.Log.Error("a message is refused by the database", "message", r.entry.Message.ID, "session", r.entry.Message.SessionID, "error", err)
		q.Tally.Refuse("messages")
		r.done <- err
	})
	if err == nil {
		return
	}
	q.Log.Error("messages could not be entered", "messages", len(left), "error", err)
	for _, r := range left {
		r.done <- err
	}
}

// commitAll enters a group, all or none. After an error none of them is ours.
func (q *Queue) commitAll(ctx context.Context, group []*entryRequest) error {
	entries := make([]*store.Entry, len(group))
	for i, r := range group {
		entries[i] = r.entry
	}
	run := q.reserve(entries)
	enter := func() error {
		asking, cancel := context.WithTimeout(ctx, enterTimeout)
		defer cancel()
		return q.Store.Enter(asking, run, entries)
	}
	err := enter()
	if errors.Is(err, store.ErrOver) && q.nextRun(ctx, run) { // it was not entered: once more
		q.unreserve(entries)
		run = q.reserve(entries)
		err = enter()
	}
	var lost *store.Unclear
	if errors.As(err, &lost) {
		q.Suspect()
		err = q.clear(ctx, lost, entries)
	}
	if err != nil {
		q.unreserve(entries)
		return err
	}
	for _, r := range group {
		r.done <- nil
	}
	q.handOver(entries, run)
	return nil
}

// clear finds out what became of a commit whose answer is lost. If it cannot be found out
// in time the messages are withdrawn: their clients hear that they were not taken, and
// must be able to rely on it.
func (q *Queue) clear(ctx context.Context, lost *store.Unclear, entries []*store.Entry) error {
	u := unclear{err: lost}
	q.mu.Lock()
	for _, e := range entries {
		u.ids = append(u.ids, e.Message.ID)
		q.inDoubt[e.Message.ID] = false
	}
	q.mu.Unlock()
	defer func() {
		q.mu.Lock()
		defer q.mu.Unlock()
		for _, id := range u.ids {
			delete(q.inDoubt, id)
		}
	}()
	switch q.fate(ctx, lost, u.ids[0]) {
	case store.FateEntered:
		return nil
	case store.FateNot:
		return lost
	}
	if !q.decide(u) {
		return nil
	}
	if err := q.withdrawAll(context.WithoutCancel(ctx)); err != nil {
		q.Log.Error("it is not known whether messages were entered; they are withdrawn as soon as the database answers",
			"messages", len(u.ids), "error", err)
		if err := q.note(u); err != nil {
			q.Log.Error("what is to be withdrawn cannot be written down", "error", err)
		}
		select {
		case q.doubt <- struct{}{}:
		default:
		}
	}
	return lost
}

// fate asks what became of a commit until it is known, for as long as clients wait.
func (q *Queue) fate(ctx context.Context, lost *store.Unclear, id ident.ID) store.Fate {
	asking, cancel := context.WithTimeout(ctx, fateLimit)
	defer cancel()
	for asking.Err() == nil && q.Database().State != store.Waiting { // a standby may be away for days
		one, stop := context.WithTimeout(asking, fateLimit/3)
		fate, err := q.Store.FateOf(one, lost, id)
		stop()
		if err == nil && fate != store.FateOpen {
			return fate
		}
		select { // the database does not answer yet, or the commit is under way
		case <-asking.Done():
		case <-time.After(fateEvery):
		}
	}
	return store.FateOpen
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
// is open and has room in memory. The others wait in the database. It returns the run
// that they are leased to.
func (q *Queue) reserve(entries []*store.Entry) (run int) {
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
	return q.RunNumber()
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
		q.leaveAll(e)
	}
}

// leaveAll gives up the room that was reserved for a message. Queue.mu is held.
func (q *Queue) leaveAll(e *store.Entry) {
	for i, d := range e.Deliveries {
		if e.Leased[i] {
			q.window--
			q.lane(d).window--
		}
	}
}

// handOver gives what was just committed to its lanes.
func (q *Queue) handOver(entries []*store.Entry, run int) {
	watched := q.Hub.Watched()
	for _, e := range entries {
		q.Tally.Add(counters.Received, e.Message.Size)
		if watched {
			q.publishReceived(e.Message)
		}
	}
	for _, b := range q.placeEntries(entries, run) {
		q.giveBack(b)
	}
}

// placeEntries puts what was leased to us into its lanes, and returns what is to go
// back: its lane was stopped, or came to rest, between the decision to take it and its
// commit. What was leased to a run that is over by now is another's.
func (q *Queue) placeEntries(entries []*store.Entry, run int) (back []handBack) {
	now := time.Now()
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, e := range entries {
		for _, d := range e.Deliveries {
			q.flows.add(d.LaneID, now, 1, 0, 0)
		}
		if run != q.RunNumber() {
			q.leaveAll(e)
			continue
		}
		jobs := jobsOf(e, run)
		kept := q.keep(e.Content, len(jobs))
		for _, j := range jobs {
			j.content = kept
			l := q.lane(j.deliveries[0])
			l.window -= len(j.deliveries) // place counts them again
			q.place(j)
			if until, closed := q.closed(l, now); closed {
				back = append(back, handBack{q.unload(l), until})
			}
		}
		if len(jobs) == 0 && kept != nil {
			q.kept.Add(-int64(len(kept.data)))
		}
	}
	return back
}

func (q *Queue) publishReceived(m *mail.Message) {
	q.Hub.Publish(feed.Event{Event: mail.Event{At: m.ReceivedAt, Kind: mail.EventReceived, MessageID: m.ID, Node: q.Name,
		Text: "received from " + m.ClientAddress + " by " + m.Listener}, Sender: m.Sender})
}

// jobsOf makes a job for each lane of the leased deliveries.
func jobsOf(e *store.Entry, run int) []*job {
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
			j = &job{run: run, message: m.ID, received: m.ReceivedAt, sender: m.Sender, size: m.Size, utf8: m.UTF8, eightBit: m.EightBit,
				ret: m.Ret, envID: m.EnvID, noticeOf: m.NoticeOf, account: m.Account, client: m.ClientAddress, listener: m.Listener, direction: m.Direction, proof: m.Identity.Proof()}
			jobs = append(jobs, j)
		}
		j.deliveries = append(j.deliveries, d)
	}
	return jobs
}
