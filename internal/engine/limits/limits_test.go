package limits

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/relay"
	"gullroute/internal/store"
)

// ledger is a store in memory.
type ledger struct {
	mu   sync.Mutex
	down bool
	list []store.Sent
}

func (l *ledger) AddSent(_ context.Context, list []store.Sent) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.down {
		return errors.New("away")
	}
	l.list = append(l.list, list...)
	return nil
}

func (l *ledger) SentSince(
	_ context.Context,
	rule, holder string,
	since time.Time,
) (out []store.Sent,
	err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	sums := map[time.Time]store.Sent{}
	for _, s := range l.list {
		if s.Rule == rule && s.Holder == holder && !s.Hour.Before(since) {
			sum := sums[s.Hour]
			sums[s.Hour] = store.Sent{
				Hour:       s.Hour,
				Messages:   sum.Messages + s.Messages,
				Recipients: sum.Recipients + s.Recipients,
				Fresh:      sum.Fresh + s.Fresh,
				Ended:      sum.Ended + s.Ended,
				Bounced:    sum.Bounced + s.Bounced,
			}
		}
	}
	for _, s := range sums {
		out = append(out, s)
	}
	return out, nil
}

func TestLimitsCountOverNodesAndRestarts(t *testing.T) {
	db := &ledger{}
	ctx := context.Background()
	limits := config.RuleLimits{MessagesPerDay: 3, RecipientsPerHour: 10}
	a := New(db)
	for range 2 {
		for i := range 4 {
			if why := a.Take(ctx, "people", "ines", limits, relay.More{First: i == 0}); why != "" {
				t.Fatal(why)
			}
		}
	}
	for range 2 {
		a.Take(ctx, "people", "ines", limits, relay.More{})
	}
	if why := a.Take(
		ctx,
		"people",
		"ines",
		limits,
		relay.More{},
	); !strings.Contains(why, "ines has sent its 10 recipients of this hour under rule people") {
		t.Errorf("an eleventh recipient: %q", why)
	}
	if why := a.Left(ctx, "people", "tomas", limits); why != "" {
		t.Errorf("somebody else: %q", why)
	}
	a.GiveBack("people", "ines", 0, 2, 0)
	if words := a.Words(
		ctx,
		"people",
		"ines",
		limits,
	); words != "2 of 10 recipients this hour left, 1 of 3 messages today left" {
		t.Errorf("%q", words)
	}
	db.down = true
	if a.Flush(ctx) == nil {
		t.Error("a flush into nothing succeeds")
	}
	db.down = false
	for range 2 { // the second has nothing to add
		if err := a.Flush(ctx); err != nil {
			t.Fatal(err)
		}
	}
	other := New(db) // another node, or this one after a restart
	if words := other.Words(
		ctx,
		"people",
		"ines",
		limits,
	); words != "2 of 10 recipients this hour left, 1 of 3 messages today left" {
		t.Errorf("elsewhere: %q", words)
	}
	if why := other.Take(ctx, "people", "ines", limits, relay.More{First: true}); why != "" {
		t.Error(why)
	}
	if why := other.Left(ctx, "people", "ines", limits); !strings.Contains(
		why,
		"3 messages of today",
	) {
		t.Errorf("a fourth message: %q", why)
	}
}

func TestTooManyBouncesAreALimit(t *testing.T) {
	db := &ledger{}
	ctx := context.Background()
	limits := config.RuleLimits{BouncesPercent: 30}
	a, b := New(db), New(db)
	for i := range 19 {
		a.Ended("ines", i < 6)
	}
	take := func(c *Counter) string { return c.Take(ctx, "people", "ines", limits, relay.More{First: true}) }
	if why := take(a); why != "" {
		t.Errorf("after 19: %s", why)
	}
	a.Ended("ines", false)
	if why := take(a); !strings.Contains(why, "of 20 recipients to whom ines sent today 6 bounced") {
		t.Errorf("after 20: %q", why)
	}
	if why := a.Take(ctx, "other", "ines", config.RuleLimits{MessagesPerDay: 9}, relay.More{}); why != "" {
		t.Errorf("a rule that does not ask: %q", why)
	}
	if err := a.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	if why := take(b); why == "" {
		t.Error("another node does not know it")
	}
	a.Forget("ines")
	db.list = nil
	if why := take(a); why != "" {
		t.Errorf("let go on: %s", why)
	}
}

func TestSessionsSideBySideDoNotPassALimit(t *testing.T) {
	db := &ledger{
		list: []store.Sent{
			{
				Rule:       "people",
				Holder:     "ines",
				Hour:       time.Now().UTC().Truncate(time.Hour),
				Messages:   5,
				Recipients: 5,
			},
		},
	}
	c := New(db)
	var taken atomic.Int32
	var all sync.WaitGroup
	for range 105 {
		all.Add(1)
		go func() {
			defer all.Done()
			if c.Take(
				context.Background(),
				"people",
				"ines",
				config.RuleLimits{MessagesPerHour: 35},
				relay.More{First: true},
			) == "" {
				taken.Add(1)
			}
			if err := c.Flush(context.Background()); err != nil {
				t.Error(err)
			}
		}()
	}
	all.Wait()
	if taken.Load() != 30 {
		t.Errorf("%d messages passed beside the five that were sent; 35 are allowed", taken.Load())
	}
}
