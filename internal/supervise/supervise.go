// Package supervise runs a node's background loops, each by itself: a loop that is
// slow, fails or panics holds up no other, has a time limit for each of its rounds,
// comes back after a fault, is waited for at the end, and can be seen from outside.
package supervise

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"
)

// Loop is one background loop.
type Loop struct {
	Name string
	// Every is the time from the end of one round to the next. A loop without it runs
	// Do once, until it ends; if it ends before its context it is begun again.
	Every time.Duration
	// Limit bounds one round; 0 does not.
	Limit time.Duration
	// Soon, if it is not nil, asks for a round before its time.
	Soon <-chan struct{}
	// Steady keeps the interval after failures too: what others count on must not come
	// later because it failed before.
	Steady bool
	// First says whether the first round is made at the start.
	First bool
	Do    func(ctx context.Context) error
}

// Bounds of the wait after a round that failed. It doubles with each further one.
const (
	firstWait   = time.Second
	longestWait = 30 * time.Second
)

// State is how a loop does.
type State struct {
	Name   string
	Rounds int64
	Faults int64 // rounds that ended with an error or a panic
	Last   string
	// Took is how long the last round took; Since is when the running one began, zero
	// if none runs.
	Took  time.Duration
	Since time.Time
}

// Supervisor owns loops.
type Supervisor struct {
	log *slog.Logger
	all sync.WaitGroup

	mu     sync.Mutex
	states map[string]*State
}

// New makes one without loops.
func New(log *slog.Logger) *Supervisor { return &Supervisor{log: log, states: map[string]*State{}} }

// Go begins a loop; it ends with ctx.
func (s *Supervisor) Go(ctx context.Context, l Loop) {
	s.mu.Lock()
	state := s.states[l.Name]
	if state == nil {
		state = &State{Name: l.Name}
		s.states[l.Name] = state
	}
	s.mu.Unlock()
	s.all.Add(1)
	go func() {
		defer s.all.Done()
		s.run(ctx, l, state)
	}()
}

// Wait waits until all loops have ended.
func (s *Supervisor) Wait() { s.all.Wait() }

// States are how the loops do, by name.
func (s *Supervisor) States() []State {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]State, 0, len(s.states))
	for _, st := range s.states {
		out = append(out, *st)
	}
	slices.SortFunc(out, func(a, b State) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func (s *Supervisor) run(ctx context.Context, l Loop, state *State) {
	wait, failed := l.Every, 0
	if l.First || l.Every == 0 {
		wait = 0
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-l.Soon:
		case <-timer.C:
		}
		if ctx.Err() != nil {
			return
		}
		err := s.round(ctx, l, state)
		if ctx.Err() != nil {
			return
		}
		if err == nil && l.Every == 0 {
			return // it has done what it had to
		}
		if wait = l.Every; err == nil {
			failed = 0
		} else {
			failed++
			if !l.Steady {
				wait = max(wait, min(firstWait<<min(failed-1, 10), longestWait))
			}
			s.log.Warn("a round of a background loop failed", "loop", l.Name, "error", err,
				"again_in", wait.String())
		}
		timer.Reset(wait)
	}
}

// round runs one round and notes how it went.
func (s *Supervisor) round(ctx context.Context, l Loop, state *State) (err error) {
	if l.Limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, l.Limit)
		defer cancel()
	}
	began := time.Now()
	s.mu.Lock()
	state.Since = began
	s.mu.Unlock()
	defer func() {
		if fault := recover(); fault != nil {
			s.log.Error("a background loop has a fault", "loop", l.Name, "fault", fault,
				"stack", string(debug.Stack()))
			err = fmt.Errorf("fault: %v", fault)
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		state.Rounds++
		state.Took, state.Since = time.Since(began), time.Time{}
		if err != nil {
			state.Faults++
			state.Last = err.Error()
		}
	}()
	return l.Do(ctx)
}
