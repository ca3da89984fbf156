package allowance

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"gullroute/internal/core/config"
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

func (l *ledger) SentSince(_ context.Context, rule, holder string, since time.Time) (out []store.Sent, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	sums := map[time.Time]store.Sent{}
	for _, s := range l.list {
		if s.Rule == rule && s.Holder == holder && !s.Hour.Before(since) {
			sum := sums[s.Hour]
			sums[s.Hour] = store.Sent{Hour: s.Hour, Messages: sum.Messages + s.Messages, Recipients: sum.Recipients + s.Recipients}
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
		if why := a.Left(ctx, "people", "ines", limits, 3); why != "" {
			t.Fatal(why)
		}
		a.Count("people", "ines", 4)
	}
	if why := a.Left(ctx, "people", "ines", limits, 2); !strings.Contains(why, "ines has sent its 10 recipients of this hour under rule people") {
		t.Errorf("an eleventh recipient: %q", why)
	}
	if why := a.Left(ctx, "people", "tomas", limits, 0); why != "" {
		t.Errorf("somebody else: %q", why)
	}
	if words := a.Words(ctx, "people", "ines", limits); words != "2 of 10 recipients this hour left, 1 of 3 messages today left" {
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
	if words := other.Words(ctx, "people", "ines", limits); words != "2 of 10 recipients this hour left, 1 of 3 messages today left" {
		t.Errorf("elsewhere: %q", words)
	}
	other.Count("people", "ines", 1)
	if why := other.Left(ctx, "people", "ines", limits, 0); !strings.Contains(why, "3 messages of today") {
		t.Errorf("a fourth message: %q", why)
	}
}
