// Package counters counts what a node does, for its metrics. What reports are made
// of is counted by the database.
package counters

import "sync/atomic"

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
}

// New makes an empty tally.
func New() *Counters {
	t := &Counters{totals: map[string]*sum{}, refused: map[string]*atomic.Int64{}}
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
