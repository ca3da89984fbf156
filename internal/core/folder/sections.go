package folder

import (
	"strings"

	"gullroute/internal/core/parts"
)

// Section is a part of a message with those within it, as BODYSTRUCTURE numbers them.
type Section struct {
	parts.Part
	Within []*Section
}

// Sections are a message's parts as a tree. A message without any is one part.
func Sections(found []parts.Part, size int64) *Section {
	if len(found) == 0 {
		return &Section{Part: parts.Part{Type: "text/plain", Body: size, End: size}}
	}
	root := &Section{Part: found[0]}
	root.End = size
	way := []*Section{root}
	for _, p := range found[1:] {
		s := &Section{Part: p}
		level := min(max(p.Level, 1), len(way))
		above := way[level-1]
		above.Within = append(above.Within, s)
		way = append(way[:level], s)
	}
	return root
}

// Multi reports a part whose own parts are numbered.
func (s *Section) Multi() bool { return s.Container && strings.HasPrefix(s.Type, "multipart/") }

// Message is the message that is attached, or nil.
func (s *Section) Message() *Section {
	if s.Container && !s.Multi() && len(s.Within) > 0 {
		return s.Within[0]
	}
	return nil
}

// At is the part with a number like 2.1 (RFC 9051 section 6.4.5.1); nil if there is none.
func (s *Section) At(path []int) *Section {
	for i, n := range path {
		holder := s
		if inner := s.Message(); inner != nil && i > 0 {
			holder = inner
		}
		switch {
		case holder.Multi():
			if n < 1 || n > len(holder.Within) {
				return nil
			}
			s = holder.Within[n-1]
		case n == 1 && (i == 0 || holder != s):
			s = holder
		default:
			return nil
		}
	}
	return s
}

// What of a part is asked for.
const (
	Whole  = ""
	Header = "HEADER"
	Body   = "TEXT"
	MIME   = "MIME"
)

// Place is where a section stands in the content; false if there is no such section.
func (s *Section) Place(path []int, what string) (from, to int64, ok bool) {
	part := s.At(path)
	if part == nil {
		return 0, 0, false
	}
	if len(path) == 0 {
		switch what {
		case Whole:
			return 0, part.End, true
		case Header:
			return 0, part.Body, true
		case Body:
			return part.Body, part.End, true
		}
		return 0, 0, false
	}
	switch what {
	case Whole:
		return part.Body, part.End, true
	case MIME:
		return part.Start, part.Body, part != s
	}
	if inner := part.Message(); inner != nil {
		if what == Header {
			return inner.Start, inner.Body, true
		}
		return inner.Body, inner.End, true
	}
	return 0, 0, false
}
