// Package retry says when a delivery is tried next, when its sender is told of
// the delay and when it expires (RFC 5321 section 4.5.4.1).
package retry

import "time"

// Schedule is how a delivery is retried.
type Schedule struct {
	// Intervals are the waits after the first, second, … failed attempt; the
	// last one repeats.
	Intervals []time.Duration
	// WarnAfter is how long after a message came in its sender is told that it
	// waits; 0 is never.
	WarnAfter time.Duration
	// ExpireAfter is how long after a message came in its deliveries expire.
	ExpireAfter time.Duration
	// Jitter is the part of an interval, 0 to 1, by which it may be longer, so
	// that what failed together is not tried together for ever.
	Jitter float64
}

// Default is used where a configuration says nothing: quick at first, for
// greylisting, then hourly and slower, for five days.
func Default() Schedule {
	m := time.Minute
	return Schedule{
		Intervals: []time.Duration{
			2 * m,
			5 * m,
			10 * m,
			20 * m,
			40 * m,
			60 * m,
			120 * m,
			240 * m,
		},
		WarnAfter:   4 * time.Hour,
		ExpireAfter: 5 * 24 * time.Hour,
		Jitter:      0.1,
	}
}

// Expires is when a delivery of a message received then expires.
func (s Schedule) Expires(received time.Time) time.Time { return received.Add(s.ExpireAfter) }

// Next is the time of the attempt after the one that failed at now as number
// attempts (1 for the first). random is in [0, 1). The last attempt is never
// later than expires: a delivery is tried once more at its very end.
func (s Schedule) Next(attempts int, now, expires time.Time, random float64) time.Time {
	wait := s.Interval(attempts)
	wait += time.Duration(float64(wait) * s.Jitter * random)
	next := now.Add(wait)
	if next.After(expires) && now.Before(expires) {
		return expires
	}
	return next
}

// Interval is the wait after failed attempt number attempts, without jitter.
func (s Schedule) Interval(attempts int) time.Duration {
	if len(s.Intervals) == 0 {
		return time.Hour
	}
	return s.Intervals[min(max(attempts, 1), len(s.Intervals))-1]
}
