// Package tally counts what a node does, for its metrics. What reports are made
// of is counted by the database.
package tally

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

// Tally counts since the start. It is safe for several goroutines.
type Tally struct{ totals map[string]*sum }

// New makes an empty tally.
func New() *Tally {
	t := &Tally{totals: map[string]*sum{}}
	for _, k := range Kinds {
		t.totals[k] = &sum{}
	}
	return t
}

// Add counts one thing of so many octets.
func (t *Tally) Add(kind string, bytes int64) {
	s := t.totals[kind]
	s.n.Add(1)
	s.bytes.Add(bytes)
}

// Total is how often a kind was counted, and its octets.
func (t *Tally) Total(kind string) (n, bytes int64) {
	s := t.totals[kind]
	return s.n.Load(), s.bytes.Load()
}
