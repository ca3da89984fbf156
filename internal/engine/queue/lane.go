package queue

import (
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/store"
)

// lane is the part of a lane that is in memory. Its route is a snapshot that is read
// without a lock; its other state is guarded by its own.
type lane struct {
	id      ident.ID
	nextHop string
	way     atomic.Pointer[way]
	message chan struct{} // tells idling connections of a message

	mu     sync.Mutex
	load   load
	limits laneLimits
	host   laneHost
	inHand map[mail.DeliveryID]bool // in a transaction
}

// load is what a lane has to do. lane.mu is held for all of it.
type load struct {
	pending turns
	window  int       // deliveries pending, being sent, or about to come
	more    bool      // the database has more than memory takes
	active  int       // connections open or being opened
	idling  int       // of these, waiting for a message
	sending int       // connections that have a job
	touched time.Time // when it last had something to do
	slot    time.Time // when the next message may go, under a rate
}

// laneLimits is how many connections a lane may have.
type laneLimits struct {
	now     int // grows on success, shrinks on trouble
	ceiling int // what it may grow to; lowered when the host says too many
	praise  int // successes since the ceiling last changed
}

// laneHost is how a lane's host does.
type laneHost struct {
	failures     int // in a row
	backOffUntil time.Time
	since        time.Time // of the state
	last         *mail.LastReply
	cause        string
}

// way is a lane's route and terms under one configuration. It never changes; a new
// configuration brings a new one.
type way struct {
	route *config.Route
	terms route.Terms // connections are this node's share of them
	nodes int         // that share the lane's rate
}

func (l *lane) route() *config.Route { return l.way.Load().route }

func (l *lane) terms() route.Terms { return l.way.Load().terms }

// firstConnections is how many connections a lane begins with.
const firstConnections = 3

func newLane(id ident.ID, nextHop string, now time.Time) *lane {
	return &lane{
		id:      id,
		nextHop: nextHop,
		message: make(chan struct{}, 1),
		inHand:  map[mail.DeliveryID]bool{},
		load:    load{touched: now},
		host:    laneHost{since: now},
	}
}

// setTerms lets a lane go by a configuration. l.mu is held.
func (l *lane) setTerms(
	c *config.Compiled,
	routeName string,
	share func(*config.Route) (at, of int),
) {
	r := c.Route(routeName)
	if r == nil { // the route is gone; its deliveries are planned anew when they are taken
		r = c.Route(config.RouteNone)
	}
	terms := route.TermsOf(c, r, l.nextHop)
	at, of := share(r)
	terms.Connections = portion(terms.Connections, at, of)
	l.way.Store(&way{r, terms, of})
	l.limits.ceiling = terms.Connections
	l.limits.now = min(l.limits.ceiling, max(l.limits.now, firstConnections))
}

// portion is what the at-th of some nodes has of a number of connections: one at least, or it
// could do nothing of its share of the mail.
func portion(connections, at, of int) int {
	share := connections / of
	if at < connections%of {
		share++
	}
	return max(share, 1)
}

// quiet reports that memory holds nothing of the lane, and nothing came for so long.
// l.mu is held.
func (l *lane) quiet(now time.Time, wait time.Duration) bool {
	return l.load.window == 0 && l.load.active == 0 && now.Sub(l.load.touched) > wait &&
		now.Sub(l.host.backOffUntil) > wait
}

// takeUp gives the next job to a connection, nil if there is none. wake is called when
// there is room again for what waits in the database. l.mu is held.
func (l *lane) takeUp(allowance int, wake func()) *job {
	if l.load.pending.len() == 0 || l.load.active > l.limits.now {
		return nil
	}
	j := l.load.pending.next()
	l.load.sending++
	for _, d := range j.deliveries {
		l.inHand[d.ID()] = true
	}
	if l.load.more && l.load.window < allowance/2 {
		l.load.more = false
		wake()
	}
	return j
}

// letGo notes that a job is in no transaction any more. l.mu is held.
func (l *lane) letGo(j *job) {
	l.load.sending--
	l.load.touched = time.Now()
	for _, d := range j.deliveries {
		delete(l.inHand, d.ID())
	}
}

// crowded lowers a lane's connections when the host refuses one more while others are
// open; the job goes back to the head. It reports false if this was the only one.
func (l *lane) crowded(j *job) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.load.active <= 1 {
		return false
	}
	l.limits = laneLimits{now: max(1, l.load.active-1), ceiling: max(1, l.load.active-1)}
	l.letGo(j)
	l.load.pending.putBack(j)
	return true
}

// beginBackOff lets the lane rest after trouble with its host, longer each time. l.mu is held.
func (l *lane) beginBackOff(base time.Duration, f *deliver.Failure) {
	now, h := time.Now(), &l.host
	wait := min(base<<min(h.failures, 10), 30*base)
	if h.failures == 0 {
		h.since = now
	}
	if !now.Before(h.backOffUntil) { // connections that fail together are one failure
		h.failures++
		h.backOffUntil = now.Add(wait)
	}
	l.limits.now = min(l.limits.ceiling, firstConnections)
	h.last, h.cause = &f.Reply, string(f.Cause)
}

// succeed notes that the host took what it was given: it may get more connections,
// quickly at first, carefully where it said too many before. It reports whether the host
// was in trouble. l.mu is held.
func (l *lane) succeed() (recovered bool) {
	h := &l.host
	recovered = h.failures > 0
	h.failures, h.backOffUntil = 0, time.Time{}
	if recovered {
		h.since, h.cause, h.last = time.Now(), "", nil
	}
	if l.limits.praise++; l.limits.praise >= 20 && l.limits.ceiling < l.terms().Connections {
		l.limits.ceiling++
		l.limits.praise = 0
	}
	l.limits.now = min(l.limits.now+1, l.limits.ceiling)
	return recovered
}

// takeOver begins with what another node knows of the host. l.mu is held.
func (l *lane) takeOver(r store.BackOff) {
	l.host.failures, l.host.since, l.host.last, l.host.cause = r.Failures, r.Since, r.Last, r.Cause
}

// nextSlot is when the next message may go under the lane's rate, of which each node has its share.
func (l *lane) nextSlot(now time.Time) time.Time {
	rate := l.terms().MessagesPerMinute
	if rate <= 0 {
		return now
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	slot := now
	if l.load.slot.After(slot) {
		slot = l.load.slot
	}
	l.load.slot = slot.Add(time.Minute * time.Duration(l.way.Load().nodes) / time.Duration(rate))
	return slot
}
