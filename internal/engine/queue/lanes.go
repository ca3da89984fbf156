package queue

import (
	"fmt"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// lanes are those that are in memory. Whoever puts work into a lane counts it in the
// lane's window while mu is held, so that no lane is dropped that is to have some.
type lanes struct {
	*base
	heart    *heart
	returns  *returns
	flows    *flows
	stops    *stops
	backOffs *backOffs
	crew     *crew
	sender   *sender
	memory

	mu sync.Mutex
	by map[ident.ID]*lane
}

func newLanes(b *base, h *heart, r *returns, f *flows) *lanes {
	return &lanes{
		base:     b,
		heart:    h,
		returns:  r,
		flows:    f,
		stops:    newStops(),
		backOffs: newBackOffs(b),
		crew:     &crew{},
		by:       map[ident.ID]*lane{},
	}
}

// find is a lane that is in memory, or nil.
func (ls *lanes) find(id ident.ID) *lane {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	return ls.by[id]
}

// of finds or makes the lane of a delivery. ls.mu is held.
func (ls *lanes) of(d *mail.Delivery) *lane {
	l := ls.by[d.LaneID]
	if l != nil {
		return l
	}
	l = newLane(d.LaneID, d.NextHop, time.Now())
	l.setTerms(ls.cfg.Load(), d.Route, ls.heart.share)
	if r, ok := ls.backOffs.of(d.LaneID); ok {
		l.takeOver(r)
	}
	ls.by[d.LaneID] = l
	return l
}

// all are the lanes in memory, as they are at this moment.
func (ls *lanes) all() []*lane {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	out := make([]*lane, 0, len(ls.by))
	for _, l := range ls.by {
		out = append(out, l)
	}
	return out
}

// setTerms lets every lane go by a configuration, and returns what waited in memory.
func (ls *lanes) setTerms(c *config.Compiled) (ids []mail.DeliveryID) {
	for _, l := range ls.all() {
		l.mu.Lock()
		l.setTerms(c, l.route().Name, ls.heart.share)
		ids = append(ids, ls.unload(l)...)
		l.mu.Unlock()
	}
	return ids
}

// reserve keeps room for n deliveries in a lane. l.mu is held.
func (ls *lanes) reserve(l *lane, n int) {
	l.load.window += n
	ls.window.Add(int64(n))
}

// place puts a job for which room is kept into its lane, and sees that somebody does it.
// It returns what is to go back: the lane was closed meanwhile, or the job was leased to a
// run that is over. l.mu is held.
func (ls *lanes) place(l *lane, j *job, now time.Time) (back handBack) {
	if j.run != ls.heart.RunNumber() { // what it held is another's
		ls.drop(l, j)
		return handBack{}
	}
	l.load.pending.add(j)
	l.load.touched = now
	if until, closed := ls.stops.closed(l, now); closed {
		return handBack{ls.unload(l), until}
	}
	ls.staff(l)
	return handBack{}
}

// drop lets go of a job's share of the window and of kept content. l.mu is held.
func (ls *lanes) drop(l *lane, j *job) {
	l.load.window -= len(j.deliveries)
	ls.window.Add(-int64(len(j.deliveries)))
	if j.content == nil {
		return
	}
	if j.content.jobs.Add(-1) == 0 {
		ls.kept.Add(-int64(len(j.content.data)))
	}
	j.content = nil
}

// unload takes what waits out of a lane's memory, to be given back to the database.
// l.mu is held.
func (ls *lanes) unload(l *lane) []mail.DeliveryID {
	var ids []mail.DeliveryID
	for _, j := range l.load.pending.takeAll() {
		for _, d := range j.deliveries {
			ids = append(ids, d.ID())
		}
		ls.drop(l, j)
	}
	l.load.more = false
	return ids
}

// staff opens connections for what is pending, within the limits. l.mu is held.
func (ls *lanes) staff(l *lane) {
	if ls.stops.paused(l) != nil || ls.heart.fenced() || ls.unrecorded.Load() {
		return // who lifts it sees to all lanes again
	}
	w := &l.load
	if w.idling > 0 {
		select {
		case l.message <- struct{}{}:
		default:
		}
	}
	limit := l.limits.now
	if l.host.failures > 0 {
		limit = 1 // one connection tries whether the host is well again
	}
	for w.active < limit && w.active-w.sending < w.pending.len() &&
		!time.Now().Before(l.host.backOffUntil) &&
		ls.crew.hire(ls.cfg.Load().Service.Connections) {
		w.active++
		go ls.sender.work(l)
	}
}

// staffAll sees to every lane.
func (ls *lanes) staffAll() {
	for _, l := range ls.all() {
		l.mu.Lock()
		if l.load.pending.len() > 0 {
			ls.staff(l)
		}
		l.mu.Unlock()
	}
}

// take gives the next job of a lane to a connection, nil if there is none.
func (ls *lanes) take(l *lane) *job {
	if ls.stopping.Load() || ls.heart.fenced() || ls.unrecorded.Load() ||
		ls.stops.paused(l) != nil {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.takeUp(ls.allowance(), ls.Wake)
}

// settle lets go of a job that has its outcome.
func (ls *lanes) settle(l *lane, j *job) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.letGo(j)
	ls.drop(l, j)
}

// leave ends a connection of a lane; another may take its place.
func (ls *lanes) leave(l *lane) {
	l.mu.Lock()
	l.load.active--
	l.load.touched = time.Now()
	full := ls.crew.leave(ls.cfg.Load().Service.Connections)
	ls.staff(l)
	l.mu.Unlock()
	if full {
		ls.staffAll()
	}
}

// rest lets a lane rest after trouble with its host: everything that waits in memory goes
// back to the database until then.
func (ls *lanes) backOff(l *lane, f *deliver.Failure) {
	l.mu.Lock()
	l.beginBackOff(ls.cfg.Load().Service.Retry.BackOff, f)
	h := l.host
	back := handBack{ls.unload(l), h.backOffUntil}
	l.mu.Unlock()
	ls.backOffs.record(
		store.BackOff{Lane: l.id, Node: ls.heart.RunNumber(), Since: h.since, Until: h.backOffUntil,
			Failures: h.failures, Last: h.last, Cause: h.cause},
	)
	ls.publish(l,
		fmt.Sprintf("backs off until %s: %s", h.backOffUntil.UTC().Format(time.RFC3339), f.Error()))
	ls.returns.give(back)
}

// well notes that a lane's host took what it was given.
func (ls *lanes) well(l *lane) {
	l.mu.Lock()
	recovered := l.succeed()
	ls.staff(l)
	l.mu.Unlock()
	if recovered {
		ls.backOffs.record(store.BackOff{Lane: l.id})
		ls.publish(l, "moves again")
		ls.Wake()
	}
}

func (ls *lanes) publish(l *lane, text string) {
	ls.Log.Info("lane "+text, "route", l.route().Name, "next_hop", l.nextHop)
	if ls.Hub.Watched() {
		ls.Hub.Publish(feed.Event{
			Event: mail.Event{
				At:   time.Now().UTC(),
				Kind: feed.EventLane,
				Node: ls.Name,
				Text: text,
			},
			Lane: l.id.String(),
		})
	}
}

// forget drops what waits in memory: the run that it is leased to is over. What is in a
// transaction comes to its end; its outcome counts.
func (ls *lanes) forget() {
	ls.returns.forget()
	for _, l := range ls.all() {
		l.mu.Lock()
		ls.unload(l)
		l.mu.Unlock()
	}
}

// known are the deliveries that memory has.
func (ls *lanes) known() map[mail.DeliveryID]bool {
	out := make(map[mail.DeliveryID]bool, ls.window.Load())
	for _, l := range ls.all() {
		l.mu.Lock()
		l.load.pending.each(func(j *job) {
			for _, d := range j.deliveries {
				out[d.ID()] = true
			}
		})
		for id := range l.inHand {
			out[id] = true
		}
		l.mu.Unlock()
	}
	ls.returns.each(func(id mail.DeliveryID) { out[id] = true })
	return out
}

// lastSaid is what was last said to a delivery's lane, for one that was not tried itself.
func (ls *lanes) lastSaid(d *mail.Delivery) {
	if d.Last != nil {
		return
	}
	if r, ok := ls.backOffs.of(d.LaneID); ok {
		d.Last, d.Cause = r.Last, diagnose.Cause(r.Cause)
	}
	l := ls.find(d.LaneID)
	if l == nil {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.host.last != nil {
		d.Last, d.Cause = l.host.last, diagnose.Cause(l.host.cause)
	}
}
