package insight

import (
	"context"
	"slices"
	"sync"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
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
		list[i].Offer(s.InForce.Config(), paused(s.InForce.Paused(), &list[i]))
	}
	return list, err
}

// One reads one trouble with what can be done about it.
func (s *Snags) One(ctx context.Context, id ident.ID) (snag.Snag, error) {
	x, err := s.Store.Snag(ctx, id)
	if err == nil {
		x.Explain()
		x.Offer(s.InForce.Config(), paused(s.InForce.Paused(), &x))
		x.OfferAliases(s.InForce.Config())
	}
	return x, err
}

// Fixed notes what somebody did about a trouble.
func (s *Snags) Fixed(ctx context.Context, id ident.ID, what string) error {
	return s.Store.MarkFix(ctx, id, what, time.Now().UTC())
}

// Story is what has to do with a trouble, in order of time.
func (s *Snags) Story(ctx context.Context, id ident.ID) (snag.Story, error) {
	x, err := s.Store.Snag(ctx, id)
	if err != nil {
		return snag.Story{}, err
	}
	return s.Store.Story(ctx, &x)
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

// paused reports that somebody has stopped what a trouble concerns: all delivery, its
// route, or each of its lanes.
func paused(pauses []mail.Pause, x *snag.Snag) bool {
	lanes := 0
	for _, p := range pauses {
		switch {
		case p.Kind == mail.PauseDelivery,
			p.Kind == mail.PauseRoute && x.Place.Kind == snag.Route && p.Name == x.Place.Name:
			return true
		case p.Kind == mail.PauseLane && slices.ContainsFunc(x.Lanes,
			func(l ident.ID) bool { return l.String() == p.Name }):
			lanes++
		}
	}
	return lanes > 0 && lanes >= len(x.Lanes)
}
