package search

import (
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"time"
)

// Page is one page of what a search found.
type Page struct {
	Items []mail.Found
	// Next is where to go on, 0 at the end.
	Next ident.ID
	// Back is how far was looked, when time ran out before the page was full.
	Back time.Time
}
