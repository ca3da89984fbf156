package queue

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// lane is the part of a lane that is in memory. Guarded by Queue.mu, but for way.
type lane struct {
	id      ident.ID
	nextHop string
	way     atomic.Pointer[way] // its workers read it without the lock

	pending turns
	window  int  // deliveries pending, being sent, or about to come
	more    bool // the database has more than memory takes
	active  int  // connections open or being opened
	idling  int  // of these, waiting for a letter
	sending int  // connections that have a job
	limit   int  // connections at most now: grows on success, shrinks on trouble
	ceiling int  // what the limit may grow to; lowered when the host says too many
	praise  int  // successes since the ceiling last changed

	failures  int // of the host, in a row
	restUntil time.Time
	since     time.Time // of the state
	last      *mail.LastReply
	cause     string
	touched   time.Time
	slot      time.Time     // when the next letter may go, under a rate
	letter    chan struct{} // tells idling connections of a letter
}

// way is a lane's route and terms under one configuration. It never changes; a new
// configuration brings a new one.
type way struct {
	route *config.Route
	terms route.Terms
}

func (l *lane) route() *config.Route { return l.way.Load().route }

func (l *lane) terms() route.Terms { return l.way.Load().terms }

// firstConnections is how many connections a lane begins with.
const firstConnections = 3

// lane finds or makes the lane of a delivery. Queue.mu is held.
func (q *Queue) lane(d *mail.Delivery) *lane {
	l := q.lanes[d.LaneID]
	if l == nil {
		now := time.Now()
		l = &lane{id: d.LaneID, nextHop: d.NextHop, since: now, touched: now, letter: make(chan struct{}, 1)}
		l.setTerms(q.cfg.Load(), d.Route)
		if r, ok := q.rests[d.LaneID]; ok {
			l.failures, l.since, l.last, l.cause = r.Failures, r.Since, r.Last, r.Cause
		}
		q.lanes[d.LaneID] = l
	}
	return l
}

// setTerms lets a lane go by a configuration.
func (l *lane) setTerms(c *config.Compiled, routeName string) {
	r := c.Route(routeName)
	if r == nil { // the route is gone; its deliveries are planned anew when they are taken
		r = c.Route(config.RouteNone)
	}
	terms := route.TermsOf(c, r, l.nextHop)
	l.way.Store(&way{r, terms})
	l.ceiling = terms.Connections
	l.limit = min(l.ceiling, max(l.limit, firstConnections))
}

// quiet reports that memory holds nothing of the lane, and nothing came for so long.
func (l *lane) quiet(now time.Time, wait time.Duration) bool {
	return l.window == 0 && l.active == 0 && now.Sub(l.touched) > wait && now.Sub(l.restUntil) > wait
}

// quietInTrouble is how long a lane whose host was in trouble is known at least.
const quietInTrouble = 10 * time.Minute

// InTrouble are lanes of which nothing was seen for a while, and that are known only
// because their hosts were in trouble. Those with no mail anywhere are to be left.
func (q *Queue) InTrouble() []ident.ID {
	now := time.Now()
	var ids []ident.ID
	q.mu.Lock()
	defer q.mu.Unlock()
	for id, l := range q.lanes {
		if l.failures > 0 && l.quiet(now, quietInTrouble) {
			ids = append(ids, id)
		}
	}
	return ids
}

// Leave forgets lanes in which no mail is left, and that their hosts were in trouble.
func (q *Queue) Leave(ids []ident.ID) {
	now := time.Now()
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, id := range ids {
		if l := q.lanes[id]; l != nil && l.quiet(now, quietInTrouble) {
			delete(q.lanes, id)
			q.recordRest(store.Rest{Lane: id})
		}
	}
}

// place puts a job into its lane and sees that somebody does it. Queue.mu is
// held, and the job is counted in Queue.window.
func (q *Queue) place(j *job) {
	l := q.lane(j.deliveries[0])
	j.in = l.id
	l.window += len(j.deliveries)
	l.pending.add(j)
	l.touched = time.Now()
	q.staff(l)
}

// staff opens connections for what is pending, within the limits. Queue.mu is
// held.
func (q *Queue) staff(l *lane) {
	if q.paused(l) != nil || q.fenced() {
		return // who lifts it sees to all lanes again
	}
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
	for l.active < limit && l.active-l.sending < l.pending.len() && !q.stopping &&
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
	if l.pending.len() == 0 || q.stopping || q.fenced() || q.paused(l) != nil || l.active > l.limit {
		return nil
	}
	j := l.pending.next()
	l.sending++
	for _, d := range j.deliveries {
		q.inHand[d.ID()] = true
	}
	if l.more && l.window < q.allowance()/2 {
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

// unload takes what waits out of a lane's memory, to be given back to the
// database. Queue.mu is held.
func (q *Queue) unload(l *lane) []mail.DeliveryID {
	var ids []mail.DeliveryID
	for _, j := range l.pending.takeAll() {
		for _, d := range j.deliveries {
			ids = append(ids, d.ID())
		}
		q.done(j)
	}
	l.more = false
	return ids
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
	l.limit = min(l.ceiling, firstConnections)
	l.last, l.cause = &f.Reply, string(f.Cause)
	ids := q.unload(l)
	until := l.restUntil
	record := store.Rest{Lane: l.id, Node: q.RunNumber(), Since: l.since, Until: until, Failures: l.failures, Last: l.last, Cause: l.cause}
	q.mu.Unlock()
	q.recordRest(record)
	q.publishLane(l, fmt.Sprintf("rests until %s: %s", until.UTC().Format(time.RFC3339), f.Error()))
	if len(ids) > 0 {
		q.giveBack(handBack{ids, until})
	}
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
	if err := q.Store.ReturnLeases(ctx, q.RunNumber(), b.ids, b.until); err != nil {
		q.mu.Lock()
		q.handBacks = append(q.handBacks, b)
		q.mu.Unlock()
	}
}

// well notes that a lane's host took what it was given: it may get more
// connections, quickly at first, carefully where it said too many before.
func (q *Queue) well(l *lane) {
	q.mu.Lock()
	recovered := l.failures > 0
	l.failures, l.restUntil = 0, time.Time{}
	if recovered {
		l.since, l.cause, l.last = time.Now(), "", nil
	}
	if l.praise++; l.praise >= 20 && l.ceiling < l.terms().Connections {
		l.ceiling++
		l.praise = 0
	}
	l.limit = min(l.limit+1, l.ceiling)
	q.staff(l)
	q.mu.Unlock()
	if recovered {
		q.recordRest(store.Rest{Lane: l.id})
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
	l.ceiling = max(1, l.active-1)
	l.limit = l.ceiling
	l.praise = 0
	l.sending--
	q.letGo(j)
	l.pending.putBack(j)
	return true
}

func (q *Queue) publishLane(l *lane, text string) {
	q.Log.Info("lane "+text, "route", l.route().Name, "next_hop", l.nextHop)
	if q.Hub.Watched() {
		q.Hub.Publish(feed.Event{Event: mail.Event{At: time.Now().UTC(), Kind: feed.EventLane, Node: q.Name, Text: text}, Lane: l.id.String()})
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
	Limit       int
	Last        *mail.LastReply
	Cause       string
}

// View tells how lanes go; lanes that are not in memory are missing.
func (q *Queue) View() map[ident.ID]LaneView {
	now := time.Now()
	q.mu.Lock()
	defer q.mu.Unlock()
	out := make(map[ident.ID]LaneView, len(q.lanes)+len(q.rests))
	for id, r := range q.rests {
		out[id] = LaneView{State: mail.LaneResting, Since: r.Since, Until: r.Until, Why: whyResting(r.Failures), Last: r.Last, Cause: r.Cause}
	}
	for id, l := range q.lanes {
		v := LaneView{State: mail.LaneMoving, Since: l.since, Last: l.last, Cause: l.cause}
		if elsewhere, ok := out[id]; ok && l.failures == 0 {
			v = elsewhere
		}
		if l.failures > 0 && !l.restUntil.IsZero() {
			v.State, v.Until, v.Since, v.Why = mail.LaneResting, l.restUntil, l.since, whyResting(l.failures)
			if now.After(l.restUntil) {
				v.Why += "; one connection is trying it now"
			}
		}
		v.Sending, v.Connections, v.Limit = int64(l.sending), l.active, l.limit
		out[id] = v
	}
	return out
}

func whyResting(failures int) string {
	if failures == 1 {
		return "its host could not be reached"
	}
	return fmt.Sprintf("%d failed attempts in a row to reach its host", failures)
}

// InMemory is how many deliveries memory holds, and how many octets of content.
func (q *Queue) InMemory() (deliveries int, octets int64) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.window, q.kept.Load()
}

// EndRest lets lanes that rest try their hosts now.
func (q *Queue) EndRest(ids []ident.ID) {
	q.mu.Lock()
	for _, id := range ids {
		if l := q.lanes[id]; l != nil && l.failures > 0 {
			l.restUntil = time.Unix(1, 0) // over, and the next is one attempt
		}
		if r, ok := q.rests[id]; ok {
			r.Until = time.Time{}
			q.rests[id] = r
		}
	}
	q.mu.Unlock()
	q.Wake()
}

// Now tells whether a delivery is in a transaction, and until when its lane rests
// (zero if it does not).
func (q *Queue) Now(d *mail.Delivery) (sending bool, rest time.Time) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if r, ok := q.rests[d.LaneID]; ok {
		rest = r.Until
	}
	if l := q.lanes[d.LaneID]; l != nil && l.restUntil.After(rest) {
		rest = l.restUntil
	}
	return q.inHand[d.ID()], rest
}
