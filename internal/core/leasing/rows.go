// Package leasing is the protocol by which a message goes from the client that hands it
// in to its end, as a small state machine: what the database keeps, what nodes hold in
// memory, what clients were told and what arrived. It can be searched under any faults in
// any order; the store is checked against its rows.
package leasing

import (
	"errors"
	"slices"
)

// Message is a message with one delivery.
type Message int

// Run is one start of a node; 0 is none.
type Run int

// ErrOver reports a run that can make no leases any more.
var ErrOver = errors.New("the run is over")

// Row is a delivery in the database.
type Row struct {
	Lease Run
	Done  bool
}

// Rows are what the database keeps, and how its statements change it.
type Rows struct {
	There     map[Message]Row
	Withdrawn map[Message]bool
	Over      map[Run]bool
	Runs      Run // how many began
}

// NewRows is an empty database.
func NewRows() *Rows {
	return &Rows{There: map[Message]Row{}, Withdrawn: map[Message]bool{}, Over: map[Run]bool{}}
}

// Begin begins a run.
func (r *Rows) Begin() Run {
	r.Runs++
	return r.Runs
}

// Enter enters a message, leased to a run or to none.
func (r *Rows) Enter(m Message, lease Run) error {
	if lease != 0 && r.Over[lease] {
		return ErrOver
	}
	r.There[m] = Row{Lease: lease}
	return nil
}

// Lease gives a run what nobody works on, the lowest first.
func (r *Rows) Lease(run Run, limit int) ([]Message, error) {
	if r.Over[run] {
		return nil, ErrOver
	}
	var out []Message
	for m, row := range r.There {
		if row.Lease == 0 && !row.Done && !r.Withdrawn[m] {
			out = append(out, m)
		}
	}
	slices.Sort(out)
	out = out[:min(limit, len(out))]
	for _, m := range out {
		r.There[m] = Row{Lease: run}
	}
	return out, nil
}

// Finish records an outcome of an attempt that a run made. An end counts whoever leases
// the delivery by now; a later attempt is set only by who leases it.
func (r *Rows) Finish(run Run, m Message, end bool) (recorded bool) {
	row, there := r.There[m]
	switch {
	case !there || row.Done:
		return false
	case end:
		r.There[m] = Row{Done: true}
	case row.Lease != run:
		return false
	default:
		r.There[m] = Row{}
	}
	return true
}

// Return ends leases of a run.
func (r *Rows) Return(run Run, list ...Message) {
	for _, m := range list {
		if row, there := r.There[m]; there && row.Lease == run && !row.Done {
			r.There[m] = Row{}
		}
	}
}

// End ends a run; Release makes due what it held.
func (r *Rows) End(run Run) { r.Over[run] = true }

// Release makes due what is leased to runs that are over.
func (r *Rows) Release() {
	for m, row := range r.There {
		if row.Lease != 0 && r.Over[row.Lease] {
			r.There[m] = Row{}
		}
	}
}

// Held are the leases of a run.
func (r *Rows) Held(run Run) (out []Message) {
	for m, row := range r.There {
		if row.Lease == run {
			out = append(out, m)
		}
	}
	slices.Sort(out)
	return out
}

// Withdraw takes messages back, there or to come.
func (r *Rows) Withdraw(list ...Message) {
	for _, m := range list {
		r.Withdrawn[m] = true
		delete(r.There, m)
	}
}

// Drop deletes withdrawn messages that came to light.
func (r *Rows) Drop() {
	for m := range r.Withdrawn {
		delete(r.There, m)
	}
}
