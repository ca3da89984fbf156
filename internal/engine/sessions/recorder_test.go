package sessions

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/feed"
)

// slow is a store that writes when it is let.
type slow struct{ let, began chan struct{} }

func (s slow) Record(context.Context, []mail.SessionRecord, []mail.Refusal) error {
	s.began <- struct{}{}
	<-s.let
	return nil
}

// TestASessionIsSeenUntilItIsOnRecord looks at one that is open, that has ended and
// waits to be written, and that is written.
func TestASessionIsSeenUntilItIsOnRecord(t *testing.T) {
	s := slow{make(chan struct{}), make(chan struct{})}
	r := New(Options{
		Store: s,
		Node:  "test",
		IDs:   ident.NewMaker(1, time.Now),
		Hub:   feed.NewHub(),
		Tally: counters.New(),
		Log:   slog.New(slog.DiscardHandler),
	})
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go r.Run(ctx)
	id := r.IDs.Next()
	b := r.Begin(mail.Session{ID: id, StartedAt: time.Now()}, config.TranscriptAll)
	if x := r.OpenOne(id); x == nil || x.Outcome != mail.Open {
		t.Fatalf("open: %+v", x)
	}
	b.End("the client said goodbye", false)
	<-s.began
	if x := r.OpenOne(
		id,
	); x == nil || x.Outcome == mail.Open || x.Ended != "the client said goodbye" ||
		len(r.Open()) != 0 {
		t.Errorf("ended and not yet written: %+v, %d open", x, len(r.Open()))
	}
	s.let <- struct{}{}
	for range 500 {
		if r.OpenOne(id) == nil {
			return
		}
		time.Sleep(2 * time.Millisecond)
	}
	t.Error("it is kept in memory after it was written")
}

// away is a store that takes nothing for a while.
type away struct {
	until time.Time
	got   int
}

func (a *away) Record(_ context.Context, sessions []mail.SessionRecord, refusals []mail.Refusal) error {
	if time.Now().Before(a.until) {
		return errors.New("away")
	}
	a.got += len(sessions) + len(refusals)
	return nil
}

func TestRefusalsWaitForTheDatabase(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &away{until: time.Now().Add(3 * time.Minute)}
		r := New(Options{
			Store: s,
			Node:  "test",
			IDs:   ident.NewMaker(1, time.Now),
			Hub:   feed.NewHub(),
			Tally: counters.New(),
			Log:   slog.New(slog.DiscardHandler),
		})
		ctx, stop := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { r.Run(ctx); close(done) }()
		for range 2000 {
			r.Refuse(mail.Refusal{At: time.Now()})
		}
		time.Sleep(4 * time.Minute)
		stop()
		<-done
		if s.got != 2000 {
			t.Errorf("%d of 2000 refusals are on record", s.got)
		}
	})
}
