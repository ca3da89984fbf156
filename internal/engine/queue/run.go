package queue

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gullroute/internal/core/ident"
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
func (q *Queue) RunNumber() int { return int(q.run.Load()) }

// Database is how the database does.
func (q *Queue) Database() Database { return *q.database.Load() }

// Taking is nil, or why no mail can be taken now: the last heartbeat did not reach the
// database. Clients hear it at once, and do not wait for a commit that comes to no end.
func (q *Queue) Taking() error {
	if d := q.database.Load(); d.State != store.Well {
		return ErrNotNow{d.Condition}
	}
	if began := q.beating.Load(); began != 0 && time.Since(q.born)-time.Duration(began) > unwellWait {
		return ErrNotNow{store.Condition{State: store.Hanging, Text: "the database is slow to answer"}}
	}
	return nil
}

// beat sends heartbeats until ctx ends.
func (q *Queue) beat(ctx context.Context) error {
	timer := time.NewTimer(beatEvery)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-timer.C:
		case <-q.beatNow:
		}
		wait := beatEvery
		if !q.heartbeat(ctx) {
			wait = beatAgain
		}
		if s := q.Database().State; s == store.Newer || s == store.Replaced {
			return nil // until this service is begun anew
		}
		timer.Reset(wait)
	}
}

// heartbeat reports whether the database took one.
func (q *Queue) heartbeat(ctx context.Context) bool {
	began := time.Now()
	q.beating.Store(int64(began.Sub(q.born)))
	asking, cancel := context.WithTimeout(ctx, beatLimit)
	p, err := q.Store.Heartbeat(asking, q.RunNumber())
	cancel()
	q.beating.Store(0)
	if ctx.Err() != nil {
		return true
	}
	if err != nil {
		c := q.Store.Ask(ctx, err)
		if c.State == store.Frozen || c.State == store.ReadOnly || c.State == store.Former {
			q.Store.Renew()
		}
		q.setDatabase(c, 0)
		return false
	}
	if p.Newer || p.Replaced {
		c := store.NewerSchema()
		if p.Replaced {
			c = store.RunReplaced()
		}
		q.setDatabase(c, 0)
		q.forget(q.RunNumber())
		if err := q.Store.ReleaseNode(ctx, q.RunNumber()); err != nil { // others go on with it
			q.Log.Error("leases were not given back; they are free when this node is missed", "error", err)
		}
		return true
	}
	if p.Over {
		return q.beginAnew(ctx)
	}
	wasFenced := q.fenced()
	q.lastSeen.Store(int64(began.Sub(q.born)))
	q.setDatabase(store.Condition{State: store.Well}, time.Since(began))
	if wasFenced {
		q.mu.Lock()
		q.staffAll()
		q.mu.Unlock()
	}
	return true
}

// setDatabase notes how the database does, and says so when it changes.
func (q *Queue) setDatabase(c store.Condition, took time.Duration) {
	was, now := q.database.Load(), time.Now()
	d := Database{Condition: c, Since: was.Since, Took: took, At: was.At}
	if c.State == store.Well {
		d.At = now
	}
	if c.State != was.State {
		d.Since = now
		if c.State == store.Well {
			q.Log.Info("the database is well again", "after", now.Sub(was.Since).Round(time.Millisecond).String())
		} else {
			q.Log.Error("no mail is taken", "why", c.Text)
			if q.Snags != nil { // on record as soon as the database takes it
				q.Snags.Ours("database "+string(c.State), c.Text, now)
			}
		}
	}
	q.database.Store(&d)
	if c.State == store.Well && was.State != store.Well {
		q.Suspect()
		q.failedOver.Store(true)
		q.Wake()
		if q.Recovered != nil {
			q.Recovered()
		}
	}
}

// beginAnew begins a new run: the one before is over although we live. Another node has
// what it held.
func (q *Queue) beginAnew(ctx context.Context) bool {
	asking, cancel := context.WithTimeout(ctx, beatLimit)
	defer cancel()
	run, err := q.Store.RegisterNode(asking, q.Name)
	if err != nil {
		q.Log.Error("a new run of this node cannot begin", "error", err)
		return false
	}
	q.failedOver.Store(true)
	q.Log.Warn("this node was taken for dead, or the database lost it; it goes on as another run", "run", run)
	q.forget(run)
	return true
}

// nextRun asks for a heartbeat, which finds that a run is over, and waits a little for the
// next to begin. It reports whether it has.
func (q *Queue) nextRun(ctx context.Context, run int) bool {
	select {
	case q.beatNow <- struct{}{}:
	default:
	}
	for end := time.Now().Add(beatLimit); time.Now().Before(end); {
		if q.RunNumber() != run {
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

// forget drops what waits in memory, and goes on as a run. What is in a transaction comes
// to its end; its outcome counts.
func (q *Queue) forget(run int) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.run.Store(int64(run))
	q.handBacks = nil
	for _, l := range q.lanes {
		q.unload(l)
	}
}

// silent is how long the database was not heard of.
func (q *Queue) silent() time.Duration { return time.Since(q.born) - time.Duration(q.lastSeen.Load()) }

// fenced reports that our leases may be another node's by now.
func (q *Queue) fenced() bool {
	s := q.database.Load().State
	return q.silent() > leaseLost || s == store.Newer || s == store.Replaced
}

// strays are deliveries that were found leased to us and not in memory.
type strays struct {
	run int
	put int64 // outcomes that were put before
	ids map[mail.DeliveryID]bool
}

// When leases are compared with memory. The whole queue is looked at, so a long one is
// only when an answer was lost, which is what leaves a lease in nobody's hands, and rarely
// besides.
const (
	reconcileEvery = 30 * time.Second
	reconcileShort = 20_000 // deliveries in a queue that is looked at every time
	reconcileLong  = 10 * time.Minute
)

// Suspect notes that the answer of a statement that leases was lost.
func (q *Queue) Suspect() { q.suspected.Store(true) }

// lookDue reports whether leases are to be compared with memory now.
func (q *Queue) lookDue() bool {
	suspected := q.suspected.Swap(false)
	return suspected || len(q.strays.ids) > 0 || q.Waiting() < reconcileShort || time.Since(q.lookedAt) > reconcileLong
}

// reconcile frees what is leased to us and not in memory: two looks one after the other
// must find it so, and every outcome that waited at the first must be on record at the
// second. There should be none; each is a lease whose commit's answer was lost.
func (q *Queue) reconcile(ctx context.Context) error {
	if q.fenced() || !q.lookDue() {
		return nil
	}
	run, put := q.RunNumber(), q.put.Load()
	held, err := q.Store.Leases(ctx, run)
	if err != nil {
		q.Suspect()
		return fmt.Errorf("leases cannot be read: %w", err)
	}
	q.lookedAt = time.Now()
	known, before := q.known(), q.strays
	q.strays = strays{run, put, map[mail.DeliveryID]bool{}}
	recorded := before.run == run && q.written.Load() >= before.put
	var lost []store.LeaseHeld
	for _, l := range held {
		switch {
		case known[l.ID]:
		case recorded && before.ids[l.ID]:
			lost = append(lost, l)
		default:
			q.strays.ids[l.ID] = true
		}
	}
	if len(lost) == 0 {
		return nil
	}
	q.Log.Warn("deliveries were leased and in nobody's hands; they are due again", "deliveries", len(lost))
	var ids []mail.DeliveryID
	for _, l := range lost {
		ids = append(ids, l.ID)
	}
	if q.Snags != nil {
		q.Snags.Ours("leases", fmt.Sprintf("%d deliveries were leased to node %s and in nobody's hands, %s among them; "+
			"they are due again", len(ids), q.Name, ids[0]), time.Now())
	}
	q.freed.Add(int64(len(ids)))
	q.GiveBack(ids)
	return nil
}

// Freed is how many deliveries were found leased and in nobody's hands.
func (q *Queue) Freed() int64 { return q.freed.Load() }

// known are the deliveries that memory has.
func (q *Queue) known() map[mail.DeliveryID]bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	out := make(map[mail.DeliveryID]bool, q.window)
	for _, l := range q.lanes {
		l.pending.each(func(j *job) {
			for _, d := range j.deliveries {
				out[d.ID()] = true
			}
		})
	}
	for id := range q.inHand {
		out[id] = true
	}
	for _, b := range q.handBacks {
		for _, id := range b.ids {
			out[id] = true
		}
	}
	return out
}

// releaseDead takes over from runs that are over.
func (q *Queue) releaseDead(ctx context.Context) error {
	n, err := q.Store.ReleaseDead(ctx)
	if err == nil && n > 0 {
		q.Log.Warn("took over from a run that is over", "deliveries", n)
		q.Wake()
	}
	return err
}

// releaseLost frees leases of runs that the database does not know, and deletes what was
// withdrawn and has come to light.
func (q *Queue) releaseLost(ctx context.Context) error {
	var n int64
	var err error
	if q.failedOver.Swap(false) {
		if n, err = q.Store.ReleaseLost(ctx); err != nil {
			q.failedOver.Store(true)
		}
	}
	if n > 0 {
		q.Log.Warn("deliveries were leased to runs that the database does not know", "deliveries", n)
		q.Wake()
	}
	dropped, also := q.Store.DropWithdrawn(ctx, time.Now())
	if dropped > 0 {
		q.Log.Info("messages came to light whose clients were told no; they are deleted", "messages", dropped)
	}
	return errors.Join(err, also)
}

// unclear are messages whose clients were told no, and of which it is not known whether
// they are in the database.
type unclear struct {
	ids []ident.ID
	err *store.Unclear
}

// doubting reports that something is still to be withdrawn: until then nothing is leased,
// or it could be among it.
func (q *Queue) doubting() bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return len(q.unclear) > 0
}

// isWithdrawn reports that a message is to be withdrawn. Queue.mu is held.
func (q *Queue) isWithdrawn(id ident.ID) bool {
	return slices.ContainsFunc(q.unclear, func(u unclear) bool { return slices.Contains(u.ids, id) })
}

// decide ends the doubt about messages: false if one of them came back from the database,
// so that they were entered; else they are to be withdrawn.
func (q *Queue) decide(u unclear) (withdrawn bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, id := range u.ids {
		if q.inDoubt[id] {
			return false
		}
	}
	q.unclear = append(q.unclear, u)
	return true
}

// withdraw takes back what a failed commit may have left behind. Until it has succeeded,
// it is tried again.
func (q *Queue) withdraw(ctx context.Context, u unclear) error {
	asking, cancel := context.WithTimeout(ctx, withdrawLimit)
	defer cancel()
	if err := q.Store.Withdraw(asking, u.ids); err != nil {
		return fmt.Errorf("%d messages that were not taken cannot be withdrawn yet: %w", len(u.ids), err)
	}
	q.Log.Info("messages were withdrawn whose clients were told no", "messages", len(u.ids))
	if u.err != nil {
		u.err.Cancel(asking)
	}
	return nil
}

// withdrawLater withdraws what could not be withdrawn at once, as soon as the database
// takes it.
func (q *Queue) withdrawLater(ctx context.Context) error {
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-q.doubt:
		}
		for said := false; ; said = true {
			err := q.withdrawAll(ctx)
			if err == nil {
				break
			}
			if !said {
				q.Log.Warn("trying again", "error", err)
			}
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(withdrawAgain):
			}
		}
	}
}

const withdrawAgain = 300 * time.Millisecond

// withdrawAll withdraws what could not be withdrawn before.
func (q *Queue) withdrawAll(ctx context.Context) error {
	q.withdrawing.Lock()
	defer q.withdrawing.Unlock()
	for {
		q.mu.Lock()
		if len(q.unclear) == 0 {
			q.mu.Unlock()
			return nil
		}
		u := q.unclear[0]
		q.mu.Unlock()
		if err := q.withdraw(ctx, u); err != nil {
			return err
		}
		q.mu.Lock()
		if q.unclear = q.unclear[1:]; len(q.unclear) == 0 {
			q.strike()
		}
		q.mu.Unlock()
		q.Wake()
	}
}
