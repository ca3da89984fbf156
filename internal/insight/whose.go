package insight

import (
	"context"
	"sync"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/whose"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Judge says whose the trouble is that mail is in: the one answer that status, the
// queue and the console show.
type Judge struct {
	Snags    store.Snags
	Clock    *store.DB
	InForce  *inforce.State
	Resolver *resolve.Current

	mu      sync.Mutex
	until   time.Time
	through []whose.Success
	off     time.Duration
}

// judgeFor is how long what got through is kept: every page asks.
const judgeFor = 5 * time.Second

// On judges lanes.
func (j *Judge) On(ctx context.Context, lanes []mail.Lane) (whose.Verdict, error) {
	cfg := j.InForce.Config()
	source := func(route string) string {
		if r := cfg.Route(route); r != nil && len(r.Sources()) > 0 {
			return r.Sources()[0].String()
		}
		return ""
	}
	troubles := whose.Of(lanes, source)
	if len(troubles) == 0 {
		return whose.Verdict{Whose: whose.Nobody}, nil
	}
	through, off, err := j.lately(ctx)
	if err != nil {
		return whose.Verdict{}, err
	}
	for i := range through {
		through[i].Source = source(through[i].Route)
	}
	r := j.Resolver.Load()
	return whose.Judge(troubles, through,
		whose.Checks{ResolverDown: r != nil && r.Down(), ClockOff: off}), nil
}

// lately is what got through, and how far our clock is from the database's.
func (j *Judge) lately(ctx context.Context) ([]whose.Success, time.Duration, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	now := time.Now()
	if now.After(j.until) {
		through, err := j.Snags.Successes(ctx, now.Add(-whose.Recent).UTC())
		if err != nil {
			return nil, 0, err
		}
		theirs, err := j.Clock.Now(ctx)
		if err != nil {
			return nil, 0, err
		}
		j.through, j.off, j.until = through, time.Since(theirs), now.Add(judgeFor)
	}
	return append([]whose.Success(nil), j.through...), j.off, nil
}
