package queue

import (
	"context"
	"slices"
	"sync/atomic"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// The run that leases are made for, the heartbeat that keeps it going, and what the
// heartbeat tells of the database.

// Times of the heartbeat. Nothing else stands before it: other nodes count its silence.
const (
	beatEvery  = 3 * time.Second
	beatLimit  = 3 * time.Second
	beatAgain  = 300 * time.Millisecond // after one that failed
	unwellWait = 2 * time.Second        // no mail is taken after a heartbeat under way for so long
)

// runStore keeps runs.
type runStore interface {
	RegisterNode(ctx context.Context, name string) (int, error)
	ReleaseNode(ctx context.Context, node int) error
	Heartbeat(ctx context.Context, node int, facts mail.NodeFacts) (store.Pulse, error)
	Ask(ctx context.Context, failed error) store.Condition
	Renew()
}

// heart keeps the run going that leases are made for, and knows by that how the database
// does.
type heart struct {
	*base
	lanes  *lanes
	leases *leases

	run      atomic.Int64
	database atomic.Pointer[Database]
	born     time.Time
	beating  atomic.Int64  // when the heartbeat under way began, since born; 0 for none
	lastSeen atomic.Int64  // of the last heartbeat: nanoseconds since born, by the monotonic clock
	beatNow  chan struct{} // a heartbeat is asked for
	running  atomic.Pointer[[]string]
}

func newHeart(b *base) *heart {
	h := &heart{base: b, born: time.Now(), beatNow: make(chan struct{}, 1)}
	h.run.Store(int64(b.Node))
	h.database.Store(
		&Database{Condition: store.Condition{State: store.Well}, Since: time.Now(), At: time.Now()},
	)
	return h
}

// Database is what the heartbeat knows of the database.
type Database struct {
	store.Condition
	Since time.Time
	// Took is how long the last small durable write took.
	Took time.Duration
	// At is when one last succeeded; zero if none did.
	At time.Time
}

// ErrNotNow reports that nothing is taken at present; it says why.
type ErrNotNow struct{ store.Condition }

func (e ErrNotNow) Error() string { return e.Text }

// RunNumber is the number of the run that leases are made for.
func (h *heart) RunNumber() int { return int(h.run.Load()) }

// share is this node's place among the nodes that run and deliver by a route, and how many these
// are: limits of a lane hold over all of them.
func (h *heart) share(r *config.Route) (at, of int) {
	running := h.running.Load()
	if running == nil {
		return 0, 1
	}
	for _, name := range *running {
		if name == h.Name {
			at = of
		}
		if config.On(r.Nodes, name) {
			of++
		}
	}
	return at, max(of, 1)
}

// shareAnew gives every lane its share of its limits when a node came or went.
func (h *heart) shareAnew() {
	c := h.cfg.Load()
	if c == nil {
		return
	}
	for _, l := range h.lanes.all() {
		l.mu.Lock()
		l.setTerms(c, l.route().Name, h.share)
		l.mu.Unlock()
	}
}

// Database is how the database does.
func (h *heart) Database() Database { return *h.database.Load() }

// Taking is nil, or why no mail can be taken now: the last heartbeat did not reach the
// database. Clients hear it immediately, and do not wait for a commit that comes to no end.
func (h *heart) Taking() error {
	if d := h.database.Load(); d.State != store.Well {
		return ErrNotNow{d.Condition}
	}
	if began := h.beating.Load(); began != 0 &&
		time.Since(h.born)-time.Duration(began) > unwellWait {
		return ErrNotNow{
			store.Condition{State: store.Hanging, Text: "the database is slow to answer"},
		}
	}
	return nil
}

// beat sends heartbeats until ctx ends.
func (h *heart) beat(ctx context.Context) error {
	timer := time.NewTimer(beatEvery)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-timer.C:
		case <-h.beatNow:
		}
		wait := beatEvery
		if !h.heartbeat(ctx) {
			wait = beatAgain
		}
		if s := h.Database().State; s == store.Newer || s == store.Replaced {
			return nil // until this service is begun anew
		}
		timer.Reset(wait)
	}
}

// heartbeat reports whether the database took one.
func (h *heart) heartbeat(ctx context.Context) bool {
	began := time.Now()
	h.beating.Store(int64(began.Sub(h.born)))
	var facts mail.NodeFacts
	if h.Facts != nil {
		facts = h.Facts()
	}
	asking, cancel := context.WithTimeout(ctx, beatLimit)
	p, err := h.Store.Heartbeat(asking, h.RunNumber(), facts)
	cancel()
	h.beating.Store(0)
	if ctx.Err() != nil {
		return true
	}
	if err != nil {
		c := h.Store.Ask(ctx, err)
		if c.State == store.Frozen || c.State == store.ReadOnly || c.State == store.Former {
			h.Store.Renew()
		}
		h.setDatabase(c, 0)
		return false
	}
	if p.Newer || p.Replaced {
		c := store.NewerSchema()
		if p.Replaced {
			c = store.RunReplaced()
		}
		h.setDatabase(c, 0)
		h.lanes.forget()
		if err := h.Store.ReleaseNode(ctx, h.RunNumber()); err != nil { // others go on with it
			h.Log.Error("leases were not given back; they are free when this node is missed",
				"error", err)
		}
		return true
	}
	if p.Over {
		return h.beginAnew(ctx)
	}
	wasFenced := h.fenced()
	h.lastSeen.Store(int64(began.Sub(h.born)))
	h.setDatabase(store.Condition{State: store.Well}, time.Since(began))
	if was := h.running.Swap(&p.Running); was != nil && !slices.Equal(*was, p.Running) ||
		was == nil && len(p.Running) > 1 {
		h.shareAnew()
	}
	if wasFenced {
		h.lanes.staffAll()
	}
	if p.BeginAnew && h.BeginAnew != nil {
		h.BeginAnew()
	}
	return true
}

// setDatabase notes how the database does, and says so when it changes.
func (h *heart) setDatabase(c store.Condition, took time.Duration) {
	was, now := h.database.Load(), time.Now()
	d := Database{Condition: c, Since: was.Since, Took: took, At: was.At}
	if c.State == store.Well {
		d.At = now
	}
	if c.State != was.State {
		d.Since = now
		if c.State == store.Well {
			h.Log.Info("the database is well again",
				"after", now.Sub(was.Since).Round(time.Millisecond).String())
		} else {
			h.Log.Error("no mail is taken", "why", c.Text)
			if h.Snags != nil { // on record as soon as the database takes it
				h.Snags.Ours("database "+string(c.State), c.Text, now)
			}
		}
	}
	h.database.Store(&d)
	if c.State == store.Well && was.State != store.Well {
		h.leases.Suspect()
		h.leases.failedOver.Store(true)
		h.Wake()
		if h.Recovered != nil {
			h.Recovered()
		}
	}
}

// beginAnew begins a new run: the one before is over although we live. Another node has
// what it held.
func (h *heart) beginAnew(ctx context.Context) bool {
	asking, cancel := context.WithTimeout(ctx, beatLimit)
	defer cancel()
	run, err := h.Store.RegisterNode(asking, h.Name)
	if err != nil {
		h.Log.Error("a new run of this node cannot begin", "error", err)
		return false
	}
	h.leases.failedOver.Store(true)
	h.Log.Warn("this node was taken for dead, or the database lost it; it goes on as another run",
		"run", run)
	h.goOn(run)
	return true
}

// nextRun asks for a heartbeat, which finds that a run is over, and waits a little for the
// next to begin. It reports whether it has.
func (h *heart) nextRun(ctx context.Context, run int) bool {
	select {
	case h.beatNow <- struct{}{}:
	default:
	}
	for end := time.Now().Add(beatLimit); time.Now().Before(end); {
		if h.RunNumber() != run {
			return true
		}
		select {
		case <-ctx.Done():
			return false
		case <-time.After(20 * time.Millisecond):
		}
	}
	return false
}

// goOn goes on as a run, with nothing in memory.
func (h *heart) goOn(run int) {
	h.run.Store(int64(run)) // first: what is placed from now on must be leased to it
	h.lanes.forget()
}

// silent is how long the database was not heard of.
func (h *heart) silent() time.Duration { return time.Since(h.born) - time.Duration(h.lastSeen.Load()) }

// fenced reports that our leases may be another node's by now.
func (h *heart) fenced() bool {
	s := h.database.Load().State
	return h.silent() > leaseLost || s == store.Newer || s == store.Replaced
}
