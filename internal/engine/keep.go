package engine

import (
	"context"
	"errors"
	"time"

	"gullroute/internal/store"
)

// Bounds of the upkeep of the queue's tables.
const (
	gatherEvery = time.Second
	// sweepAfter is how many deliveries must have left before the queue's table
	// is swept, and sweepShare which part of what waits.
	sweepAfter = 5000
	sweepShare = 5
	flowKept   = 2 * time.Hour
)

// takeUp frees what earlier runs of this node held: the queue moves meanwhile.
func (e *Engine) takeUp(ctx context.Context) error {
	n, err := e.Store.ReleaseDead(ctx)
	if err == nil && n > 0 {
		e.Log.Info("took up what an earlier run left", "deliveries", n)
		e.Queue.Wake()
	}
	return err
}

// sweep keeps the queue's tables small.
func (e *Engine) sweep() func(context.Context) error {
	var swept, rounds int64
	return func(ctx context.Context) error {
		rounds++
		gone := e.Queue.Left()
		queueToo := false
		if left := gone - swept; left > sweepAfter && left > e.Queue.Waiting()/sweepShare {
			swept, queueToo = gone, true
		}
		if rounds%10 != 0 && !queueToo {
			return nil
		}
		return e.Store.Sweep(ctx, queueToo)
	}
}

// leaveLanes lets memory forget lanes whose hosts were in trouble and in which no mail
// is left.
func (e *Engine) leaveLanes(ctx context.Context) error {
	ids := e.Queue.InTrouble()
	if len(ids) == 0 {
		return nil
	}
	empty, err := e.Store.Empty(ctx, ids)
	if err == nil {
		e.Queue.Leave(empty)
	}
	return err
}

func (e *Engine) storeFlow(ctx context.Context) error {
	flow := e.Queue.TakeFlow()
	if err := e.Store.AddFlow(ctx, flow); err != nil {
		e.Queue.GiveFlow(flow)
		return err
	}
	n, err := e.Store.QueueLength(ctx)
	if err == nil {
		e.Queue.SetWaiting(n)
	}
	return err
}

// countEvery is how often what happened is counted.
const countEvery = time.Second

// count lets what happened be counted, behind the mail.
func (e *Engine) count(ctx context.Context) error {
	_, err := e.Store.Count(ctx)
	if errors.Is(err, store.ErrData) {
		e.Tally.Refuse("counts")
	}
	return err
}
