package snag

import (
	"gullroute/internal/core/ident"
	"time"
)

// Filter chooses troubles.
type Filter struct {
	Closed bool
	Muted  bool // muted ones too
	Parts  bool // those that are part of one of ours too
	PartOf ident.ID
	Cause  string
	Place  string // a part of it
	Lane   ident.ID
	After  string // cursor
	Limit  int
}

// Change is what a person changes of a trouble; nil leaves it.
type Change struct {
	Note       *string
	Mine       *string
	MutedUntil *time.Time
}
