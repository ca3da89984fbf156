package insight

import (
	"context"
	"sync"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/snag"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Snags tells of troubles and what can be done about them.
type Snags struct {
	Store   store.Snags
	InForce *inforce.State

	cache snagCache
}

// List lists troubles, worst first, with what is offered.
func (s *Snags) List(ctx context.Context, f snag.Filter) ([]snag.Snag, error) {
	list, err := s.Store.List(ctx, f)
	for i := range list {
		list[i].Explain()
		list[i].Offer(s.InForce.Config())
	}
	return list, err
}

// One reads one trouble with what can be done about it.
func (s *Snags) One(ctx context.Context, id ident.ID) (snag.Snag, error) {
	x, err := s.Store.Snag(ctx, id)
	if err == nil {
		x.Explain()
		x.Offer(s.InForce.Config())
		x.OfferAliases(s.InForce.Config())
	}
	return x, err
}

// Parts are the lanes of the troubles that one of ours is made of.
func (s *Snags) Parts(ctx context.Context, id ident.ID) ([]ident.ID, error) {
	return s.Store.SnagParts(ctx, id)
}

// Change writes what a person said of a trouble.
func (s *Snags) Change(ctx context.Context, id ident.ID, who string, c snag.Change) error {
	return s.Store.ChangeSnag(ctx, id, who, c)
}

// snagCache keeps the counts for a moment: every page and console asks for them.
type snagCache struct {
	mu     sync.Mutex
	until  time.Time
	counts map[string]int
}

const snagCacheTime = time.Second

// Counts is how many are open, by severity; muted ones and parts left out.
func (s *Snags) Counts(ctx context.Context) (map[string]int, error) {
	s.cache.mu.Lock()
	defer s.cache.mu.Unlock()
	if time.Now().Before(s.cache.until) {
		return s.cache.counts, nil
	}
	counts, err := s.Store.SnagCounts(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]int{}
	for _, severity := range []snag.Severity{snag.Critical, snag.Serious, snag.Minor} {
		word, _ := severity.MarshalText()
		out[string(word)] = counts[severity]
	}
	s.cache.counts, s.cache.until = out, time.Now().Add(snagCacheTime)
	return out, nil
}
