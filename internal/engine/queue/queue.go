// Package queue moves accepted mail. Each part is a type of its own: the intake enters
// messages in groups that share a commit; the scheduler takes what is due and puts it into
// lanes; a lane, with a lock of its own, hands messages to its connections; the sender sends
// them; the recorder records what became of them, again in groups. The heart keeps the run
// going that leases are made for.
//
// Locks are taken in this order: lanes.mu, lane.mu, and then those of stops, rests, returns,
// doubts and crew, which hold no other.
package queue

import (
	"context"
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
	"gullroute/internal/supervise"
)

// Snags hears of every outcome, and of trouble of our own.
type Snags interface {
	Delivery(d *mail.Delivery, sender string, at time.Time)
	Ours(with, text string, at time.Time)
}

// Store is what the queue needs of the database, part by part.
type Store interface {
	intakeStore
	doubtStore
	dueStore
	leaseStore
	runStore
	outcomeStore
	warnStore
	restStore
	returnStore
	contentStore
	mailboxStore
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
	// ReturnKey signs the return paths of forwards; without one senders stay.
	ReturnKey []byte
	// Outward is what connections outwards are made with.
	Outward deliver.Options
	// SpoolDir is for content that is too large for memory while it is written anew.
	SpoolDir string
	// Journal is the file of what is to be withdrawn; "" keeps none.
	Journal string
	// Ended hears how deliveries ended of what accounts and machines sent; nil for none.
	Ended func(holder string, bounced bool)
	// Arrived hears of mailboxes of ours into which messages came; nil for none.
	Arrived func(mailboxes ...string)
	// Facts are what this node says of itself with each heartbeat; nil for nothing.
	Facts func() mail.NodeFacts
	// BeginAnew is called at each heartbeat while this service is asked to begin anew.
	BeginAnew func()
	// Recovered is called when the database is well again after it was not; nil for none.
	Recovered func()
}

// base is what all parts share.
type base struct {
	Options
	cfg      atomic.Pointer[config.Compiled]
	client   deliver.Current
	wake     chan struct{} // look for what is due
	stopping atomic.Bool
	// unrecorded says that the database did not take the last outcomes: until it does no attempt
	// begins, since whoever is killed now would send all of them twice.
	unrecorded atomic.Bool
	waiting    atomic.Int64 // deliveries that wait in the database, as it was last told
	// Set by Run before any attempt begins: connecting ends when the service stops, ctx when
	// transactions under way have had their time.
	connecting, ctx context.Context
}

// Config is the configuration in force.
func (b *base) Config() *config.Compiled { return b.cfg.Load() }

// Client opens connections by the configuration in force.
func (b *base) Client() *deliver.Current { return &b.client }

// Wake lets the queue look for due deliveries immediately.
func (b *base) Wake() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// Waiting is how many deliveries wait in the database, as far as it is known.
func (b *base) Waiting() int64 { return b.waiting.Load() }

// SetWaiting tells how many deliveries wait in the database.
func (b *base) SetWaiting(n int64) { b.waiting.Store(n) }

// Queue is a node's share of the queue. Its methods are those of its parts.
type Queue struct {
	*base
	*intake
	*doubts
	*scheduler
	*lanes
	*returns
	*recorder
	*author
	*warner
	*heart
	*leases
	*flows
	sender *sender
	// Loops are what the queue does in the background.
	Loops *supervise.Supervisor
}

// New makes a queue; Run starts it.
func New(o Options) *Queue {
	b := &base{
		Options:    o,
		wake:       make(chan struct{}, 1),
		ctx:        context.Background(),
		connecting: context.Background(),
	}
	q := &Queue{base: b, flows: &flows{}, doubts: newDoubts(b), heart: newHeart(b),
		Loops: supervise.New(o.Log)}
	q.author, q.returns = &author{base: b}, &returns{base: b, heart: q.heart}
	q.lanes = newLanes(b, q.heart, q.returns, q.flows)
	q.leases = newLeases(b, q.heart, q.lanes, q.returns)
	q.recorder = newRecorder(b, q.heart, q.leases, q.flows)
	q.scheduler = &scheduler{
		base:     b,
		heart:    q.heart,
		lanes:    q.lanes,
		returns:  q.returns,
		doubts:   q.doubts,
		leases:   q.leases,
		recorder: q.recorder,
		author:   q.author,
		flows:    q.flows,
	}
	q.sender = &sender{
		base:     b,
		lanes:    q.lanes,
		returns:  q.returns,
		recorder: q.recorder,
		author:   q.author,
	}
	q.intake = &intake{
		base:      b,
		heart:     q.heart,
		doubts:    q.doubts,
		leases:    q.leases,
		scheduler: q.scheduler,
		entries:   make(chan *entryRequest, 1024),
	}
	q.warner = &warner{
		base:      b,
		heart:     q.heart,
		lanes:     q.lanes,
		leases:    q.leases,
		scheduler: q.scheduler,
		author:    q.author,
	}
	// What the parts made first need of the later ones.
	q.lanes.sender, q.recorder.scheduler, q.leases.recorder = q.sender, q.scheduler, q.recorder
	q.heart.lanes, q.heart.leases = q.lanes, q.leases
	return q
}

// Apply makes a configuration the one in force. What waits in memory goes back
// to the database and is planned anew when it is taken again, immediately.
func (q *Queue) Apply(c *config.Compiled) {
	q.client.Store(deliver.NewClient(c, q.Outward))
	q.cfg.Store(c)
	q.warner.reset()
	q.GiveBack(q.lanes.setTerms(c))
	q.Wake()
}

// Run works until ctx ends; then it finishes the transactions under way, records
// their outcomes and returns.
func (q *Queue) Run(ctx context.Context) {
	var writers sync.WaitGroup
	attempts, cancel := context.WithCancel(context.Background())
	defer cancel()
	q.connecting, q.ctx = ctx, attempts
	q.takeUpJournal()
	intake, stopIntake := context.WithCancel(context.Background())
	writers.Add(1)
	go func() { defer writers.Done(); q.RunIntake(intake) }()
	var recorder sync.WaitGroup
	recorder.Add(1)
	go func() { defer recorder.Done(); q.writeOutcomes() }()
	recorder.Add(1)
	go func() { defer recorder.Done(); q.backOffs.write() }()
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: heartbeat", Do: q.beat})
	q.Loops.Go(ctx, supervise.Loop{
		Name:   "queue: what goes back",
		Every:  releaseEvery,
		Steady: true,
		Do:     q.returns.again,
	})
	q.Loops.Go(ctx, supervise.Loop{
		Name:   "queue: runs that are over",
		Every:  releaseEvery,
		Limit:  enterTimeout,
		Steady: true,
		Do:     q.releaseDead,
	})
	q.Loops.Go(ctx, supervise.Loop{
		Name:  "queue: leases of nobody",
		Every: reconcileEvery,
		Limit: enterTimeout,
		Do:    q.reconcile,
	})
	q.Loops.Go(ctx, supervise.Loop{
		Name:  "queue: leases of lost runs",
		Every: reconcileEvery,
		Limit: enterTimeout,
		Do:    q.releaseLost,
	})
	q.Loops.Go(ctx,
		supervise.Loop{Name: "queue: what was not taken after all", Do: q.withdrawLater})
	q.Loops.Go(ctx, supervise.Loop{Name: "queue: what is due", Do: q.fetchDue})
	q.Loops.Go(ctx, supervise.Loop{
		Name:  "queue: what expires",
		Every: 30 * time.Second,
		Limit: time.Minute,
		Do:    q.scheduler.expireOverdue,
	})
	q.Loops.Go(ctx, supervise.Loop{
		Name:  "queue: delay notices",
		Every: warnEvery,
		Limit: 5 * time.Minute,
		Do:    q.warner.warnDelayed,
	})
	<-ctx.Done()
	q.Loops.Wait()

	q.stopping.Store(true)
	done := make(chan struct{})
	go func() { q.crew.dismiss(); close(done) }()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		cancel()
		<-done
	}
	stopIntake()
	writers.Wait()
	close(q.outcomes)
	q.backOffs.close()
	recorder.Wait()
}
