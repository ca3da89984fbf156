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
	SetBackOff(ctx context.Context, r store.BackOff) error
}

// backOffs are the back-offs of lanes that other nodes know of, and how they hear of ours.
type backOffs struct {
	*base
	records chan store.BackOff

	mu    sync.Mutex
	known map[ident.ID]store.BackOff // of other nodes
}

// graceOfOthers is how long a lane whose rest is over is left to the node that
// found its host in trouble: one attempt an interval is enough.
const graceOfOthers = 10 * time.Second

func newBackOffs(b *base) *backOffs {
	return &backOffs{base: b, records: make(chan store.BackOff, 4096), known: map[ident.ID]store.BackOff{}}
}

// record lets the other nodes know that a lane rests or moves again. It does not wait for
// the database.
func (r *backOffs) record(one store.BackOff) {
	select {
	case r.records <- one:
	default: // so many at the same time: the database has other troubles
	}
}

// write records rests in order until close.
func (r *backOffs) write() {
	for one := range r.records {
		ctx, cancel := context.WithTimeout(context.Background(), enterTimeout)
		if err := r.Store.SetBackOff(ctx, one); err != nil {
			r.Log.Warn("a lane's back-off is not on record", "lane", one.Lane, "error", err)
		}
		cancel()
	}
}

func (r *backOffs) close() { close(r.records) }

// of is what another node knows of a lane.
func (r *backOffs) of(id ident.ID) (store.BackOff, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	one, ok := r.known[id]
	return one, ok
}

// all is all that other nodes know.
func (r *backOffs) all() []store.BackOff {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make([]store.BackOff, 0, len(r.known))
	for _, one := range r.known {
		out = append(out, one)
	}
	return out
}

// end lets a lane that another node found in trouble be tried now.
func (r *backOffs) end(id ident.ID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if one, ok := r.known[id]; ok {
		one.Until = time.Time{}
		r.known[id] = one
	}
}

// follow takes over what other nodes than run know. Lanes that were asked for and are not
// among the rests move again; nil asks for all.
func (r *backOffs) follow(list []store.BackOff, asked []ident.ID, run int) {
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
