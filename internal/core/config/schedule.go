package config

import (
	"slices"
	"time"

	"gullroute/internal/core/retry"
)

// schedule is the server's schedule; where nothing is said, the default counts.
func (r Retry) schedule() retry.Schedule {
	s := retry.Default()
	if len(r.Intervals) > 0 {
		s.Intervals = r.Intervals
	}
	s.ExpireAfter, s.WarnAfter, s.Jitter = r.ExpireAfter, r.WarnAfter, float64(r.Jitter)/100
	return s
}

// given reports whether anything differs from the server's schedule.
func (o OwnRetry) given() bool {
	return len(o.Intervals) > 0 || o.WarnAfter > 0 ||
		o.ExpireAfter > 0
}

// Over is another schedule with what differs put in.
func (o OwnRetry) Over(s retry.Schedule) retry.Schedule {
	if len(o.Intervals) > 0 {
		s.Intervals = o.Intervals
	}
	if o.WarnAfter > 0 {
		s.WarnAfter = o.WarnAfter
	}
	if o.ExpireAfter > 0 {
		s.ExpireAfter = o.ExpireAfter
	}
	return s
}

// ScheduleOf is when deliveries by a route to a domain are tried, warned of and
// expired: what was agreed with the peer, else the route's, else the server's.
// A message from the null sender warns nobody and has a time of its own.
func (c *Compiled) ScheduleOf(r *Route, domain string, nullSender bool) retry.Schedule {
	s := c.Schedule
	if r != nil {
		s = r.Retry.Over(s)
	}
	if p := c.Peer(domain); p != nil {
		s = p.Retry.Over(s)
	}
	if nullSender {
		s.WarnAfter, s.ExpireAfter = 0, min(s.ExpireAfter, c.Service.Retry.NoticesExpireAfter)
	}
	return s
}

// ShortestExpiry is the shortest time after which any delivery expires.
func (c *Compiled) ShortestExpiry() time.Duration {
	shortest := min(c.Schedule.ExpireAfter, c.Service.Retry.NoticesExpireAfter)
	for _, o := range c.ownRetries() {
		shortest = min(shortest, o.Over(c.Schedule).ExpireAfter)
	}
	return shortest
}

// WarnTimes are the different times after which senders are told of a delay.
func (c *Compiled) WarnTimes() []time.Duration {
	times := []time.Duration{c.Schedule.WarnAfter}
	for _, o := range c.ownRetries() {
		times = append(times, o.Over(c.Schedule).WarnAfter)
	}
	slices.Sort(times)
	times = slices.Compact(times)
	return slices.DeleteFunc(times, func(d time.Duration) bool { return d <= 0 })
}

func (c *Compiled) ownRetries() []OwnRetry {
	var out []OwnRetry
	for i := range c.Routes {
		if c.Routes[i].Retry.given() {
			out = append(out, c.Routes[i].Retry)
		}
	}
	for i := range c.Peers {
		if c.Peers[i].Retry.given() {
			out = append(out, c.Peers[i].Retry)
		}
	}
	return out
}

// checkRetry finds a schedule that cannot be meant.
func (k *checker) checkRetry(line int, field string, s retry.Schedule) {
	for i, wait := range s.Intervals {
		if wait < time.Second {
			k.wrong(line, field+".intervals", "interval %d is %s; write at least 1s", i+1, wait)
		}
	}
	if s.ExpireAfter < time.Second {
		k.wrong(line, field+".expire_after", "a message expires after %s; write at least 1s",
			s.ExpireAfter)
	}
}
