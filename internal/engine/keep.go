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

// keepQueue keeps the queue's tables small and its counts gathered. At first it
// frees what earlier runs of this node held: the queue moves meanwhile.
func (e *Engine) keepQueue(ctx context.Context) {
	if n, err := e.Store.ReleaseDead(ctx); err == nil && n > 0 {
		e.Log.Info("took up what an earlier run left", "deliveries", n)
		e.Queue.Wake()
	}
	tick := time.NewTicker(gatherEvery)
	defer tick.Stop()
	var swept, rounds int64
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		rounds++
		if err := e.Store.GatherLanes(ctx); err != nil {
			e.complain(ctx, "lanes could not be counted", err)
			continue
		}
		gone := e.Queue.Left()
		queueToo := false
		if left := gone - swept; left > sweepAfter && left > e.Queue.Waiting()/sweepShare {
			swept, queueToo = gone, true
		}
		if rounds%10 == 0 || queueToo {
			if err := e.Store.Sweep(ctx, queueToo); err != nil {
				e.complain(ctx, "the queue's tables could not be swept", err)
			}
		}
		if rounds%60 == 0 {
			e.leaveLanes(ctx)
		}
		if rounds%5 == 0 {
			e.storeFlow(ctx, rounds%300 == 0)
		}
	}
}

// leaveLanes lets memory forget lanes whose hosts were in trouble and in which no mail
// is left.
func (e *Engine) leaveLanes(ctx context.Context) {
	ids := e.Queue.InTrouble()
	if len(ids) == 0 {
		return
	}
	empty, err := e.Store.Empty(ctx, ids)
	if err != nil {
		e.complain(ctx, "it could not be found which lanes are empty", err)
		return
	}
	e.Queue.Leave(empty)
}

func (e *Engine) storeFlow(ctx context.Context, forget bool) {
	flow := e.Queue.TakeFlow()
	if err := e.Store.AddFlow(ctx, flow); err != nil {
		e.Queue.GiveFlow(flow)
		e.complain(ctx, "what lanes moved could not be stored yet", err)
	}
	if forget {
		if err := e.Store.ForgetFlow(ctx, time.Now().Add(-flowKept)); err != nil {
			e.complain(ctx, "what lanes moved could not be forgotten", err)
		}
	}
	if n, err := e.Store.QueueLength(ctx); err == nil {
		e.Queue.SetWaiting(n)
	}
}

func (e *Engine) complain(ctx context.Context, text string, err error) {
	if ctx.Err() == nil {
		e.Log.Warn(text, "error", err)
	}
}

// countEvery is how often what happened is counted.
const countEvery = time.Second

// keepCounts lets what happened be counted, behind the mail.
func (e *Engine) keepCounts(ctx context.Context) {
	tick := time.NewTicker(countEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if _, err := e.Store.Count(ctx); err != nil {
			if errors.Is(err, store.ErrData) {
				e.Tally.Refuse("counts")
			}
			e.complain(ctx, "what happened could not be counted", err)
		}
	}
}
