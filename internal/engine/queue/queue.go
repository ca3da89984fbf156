// Package queue moves accepted mail: it enters messages in groups that share a
// commit, keeps lanes of what is due, hands letters to the lanes' connections
// and records what became of them, again in groups.
package queue

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/feed"
	"gullroute/internal/engine/senderauth"
	"gullroute/internal/store"
	"gullroute/internal/supervise"
)

// Snags hears of every outcome, and of trouble of our own.
type Snags interface {
	Delivery(d *mail.Delivery, sender string, at time.Time)
	Ours(with, text string, at time.Time)
}

// Store is what the queue needs of the database; *store.Store is one.
type Store interface {
	Enter(ctx context.Context, node int, entries []*store.Entry) error
	Withdraw(ctx context.Context, ids []ident.ID) error
	DropWithdrawn(ctx context.Context, now time.Time) (int, error)
	FateOf(ctx context.Context, u *store.Unclear, id ident.ID) (store.Fate, error)
	StoreContent(ctx context.Context, id ident.ID, content io.Reader) error
	DropContent(ctx context.Context, id ident.ID) error
	OpenContent(ctx context.Context, id ident.ID) (*store.Content, error)
	LeaseDue(ctx context.Context, l store.Lease) ([]store.Due, error)
	LeaseOverdue(ctx context.Context, node int, now, before time.Time, limit int) ([]store.Due, error)
	NextDue(ctx context.Context, now time.Time, skip []ident.ID, routes []string) (time.Time, error)
	Unwarned(ctx context.Context, after mail.DeliveryID, before time.Time, limit int) ([]store.Due, mail.DeliveryID, error)
	Warn(ctx context.Context, node int, at time.Time, warnings []store.Warning) (dropped []*store.Entry, err error)
	SetRest(ctx context.Context, r store.Rest) error
	ReturnLeases(ctx context.Context, node int, ids []mail.DeliveryID, due time.Time) error
	Finish(ctx context.Context, node int, outcomes []*store.Outcome) (foreign []*store.Entry, err error)
	RegisterNode(ctx context.Context, name string) (int, error)
	ReleaseNode(ctx context.Context, node int) error
	Heartbeat(ctx context.Context, node int) (store.Pulse, error)
	Ask(ctx context.Context, failed error) store.Condition
	Renew()
	Leases(ctx context.Context, node int) ([]store.LeaseHeld, error)
	ReleaseDead(ctx context.Context) (int64, error)
	ReleaseLost(ctx context.Context) (int64, error)
	MailboxUse(ctx context.Context, mailbox string) (letters, octets int64, err error)
	Replying(ctx context.Context, mailbox, sender string, now, since time.Time) (bool, error)
}

// Bounds on what memory holds.
const (
	maxWindow     = 20_000 // deliveries in memory, all lanes
	maxLaneWindow = 2_000  // deliveries in memory, one lane
	minLaneWindow = 16     // the same when there is hardly any room
	maxKept       = 32 << 20
	leaseAtOnce   = 1_000
	releaseEvery  = 5 * time.Second
	// leaseTimeout bounds a look at what is due.
	leaseTimeout = 5 * time.Second
	// leaseLost is how long the database may be silent before nothing new is
	// tried: another node may by then have taken over (see store.deadAfter).
	leaseLost = 20 * time.Second
)

// Options are what a queue is made of.
type Options struct {
	Store Store
	Node  int    // the run that begins
	Name  string // of the node
	IDs   *ident.Maker
	Hub   *feed.Hub
	Snags Snags // nil keeps none
	Tally *counters.Counters
	Log   *slog.Logger
	// Signer signs what goes out; nil signs nothing.
	Signer *senderauth.Signer
	// Outward is what connections outwards are made with.
	Outward deliver.Options
	// Journal is the file of what is to be withdrawn; "" keeps none.
	Journal string
	// Recovered is called when the database is well again after it was not; nil for none.
	Recovered func()
}

// Queue is a node's share of the queue.
type Queue struct {
	Options
	cfg    atomic.Pointer[config.Compiled]
	client deliver.Current

	mu          sync.Mutex
	lanes       map[ident.ID]*lane
	window      int // deliveries in memory or about to be
	connections int // open or being opened
	stopping    bool
	inHand      map[mail.DeliveryID]bool // in a transaction
	pauses      pauses
	frozen      map[ident.ID]time.Time
	rests       map[ident.ID]store.Rest // that other nodes know of
	volume      volume
	copies      copies
	handBacks   []handBack // that the database has not taken yet
	withdrawing sync.Mutex // held while something is
	unclear     []unclear  // that is to be withdrawn
	// inDoubt are messages of which it is being found out whether they were entered; true
	// if they came back from the database meanwhile.
	inDoubt map[ident.ID]bool

	fetching    sync.Mutex // held while deliveries are leased and placed
	behind      ident.ID   // the lane to begin behind at the next look
	warned      warned
	flows       flows
	restRecords chan store.Rest
	// Loops are what the queue does in the background.
	Loops *supervise.Supervisor

	run      atomic.Int64 // that leases are made for; changed under mu
	database atomic.Pointer[Database]
	beating  atomic.Int64 // when the heartbeat under way began, since born; 0 for none
	put      atomic.Int64 // outcomes put to be recorded
	written  atomic.Int64 // of them, recorded
	freed    atomic.Int64 // leases that nobody had in hand
	strays   strays       // of the last look
	lookedAt time.Time
	// suspected: a lease may be in nobody's hands. failedOver: the database may have lost runs.
	suspected, failedOver atomic.Bool
	left                  atomic.Int64 // deliveries that came to their end
	waiting               atomic.Int64 // deliveries that wait in the database, as it was last told
	kept                  atomic.Int64 // octets of content kept in memory
	born                  time.Time
	lastSeen              atomic.Int64 // of the last heartbeat: nanoseconds since born, by the monotonic clock
	wake                  chan struct{}
	doubt                 chan struct{} // something is to be withdrawn
	beatNow               chan struct{} // a heartbeat is asked for
	entries               chan *entryRequest
	outcomes              chan *store.Outcome
	workers               sync.WaitGroup
	// Set by Run before any attempt begins: connecting ends when the service
	// stops, ctx when transactions under way have had their time.
	connecting, ctx context.Context
}

// New makes a queue; Run starts it.
func New(o Options) *Queue {
	q := &Queue{
		Options:  o,
		lanes:    map[ident.ID]*lane{},
		inHand:   map[mail.DeliveryID]bool{},
		inDoubt:  map[ident.ID]bool{},
		frozen:   map[ident.ID]time.Time{},
		rests:    map[ident.ID]store.Rest{},
		wake:     make(chan struct{}, 1),
		doubt:    make(chan struct{}, 1),
		beatNow:  make(chan struct{}, 1),
		entries:  make(chan *entryRequest, 1024),
		outcomes: make(chan *store.Outcome, 2048),
		ctx:      context.Background(),

		born:        time.Now(),
		connecting:  context.Background(),
		restRecords: make(chan store.Rest, 4096),
		Loops:       supervise.New(o.Log),
	}
	q.run.Store(int64(o.Node))
	q.failedOver.Store(true) // before this start
	q.database.Store(&Database{Condition: store.Condition{State: store.Well}, Since: time.Now(), At: time.Now()})
	return q
}

// Apply makes a configuration the one in force. What waits in memory goes back
// to the database and is planned anew when it is taken again, at once.
func (q *Queue) Apply(c *config.Compiled) {
	q.client.Store(deliver.NewClient(c, q.Outward))
	q.cfg.Store(c)
	q.warned.reset()
	var ids []mail.DeliveryID
	q.mu.Lock()
	for _, l := range q.lanes {
		l.setTerms(c, l.route().Name)
		ids = append(ids, q.unload(l)...)
	}
	q.mu.Unlock()
	q.GiveBack(ids)
	q.Wake()
}

// Config is the configuration in force.
func (q *Queue) Config() *config.Compiled { return q.cfg.Load() }

// Client opens connections by the configuration in force.
func (q *Queue) Client() *deliver.Current { return &q.client }

// Wake lets the queue look for due deliveries at once.
func (q *Queue) Wake() {
	select {
	case q.wake <- struct{}{}:
	default:
	}
}

// Run works until ctx ends; then it finishes the transactions under way, records
// their outcomes and returns.
func (q *Queue) Run(ctx context.Context) {
	var writers sync.WaitGroup
	attempts, cancel := context.WithCancel(context.Background())
	defer cancel()
	q.mu.Lock()
	q.connecting, q.ctx = ctx, attempts
	q.mu.Unlock()
	q.takeUpJournal()
	intake, stopIntake := context.WithCancel(context.Background())
	writers.Add(1)
	go func() { defer writers.Done(); q.RunIntake(intake) }()
	var recorder sync.WaitGroup
	recorder.Add(1)
	go func() { defer recorder.Done(); q.writeOutcomes() }()
	recorder.Add(1)
	go func() { defer recorder.Done(); q.writeRests() }()
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: heartbeat", Do: q.beat})
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: what goes back", Every: releaseEvery, Steady: true, Do: q.giveAllBack})
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: runs that are over", Every: releaseEvery, Limit: enterTimeout, Steady: true, Do: q.releaseDead})
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: leases of nobody", Every: reconcileEvery, Limit: enterTimeout, Do: q.reconcile})
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: leases of lost runs", Every: reconcileEvery, Limit: enterTimeout, Do: q.releaseLost})
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: what was not taken after all", Do: q.withdrawLater})
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: what is due", Do: q.fetchDue})
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: what expires", Every: 30 * time.Second, Limit: time.Minute, Do: q.expireOverdue})
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: delay notices", Every: warnEvery, Limit: 5 * time.Minute, Do: q.warnDelayed})
	<-ctx.Done()
	q.Loops.Wait()

	q.mu.Lock()
	q.stopping = true
	q.mu.Unlock()
	done := make(chan struct{})
	go func() { q.workers.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		cancel()
		<-done
	}
	stopIntake()
	writers.Wait()
	close(q.outcomes)
	close(q.restRecords)
	recorder.Wait()
}

// RunIntake commits what comes in until ctx ends. It is a part of Run.
func (q *Queue) RunIntake(ctx context.Context) {
	var writers sync.WaitGroup
	for range intakeWriters {
		writers.Add(1)
		go func() { defer writers.Done(); q.writeEntries(ctx) }()
	}
	writers.Wait()
}

// fetchDue looks for what is due until ctx ends.
func (q *Queue) fetchDue(ctx context.Context) error {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-q.wake:
		case <-timer.C:
		}
		timer.Reset(q.fetch(ctx))
	}
}

// giveAllBack gives back what the database did not take before.
func (q *Queue) giveAllBack(context.Context) error {
	q.mu.Lock()
	backs := q.handBacks
	q.handBacks = nil
	q.mu.Unlock()
	for _, b := range backs {
		q.giveBack(b)
	}
	return nil
}

// Pauses between two looks at the database.
const (
	shortestWait = 20 * time.Millisecond
	longestWait  = 2 * time.Second
)

// fetch takes what is due and says when to look again.
func (q *Queue) fetch(ctx context.Context) time.Duration {
	if q.fenced() || q.cfg.Load() == nil || q.doubting() {
		return longestWait
	}
	now := time.Now()
	l := store.Lease{Node: q.RunNumber(), Now: now, Routes: q.closedRoutes(q.cfg.Load()), From: q.behind}
	q.fetching.Lock()
	skip, try, room, soonest := q.closedLanes(now)
	if room <= 0 {
		q.fetching.Unlock()
		return 100 * time.Millisecond
	}
	l.Skip, l.Try, l.PerLane, l.Total = skip, try, q.perLane(), min(room, leaseAtOnce)
	asking, cancel := context.WithTimeout(ctx, leaseTimeout)
	due, err := q.Store.LeaseDue(asking, l)
	cancel()
	if err != nil {
		q.Suspect()
		q.fetching.Unlock()
		if ctx.Err() == nil && !errors.Is(err, store.ErrOver) {
			q.Log.Error("the queue cannot be read", "error", err)
		}
		return longestWait
	}
	full := len(due) >= l.Total
	if q.behind = 0; full { // the others have their turn at the next look
		q.behind = lastLane(due, l.From)
	}
	back := q.admit(due)
	q.fetching.Unlock()
	for _, b := range back {
		q.giveBack(b)
	}
	if full {
		return shortestWait
	}
	asking, cancel = context.WithTimeout(ctx, leaseTimeout)
	defer cancel()
	next, err := q.Store.NextDue(asking, now, skip, l.Routes)
	if err != nil || next.IsZero() {
		next = now.Add(longestWait)
	}
	if !soonest.IsZero() && soonest.Before(next) {
		next = soonest
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

// closedLanes are those from which nothing is to be taken now, those from which
// a single letter is to try whether the host is well again, how much room there
// is in memory, and when the first closed lane opens.
func (q *Queue) closedLanes(now time.Time) (skip, try []ident.ID, room int, soonest time.Time) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.pauses.all != nil {
		return nil, nil, 0, time.Time{}
	}
	for id := range q.pauses.lanes {
		skip = append(skip, id)
	}
	for id := range q.frozen {
		if q.isFrozen(id, now) {
			skip = append(skip, id)
		}
	}
	for id, r := range q.rests {
		switch end := r.Until.Add(graceOfOthers); {
		case now.After(end):
			try = append(try, id)
		default:
			skip = append(skip, id)
			if soonest.IsZero() || end.Before(soonest) {
				soonest = end
			}
		}
	}
	limit := q.allowance() / 2
	for id, l := range q.lanes {
		switch {
		case l.failures == 0 && l.quiet(now, time.Minute):
			delete(q.lanes, id)
			if q.paused(l) != nil {
				skip = append(skip, id)
			}
		case q.paused(l) != nil:
			skip = append(skip, id)
		case now.Before(l.restUntil):
			skip = append(skip, id)
			if soonest.IsZero() || l.restUntil.Before(soonest) {
				soonest = l.restUntil
			}
		case l.window >= limit:
			skip = append(skip, id)
			l.more = true
		case l.failures > 0 && l.window > 0:
			skip = append(skip, id) // memory has letters to try it with
			q.staff(l)
		case l.failures > 0:
			try = append(try, id)
		}
	}
	return skip, try, maxWindow - q.window, soonest
}

// allowance is how many deliveries one lane may have in memory: a part of what
// room is left, so that there is always some for another lane. Queue.mu is held.
func (q *Queue) allowance() int {
	return max(minLaneWindow, min(maxLaneWindow, (maxWindow-q.window)/4))
}

func (q *Queue) perLane() int {
	q.mu.Lock()
	defer q.mu.Unlock()
	return min(q.allowance(), leaseAtOnce)
}

// admit puts deliveries taken from the database into their lanes, each message's
// together. It returns what is to go back: its lane was closed meanwhile.
func (q *Queue) admit(due []store.Due) (back []handBack) {
	cfg := q.cfg.Load()
	jobs := map[jobKey]*job{}
	var order []*job
	for i := range due {
		d := &due[i]
		if d.Delivery.Revision != cfg.Revision && !q.replan(cfg, d) {
			continue
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
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, j := range order {
		if j.run != q.RunNumber() || q.isWithdrawn(j.message) {
			continue // that run is over and what it leased is another's, or its client was told no
		}
		if _, doubt := q.inDoubt[j.message]; doubt {
			q.inDoubt[j.message] = true
		}
		q.window += len(j.deliveries)
		q.place(j)
		l := q.lane(j.deliveries[0])
		if until, closed := q.closed(l, time.Now()); closed {
			back = append(back, handBack{q.unload(l), until})
		}
	}
	return back
}
