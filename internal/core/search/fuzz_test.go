package search

import (
	"strings"
	"testing"
	"time"
)

// FuzzSearch gives what people might type to the search: it is understood or refused in
// one sentence.
func FuzzSearch(f *testing.F) {
	for _, q := range []string{"from:ada@saltmarsh.example yesterday",
		"subject:\"night boat\" to:x state:deferred", "127.30.0.0/16", "since 9999-01-01", "last 3 days", "id:0B4Z7H8Q2M000", "a\"b c", "from:", "<>", "23 Nov 10:00-11:00"} {
		f.Add(q)
	}
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, text string) {
		q, err := Parse(text, now, time.UTC)
		if err != nil {
			if strings.Contains(err.Error(), "\n") && !strings.Contains(text, "\n") {
				t.Errorf("%q: %v", text, err)
			}
			return
		}
		for _, term := range q.Terms {
			if term.Field == "" || term.Says == "" {
				t.Errorf("%q: %+v", text, term)
			}
		}
		if !q.Since.IsZero() && !q.Until.IsZero() && q.Until.Before(q.Since) {
			t.Errorf("%q is from %s to %s", text, q.Since, q.Until)
		}
	})
}
