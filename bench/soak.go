package main

import (
	"fmt"
	"os"
	"slices"
	"sync"
	"time"
)

// latencies are how long the 250 of messages took, in milliseconds.
type latencies struct {
	mutex sync.Mutex
	list  []float64
}

func (l *latencies) add(took time.Duration) {
	if l == nil {
		return
	}
	l.mutex.Lock()
	l.list = append(l.list, float64(took.Microseconds())/1000)
	l.mutex.Unlock()
}

// take gives the number of those since the last call, their median and their 99th of a
// hundred.
func (l *latencies) take() (n int, median, p99 float64) {
	l.mutex.Lock()
	list := l.list
	l.list = nil
	l.mutex.Unlock()
	if len(list) == 0 {
		return 0, 0, 0
	}
	slices.Sort(list)
	return len(list), list[len(list)/2], list[len(list)*99/100]
}

// minute is what was seen at the end of one.
type minute struct {
	messages    int
	median, p99 float64 // milliseconds
	memory      float64 // MB of the service
	work        float64 // octets of the tables whose rows come and go
	history     float64 // octets of all else
}

// workTables are those whose rows come and go with the mail.
const workTables = `'delivery', 'count_log', 'count_sum', 'mailbox_delta', 'mailbox_use', 'lane_count',
	'lane_delta', 'lane_minute', 'lane_last', 'lane_rest', 'withdrawn', 'sent_hour', 'shared_value'`

// soak sends mail at half of the highest rate for long, into a mailbox, and compares the
// last quarter of the time with the second.
func (b *bench) soak() ([]result, error) {
	h, err := b.newHarbour()
	if err != nil {
		return nil, err
	}
	defer h.close()
	times := &latencies{}
	l := load{
		address:     h.inside,
		connections: connections,
		messages:    lived,
		content:     messageOf(4096),
		from:        "tickets@skerryline.example",
		to:          "keeper@skerryline.example",
		times:       times,
	}
	rate, err := l.run()
	if err != nil {
		return nil, err
	}
	_, median, p99 := times.take()
	full := h.resident()
	results := []result{
		one(
			"p99 of the 250 at full rate",
			"its median",
			p99,
			median,
			"ms",
			"<= 3",
			p99 <= 3*median,
		),
		one("memory of the service at full rate", "140 MB", full, 140, "MB", "<= 1", full <= 140),
	}
	l.pace, l.messages = rate/2, int(rate/2*60)*b.minutes
	ended := make(chan error, 1)
	go func() { _, err := l.run(); ended <- err }()
	var list []minute
	for going := true; going; {
		select {
		case err := <-ended:
			if err != nil {
				return nil, err
			}
			going = false
		case <-time.After(time.Minute):
			var m minute
			m.messages, m.median, m.p99 = times.take()
			m.memory = h.resident()
			if err := h.db.QueryRow(h.b.ctx, `SELECT
				coalesce(sum(pg_total_relation_size(oid)) FILTER (WHERE relname IN (`+workTables+`)), 0)::float8,
				coalesce(sum(pg_total_relation_size(oid)) FILTER (WHERE relname NOT IN (`+workTables+`)), 0)::float8
				FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace`).Scan(&m.work,
				&m.history); err != nil {
				return nil, err
			}
			list = append(list, m)
			fmt.Fprintf(
				os.Stderr,
				"minute %d: %d messages, median %.1f ms, p99 %.1f ms, %.0f MB, work %.1f MB, "+
					"history %.0f MB\n",
				len(list),
				m.messages,
				m.median,
				m.p99,
				m.memory,
				m.work/1e6,
				m.history/1e6,
			)
		}
	}
	quarter := len(list) / 4
	if quarter == 0 {
		return nil, fmt.Errorf("%d minutes are too few: four at least", len(list))
	}
	second, last := list[quarter:2*quarter], list[len(list)-quarter:]
	of := func(part []minute, what func(minute) float64) float64 {
		var all []float64
		for _, m := range part {
			all = append(all, what(m))
		}
		return middle(all)
	}
	flat := func(name, unit string, limit float64, what func(minute) float64) {
		v, base := of(last, what), of(second, what)
		results = append(
			results,
			one("soak, last quarter: "+name, "in the second quarter of the time", v, base, unit,
				fmt.Sprintf("<= %g", limit), v <= limit*base),
		)
	}
	half, at := of(
		list,
		func(m minute) float64 { return m.p99 },
	), of(
		list,
		func(m minute) float64 { return m.median },
	)
	results = append(
		results,
		one(
			"p99 of the 250 at half of the rate",
			"its median",
			half,
			at,
			"ms",
			"<= 3",
			half <= 3*at,
		),
	)
	flat("median of the 250", "ms", 1.2, func(m minute) float64 { return m.median })
	flat("p99 of the 250", "ms", 1.3, func(m minute) float64 { return m.p99 })
	flat("memory of the service", "MB", 1.1, func(m minute) float64 { return m.memory })
	flat(
		"tables whose rows come and go",
		"kB",
		1.1,
		func(m minute) float64 { return m.work / 1000 },
	)
	grown := func(from, to minute, n int) float64 { return (to.history - from.history) / float64(n) }
	count := func(part []minute) (n int) {
		for _, m := range part[1:] {
			n += m.messages
		}
		return n
	}
	v, base := grown(last[0], last[len(last)-1], max(1, count(last))),
		grown(second[0], second[len(second)-1], max(1, count(second)))
	return append(
		results,
		one("soak, last quarter: history grows for a message by", "in the second quarter", v, base, "octets",
			"<= 1.05", v <= 1.05*base),
	), nil
}
