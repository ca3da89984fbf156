package queue

import (
	"context"
	"sync"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/store"
)

// restStore keeps which lanes rest.
type restStore interface {
	SetRest(ctx context.Context, r store.Rest) error
}

// rests are what other nodes know of lanes that rest, and how they hear of ours.
type rests struct {
	*base
	records chan store.Rest

	mu    sync.Mutex
	known map[ident.ID]store.Rest // of other nodes
}

// graceOfOthers is how long a lane whose rest is over is left to the node that
// found its host in trouble: one attempt an interval is enough.
const graceOfOthers = 10 * time.Second

func newRests(b *base) *rests {
	return &rests{base: b, records: make(chan store.Rest, 4096), known: map[ident.ID]store.Rest{}}
}

// record lets the other nodes know that a lane rests or moves again. It does not wait for
// the database.
func (r *rests) record(one store.Rest) {
	select {
	case r.records <- one:
	default: // so many at the same time: the database has other troubles
	}
}

// write records rests in order until close.
func (r *rests) write() {
	for one := range r.records {
		ctx, cancel := context.WithTimeout(context.Background(), enterTimeout)
		if err := r.Store.SetRest(ctx, one); err != nil {
			r.Log.Warn("a lane's rest is not on record", "lane", one.Lane, "error", err)
		}
		cancel()
	}
}

func (r *rests) close() { close(r.records) }

// of is what another node knows of a lane.
func (r *rests) of(id ident.ID) (store.Rest, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	one, ok := r.known[id]
	return one, ok
}

// all is all that other nodes know.
func (r *rests) all() []store.Rest {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make([]store.Rest, 0, len(r.known))
	for _, one := range r.known {
		out = append(out, one)
	}
	return out
}

// end lets a lane that another node found in trouble be tried now.
func (r *rests) end(id ident.ID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if one, ok := r.known[id]; ok {
		one.Until = time.Time{}
		r.known[id] = one
	}
}

// follow takes over what other nodes than run know. Lanes that were asked for and are not
// among the rests move again; nil asks for all.
func (r *rests) follow(list []store.Rest, asked []ident.ID, run int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if asked == nil {
		clear(r.known)
	}
	for _, id := range asked {
		delete(r.known, id)
	}
	for _, one := range list {
		if one.Node != run {
			r.known[one.Lane] = one
		}
	}
}
