package snag

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"gullroute/internal/core/ident"
)

// Moment is one thing that has to do with a trouble.
type Moment struct {
	At   time.Time `json:"at"`
	Kind string    `json:"kind" enum:"success,change,began,met,action,world,ended"`
	Text string    `json:"text"`
	// Before marks what changed shortly before the trouble began.
	Before bool `json:"before,omitempty" doc:"It changed shortly before the trouble began"`
	// Revision and Message are what it leads to, 0 if nothing.
	Revision int      `json:"revision,omitempty"`
	Message  ident.ID `json:"message,omitzero"`
}

// The kinds of moment.
const (
	MomentSuccess = "success" // a message got through at the same place
	MomentChange  = "change"  // a revision came into force
	MomentBegan   = "began"
	MomentMet     = "met"    // it was met for the last time
	MomentAction  = "action" // a person did something about it
	MomentWorld   = "world"  // DNS or a certificate of ours changed, as the world sees it
	MomentEnded   = "ended"
)

// Past is a trouble of the same cause that is over.
type Past struct {
	ID    ident.ID  `json:"id"`
	Place Place     `json:"place"`
	Since time.Time `json:"since"`
	Until time.Time `json:"until"`
	Ended string    `json:"ended" doc:"What ended it"`
}

// Story is what has to do with a trouble, in order of time, and what it was like before.
type Story struct {
	Moments []Moment `json:"moments"`
	Similar []Past   `json:"similar" doc:"Troubles of the same cause that are over: at the same place first"`
}

// shortlyBefore is how long before its beginning a change may be the reason.
const shortlyBefore = 2 * time.Hour

// Tell adds to what is on record what the trouble itself says, and puts it in order.
func (s *Story) Tell(x *Snag) {
	s.Moments = append(s.Moments, Moment{At: x.Since, Kind: MomentBegan,
		Text: "it was met for the first time"})
	if x.Attempts > 1 {
		s.Moments = append(s.Moments, Moment{At: x.LastAt, Kind: MomentMet,
			Text:    fmt.Sprintf("it was met for the last time, of %d", x.Attempts),
			Message: x.Evidence.MessageID})
	}
	if x.State == "closed" {
		s.Moments = append(s.Moments, Moment{At: x.ClosedAt.Time, Kind: MomentEnded,
			Text: "it ended: " + x.Ended})
	}
	for i := range s.Moments {
		m := &s.Moments[i]
		m.At = m.At.UTC()
		m.Before = (m.Kind == MomentChange || m.Kind == MomentWorld) && !m.At.After(x.Since) &&
			x.Since.Sub(m.At) <= shortlyBefore
	}
	slices.SortStableFunc(s.Moments, func(a, b Moment) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Kind, b.Kind))
	})
}
