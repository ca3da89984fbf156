package queue

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// strays are deliveries that were found leased to us and not in memory.
type strays struct {
	run int
	put int64 // outcomes that were put before
	ids map[mail.DeliveryID]bool
}

// leaseStore knows which deliveries are leased to whom.
type leaseStore interface {
	Leases(ctx context.Context, node int) ([]store.LeaseHeld, error)
	ReleaseDead(ctx context.Context) (int64, error)
	ReleaseLost(ctx context.Context) (int64, error)
}

// leases sees that no delivery is leased and in nobody's hands.
type leases struct {
	*base
	heart    *heart
	lanes    *lanes
	returns  *returns
	recorder *recorder

	freed    atomic.Int64 // leases that nobody had in hand
	last     strays       // of the last look
	lookedAt time.Time
	// suspected: a lease may be in nobody's hands. failedOver: the database may have lost runs.
	suspected, failedOver atomic.Bool
}

func newLeases(b *base, h *heart, ls *lanes, r *returns) *leases {
	x := &leases{base: b, heart: h, lanes: ls, returns: r}
	x.failedOver.Store(true) // before this start
	return x
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
func (x *leases) Suspect() { x.suspected.Store(true) }

// lookDue reports whether leases are to be compared with memory now.
func (x *leases) lookDue() bool {
	suspected := x.suspected.Swap(false)
	return suspected || len(x.last.ids) > 0 || x.Waiting() < reconcileShort ||
		time.Since(x.lookedAt) > reconcileLong
}

// reconcile frees what is leased to us and not in memory: two looks one after the other
// must find it so, and every outcome that waited at the first must be on record at the
// second. There should be none; each is a lease whose commit's answer was lost.
func (x *leases) reconcile(ctx context.Context) error {
	if x.heart.fenced() || !x.lookDue() {
		return nil
	}
	run, put := x.heart.RunNumber(), x.recorder.put.Load()
	held, err := x.Store.Leases(ctx, run)
	if err != nil {
		x.Suspect()
		return fmt.Errorf("leases cannot be read: %w", err)
	}
	x.lookedAt = time.Now()
	known, before := x.lanes.known(), x.last
	x.last = strays{run, put, map[mail.DeliveryID]bool{}}
	recorded := before.run == run && x.recorder.written.Load() >= before.put
	var lost []store.LeaseHeld
	for _, l := range held {
		switch {
		case known[l.ID]:
		case recorded && before.ids[l.ID]:
			lost = append(lost, l)
		default:
			x.last.ids[l.ID] = true
		}
	}
	if len(lost) == 0 {
		return nil
	}
	x.Log.Warn("deliveries were leased and nobody worked on them; they are due again",
		"deliveries", len(lost))
	var ids []mail.DeliveryID
	for _, l := range lost {
		ids = append(ids, l.ID)
	}
	if x.Snags != nil {
		x.Snags.Ours(
			"leases",
			fmt.Sprintf(
				"%d deliveries were leased to node %s and nobody worked on them, %s among them; "+
					"they are due again",
				len(ids),
				x.Name,
				ids[0],
			),
			time.Now(),
		)
	}
	x.freed.Add(int64(len(ids)))
	x.returns.GiveBack(ids)
	return nil
}

// Freed is how many deliveries were found leased and in nobody's hands.
func (x *leases) Freed() int64 { return x.freed.Load() }

// releaseDead takes over from runs that are over.
func (x *leases) releaseDead(ctx context.Context) error {
	n, err := x.Store.ReleaseDead(ctx)
	if err == nil && n > 0 {
		x.Log.Warn("took over from a run that is over", "deliveries", n)
		x.Wake()
	}
	return err
}

// releaseLost frees leases of runs that the database does not know, and deletes what was
// withdrawn and has come to light.
func (x *leases) releaseLost(ctx context.Context) error {
	var n int64
	var err error
	if x.failedOver.Swap(false) {
		if n, err = x.Store.ReleaseLost(ctx); err != nil {
			x.failedOver.Store(true)
		}
	}
	if n > 0 {
		x.Log.Warn("deliveries were leased to runs that the database does not know",
			"deliveries", n)
		x.Wake()
	}
	dropped, also := x.Store.DropWithdrawn(ctx, time.Now())
	if dropped > 0 {
		x.Log.Info("messages came to light whose clients were told no; they are deleted",
			"messages", dropped)
	}
	return errors.Join(err, also)
}
