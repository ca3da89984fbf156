package queue

import (
	"context"
	"fmt"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/live"
)

// lane is the part of a lane that is in memory. Guarded by Queue.mu.
type lane struct {
	id      ident.ID
	route   *config.Route
	nextHop string
	terms   route.Terms

	pending []*job
	window  int  // deliveries pending, being sent, or about to come
	more    bool // the database has more than memory takes
	active  int  // connections open or being opened
	idling  int  // of these, waiting for a letter
	sending int  // connections that have a job
	limit   int  // connections at most; shrinks when the host says too many
	praise  int  // successes since the limit last changed

	failures  int // of the host, in a row
	restUntil time.Time
	since     time.Time // of the state
	last      *mail.LastReply
	cause     string
	touched   time.Time
	slot      time.Time     // when the next letter may go, under a rate
	letter    chan struct{} // tells idling connections of a letter
}

// lane finds or makes the lane of a delivery. Queue.mu is held.
func (q *Queue) lane(d *mail.Delivery) *lane {
	l := q.lanes[d.LaneID]
	if l == nil {
		r := q.cfg.Load().Route(d.Route)
		if r == nil { // the route is gone; the delivery is planned anew when it is taken
			r = q.cfg.Load().Route(config.RouteNone)
		}
		now := time.Now()
		terms := route.TermsOf(q.cfg.Load(), r, d.NextHop)
		l = &lane{id: d.LaneID, route: r, nextHop: d.NextHop, terms: terms, limit: terms.Connections, since: now, touched: now, letter: make(chan struct{}, 1)}
		q.lanes[d.LaneID] = l
	}
	return l
}

// idle reports that memory has no reason to know the lane any longer.
func (l *lane) idle(now time.Time) bool {
	return l.window == 0 && l.active == 0 && l.failures == 0 && now.Sub(l.touched) > time.Minute
}

// place puts a job into its lane and sees that somebody does it. Queue.mu is
// held, and the job is counted in Queue.window.
func (q *Queue) place(j *job) {
	l := q.lane(j.deliveries[0])
	l.window += len(j.deliveries)
	l.pending = append(l.pending, j)
	l.touched = time.Now()
	q.staff(l)
}

// staff opens connections for what is pending, within the limits. Queue.mu is
// held.
func (q *Queue) staff(l *lane) {
	if l.idling > 0 {
		select {
		case l.letter <- struct{}{}:
		default:
		}
	}
	limit := l.limit
	if l.failures > 0 {
		limit = 1 // one connection tries whether the host is well again
	}
	for l.active < limit && l.active-l.sending < len(l.pending) && !q.stopping &&
		q.connections < q.cfg.Load().Service.Connections && !time.Now().Before(l.restUntil) {
		l.active++
		q.connections++
		q.workers.Add(1)
		go q.work(l)
	}
}

// take gives the next job to a connection, nil if there is none.
func (q *Queue) take(l *lane) *job {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(l.pending) == 0 || q.stopping || q.fenced() {
		return nil
	}
	j := l.pending[0]
	l.pending[0] = nil
	if l.pending = l.pending[1:]; len(l.pending) == 0 {
		l.pending = nil
	}
	l.sending++
	for _, d := range j.deliveries {
		q.inHand[d.ID()] = true
	}
	if l.more && l.window < maxLaneWindow/2 {
		l.more = false
		q.Wake()
	}
	return j
}

// settleJob lets go of a job that has its outcome.
func (q *Queue) settleJob(l *lane, j *job) {
	q.mu.Lock()
	defer q.mu.Unlock()
	l.sending--
	l.touched = time.Now()
	q.letGo(j)
	q.done(j)
}

func (q *Queue) letGo(j *job) {
	for _, d := range j.deliveries {
		delete(q.inHand, d.ID())
	}
}

// rest lets a lane rest after trouble with its host: everything that waits in
// memory goes back to the database until then.
func (q *Queue) rest(l *lane, f *deliver.Failure) {
	q.mu.Lock()
	now := time.Now()
	base := q.cfg.Load().Service.Retry.LaneRest
	wait := min(base<<min(l.failures, 10), 30*base)
	if l.failures == 0 {
		l.since = now
	}
	if !now.Before(l.restUntil) { // connections that fail together are one failure
		l.failures++
		l.restUntil = now.Add(wait)
	}
	l.last, l.cause = &f.Reply, string(f.Cause)
	back := l.pending
	l.pending, l.more = nil, false
	var ids []mail.DeliveryID
	for _, j := range back {
		for _, d := range j.deliveries {
			ids = append(ids, d.ID())
		}
		q.done(j)
	}
	until := l.restUntil
	q.mu.Unlock()
	q.publishLane(l, fmt.Sprintf("rests until %s: %s", until.UTC().Format(time.RFC3339), f.Error()))
	if len(ids) == 0 {
		return
	}
	q.giveBack(handBack{ids, until})
}

// handBack are deliveries that go back to the database untried.
type handBack struct {
	ids   []mail.DeliveryID
	until time.Time
}

// giveBack returns deliveries to the database; if it does not answer, they are
// given back with a later heartbeat.
func (q *Queue) giveBack(b handBack) {
	ctx, cancel := context.WithTimeout(q.ctx, enterTimeout)
	defer cancel()
	if err := q.Store.ReturnLeases(ctx, q.Node, b.ids, b.until); err != nil {
		q.mu.Lock()
		q.handBacks = append(q.handBacks, b)
		q.mu.Unlock()
	}
}

// well notes that a lane's host took what it was given.
func (q *Queue) well(l *lane) {
	q.mu.Lock()
	recovered := l.failures > 0
	l.failures, l.restUntil = 0, time.Time{}
	if recovered {
		l.since, l.cause, l.last = time.Now(), "", nil
	}
	if l.praise++; l.praise >= 20 && l.limit < l.terms.Connections {
		l.limit++
		l.praise = 0
	}
	q.staff(l)
	q.mu.Unlock()
	if recovered {
		q.publishLane(l, "moves again")
		q.Wake()
	}
}

// crowded lowers a lane's connections when the host refuses one more while
// others are open; the job goes back to the head. It reports false if this was
// the only one.
func (q *Queue) crowded(l *lane, j *job) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if l.active <= 1 {
		return false
	}
	l.limit = max(1, l.active-1)
	l.praise = 0
	l.sending--
	q.letGo(j)
	l.pending = append([]*job{j}, l.pending...)
	return true
}

func (q *Queue) publishLane(l *lane, text string) {
	q.Log.Info("lane "+text, "route", l.route.Name, "next_hop", l.nextHop)
	if q.Hub.Watched() {
		q.Hub.Publish(live.Event{Event: mail.Event{At: time.Now().UTC(), Kind: live.EventLane, Node: q.Name, Text: text}, Lane: l.id.String()})
	}
}

// LaneView is what memory knows of a lane.
type LaneView struct {
	State       mail.LaneState
	Since       time.Time
	Until       time.Time
	Why         string
	Sending     int64
	Connections int
	Last        *mail.LastReply
	Cause       string
}

// View tells how lanes go; lanes that are not in memory are missing.
func (q *Queue) View() map[ident.ID]LaneView {
	now := time.Now()
	q.mu.Lock()
	defer q.mu.Unlock()
	out := make(map[ident.ID]LaneView, len(q.lanes))
	for id, l := range q.lanes {
		v := LaneView{State: mail.LaneMoving, Since: l.since, Sending: int64(l.sending), Connections: l.active, Last: l.last, Cause: l.cause}
		if l.failures > 0 {
			v.State, v.Until = mail.LaneResting, l.restUntil
			v.Why = fmt.Sprintf("%d failed attempts in a row to reach its host", l.failures)
			if l.failures == 1 {
				v.Why = "its host could not be reached"
			}
			if now.After(l.restUntil) {
				v.Why += "; one connection is trying it now"
			}
		}
		out[id] = v
	}
	return out
}

// InMemory is how many deliveries memory holds, and how many octets of content.
func (q *Queue) InMemory() (deliveries int, octets int64) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.window, q.kept.Load()
}

// EndRest lets a lane that rests try its host now.
func (q *Queue) EndRest(id ident.ID) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if l := q.lanes[id]; l != nil {
		l.restUntil = time.Time{}
	}
}

// Now tells whether a delivery is in a transaction, and until when its lane rests
// (zero if it does not).
func (q *Queue) Now(d *mail.Delivery) (sending bool, rest time.Time) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if l := q.lanes[d.LaneID]; l != nil {
		rest = l.restUntil
	}
	return q.inHand[d.ID()], rest
}
