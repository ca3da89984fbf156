package retry

import (
	"testing"
	"time"
)

func TestTwoWeeksOfScheduleInNoTime(t *testing.T) {
	start := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name     string
		s        Schedule
		attempts int
	}{
		{"the default", Default(), 37},
		{"one interval", Schedule{Intervals: []time.Duration{time.Hour}, ExpireAfter: 14 * 24 * time.Hour},
			337},
		{"none given", Schedule{ExpireAfter: 3 * time.Hour}, 4},
		{"expired before the first retry", Schedule{Intervals: []time.Duration{time.Hour},
			ExpireAfter: time.Minute}, 2},
	} {
		now, expires, attempts := start, c.s.Expires(start), 1
		for now.Before(expires) {
			next := c.s.Next(attempts, now, expires, 0)
			if !next.After(now) || next.After(expires) {
				t.Fatalf("%s: attempt %d at %s, next at %s", c.name, attempts, now, next)
			}
			now = next
			attempts++
		}
		if attempts != c.attempts || !now.Equal(expires) {
			t.Errorf("%s: %d attempts, the last at %s; want %d, the last at the very end %s",
				c.name, attempts, now, c.attempts, expires)
		}
	}
}

func TestJitterOnlyLengthens(t *testing.T) {
	s := Default()
	now := time.Now()
	far := now.Add(1000 * time.Hour)
	shortest, longest := s.Next(1, now, far, 0).Sub(now), s.Next(1, now, far, 0.999).Sub(now)
	if shortest != 2*time.Minute || longest <= shortest || longest > 2*time.Minute+12*time.Second {
		t.Errorf("%s to %s", shortest, longest)
	}
	if s.Interval(0) != s.Interval(1) || s.Interval(1000) != 4*time.Hour {
		t.Error("intervals beyond the list")
	}
}
