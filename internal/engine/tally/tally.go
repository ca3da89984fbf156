// Package tally counts what happens, by hour.
package tally

import (
	"context"
	"sync"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// Kinds of what is counted.
const (
	Received  = "received"
	Delivered = "delivered"
	Deferred  = "deferred"
	Bounced   = "bounced"
	Expired   = "expired"
	Rejected  = "rejected"
)

// Kinds are all of them.
var Kinds = []string{Received, Delivered, Deferred, Bounced, Expired, Rejected}

type slot struct {
	hour time.Time
	kind string
}

type sum struct{ n, bytes int64 }

// Tally counts in memory; Flush takes the counts to the store. A crash loses
// what was counted since the last flush.
type Tally struct {
	mu      sync.Mutex
	pending map[slot]sum
	totals  map[string]sum
}

// New makes an empty tally.
func New() *Tally { return &Tally{pending: map[slot]sum{}, totals: map[string]sum{}} }

// Add counts one thing of so many octets.
func (t *Tally) Add(at time.Time, kind string, bytes int64) {
	key := slot{at.UTC().Truncate(time.Hour), kind}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.pending[key] = sum{t.pending[key].n + 1, t.pending[key].bytes + bytes}
	t.totals[kind] = sum{t.totals[kind].n + 1, t.totals[kind].bytes + bytes}
}

// Total is how often a kind was counted since the start, and its octets.
func (t *Tally) Total(kind string) (n, bytes int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.totals[kind].n, t.totals[kind].bytes
}

// Flush adds the counts to the store; on an error they are kept for the next.
func (t *Tally) Flush(ctx context.Context, s *store.Store) error {
	t.mu.Lock()
	taken := t.pending
	t.pending = map[slot]sum{}
	t.mu.Unlock()
	if len(taken) == 0 {
		return nil
	}
	counts := make([]mail.Count, 0, len(taken))
	for k, v := range taken {
		counts = append(counts, mail.Count{Hour: k.hour, Kind: k.kind, N: v.n, Bytes: v.bytes})
	}
	err := s.AddCounts(ctx, counts)
	if err != nil {
		t.mu.Lock()
		for k, v := range taken {
			t.pending[k] = sum{t.pending[k].n + v.n, t.pending[k].bytes + v.bytes}
		}
		t.mu.Unlock()
	}
	return err
}
