// Package report makes figures of what was counted: totals, series, orders of
// merit and comparisons, over any period.
package report

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"time"
)

// Kinds of what is counted. Deferred counts attempts that were deferred, each of
// them; rejected counts recipients refused, and what never got as far.
var Kinds = []string{
	"received",
	"delivered",
	"forwarded",
	"deferred",
	"bounced",
	"expired",
	"rejected",
	"discarded",
}

// Dims are what a figure can be asked by. total has one value, the empty one;
// delay counts what was delivered by eighths of an octave of milliseconds.
var Dims = []string{
	"total",
	"direction",
	"sender_domain",
	"sender",
	"client",
	"listener",
	"account",
	"recipient_domain",
	"recipient",
	"host",
	"route",
	"cause",
	"delay",
	"gate",
}

// Choices are the dimensions that people ask by.
func Choices() []string {
	return slices.DeleteFunc(slices.Clone(Dims),
		func(d string) bool { return d == Dims[byTotal] || d == Dims[byDelay] })
}

// Fine are those with so many values that their hours are kept for less time.
var Fine = []string{"sender", "recipient", "account", "client"}

// Span is a stretch of counts of one tier.
type Span struct {
	Tier     string
	From, To time.Time
}

// Tiers are the stretches by which counts are added up, the longest first. Each begins where
// time.Time.Truncate puts it; a week on a Monday.
var Tiers = []struct {
	Name   string
	Length time.Duration
}{{"4 weeks", 28 * day}, {"week", 7 * day}, {"day", day}, {"hour", time.Hour}}

// Spans cover a period by as few stretches of the tiers as can be: what a report costs
// grows little with its period. from and to are taken to whole hours, outwards.
func Spans(from, to time.Time) (out []Span) {
	var cover func(from, to time.Time, tier int)
	cover = func(from, to time.Time, tier int) {
		if !from.Before(to) {
			return
		}
		t := Tiers[tier]
		first, last := ceil(from, t.Length), to.Truncate(t.Length)
		if !first.Before(last) {
			cover(from, to, tier+1)
			return
		}
		if first.After(from) {
			cover(from, first, tier+1)
		}
		out = append(out, Span{t.Name, first, last})
		if last.Before(to) {
			cover(last, to, tier+1)
		}
	}
	from, to = Hours(from, to)
	cover(from, to, 0)
	return out
}

// Hours takes a period to whole hours, outwards.
func Hours(from, to time.Time) (time.Time, time.Time) {
	return from.UTC().Truncate(time.Hour), ceil(to.UTC(), time.Hour)
}

const day = 24 * time.Hour

func ceil(t time.Time, d time.Duration) time.Time {
	if f := t.Truncate(d); !f.Equal(t) {
		return f.Add(d)
	}
	return t
}

// Sum is what was counted of one kind for one value.
type Sum struct {
	Value    string
	Kind     string
	N, Bytes int64
	Delay    int64 // milliseconds
	DelayMax int64
}

// Hour is what was counted of one kind in one hour.
type Hour struct {
	At       time.Time
	Kind     string
	N, Bytes int64
	Delay    int64
	DelayMax int64
}

// Figure is a count and what goes with it.
type Figure struct {
	N     int64 `json:"n"`
	Bytes int64 `json:"bytes"`
}

// Delay is how long what was delivered took, in seconds. Median and 95th are
// known of all messages together only, to within five percent.
type Delay struct {
	Mean   float64  `json:"mean"`
	Median *float64 `json:"median,omitempty"`
	P95    *float64 `json:"p95,omitempty"`
	Max    float64  `json:"max"`
}

// Point is one stretch of time in a series.
type Point struct {
	At     time.Time         `json:"at"`
	To     time.Time         `json:"to"`
	Label  string            `json:"label"`
	Counts map[string]Figure `json:"counts"`
	Delay  *Delay            `json:"delay,omitempty" doc:"Mean and maximum only"`
}

// Busy is what an account sent on its busiest day.
type Busy struct {
	Account              string
	Messages, Recipients int64
}

// Row is one value of a dimension.
type Row struct {
	Value  string            `json:"value"`
	Title  string            `json:"title,omitempty" doc:"What it means, in words"`
	Counts map[string]Figure `json:"counts"`
	Delay  *Delay            `json:"delay,omitempty"`
	Before map[string]Figure `json:"before,omitempty" doc:"In the period it is compared with"`
}

// Totals adds up by kind.
func Totals(sums []Sum) (map[string]Figure, *Delay) {
	out := map[string]Figure{}
	var delay, most, n int64
	for _, s := range sums {
		f := out[s.Kind]
		out[s.Kind] = Figure{f.N + s.N, f.Bytes + s.Bytes}
		if s.Kind == "delivered" || s.Kind == "forwarded" {
			delay, n, most = delay+s.Delay, n+s.N, max(most, s.DelayMax)
		}
	}
	if n <= 0 {
		return out, nil
	}
	return out, &Delay{Mean: seconds(float64(delay) / float64(n)), Max: seconds(float64(most))}
}

func seconds(ms float64) float64 { return math.Round(ms) / 1000 }

// Rows puts sums together by value: those with most first.
func Rows(sums []Sum, limit int) []Row {
	by := map[string][]Sum{}
	for _, s := range sums {
		by[s.Value] = append(by[s.Value], s)
	}
	rows := make([]Row, 0, len(by))
	for v, list := range by {
		r := Row{Value: v}
		r.Counts, r.Delay = Totals(list)
		rows = append(rows, r)
	}
	slices.SortFunc(rows, func(a, b Row) int {
		return cmp.Or(cmp.Compare(weight(b), weight(a)), cmp.Compare(a.Value, b.Value))
	})
	if limit > 0 && len(rows) > limit {
		rows = rows[:limit]
	}
	return rows
}

func weight(r Row) int64 {
	var n int64
	for _, f := range r.Counts {
		n += f.N
	}
	return n
}

// Quantiles fills in median and 95th from the counts by eighths of an octave.
func (d *Delay) Quantiles(buckets []Sum) {
	var total int64
	for _, b := range buckets {
		total += b.N
	}
	list := slices.Clone(buckets)
	slices.SortFunc(list, func(a, b Sum) int { return cmp.Compare(a.Value, b.Value) })
	at := func(share float64) float64 {
		want, seen := int64(math.Ceil(share*float64(total))), int64(0)
		for _, b := range list {
			if seen += b.N; seen >= want {
				i, _ := strconv.Atoi(b.Value)
				return min(seconds(math.Exp2((float64(i)+0.5)/8)-1), d.Max)
			}
		}
		return 0
	}
	median, p95 := at(0.5), at(0.95)
	d.Median, d.P95 = &median, &p95
}

// Series puts hours together by stretch: hour, day or week in a time zone.
func Series(hours []Hour, from, to time.Time, by string, zone *time.Location) []Point {
	from, to = Hours(from, to)
	var points []Point
	for at := from; at.Before(to); {
		next := nextStretch(at, by, zone)
		if next.After(to) {
			next = to
		}
		points = append(points, Point{
			At:     at.UTC(),
			To:     next.UTC(),
			Label:  label(at, by, zone),
			Counts: map[string]Figure{},
		})
		at = next
	}
	i := 0
	var sums []Sum
	close := func() {
		if i < len(points) {
			points[i].Counts, points[i].Delay = Totals(sums)
			sums = nil
		}
	}
	for _, h := range hours {
		for i < len(points) && !h.At.Before(points[i].To) {
			close()
			i++
		}
		sums = append(sums,
			Sum{Kind: h.Kind, N: h.N, Bytes: h.Bytes, Delay: h.Delay, DelayMax: h.DelayMax})
	}
	close()
	return points
}

func nextStretch(at time.Time, by string, zone *time.Location) time.Time {
	t := at.In(zone)
	midnight := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, zone)
	switch by {
	case "hour":
		return at.Add(time.Hour)
	case "week":
		back := (int(midnight.Weekday()) + 6) % 7
		return wholeHour(midnight.AddDate(0, 0, 7-back))
	}
	return wholeHour(midnight.AddDate(0, 0, 1))
}

// wholeHour keeps to hours of UTC in zones that are off by less.
func wholeHour(t time.Time) time.Time { return t.UTC().Truncate(time.Hour) }

func label(at time.Time, by string, zone *time.Location) string {
	t := at.In(zone)
	switch by {
	case "hour":
		return t.Format("Mon 2 Jan 15:04")
	case "week":
		return "week of " + t.Format("2 Jan")
	}
	return t.Format("Mon 2 Jan")
}

// Slot is an hour of the day or a day of the week, with means over days.
type Slot struct {
	Label string             `json:"label"`
	Days  int                `json:"days" doc:"How many of them the period has"`
	Mean  map[string]float64 `json:"mean" doc:"Per day, by kind"`
	Total map[string]int64   `json:"total"`
}

// ByHourOfDay and ByWeekday put hours together by when in the day or week they
// are, in a time zone.
func ByHourOfDay(hours []Hour, from, to time.Time, zone *time.Location) []Slot {
	return slots(hours, from, to, 24, func(t time.Time) int { return t.In(zone).Hour() },
		func(i int) string { return strconv.Itoa(i) + ":00" }, 1)
}

// ByWeekday puts hours together by day of the week.
func ByWeekday(hours []Hour, from, to time.Time, zone *time.Location) []Slot {
	return slots(hours, from, to, 7,
		func(t time.Time) int { return (int(t.In(zone).Weekday()) + 6) % 7 },
		func(i int) string { return time.Weekday((i + 1) % 7).String() }, 24)
}

// WeekHours is how many hours a week has.
const WeekHours = 7 * 24

// ByWeekHour are the means of each hour of the week by kind, from Monday 0:00 on, in a
// time zone. An hour that the period does not have is 0.
func ByWeekHour(hours []Hour, from, to time.Time, zone *time.Location) map[string][]float64 {
	of := func(t time.Time) int {
		t = t.In(zone)
		return (int(t.Weekday())+6)%7*24 + t.Hour()
	}
	out := map[string][]float64{}
	for i, s := range slots(hours, from, to, WeekHours, of, func(int) string { return "" }, 1) {
		for kind, mean := range s.Mean {
			if out[kind] == nil {
				out[kind] = make([]float64, WeekHours)
			}
			out[kind][i] = mean
		}
	}
	return out
}

func slots(
	hours []Hour,
	from, to time.Time,
	n int,
	of func(time.Time) int,
	name func(int) string,
	perDay int,
) []Slot {
	from, to = Hours(from, to)
	out := make([]Slot, n)
	for i := range out {
		out[i] = Slot{Label: name(i), Mean: map[string]float64{}, Total: map[string]int64{}}
	}
	count := make([]int, n)
	for at := from; at.Before(to); at = at.Add(time.Hour) {
		count[of(at)]++
	}
	for _, h := range hours {
		out[of(h.At)].Total[h.Kind] += h.N
	}
	for i := range out {
		out[i].Days = (count[i] + perDay - 1) / perDay
		for kind, total := range out[i].Total {
			out[i].Mean[kind] = math.Round(float64(total)/float64(max(out[i].Days, 1))*100) / 100
		}
	}
	return out
}

// Reasons are the kinds that have causes, by what one asks.
var Reasons = map[string][]string{
	"deferred": {"deferred"},
	"bounced":  {"bounced", "expired"},
	"rejected": {"rejected"},
}
