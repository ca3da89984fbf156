package queue

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// warned remembers up to where messages were looked at for each time after which
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

// warnStore knows which messages have waited for long.
type warnStore interface {
	Unwarned(ctx context.Context, after mail.DeliveryID, before time.Time,
		limit int) ([]store.Due, mail.DeliveryID, error)
	Warn(ctx context.Context, node int, at time.Time,
		warnings []store.Warning) (dropped []*store.Entry, err error)
}

// warner tells senders of messages that have waited for long.
type warner struct {
	*base
	heart     *heart
	lanes     *lanes
	leases    *leases
	scheduler *scheduler
	author    *author
	looked    warned
}

func (w *warner) reset() { w.looked.reset() }

const (
	warnEvery = 10 * time.Second
	warnPage  = 1000
)

// warnDelayed tells senders of messages that have waited for long, once each. A
// message is looked at one time, when its time comes: ids grow with time, so what has
// been looked at is a mark that moves on.
func (w *warner) warnDelayed(ctx context.Context) error {
	cfg := w.cfg.Load()
	if cfg == nil || w.heart.fenced() {
		return nil
	}
	for _, after := range cfg.WarnTimes() {
		for {
			more, err := w.warnPage(ctx, cfg, after)
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
func (w *warner) warnPage(
	ctx context.Context,
	cfg *config.Compiled,
	after time.Duration,
) (bool, error) {
	now, mark := time.Now(), w.looked.get(after)
	due, last, err := w.Store.Unwarned(ctx, mark, now.Add(-after), warnPage)
	if err != nil {
		return false, fmt.Errorf("messages that wait for long cannot be read: %w", err)
	}
	if last == (mail.DeliveryID{}) {
		return false, nil
	}
	warnings := w.warnings(cfg, due, after, now)
	if len(warnings) > 0 {
		var notices []*store.Entry
		for _, one := range warnings {
			notices = append(notices, one.Notices...)
		}
		run := w.scheduler.reserve(ctx, notices)
		dropped, err := w.Store.Warn(ctx, run, now.UTC(), warnings)
		if err != nil {
			w.leases.Suspect()
			w.scheduler.unreserve(notices)
			return false, fmt.Errorf("delay notices could not be written: %w", err)
		}
		w.scheduler.unreserve(dropped)
		w.scheduler.admitEntered(
			slices.DeleteFunc(notices,
				func(e *store.Entry) bool { return slices.Contains(dropped, e) }),
			run,
		)
	}
	w.looked.set(after, last)
	return ctx.Err() == nil, nil
}

// warnings makes a notice for each message whose deliveries are to be warned of
// after this time.
func (w *warner) warnings(
	cfg *config.Compiled,
	due []store.Due,
	after time.Duration,
	now time.Time,
) []store.Warning {
	var out []store.Warning
	for i := 0; i < len(due); {
		j := jobOf(&due[i])
		message := due[i].Delivery.MessageID
		for ; i < len(due) && due[i].Delivery.MessageID == message; i++ {
			d := &due[i].Delivery
			if scheduleOf(cfg, cfg.Route(d.Route), d, j.sender == "").WarnAfter == after {
				w.lanes.lastSaid(d)
				j.deliveries = append(j.deliveries, d)
			}
		}
		if len(j.deliveries) == 0 {
			continue
		}
		notices := w.author.notice(cfg, j, j.deliveries, now)
		if len(notices) == 0 {
			continue
		}
		one := store.Warning{Notices: notices}
		for _, d := range j.deliveries {
			one.Deliveries = append(one.Deliveries, d.ID())
			one.Events = append(one.Events, mail.Event{
				At:        now.UTC(),
				Kind:      mail.EventDelayed,
				MessageID: d.MessageID,
				N:         d.N,
				Node:      w.Name,
				Text:      "a delay notice was sent",
				Detail:    map[string]any{"notice": notices[0].Message.ID},
			})
		}
		out = append(out, one)
	}
	return out
}
