package supervise

import (
	"context"
	"errors"
	"log/slog"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

func TestOneLoopHoldsUpNoOther(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		s := New(slog.New(slog.DiscardHandler))
		loop := func(name string, every, limit time.Duration, do func(context.Context) error) {
			s.Go(ctx, Loop{Name: name, Every: every, Limit: limit, Do: do})
		}
		loop("slow", time.Second, 20*time.Second,
			func(ctx context.Context) error { <-ctx.Done(); return ctx.Err() })
		loop("faulty", time.Second, time.Minute, func(context.Context) error { panic("a fault") })
		loop("failing", time.Second, time.Minute, func(context.Context) error { return errors.New("away") })
		loop("well", time.Second, time.Minute, func(context.Context) error { return nil })
		s.Go(ctx, Loop{
			Name:   "steady",
			Every:  time.Second,
			Steady: true,
			Do:     func(context.Context) error { return errors.New("away") },
		})
		soon := make(chan struct{}, 1)
		s.Go(ctx, Loop{Name: "asked", Every: time.Hour, Soon: soon,
			Do: func(context.Context) error { return nil }})
		time.Sleep(100 * time.Second)
		soon <- struct{}{}
		synctest.Wait()
		count := map[string]int64{}
		for _, st := range s.States() {
			count[st.Name] = st.Rounds
		}
		if count["well"] != 100 && count["well"] != 99 || count["slow"] < 3 || count["slow"] > 5 ||
			count["asked"] != 1 {
			t.Errorf("%v", count)
		}
		if n := count["steady"]; n < 99 {
			t.Errorf("a loop that others count on came %d times in 100 s", n)
		}
		for _, name := range []string{"faulty", "failing"} {
			if n := count[name]; n < 5 || n > 9 {
				t.Errorf("%s ran %d times in 100 s: it comes back, with longer and longer waits", name, n)
			}
		}
		for _, st := range s.States() {
			if bad := st.Name != "well" && st.Name != "asked"; bad != (st.Faults > 0) || bad && st.Last == "" {
				t.Errorf("%+v", st)
			}
		}
		cancel()
		s.Wait() // the slow one's round ends with it
	})
}

func TestALoopThatRunsByItselfIsBegunAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		s := New(slog.New(slog.DiscardHandler))
		var n atomic.Int32
		s.Go(ctx, Loop{Name: "listening", Do: func(ctx context.Context) error {
			if n.Add(1) < 3 {
				panic("broken")
			}
			<-ctx.Done()
			return nil
		}})
		time.Sleep(time.Minute)
		if n.Load() != 3 {
			t.Errorf("it was begun %d times", n.Load())
		}
		cancel()
		s.Wait()
	})
}
