package search

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/form"
)

// around is how far before and after a moment somebody means who says when: "I
// sent it at ten".
const around = 15 * time.Minute

// time understands words of time at the head of words, and says how many they are.
func (q *Query) time(words []word, now time.Time) (int, error) {
	plain := make([]string, 0, 6)
	for _, w := range words[:min(len(words), 6)] {
		if w.quoted {
			break
		}
		plain = append(plain, strings.ToLower(strings.TrimRight(w.text, ",")))
	}
	first := plain[0]
	switch first {
	case "since", "after", "until", "before":
		from, to, n, err := moment(plain[1:], now, true)
		if err != nil {
			return 0, fmt.Errorf("%s: %w", first, err)
		}
		switch {
		case first == "since":
			q.Since = from
		case first == "after":
			q.Since = to
		case first == "until" && to.After(from.Add(time.Minute)):
			q.Until = to // until yesterday: that day too
		default:
			q.Until = from
		}
		q.say()
		return n + 1, nil
	case "at", "on", "from", "in":
		if from, to, n, err := moment(plain[1:], now, false); err == nil {
			q.period(from, to)
			return n + 1, nil
		}
		return 0, nil
	case "between":
		from, _, n, err := moment(plain[1:], now, false)
		if err != nil || len(plain) < n+3 || plain[n+1] != "and" {
			return 0, nil
		}
		to, _, m, err := moment(plain[n+2:], now, false)
		if err != nil {
			return 0, nil
		}
		q.Since, q.Until = exact(from), exact(to)
		if _, _, _, justClock := clock(plain[n+2:]); justClock { // on the same day as the first
			h, m, _, _ := clock(plain[n+2:])
			q.Until = time.Date(from.Year(), from.Month(), from.Day(), h, m, 0, 0, now.Location())
		}
		q.say()
		return n + m + 2, nil
	case "last", "past":
		if n, ok := q.last(plain[1:], now); ok {
			return n + 1, nil
		}
		return 0, nil
	}
	from, to, n, err := moment(plain, now, false)
	if err != nil {
		return 0, nil // not about time
	}
	q.period(from, to)
	return n, nil
}

// exact takes the vagueness out of a moment that was meant as a bound.
func exact(from time.Time) time.Time { return from.Add(around) }

func (q *Query) period(from, to time.Time) {
	q.Since, q.Until = from, to
	q.say()
}

func (q *Query) say() {
	const form = "Mon 2 Jan 15:04"
	switch {
	case q.Until.IsZero():
		q.When = "since " + q.Since.Format(form)
	case q.Since.IsZero():
		q.When = "before " + q.Until.Format(form)
	default:
		q.When = "between " + q.Since.Format(form) + " and " + q.Until.Format(form)
	}
}

// SetPeriod sets a period that was given by fields of its own.
func (q *Query) SetPeriod(since, until time.Time, zone *time.Location) {
	if !since.IsZero() {
		q.Since = since.In(zone)
	}
	if !until.IsZero() {
		q.Until = until.In(zone)
	}
	if !q.Since.IsZero() || !q.Until.IsZero() {
		q.say()
	}
}

// last understands "last 2 hours", "last week".
func (q *Query) last(words []string, now time.Time) (int, bool) {
	if len(words) == 0 {
		return 0, false
	}
	if d, err := form.ParseDuration(words[0]); err == nil && d > 0 {
		q.Since = now.Add(-d)
		q.say()
		return 1, true
	}
	count, n := 1, 0
	if c, err := strconv.Atoi(words[0]); err == nil && len(words) > 1 {
		count, n = c, 1
	}
	unit, ok := units[strings.TrimSuffix(words[n], "s")]
	if !ok {
		return 0, false
	}
	q.Since = now.Add(-time.Duration(count) * unit)
	q.say()
	return n + 1, true
}

var units = map[string]time.Duration{
	"minute": time.Minute,
	"hour":   time.Hour,
	"day":    24 * time.Hour,
	"week":   7 * 24 * time.Hour,
	"month":  30 * 24 * time.Hour,
	"night":  16 * time.Hour,
}

// moment understands a day, a time of day, both, or, as a bound, how long ago. A
// time of day stands for a quarter of an hour before and after, as a bound for
// itself.
func moment(words []string, now time.Time, bound bool) (from, to time.Time, n int, err error) {
	none := fmt.Errorf(
		"this is not a time; write today, yesterday, monday, 10:00, today 10:00, 2026-11-23, " +
			"2026-11-23 10:00, or 2h for two hours ago",
	)
	if len(words) == 0 {
		return from, to, 0, none
	}
	if bound {
		if words[0] == "now" {
			return now, now, 1, nil
		}
		if d, err := form.ParseDuration(words[0]); err == nil {
			n = 1
			if len(words) > 1 && words[1] == "ago" {
				n = 2
			}
			return now.Add(-d), now.Add(-d), n, nil
		}
	}
	if t, err := time.Parse(time.RFC3339, strings.ToUpper(words[0])); err == nil {
		return vague(t.In(now.Location()), 1, bound)
	}
	for _, layout := range []string{"2006-01-02t15:04:05", "2006-01-02t15:04"} {
		if t, err := time.ParseInLocation(layout, words[0], now.Location()); err == nil {
			return vague(t, 1, bound)
		}
	}
	midnight, used := aDay(words, now)
	if used == 0 {
		h, m, n, ok := clock(words)
		if !ok {
			return from, to, 0, none
		}
		t := time.Date(now.Year(), now.Month(), now.Day(), h, m, 0, 0, now.Location())
		if t.After(now.Add(around)) { // it was yesterday
			t = t.AddDate(0, 0, -1)
		}
		return vague(t, n, bound)
	}
	rest := words[used:]
	skipped := 0
	if len(rest) > 1 && rest[0] == "at" {
		rest, skipped = rest[1:], 1
	}
	if h, m, n, ok := clock(rest); ok {
		return vague(
			time.Date(midnight.Year(), midnight.Month(), midnight.Day(), h, m, 0, 0,
				now.Location()),
			used+skipped+n,
			bound,
		)
	}
	return midnight, midnight.AddDate(0, 0, 1), used, nil
}

func vague(t time.Time, n int, bound bool) (time.Time, time.Time, int, error) {
	if bound {
		return t, t, n, nil
	}
	return t.Add(-around), t.Add(around), n, nil
}

// aDay understands a day and says how many words it takes.
func aDay(words []string, now time.Time) (time.Time, int) {
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	switch words[0] {
	case "today":
		return today, 1
	case "yesterday":
		return today.AddDate(0, 0, -1), 1
	}
	for back := range 7 {
		day := today.AddDate(0, 0, -back)
		name := strings.ToLower(day.Weekday().String())
		if words[0] == name {
			return day, 1
		}
	}
	if t, err := time.ParseInLocation("2006-01-02", words[0], now.Location()); err == nil {
		return t, 1
	}
	if len(words) < 2 {
		return today, 0
	}
	for _, pair := range []string{words[0] + " " + words[1], words[1] + " " + words[0]} {
		for _, layout := range []string{"2 Jan", "2 January"} {
			t, err := time.ParseInLocation(layout, pair, now.Location())
			if err != nil {
				continue
			}
			day := time.Date(now.Year(), t.Month(), t.Day(), 0, 0, 0, 0, now.Location())
			if day.After(now) {
				day = day.AddDate(-1, 0, 0)
			}
			return day, 2
		}
	}
	return today, 0
}

// clock understands 10:00, 10:00:30 and 9am.
func clock(words []string) (hour, minute, n int, ok bool) {
	if len(words) == 0 {
		return 0, 0, 0, false
	}
	for _, layout := range []string{"15:04", "15:04:05", "3pm", "3:04pm"} {
		if t, err := time.Parse(layout, words[0]); err == nil {
			return t.Hour(), t.Minute(), 1, true
		}
	}
	return 0, 0, 0, false
}
