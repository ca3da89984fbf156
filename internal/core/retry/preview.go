package retry

import (
	"fmt"
	"time"
)

// Try is one attempt of a schedule, in seconds after the message was received.
type Try struct {
	N        int     `json:"n"`
	Earliest float64 `json:"earliest" doc:"Seconds after the message was received, without jitter"`
	Latest   float64 `json:"latest" doc:"Seconds, with all the jitter of the intervals before"`
}

// Preview is what a schedule does with a message whose host never answers.
type Preview struct {
	Intervals   []float64 `json:"intervals" doc:"Seconds"`
	Jitter      float64   `json:"jitter" doc:"0 to 1"`
	WarnAfter   float64   `json:"warn_after" doc:"Seconds; 0 tells nobody"`
	ExpireAfter float64   `json:"expire_after" doc:"Seconds"`
	Attempts    []Try     `json:"attempts"`
	// Longest is the longest wait between two attempts: so late may a message
	// leave after its host is well again.
	Longest float64 `json:"longest_wait" doc:"Seconds"`
	// Cost are sentences on what the schedule costs.
	Cost []string `json:"cost"`
}

// maxPreview bounds the attempts of a preview.
const maxPreview = 2000

// Preview plays the schedule through to its end.
func (s Schedule) Preview() Preview {
	p := Preview{
		Jitter:      s.Jitter,
		WarnAfter:   s.WarnAfter.Seconds(),
		ExpireAfter: s.ExpireAfter.Seconds(),
		Attempts:    []Try{},
		Intervals:   []float64{},
		Cost:        []string{},
	}
	for _, i := range s.Intervals {
		p.Intervals = append(p.Intervals, i.Seconds())
	}
	start := time.Time{}
	end := start.Add(s.ExpireAfter)
	early, late, first, warned := start, start, 0, 0
	for n := 1; n <= maxPreview; n++ {
		p.Attempts = append(p.Attempts,
			Try{n, early.Sub(start).Seconds(), late.Sub(start).Seconds()})
		if early.Sub(start) < time.Hour {
			first++
		}
		if s.WarnAfter > 0 && early.Sub(start) <= s.WarnAfter {
			warned = n
		}
		if !early.Before(end) {
			break
		}
		next := s.Next(n, early, end, 0)
		p.Longest = max(p.Longest, next.Sub(early).Seconds())
		early = next
		if late.Before(end) {
			late = s.Next(n, late, end, 1)
		}
	}
	p.Cost = s.cost(len(p.Attempts), first, warned, time.Duration(p.Longest*float64(time.Second)))
	return p
}

// cost says in sentences what the schedule costs.
func (s Schedule) cost(attempts, firstHour, warned int, longest time.Duration) []string {
	out := []string{
		fmt.Sprintf(
			"A message whose host never answers is tried %d times, %d of them in the first hour.",
			attempts,
			firstHour,
		),
		fmt.Sprintf(
			"Once its host is well again, a message waits up to %s longer for its next attempt; a "+
				"flush tries it immediately.",
			Words(longest),
		),
	}
	switch {
	case s.WarnAfter <= 0:
		out = append(
			out,
			fmt.Sprintf("The sender hears nothing until the message expires after %s.",
				Words(s.ExpireAfter)),
		)
	default:
		out = append(
			out,
			fmt.Sprintf(
				"The sender hears of the delay after %s and %d attempts, and gets the message "+
					"back after %s.",
				Words(s.WarnAfter),
				warned,
				Words(s.ExpireAfter),
			),
		)
	}
	if s.ExpireAfter < 24*time.Hour {
		out = append(
			out,
			"A host that is down for a day loses the message: RFC 5321 asks for at least four to "+
				"five days.",
		)
	} else if s.ExpireAfter < 4*24*time.Hour {
		out = append(
			out,
			"A host that is down over a long weekend loses the message: RFC 5321 asks for at "+
				"least four to five days.",
		)
	}
	if first := s.Interval(1); first > 30*time.Minute {
		out = append(
			out,
			fmt.Sprintf(
				"A host that greylists gets its second attempt only after %s; most take a message "+
					"after five to fifteen minutes.",
				Words(first),
			),
		)
	}
	if s.Interval(len(s.Intervals)) < 5*time.Minute {
		out = append(
			out,
			"The last interval goes on to the end: so many attempts may look like an attack to "+
				"the remote host.",
		)
	}
	return out
}

// Words writes a duration as people say it: 4 h, 1 d 12 h, 90 s.
func Words(d time.Duration) string {
	d = d.Round(time.Second)
	days, rest := d/(24*time.Hour), d%(24*time.Hour)
	switch {
	case days > 0 && rest >= time.Hour:
		return fmt.Sprintf("%d d %d h", days, rest/time.Hour)
	case days > 0:
		return fmt.Sprintf("%d d", days)
	case d >= time.Hour && d%time.Hour >= time.Minute:
		return fmt.Sprintf("%d h %d min", d/time.Hour, d%time.Hour/time.Minute)
	case d >= time.Hour:
		return fmt.Sprintf("%d h", d/time.Hour)
	case d >= time.Minute && d%time.Minute != 0:
		return fmt.Sprintf("%d min %d s", d/time.Minute, d%time.Minute/time.Second)
	case d >= time.Minute:
		return fmt.Sprintf("%d min", d/time.Minute)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}
