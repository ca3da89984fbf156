package list

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// hours are days of the week and dates with their times.
type hours struct {
	zone *time.Location
	week [7][]span         // by time.Weekday
	days map[string][]span // by date; a date that is closed has none
}

// span is a part of a day, in minutes from its beginning. to is at most a day.
type span struct{ from, to int }

const dayMinutes = 24 * 60

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

func newHours(zone string) *hours {
	loc, err := time.LoadLocation(zone)
	if err != nil {
		loc = time.UTC
	}
	return &hours{zone: loc, days: map[string][]span{}}
}

// with is h together with what another says; its dates go before.
func (h *hours) with(o *hours) *hours {
	out := &hours{zone: h.zone, week: h.week, days: maps.Clone(h.days)}
	for i := range o.week {
		out.week[i] = append(slices.Clone(h.week[i]), o.week[i]...)
	}
	maps.Copy(out.days, o.days)
	return out
}

// add reads "mon-fri 08:00-17:00", "sat,sun", "08:00-12:00", "2026-12-24 08:00-12:00" and
// "not 2026-12-25". Times over midnight, like 22:00-06:00, go on into the next day.
func (h *hours) add(_ int, entry string) error {
	words := strings.Fields(strings.ToLower(entry))
	hint := "; write mon-fri 08:00-17:00, sat, 2026-12-24 08:00-12:00 or not 2026-12-25"
	if len(words) == 2 && words[0] == "not" {
		day, err := time.Parse(time.DateOnly, words[1])
		if err != nil {
			return fmt.Errorf("%q is no date%s", words[1], hint)
		}
		h.days[day.Format(time.DateOnly)] = []span{}
		return nil
	}
	times := span{0, dayMinutes}
	if n := len(words); n > 0 && strings.Contains(words[n-1], ":") {
		var err error
		if times, err = parseSpan(words[n-1]); err != nil {
			return err
		}
		words = words[:n-1]
	}
	switch len(words) {
	case 0:
		if times == (span{0, dayMinutes}) {
			return fmt.Errorf("%q says neither a day nor a time%s", entry, hint)
		}
		for d := range h.week {
			h.week[d] = append(h.week[d], times)
		}
		return nil
	default: // mon wed fri is mon,wed,fri
		words[0] = strings.Join(words, ",")
	}
	if day, err := time.Parse(time.DateOnly, words[0]); err == nil {
		key := day.Format(time.DateOnly)
		h.days[key] = append(h.days[key], times)
		return nil
	}
	for part := range strings.SplitSeq(words[0], ",") {
		first, last, isRange := strings.Cut(part, "-")
		from, to := slices.Index(weekdays, first), slices.Index(weekdays, last)
		if !isRange {
			to = from
		}
		if from < 0 || to < 0 {
			return fmt.Errorf("%q is no day of the week (mon to sun) and no date%s", part, hint)
		}
		for d := from; ; d = (d + 1) % 7 {
			h.week[d] = append(h.week[d], times)
			if d == to {
				break
			}
		}
	}
	return nil
}

func parseSpan(text string) (span, error) {
	from, to, ok := strings.Cut(text, "-")
	a, errA := parseMinutes(from)
	b, errB := parseMinutes(to)
	if !ok || errA != nil || errB != nil || a == b {
		return span{}, fmt.Errorf("%q is no span of time; write one like 08:00-17:00", text)
	}
	if b < a { // over midnight
		b += dayMinutes
	}
	return span{a, b}, nil
}

func parseMinutes(text string) (int, error) {
	if text == "24:00" {
		return dayMinutes, nil
	}
	t, err := time.Parse("15:04", text)
	return t.Hour()*60 + t.Minute(), err
}

// open reports whether a time is within the hours.
func (h *hours) open(t time.Time) bool {
	t = t.In(h.zone)
	minute := t.Hour()*60 + t.Minute()
	for _, s := range h.of(t) {
		if minute >= s.from && minute < s.to {
			return true
		}
	}
	for _, s := range h.of(t.AddDate(0, 0, -1)) { // what went over midnight
		if minute+dayMinutes < s.to {
			return true
		}
	}
	return false
}

func (h *hours) of(t time.Time) []span {
	if day, ok := h.days[t.Format(time.DateOnly)]; ok {
		return day
	}
	return h.week[t.Weekday()]
}

// next is the first moment from t on that is within the hours.
func (h *hours) next(t time.Time) (time.Time, bool) {
	if h.open(t) {
		return t, true
	}
	t = t.In(h.zone)
	for d := range 367 {
		day := time.Date(t.Year(), t.Month(), t.Day()+d, 0, 0, 0, 0, h.zone)
		spans := slices.SortedFunc(slices.Values(h.of(day)),
			func(a, b span) int { return a.from - b.from })
		for _, s := range spans {
			at := time.Date(day.Year(), day.Month(), day.Day(), s.from/60, s.from%60, 0, 0, h.zone)
			if at.After(t) && h.open(at) {
				return at, true
			}
		}
	}
	return time.Time{}, false
}
