package queue

import (
	"context"
	"sync"
	"time"

	"gullroute/internal/core/mail"
)

// returnStore takes back what was leased.
type returnStore interface {
	ReturnLeases(ctx context.Context, node int, ids []mail.DeliveryID, due time.Time) error
}

// returns gives deliveries back to the database untried. What it does not take is kept,
// and given back again later.
type returns struct {
	*base
	heart *heart

	mu   sync.Mutex
	kept []handBack
}

// handBack are deliveries that go back to the database untried.
type handBack struct {
	ids   []mail.DeliveryID
	until time.Time
}

// GiveBack lets go of deliveries that are leased to this node and not in its memory.
func (r *returns) GiveBack(ids []mail.DeliveryID) {
	r.give(handBack{ids, time.Now()})
}

// give returns deliveries to the database.
func (r *returns) give(list ...handBack) {
	for _, b := range list {
		if len(b.ids) == 0 {
			continue
		}
		ctx, cancel := context.WithTimeout(r.ctx, enterTimeout)
		if err := r.Store.ReturnLeases(ctx, r.heart.RunNumber(), b.ids, b.until); err != nil {
			r.keep(b)
		}
		cancel()
	}
}

// keep gives something back with the next round.
func (r *returns) keep(b handBack) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.kept = append(r.kept, b)
}

// again gives back what the database did not take before.
func (r *returns) again(context.Context) error {
	r.mu.Lock()
	backs := r.kept
	r.kept = nil
	r.mu.Unlock()
	r.give(backs...)
	return nil
}

// forget drops what was leased to a run that is over.
func (r *returns) forget() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.kept = nil
}

// each calls f with every delivery that is still to go back.
func (r *returns) each(f func(mail.DeliveryID)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, b := range r.kept {
		for _, id := range b.ids {
			f(id)
		}
	}
}
