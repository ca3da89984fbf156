// Package counters counts what a node does, for its metrics. What reports are made
// of is counted by the database.
package counters

import (
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// Kinds of what is counted.
const (
	Received  = "received"
	Delivered = "delivered"
	Deferred  = "deferred"
	Bounced   = "bounced"
	Expired   = "expired"
	Rejected  = "rejected"
)

// Kinds are all of them.
var Kinds = []string{Received, Delivered, Deferred, Bounced, Expired, Rejected}

type sum struct{ n, bytes atomic.Int64 }

// Writers are those of which an item may be refused by the database.
var Writers = []string{"messages", "outcomes", "records", "snags", "counts"}

// Counters counts since the start. It is safe for several goroutines.
type Counters struct {
	totals  map[string]*sum
	refused map[string]*atomic.Int64
	// Histograms, for metrics.
	Accept, Delivery, Commit prometheus.Histogram
}

// slow is from when on a value has its message beside it in the metrics (an exemplar).
const slow = time.Second

// Took notes how long something took for a message.
func Took(h prometheus.Histogram, d time.Duration, message string) {
	if with, ok := h.(prometheus.ExemplarObserver); ok && d >= slow && message != "" {
		with.ObserveWithExemplar(d.Seconds(), prometheus.Labels{"message": message})
		return
	}
	h.Observe(d.Seconds())
}

// New makes an empty tally.
func New() *Counters {
	t := &Counters{totals: map[string]*sum{}, refused: map[string]*atomic.Int64{}}
	t.Accept = prometheus.NewHistogram(prometheus.HistogramOpts{Name: "gull_accept_seconds",
		Help:    "From the end of a message's content to its safe commit.",
		Buckets: []float64{.002, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10}})
	t.Delivery = prometheus.NewHistogram(prometheus.HistogramOpts{Name: "gull_delivery_seconds",
		Help:    "From a message's acceptance to the delivery of a recipient.",
		Buckets: []float64{.1, .5, 1, 5, 15, 60, 300, 900, 3600, 4 * 3600, 24 * 3600}})
	t.Commit = prometheus.NewHistogram(prometheus.HistogramOpts{Name: "gull_commit_messages",
		Help:    "Messages that share a commit when they are taken.",
		Buckets: []float64{1, 2, 4, 8, 16, 32, 64, 128, 256}})
	for _, w := range Writers {
		t.refused[w] = &atomic.Int64{}
	}
	for _, k := range Kinds {
		t.totals[k] = &sum{}
	}
	return t
}

// Add counts one thing of so many octets.
func (t *Counters) Add(kind string, bytes int64) {
	s := t.totals[kind]
	s.n.Add(1)
	s.bytes.Add(bytes)
}

// Total is how often a kind was counted, and its octets.
func (t *Counters) Total(kind string) (n, bytes int64) {
	s := t.totals[kind]
	return s.n.Load(), s.bytes.Load()
}

// Refuse counts an item of a writer that the database refused.
func (t *Counters) Refuse(writer string) { t.refused[writer].Add(1) }

// Refused is how many items of a writer the database refused.
func (t *Counters) Refused(writer string) int64 { return t.refused[writer].Load() }
