package queue

import (
	"context"
	"errors"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// dueStore leases what is due.
type dueStore interface {
	LeaseDue(ctx context.Context, l store.Lease) ([]store.Due, error)
	LeaseOverdue(ctx context.Context, node int, now, before time.Time,
		limit int) ([]store.Due, error)
	NextDue(ctx context.Context, now time.Time, skip []ident.ID, routes []string) (time.Time, error)
}

// scheduler decides what comes into memory: of what was just committed, and of what is due
// in the database.
type scheduler struct {
	*base
	heart    *heart
	lanes    *lanes
	returns  *returns
	doubts   *doubts
	leases   *leases
	recorder *recorder
	author   *author
	flows    *flows

	fetching sync.Mutex // held while deliveries are leased and placed
	behind   ident.ID   // the lane to begin behind at the next look
	volumeMu sync.Mutex
	volume   volume
}

// Pauses between two looks at the database.
const (
	shortestWait = 20 * time.Millisecond
	longestWait  = 2 * time.Second
	noRoomWait   = 100 * time.Millisecond
)

// fetchDue looks for what is due until ctx ends.
func (s *scheduler) fetchDue(ctx context.Context) error {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-s.wake:
		case <-timer.C:
		}
		timer.Reset(s.fetch(ctx))
	}
}

// fetch takes what is due and says when to look again.
func (s *scheduler) fetch(ctx context.Context) time.Duration {
	cfg := s.cfg.Load()
	if s.heart.fenced() || cfg == nil || s.doubts.any() {
		return longestWait
	}
	now := time.Now()
	s.fetching.Lock()
	open := s.lookAtLanes(now)
	if open.room <= 0 {
		s.fetching.Unlock()
		return noRoomWait
	}
	l := store.Lease{
		Node:    s.heart.RunNumber(),
		Now:     now,
		Routes:  s.closedRoutes(cfg),
		From:    s.behind,
		Skip:    open.skip,
		Try:     open.try,
		PerLane: min(s.lanes.allowance(), leaseAtOnce),
		Total:   min(open.room, leaseAtOnce),
	}
	asking, cancel := context.WithTimeout(ctx, leaseTimeout)
	due, err := s.Store.LeaseDue(asking, l)
	cancel()
	if err != nil {
		s.leases.Suspect()
		s.fetching.Unlock()
		if ctx.Err() == nil && !errors.Is(err, store.ErrOver) {
			s.Log.Error("the queue cannot be read", "error", err)
		}
		return longestWait
	}
	full := len(due) >= l.Total
	if s.behind = 0; full { // the others have their turn at the next look
		s.behind = lastLane(due, l.From)
	}
	back := s.admit(cfg, due)
	s.fetching.Unlock()
	s.returns.give(back...)
	if full {
		return shortestWait
	}
	asking, cancel = context.WithTimeout(ctx, leaseTimeout)
	defer cancel()
	next, err := s.Store.NextDue(asking, now, open.skip, l.Routes)
	if err != nil || next.IsZero() {
		next = now.Add(longestWait)
	}
	if !open.soonest.IsZero() && open.soonest.Before(next) {
		next = open.soonest
	}
	return min(max(time.Until(next), shortestWait), longestWait)
}

// lastLane is the lane at which a look that began behind from has ended.
func lastLane(due []store.Due, from ident.ID) ident.ID {
	last, passed := from, false // whether it came round to the first lanes again
	for i := range due {
		id := due[i].Delivery.LaneID
		if p := id <= from; p && !passed || p == passed && id > last || last == from && !passed {
			last, passed = id, p
		}
	}
	return last
}

// opening is from which lanes something is to be taken now.
type opening struct {
	skip    []ident.ID // nothing
	try     []ident.ID // a single message, to try whether the host is well again
	room    int        // in memory
	soonest time.Time  // when the first closed lane opens
}

// close leaves a lane out until a time.
func (o *opening) close(id ident.ID, until time.Time) {
	o.skip = append(o.skip, id)
	if o.soonest.IsZero() || until.Before(o.soonest) {
		o.soonest = until
	}
}

// lookAtLanes finds out from which lanes something is to be taken, and drops from memory
// those that had nothing to do for a while.
func (s *scheduler) lookAtLanes(now time.Time) opening {
	var o opening
	if s.lanes.stops.pauses.Load().all != nil {
		return o
	}
	o.skip = s.lanes.stops.skip(now)
	for _, r := range s.lanes.backOffs.all() {
		if end := r.Until.Add(graceOfOthers); now.After(end) {
			o.try = append(o.try, r.Lane)
		} else {
			o.close(r.Lane, end)
		}
	}
	limit := s.lanes.allowance() / 2
	s.lanes.mu.Lock()
	defer s.lanes.mu.Unlock()
	for id, l := range s.lanes.by {
		l.mu.Lock()
		if l.host.failures == 0 && l.quiet(now, time.Minute) {
			delete(s.lanes.by, id)
		} else {
			s.lookAtLane(&o, l, now, limit)
		}
		l.mu.Unlock()
	}
	o.room = maxWindow - int(s.lanes.window.Load())
	return o
}

// lookAtLane does so for one. l.mu is held.
func (s *scheduler) lookAtLane(o *opening, l *lane, now time.Time, limit int) {
	switch {
	case s.lanes.stops.paused(l) != nil:
		o.skip = append(o.skip, l.id)
	case now.Before(l.host.backOffUntil):
		o.close(l.id, l.host.backOffUntil)
	case l.load.window >= limit:
		o.skip = append(o.skip, l.id)
		l.load.more = true
	case l.host.failures > 0 && l.load.window > 0:
		o.skip = append(o.skip, l.id) // memory has messages to try it with
		s.lanes.staff(l)
	case l.host.failures > 0:
		o.try = append(o.try, l.id)
	}
}

// closedRoutes are those of other nodes and those that a person stopped.
func (s *scheduler) closedRoutes(c *config.Compiled) []string {
	var out []string
	for i := range c.Routes {
		if r := &c.Routes[i]; !config.On(r.Nodes, s.Name) {
			out = append(out, r.Name)
		}
	}
	for name := range s.lanes.stops.pauses.Load().routes {
		out = append(out, name)
	}
	return out
}

// admit puts deliveries taken from the database into their lanes, each message's together.
// It returns what is to go back: its lane was closed meanwhile.
func (s *scheduler) admit(cfg *config.Compiled, due []store.Due) (back []handBack) {
	now := time.Now()
	for _, j := range s.jobsOfDue(cfg, due) {
		if s.doubts.returned(j.message) {
			continue // its client was told no
		}
		s.lanes.mu.Lock()
		l := s.lanes.of(j.deliveries[0])
		l.mu.Lock()
		s.lanes.reserve(l, len(j.deliveries))
		s.lanes.mu.Unlock()
		back = append(back, s.lanes.place(l, j, now))
		l.mu.Unlock()
	}
	return back
}

// jobsOfDue makes a job for each message and lane. What was planned under another revision
// is planned anew, and what that refuses bounces.
func (s *scheduler) jobsOfDue(cfg *config.Compiled, due []store.Due) (order []*job) {
	jobs := map[jobKey]*job{}
	for i := range due {
		d := &due[i]
		if d.Delivery.Revision != cfg.Revision {
			if fault := planDue(cfg, d); fault != nil {
				s.refuse(d, fault)
				continue
			}
		}
		key := jobKey{d.Delivery.MessageID, d.Delivery.LaneID}
		j := jobs[key]
		if j == nil {
			j = jobOf(d)
			jobs[key] = j
			order = append(order, j)
		}
		j.deliveries = append(j.deliveries, &d.Delivery)
	}
	return order
}

// reserve decides which deliveries this node takes on immediately: those whose lane
// is open and has room in memory. The others wait in the database. It returns the run
// that they are leased to.
func (s *scheduler) reserve(ctx context.Context, entries []*store.Entry) (run int) {
	now, a := time.Now(), s.arrivals(ctx, entries)
	s.lanes.mu.Lock()
	defer s.lanes.mu.Unlock()
	for _, e := range entries {
		e.Leased = make([]bool, len(e.Deliveries))
		for i, d := range e.Deliveries {
			if d.State.Final() { // by an attempt to enter it before
				continue
			}
			if box := s.arrive(e, d, a, now); box != nil {
				if e.Boxes == nil {
					e.Boxes = make([]*store.MailboxMessage, len(e.Deliveries))
				}
				e.Boxes[i] = box
				continue
			}
			d.Bulk = s.isBulk(d, e.Message.Sender, now) || d.Bulk // its sender may ask for it
			e.Leased[i] = s.reserveOne(d, now)
		}
	}
	return s.heart.RunNumber()
}

// arrive puts a message straight into a mailbox of ours, if nothing stands against it.
// lanes.mu is held.
func (s *scheduler) arrive(
	e *store.Entry,
	d *mail.Delivery,
	a *arrivals,
	now time.Time,
) *store.MailboxMessage {
	if d.NextHop != "local" {
		return nil
	}
	l := s.lanes.of(d)
	l.mu.Lock()
	defer l.mu.Unlock()
	_, closed := s.lanes.stops.closed(l, now)
	return a.put(e.Message, d, l, closed || s.stopping.Load())
}

// reserveOne keeps room for a delivery, or says when it is due. lanes.mu is held.
func (s *scheduler) reserveOne(d *mail.Delivery, now time.Time) bool {
	l := s.lanes.of(d)
	l.mu.Lock()
	defer l.mu.Unlock()
	until, closed := s.lanes.stops.closed(l, now)
	elsewhere, resting := s.lanes.backOffs.of(d.LaneID)
	switch {
	case d.State == mail.Held, d.NextAttemptAt.After(now.Add(time.Second)): // a gate's delay
	case now.Before(l.host.backOffUntil):
		d.NextAttemptAt = mail.At(until)
	case resting:
		d.NextAttemptAt = mail.At(elsewhere.Until)
	case closed, !config.On(l.route().Nodes, s.Name):
	case s.stopping.Load(),
		s.lanes.window.Load() >= maxWindow,
		l.load.window >= s.share(d),
		l.load.more && d.Bulk:
		l.load.more = true
	default:
		s.lanes.reserve(l, 1)
		return true
	}
	return false
}

// share is how much of a lane's room in memory a message may use: half of it is kept from
// bulk, so that a single message has no hundred thousand before it.
func (s *scheduler) share(d *mail.Delivery) int {
	if d.Bulk {
		return s.lanes.allowance() / 2
	}
	return s.lanes.allowance()
}

// isBulk counts a delivery, and reports whether it is one of very many from its sender.
func (s *scheduler) isBulk(d *mail.Delivery, sender string, now time.Time) bool {
	s.volumeMu.Lock()
	defer s.volumeMu.Unlock()
	return s.volume.add(int64(d.LaneID), sender, now.Unix())
}

// unreserve frees the room that was kept for messages.
func (s *scheduler) unreserve(entries []*store.Entry) {
	for _, e := range entries {
		for i, d := range e.Deliveries {
			if !e.Leased[i] {
				continue
			}
			if l := s.lanes.find(d.LaneID); l != nil { // it is: room was kept in it
				l.mu.Lock()
				s.lanes.reserve(l, -1)
				l.mu.Unlock()
			}
		}
	}
}

// admitEntered gives what was just committed to its lanes.
func (s *scheduler) admitEntered(entries []*store.Entry, run int) {
	watched, now := s.Hub.Watched(), time.Now()
	var back []handBack
	for _, e := range entries {
		s.Tally.Add(counters.Received, e.Message.Size)
		if watched {
			s.publishReceived(e.Message)
		}
		for i, d := range e.Deliveries {
			s.flows.add(d.LaneID, now, 1, 0, 0)
			if e.Boxes != nil && e.Boxes[i] != nil {
				s.recorder.count(d, e.Message.Sender, e.Message.Size, d.LaneID, d.FinishedAt.Time)
				s.recorder.publish(d, e.Message.Sender, d.FinishedAt.Time)
			}
		}
		jobs := jobsOf(e, run)
		kept := s.lanes.keep(e.Content, len(jobs))
		for _, j := range jobs {
			j.content = kept
			s.lanes.mu.Lock()
			l := s.lanes.of(j.deliveries[0])
			l.mu.Lock()
			s.lanes.mu.Unlock()
			back = append(back, s.lanes.place(l, j, now))
			l.mu.Unlock()
		}
	}
	s.returns.give(back...)
}

func (s *scheduler) publishReceived(m *mail.Message) {
	s.Hub.Publish(feed.Event{
		Event: mail.Event{
			At:        m.ReceivedAt,
			Kind:      mail.EventReceived,
			MessageID: m.ID,
			Node:      s.Name,
			Text:      "received from " + m.ClientAddress + " by " + m.Listener,
		},
		Sender: m.Sender,
	})
}

// SetPauses puts what people have stopped in force. What waits in the memory of
// a stopped lane goes back to the database; transactions under way come to their
// end.
func (s *scheduler) SetPauses(list []mail.Pause) {
	s.fetching.Lock() // what is being leased must be in memory first
	defer s.fetching.Unlock()
	s.lanes.stops.pauses.Store(pausesOf(list, s.Name))
	var ids []mail.DeliveryID
	for _, l := range s.lanes.all() {
		l.mu.Lock()
		if s.lanes.stops.paused(l) != nil {
			ids = append(ids, s.lanes.unload(l)...)
		} else if l.load.pending.len() > 0 {
			s.lanes.staff(l)
		}
		l.mu.Unlock()
	}
	s.returns.GiveBack(ids)
	s.Wake()
}

// Freeze empties lanes from memory and takes nothing from them until Unfreeze, or
// for a few seconds: somebody changes their deliveries in the database. What is
// in a transaction comes to its end.
func (s *scheduler) Freeze(ids []ident.ID) {
	s.fetching.Lock() // what is being leased must be in memory first
	defer s.fetching.Unlock()
	s.lanes.stops.freeze(ids, time.Now().Add(freezeAtMost))
	var back []mail.DeliveryID
	for _, id := range ids {
		if l := s.lanes.find(id); l != nil {
			l.mu.Lock()
			back = append(back, s.lanes.unload(l)...)
			l.mu.Unlock()
		}
	}
	s.returns.GiveBack(back)
}

// Unfreeze lets lanes go on.
func (s *scheduler) Unfreeze(ids []ident.ID) {
	s.lanes.stops.unfreeze(ids)
	s.Wake()
}
