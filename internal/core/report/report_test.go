package report

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

func at(text string) time.Time {
	t, err := time.Parse("2006-01-02 15:04", text)
	if err != nil {
		panic(err)
	}
	return t
}

func TestSpansCoverAPeriodOnceAndWithFewStretches(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	for range 300 {
		from := at("2026-01-01 00:00").Add(time.Duration(rnd.IntN(200*24*60)) * time.Minute)
		to := from.Add(time.Duration(1+rnd.IntN(100*24*60)) * time.Minute)
		hours := map[time.Time]int{}
		spans := Spans(from, to)
		for _, s := range spans {
			step := map[string]time.Duration{"hour": time.Hour, "day": 24 * time.Hour,
				"week": 7 * 24 * time.Hour, "4 weeks": 28 * 24 * time.Hour}[s.Tier]
			if !s.From.Truncate(step).Equal(s.From) || !s.To.Truncate(step).Equal(s.To) {
				t.Fatalf("%s from %s to %s is not whole", s.Tier, s.From, s.To)
			}
			for h := s.From; h.Before(s.To); h = h.Add(time.Hour) {
				hours[h]++
			}
		}
		first, last := Hours(from, to)
		n := 0
		for h := first; h.Before(last); h = h.Add(time.Hour) {
			if n++; hours[h] != 1 {
				t.Fatalf("%s to %s: hour %s is counted %d times", from, to, h, hours[h])
			}
		}
		if n != len(hours) || len(spans) > 7 {
			t.Fatalf("%s to %s: %d hours for %d, in %d stretches", from, to, len(hours), n, len(spans))
		}
	}
	if s := fmt.Sprint(Spans(at("2026-08-25 10:00"), at("2026-11-23 10:00"))); strings.Count(s, "4 weeks") != 1 {
		t.Errorf("ninety days: %s", s)
	}
}

func TestSeriesFollowTheDaysOfAZone(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Skip(err)
	}
	hours := []Hour{
		{At: at("2026-10-24 22:00"), Kind: "received", N: 3},
		{At: at("2026-10-25 22:00"), Kind: "received", N: 5},
		{At: at("2026-10-25 23:00"), Kind: "delivered", N: 2, Delay: 3000, DelayMax: 2500},
	}
	points := Series(hours, at("2026-10-24 22:00"), at("2026-10-26 23:00"), "day", oslo)
	// The clocks go back on the 25th: it has 25 hours.
	if len(points) != 2 || points[0].To.Sub(points[0].At) != 25*time.Hour || points[0].Counts["received"].N != 8 ||
		points[1].Counts["delivered"].N != 2 ||
		points[1].Delay.Mean != 1.5 ||
		points[1].Delay.Max != 2.5 {
		t.Errorf("%+v", points)
	}
	if by := ByWeekday(hours, at("2026-10-24 22:00"), at("2026-10-26 23:00"),
		oslo); by[6].Total["received"] != 8 || by[0].Total["delivered"] != 2 ||
		by[6].Label != "Sunday" {
		t.Errorf("%+v", by)
	}
	if by := ByHourOfDay(hours, at("2026-10-24 22:00"), at("2026-10-26 23:00"),
		time.UTC); by[22].Days != 3 ||
		by[22].Mean["received"] != 2.67 {
		t.Errorf("%+v", by[22])
	}
}

func TestWhatMovedMostComesFirst(t *testing.T) {
	now := []Sum{{Value: "up", N: 9}, {Value: "same", N: 4}, {Value: "new", N: 3}}
	before := []Sum{{Value: "up", N: 1}, {Value: "same", N: 4}, {Value: "gone", N: 5}}
	got := fmt.Sprint(Movers(now, before, 10), Movers(now, before, 1))
	if got != "[{up  9 1} {gone  0 5} {new  3 0}] [{up  9 1}]" {
		t.Error(got)
	}
	// A Monday at ten has two hours of the period, a Tuesday at ten one.
	hours := []Hour{
		{At: at("2026-11-16 10:00"), Kind: "received", N: 6},
		{At: at("2026-11-23 10:00"), Kind: "received", N: 3},
	}
	week := ByWeekHour(hours, at("2026-11-16 00:00"), at("2026-11-24 00:00"), time.UTC)
	if len(week["received"]) != WeekHours || week["received"][10] != 4.5 ||
		week["received"][34] != 0 {
		t.Errorf("%v", week)
	}
}

func TestQuantilesAreWithinFivePercent(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	var c Count
	var all []float64
	for range 20000 {
		ms := int64(rnd.ExpFloat64() * 4000)
		all = append(all, float64(ms))
		f := Fact{Kind: "delivered", At: at("2026-11-23 10:00"), Delay: ms}
		f.addDelay()
		c.Add(f)
	}
	var buckets []Sum
	longest := int64(0)
	for day, packed := range c.Pack() {
		if day.Dim != "delay" {
			continue
		}
		if err := Unpack(packed, func(_ int64, s Sum) {
			buckets = append(buckets, s)
			longest = max(longest, s.DelayMax)
		}); err != nil {
			t.Fatal(err)
		}
	}
	d := Delay{Max: float64(longest) / 1000}
	d.Quantiles(buckets)
	for _, q := range []struct{ got, share float64 }{{*d.Median, 0.5}, {*d.P95, 0.95}} {
		want := quantile(all, q.share) / 1000
		if q.got < want*0.94 || q.got > want*1.06 {
			t.Errorf("%v: %v, want %v", q.share, q.got, want)
		}
	}
}

func quantile(all []float64, share float64) float64 {
	n := make([]int, 200_000)
	for _, v := range all {
		n[int(v)]++
	}
	seen := 0
	for v, k := range n {
		if seen += k; float64(seen) >= share*float64(len(all)) {
			return float64(v)
		}
	}
	return 0
}

func TestPackedCountsAreReadBack(t *testing.T) {
	var c Count
	for i := range 3 {
		c.Add(Fact{
			Kind:  "delivered",
			At:    time.Unix(493000*3600, 0),
			Bytes: 1 << 40,
			Delay: int64(i),
			by:    []pair{{bySender, "a@x.example"}},
		})
	}
	c.Add(Fact{Kind: "rejected", At: time.Unix(493001*3600, 0), Delay: -1, by: []pair{{bySender, "<>"}}})
	sums := []Sum{
		{Value: "<>", Kind: "rejected", N: 1},
		{Value: "a@x.example", Kind: "delivered", N: 3, Bytes: 3 << 40, Delay: 3, DelayMax: 2},
	}
	b := c.Pack()[Day{"sender", 493000 / 24}]
	var got []Sum
	if err := Unpack(b, func(hour int64, s Sum) { got = append(got, s) }); err != nil {
		t.Fatal(err)
	}
	slices.SortFunc(got, func(a, b Sum) int { return strings.Compare(a.Value, b.Value) })
	if fmt.Sprint(got) != fmt.Sprint(sums) {
		t.Errorf("%+v", got)
	}
	for cut := range b {
		n := 0
		if err := Unpack(b[:cut], func(int64, Sum) { n++ }); err == nil && n == 2 {
			t.Errorf("cut at %d was not noticed", cut)
		}
	}
}

func TestAPageSaysWhatMattersInTextAndHTML(t *testing.T) {
	median, p95 := 0.2, 1.5
	p := &Page{
		HostName: "mail.skerryline.example",
		Title:    "Mail on Sunday",
		Since:    at("2026-11-22 00:00"),
		Until:    at("2026-11-23 00:00"),
		Zone:     time.UTC,
		Totals: map[string]Figure{
			"received": {120, 5e6},
			"bounced":  {3, 9000},
		},
		Usual:   map[string]float64{"received": 100},
		UsualIs: "the mean of the seven days before",
		Delay: &Delay{
			0.4,
			&median,
			&p95,
			30,
		},
		Reasons: map[string][]Row{
			"bounced": {
				{
					Value:  "no-such-user",
					Title:  "There is no such mailbox",
					Counts: map[string]Figure{"bounced": {N: 3}},
				},
			},
		},
		Notes: []Notes{{"Lanes with trouble now", []string{"<b>sunkenpier.example</b> waits"}}},
	}
	if few := (&Delay{Mean: 1, Max: 2}).Text(); few != "mean 1s, at most 2s" {
		t.Errorf("without a median: %s", few)
	}
	text := p.Text()
	for _, want := range []string{"received", "120", "+20 %", "There is no such mailbox: 3 bounced",
		"half within 200ms", "<b>sunkenpier"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	page, err := p.HTML()
	if err != nil || !strings.Contains(page, "&lt;b&gt;sunkenpier") || strings.Contains(page, "<script") ||
		!strings.Contains(page, "There is no such mailbox") {
		t.Errorf("%v\n%s", err, page)
	}
}
