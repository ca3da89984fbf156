package mail

import (
	"strings"
	"testing"
	"time"
)

func TestTheWordsOfASelectionAreReadAndNamed(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	s := Selection{
		State:      Deferred,
		Sender:     "Ines@BØLGEVIK.example",
		Domain:     "@Greywacke.example",
		Older:      "2h",
		Newer:      "2026-11-20",
		Larger:     "1 MB",
		Smaller:    "2 MB",
		Cause:      "greylisted",
		Attempts:   3,
		Deliveries: []string{"000000000001A-2", "000000000001B-1"},
		Action:     4,
	}
	f, wrong := s.Filter(now)
	if len(wrong) > 0 || f.Sender != "Ines@xn--blgevik-q1a.example" || f.Domain != "greywacke.example" ||
		!f.Before.Equal(now.Add(-2*time.Hour)) || f.Since.Day() != 20 ||
		f.Larger != 1e6 || f.Smaller != 2e6 || f.Attempts != 3 || len(f.Deliveries) != 2 ||
		f.Deliveries[0].N != 2 ||
		f.Action != 4 {
		t.Errorf("%+v %v", f, wrong)
	}
	if got := s.String(); got != "deferred, 2 chosen deliveries, from Ines@BØLGEVIK.example, to domain "+
		"@Greywacke.example, older than 2h, newer than 2026-11-20, larger than 1 MB, smaller than 2 MB, "+
		"cause greylisted, tried at least 3 times, touched by action 4" {
		t.Errorf("in words: %s", got)
	}
	if e := (Selection{}); !e.Everything() || e.String() != "everything that waits" {
		t.Error("an empty selection")
	}
	_, wrong = Selection{
		State:      Delivered,
		Lane:       "x",
		Message:    "y",
		Domain:     "a b",
		Older:      "soon",
		Newer:      "-1h",
		Larger:     "big",
		Smaller:    "-1",
		Deliveries: []string{"z"},
	}.Filter(now)
	var words []string
	for _, w := range wrong {
		words = append(words, w.Word)
	}
	if got := strings.Join(words, " "); got != "lane message delivery domain older newer larger smaller state" {
		t.Errorf("named as wrong: %s", got)
	}
}
