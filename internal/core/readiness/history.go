package readiness

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Turn is a point that stands otherwise than at the look before.
type Turn struct {
	At    time.Time `json:"at"`
	Key   string    `json:"key"`
	Title string    `json:"title"`
	Was   Result    `json:"was"`
	Is    Result    `json:"is"`
	Says  string    `json:"says"`
}

// String says it in a line.
func (t Turn) String() string {
	return fmt.Sprintf("%s was %s and is %s: %s", t.Title, t.Was, t.Is, t.Says)
}

// Looks is what is on record of a domain.
type Looks struct {
	Last    *Readiness `json:"last,omitempty" doc:"The last look; not there if there was none"`
	Changes []Turn     `json:"changes" doc:"Newest first"`
	Passed  []string   `json:"-"` // points that were right at some time
	Fresh   []Turn     `json:"-"` // those of the look that was noted last
}

// Note takes a new look, and says what was right at some time and fails now.
func (h *Looks) Note(r Readiness) (broken []string) {
	h.Fresh = nil
	for _, p := range r.Points {
		if h.Last != nil {
			for _, old := range h.Last.Points {
				if old.Key == p.Key && old.Result != p.Result && p.Result != NotChecked {
					h.Fresh = append(h.Fresh, Turn{
						At:    r.CheckedAt,
						Key:   p.Key,
						Title: p.Title,
						Was:   old.Result,
						Is:    p.Result,
						Says:  p.Says,
					})
				}
			}
		}
		passed := slices.Contains(h.Passed, p.Key)
		switch {
		case p.Result == Fail && passed:
			broken = append(broken, p.Says)
		case p.Result == Pass && !passed:
			h.Passed = append(h.Passed, p.Key)
		}
	}
	h.Last = &r
	return broken
}

// ToDo says in one text what is to be published, line by line.
func (r *Readiness) ToDo() string {
	var b strings.Builder
	for _, p := range r.Points {
		for _, rec := range p.Records {
			fmt.Fprintf(&b, "\n%s", rec.Zone)
		}
	}
	if b.Len() == 0 {
		return fmt.Sprintf("%s was looked at now: %.1f of 10. %s", r.Domain, r.Score, r.Verdict)
	}
	return fmt.Sprintf("%s was looked at now: %.1f of 10. Publish these records:%s", r.Domain,
		r.Score, b.String())
}
