package queue

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// warned remembers up to where letters were looked at for each time after which
// a sender is told of a delay.
type warned struct {
	mu sync.Mutex
	at map[time.Duration]mail.DeliveryID
}

// reset begins anew: other times may count. Who was told is on record.
func (w *warned) reset() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.at = map[time.Duration]mail.DeliveryID{}
}

func (w *warned) get(d time.Duration) mail.DeliveryID {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.at[d]
}

func (w *warned) set(d time.Duration, id mail.DeliveryID) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.at[d] = id
}

const (
	warnEvery = 10 * time.Second
	warnPage  = 1000
)

// warnDelayed tells senders of letters that have waited for long, once each. A
// letter is looked at once when its time comes: ids grow with time, so what has
// been looked at is a mark that moves on.
func (q *Queue) warnDelayed(ctx context.Context) error {
	cfg := q.cfg.Load()
	if cfg == nil || q.fenced() {
		return nil
	}
	for _, after := range cfg.WarnTimes() {
		for {
			more, err := q.warnPage(ctx, cfg, after)
			if err != nil {
				return err
			}
			if !more {
				break
			}
		}
	}
	return nil
}

// warnPage looks at one page and reports whether there may be more.
func (q *Queue) warnPage(ctx context.Context, cfg *config.Compiled, after time.Duration) (bool, error) {
	now, mark := time.Now(), q.warned.get(after)
	due, last, err := q.Store.Unwarned(ctx, mark, now.Add(-after), warnPage)
	if err != nil {
		return false, fmt.Errorf("letters that wait for long cannot be read: %w", err)
	}
	if last == (mail.DeliveryID{}) {
		return false, nil
	}
	warnings := q.warnings(cfg, due, after, now)
	if len(warnings) > 0 {
		var notices []*store.Entry
		for _, w := range warnings {
			notices = append(notices, w.Notices...)
		}
		run := q.reserve(notices)
		dropped, err := q.Store.Warn(ctx, run, now.UTC(), warnings)
		if err != nil {
			q.Suspect()
			q.unreserve(notices)
			return false, fmt.Errorf("senders could not be told of delays: %w", err)
		}
		q.unreserve(dropped)
		q.handOver(slices.DeleteFunc(notices, func(e *store.Entry) bool { return slices.Contains(dropped, e) }), run)
	}
	q.warned.set(after, last)
	return ctx.Err() == nil, nil
}

// askLane tells of a delivery that was not tried itself what was said to its lane.
func (q *Queue) askLane(d *mail.Delivery) {
	if d.Last != nil {
		return
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	if r, ok := q.rests[d.LaneID]; ok {
		d.Last, d.Cause = r.Last, diagnose.Cause(r.Cause)
	}
	if l := q.lanes[d.LaneID]; l != nil && l.last != nil {
		d.Last, d.Cause = l.last, diagnose.Cause(l.cause)
	}
}

// warnings makes a notice for each message whose deliveries are to be warned of
// after this time.
func (q *Queue) warnings(cfg *config.Compiled, due []store.Due, after time.Duration, now time.Time) []store.Warning {
	var out []store.Warning
	for i := 0; i < len(due); {
		j := jobOf(&due[i])
		message := due[i].Delivery.MessageID
		for ; i < len(due) && due[i].Delivery.MessageID == message; i++ {
			d := &due[i].Delivery
			if q.schedule(cfg, cfg.Route(d.Route), d, j.sender == "").WarnAfter == after {
				q.askLane(d)
				j.deliveries = append(j.deliveries, d)
			}
		}
		if len(j.deliveries) == 0 {
			continue
		}
		notices := q.notice(cfg, j, j.deliveries, now)
		if len(notices) == 0 {
			continue
		}
		w := store.Warning{Notices: notices}
		for _, d := range j.deliveries {
			w.Deliveries = append(w.Deliveries, d.ID())
			w.Events = append(w.Events, mail.Event{At: now.UTC(), Kind: mail.EventDelayed, MessageID: d.MessageID, N: d.N, Node: q.Name,
				Text: "the sender was told of the delay", Detail: map[string]any{"notice": notices[0].Message.ID}})
		}
		out = append(out, w)
	}
	return out
}
