package folder

import (
	"strings"
	"time"
)

// Search is what messages are looked for by: all that is given must hold. The zero value
// finds every message.
type Search struct {
	UIDs                  []Ranges // each of them
	With, Without         Flags
	Keywords, NotKeywords []string
	Since, Before         time.Time // day of arrival: from, and not on
	SentSince, SentBefore time.Time // of the field Date
	Larger, Smaller       int64     // octets
	Fields                []Field
	Body, Text            []string
	Not                   []Search
	Or                    [][2]Search
}

// Field is a part of a header field's value; an empty one asks whether the field is there.
type Field struct{ Name, Value string }

// Listed reports a field that is kept with the message in its folder: the subject.
func (f Field) Listed() bool { return strings.EqualFold(f.Name, "subject") && f.Value != "" }

// ByText reports a search that needs the text of messages.
func (s *Search) ByText() bool {
	for _, f := range s.Fields {
		if !f.Listed() {
			return true
		}
	}
	if len(s.Body)+len(s.Text) > 0 || !s.SentSince.IsZero() ||
		!s.SentBefore.IsZero() {
		return true
	}
	for i := range s.Not {
		if s.Not[i].ByText() {
			return true
		}
	}
	for i := range s.Or {
		if s.Or[i][0].ByText() || s.Or[i][1].ByText() {
			return true
		}
	}
	return false
}

// Bounds of a search.
const (
	maxTerms = 200
	maxDepth = 20
)

// Fits reports a search that is within bounds.
func (s *Search) Fits() bool {
	terms := 0
	return s.fits(&terms, 0)
}

func (s *Search) fits(terms *int, depth int) bool {
	*terms += 1 + len(s.Fields) + len(s.Body) + len(s.Text) + len(s.Keywords) + len(s.NotKeywords)
	if depth > maxDepth || *terms > maxTerms {
		return false
	}
	for i := range s.Not {
		if !s.Not[i].fits(terms, depth+1) {
			return false
		}
	}
	for i := range s.Or {
		if !s.Or[i][0].fits(terms, depth+1) || !s.Or[i][1].fits(terms, depth+1) {
			return false
		}
	}
	return true
}
