package queue

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/fault"
	"gullroute/internal/core/ident"
	"gullroute/internal/engine/batch"
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

// intakeStore enters messages.
type intakeStore interface {
	Enter(ctx context.Context, node int, entries []*store.Entry) error
	FateOf(ctx context.Context, u *store.Unclear, id ident.ID) (store.Fate, error)
}

// intake enters messages in groups that share a commit.
type intake struct {
	*base
	heart     *heart
	doubts    *doubts
	leases    *leases
	scheduler *scheduler
	entries   chan *entryRequest
}

// entryRequest is messages that wait for their commit and go together or not at all: most
// often one.
type entryRequest struct {
	entries []*store.Entry
	done    chan error
	state   atomic.Int32
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
func (x *intake) Enter(ctx context.Context, entries ...*store.Entry) error {
	if err := x.heart.Taking(); err != nil {
		return err
	}
	req := &entryRequest{entries: entries, done: make(chan error, 1)}
	select {
	case x.entries <- req:
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

// RunIntake commits what comes in until ctx ends. It is a part of Run.
func (x *intake) RunIntake(ctx context.Context) {
	var writers sync.WaitGroup
	for range intakeWriters {
		writers.Go(func() { x.writeEntries(ctx) })
	}
	writers.Wait()
}

// writeEntries is one writer. It has no timer: under light load a message is
// committed immediately, under heavy load many share a commit.
func (x *intake) writeEntries(ctx context.Context) {
	for {
		var first *entryRequest
		select {
		case first = <-x.entries:
		case <-ctx.Done():
			x.refuseRest()
			return
		}
		group := x.gather(first)
		if err := x.heart.Taking(); err != nil { // since they asked
			for _, r := range group {
				r.done <- err
			}
			continue
		}
		x.commit(ctx, group)
	}
}

func (x *intake) gather(first *entryRequest) []*entryRequest {
	var group []*entryRequest
	octets := 0
	take := func(r *entryRequest) {
		if r.state.CompareAndSwap(requestQueued, requestTaken) {
			group = append(group, r)
			for _, e := range r.entries {
				octets += len(e.Content)
			}
		}
	}
	take(first)
	for len(group) < groupEntries && octets < groupOctets {
		select {
		case r := <-x.entries:
			take(r)
		default:
			return group
		}
	}
	return group
}

// commit enters a group and answers each. A message whose data the database refuses
// fails alone. None is answered before it is known what became of it, or it is withdrawn.
func (x *intake) commit(ctx context.Context, group []*entryRequest) {
	left, err := batch.Write(
		group,
		func(part []*entryRequest) error { return x.commitAll(ctx, part) },
		func(r *entryRequest, err error) {
			x.Log.Error("a message is refused by the database", "message", r.entries[0].Message.ID,
				"session", r.entries[0].Message.SessionID, "error", err)
			x.Tally.Refuse("messages")
			r.done <- err
		},
	)
	if err == nil {
		return
	}
	x.Log.Error("messages could not be entered", "messages", len(left), "error", err)
	for _, r := range left {
		r.done <- err
	}
}

// commitAll enters a group, all or none. After an error none of them is ours.
func (x *intake) commitAll(ctx context.Context, group []*entryRequest) error {
	entries := make([]*store.Entry, 0, len(group))
	for _, r := range group {
		entries = append(entries, r.entries...)
	}
	run := x.scheduler.reserve(ctx, entries)
	enter := func() error {
		asking, cancel := context.WithTimeout(ctx, enterTimeout)
		defer cancel()
		return x.Store.Enter(asking, run, entries)
	}
	err := enter()
	if errors.Is(err, store.ErrOver) && x.heart.nextRun(ctx, run) { // it was not entered: once more
		x.scheduler.unreserve(entries)
		run = x.scheduler.reserve(ctx, entries)
		err = enter()
	}
	var lost *store.Unclear
	if errors.As(err, &lost) {
		x.leases.Suspect()
		err = x.clear(ctx, lost, entries)
	}
	if err != nil {
		x.scheduler.unreserve(entries)
		return err
	}
	x.Tally.Commit.Observe(float64(len(entries)))
	for _, r := range group {
		r.done <- nil
	}
	for _, e := range entries {
		x.arrived(e.Boxes)
	}
	x.scheduler.admitEntered(entries, run)
	return nil
}

// clear finds out what became of a commit whose answer is lost. If it cannot be found out
// in time the messages are withdrawn: their clients hear that they were not taken, and
// must be able to rely on it.
func (x *intake) clear(ctx context.Context, lost *store.Unclear, entries []*store.Entry) error {
	u := unclear{err: lost}
	for _, e := range entries {
		u.ids = append(u.ids, e.Message.ID)
	}
	x.doubts.begin(u.ids)
	defer x.doubts.end(u.ids)
	switch x.fate(ctx, lost, u.ids[0]) {
	case store.FateEntered:
		return nil
	case store.FateNot:
		return lost
	}
	if !x.doubts.decide(u) {
		return nil
	}
	if err := x.doubts.withdrawAll(context.WithoutCancel(ctx)); err != nil {
		x.Log.Error(
			"it is not known whether messages were entered; they are withdrawn as soon as the "+
				"database answers",
			"messages",
			len(u.ids),
			"error",
			err,
		)
		if err := x.doubts.note(u); err != nil {
			x.Log.Error("what is to be withdrawn cannot be written down", "error", err)
		}
		x.doubts.ask()
	}
	return lost
}

// fate asks what became of a commit until it is known, for as long as clients wait.
func (x *intake) fate(ctx context.Context, lost *store.Unclear, id ident.ID) store.Fate {
	asking, cancel := context.WithTimeout(ctx, fateLimit)
	defer cancel()
	// a standby may be away for days
	for asking.Err() == nil && x.heart.Database().State != store.Waiting {
		one, stop := context.WithTimeout(asking, fateLimit/3)
		fate, err := x.Store.FateOf(one, lost, id)
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

func (x *intake) refuseRest() {
	for {
		select {
		case r := <-x.entries:
			r.state.Store(requestTaken)
			r.done <- fault.ErrStopping
		default:
			return
		}
	}
}
