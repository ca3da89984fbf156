package scan

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/gate"
)

// Bounds of how a scanner that does not answer is treated.
const (
	failuresToRest = 3 // after so many in a row it is not asked for a while
	firstRest      = 15 * time.Second
	longestRest    = 5 * time.Minute
	maxIdle        = 10               // connections of a scanner that wait for the next message
	idleLimit      = 20 * time.Second // and for how long
)

// Content is what is shown, read anew for each scanner.
type Content struct {
	Open func() io.Reader
	Size int64
}

// Scanners are all that are set up.
type Scanners struct {
	Config func() *config.Compiled
	Log    *slog.Logger
	Name   string // of our host
	// Trouble hears of a scanner that is not asked for a while; nil if nobody does.
	Trouble func(with, text string, at time.Time)

	mu     sync.Mutex
	states map[string]*state // by name and URL
}

// state is what is known of one scanner.
type state struct {
	idle     []*client
	failures int
	until    time.Time // it rests
	why      string
}

// Scan shows a content to a scanner, and to the next if it does not answer.
func (s *Scanners) Scan(ctx context.Context, content Content) gate.Verdict {
	var why []string
	large, all := 0, s.inTurn()
	for _, c := range all {
		if content.Size > int64(c.SizeUpTo) {
			large++
			continue
		}
		st := s.state(c)
		if rests, text := s.resting(st); rests {
			why = append(why, c.Name+" rests after: "+text)
			continue
		}
		v, err := s.ask(ctx, c, st, content)
		s.note(c, st, err)
		if err == nil {
			v.Scanner = c.Name
			return v
		}
		why = append(why, c.Name+": "+err.Error())
	}
	switch {
	case len(all) == 0:
		return gate.Verdict{Word: gate.NoAnswer, Why: "every scanner is off"}
	case large == len(all):
		return gate.Verdict{Word: gate.TooLarge}
	}
	return gate.Verdict{Word: gate.NoAnswer, Why: strings.Join(why, "; ")}
}

// inTurn are the scanners that are on, in an order by their weights.
func (s *Scanners) inTurn() []config.Scanner {
	var all, out []config.Scanner
	sum := 0
	for _, c := range s.Config().Scanners {
		if !c.Off {
			all = append(all, c)
			sum += c.Weight
		}
	}
	for len(all) > 0 {
		pick := rand.IntN(sum)
		for i, c := range all {
			if pick -= c.Weight; pick < 0 {
				out = append(out, c)
				sum -= c.Weight
				all = slices.Delete(all, i, i+1)
				break
			}
		}
	}
	return out
}

func (s *Scanners) state(c config.Scanner) *state {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.states == nil {
		s.states = map[string]*state{}
	}
	key := c.Name + " " + c.URL
	if s.states[key] == nil {
		s.states[key] = &state{}
	}
	return s.states[key]
}

func (s *Scanners) resting(st *state) (bool, string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return time.Now().Before(st.until), st.why
}

// ask shows the content over a connection that waits, or a new one. One that waited may have
// been closed meanwhile: then once more over a new one.
func (s *Scanners) ask(ctx context.Context, c config.Scanner, st *state, content Content) (gate.Verdict, error) {
	ctx, cancel := context.WithTimeout(ctx, c.Timeout)
	defer cancel()
	if conn := s.take(st); conn != nil {
		v, err := s.over(ctx, conn, st, content)
		if err == nil || ctx.Err() != nil {
			return v, err
		}
	}
	conn, err := dial(ctx, c.URL)
	if err != nil {
		return gate.Verdict{}, err
	}
	return s.over(ctx, conn, st, content)
}

func (s *Scanners) over(ctx context.Context, conn *client, st *state, content Content) (gate.Verdict, error) {
	v, err := conn.scan(ctx, s.Name, content.Open(), content.Size)
	if err != nil || conn.spent || conn.br.Buffered() > 0 {
		_ = conn.conn.Close()
		return v, err
	}
	conn.idle = time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(st.idle) >= maxIdle {
		_ = conn.conn.Close()
		return v, nil
	}
	st.idle = append(st.idle, conn)
	return v, nil
}

// take is the connection that waits shortest, nil if none does.
func (s *Scanners) take(st *state) *client {
	s.mu.Lock()
	defer s.mu.Unlock()
	for len(st.idle) > 0 {
		last := len(st.idle) - 1
		c := st.idle[last]
		st.idle = st.idle[:last]
		if time.Since(c.idle) < idleLimit && time.Since(c.asked) < optionsLast {
			return c
		}
		_ = c.conn.Close()
	}
	return nil
}

// note keeps how a scanner does. One that fails again and again rests, longer each time.
func (s *Scanners) note(c config.Scanner, st *state, err error) {
	if s.rests(c, st, err) && s.Trouble != nil {
		s.Trouble("scanner "+c.Name, "it is not asked for a while: "+st.why, time.Now())
	}
}

func (s *Scanners) rests(c config.Scanner, st *state, err error) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err == nil {
		st.failures, st.until, st.why = 0, time.Time{}, ""
		return false
	}
	st.why = err.Error()
	if errors.Is(err, context.DeadlineExceeded) {
		st.why = "it did not answer within " + c.Timeout.String()
	}
	st.failures++
	if st.failures < failuresToRest {
		return false
	}
	rest := firstRest << min(st.failures-failuresToRest, 10)
	st.until = time.Now().Add(min(rest, longestRest))
	s.Log.Warn("a scanner is not asked for a while", "scanner", c.Name, "until", st.until,
		"error", st.why)
	return true
}
