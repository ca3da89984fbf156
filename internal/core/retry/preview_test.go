package retry

import (
	"strings"
	"testing"
	"time"
)

func TestAPreviewIsWhatTheScheduleDoes(t *testing.T) {
	h := time.Hour
	p := Schedule{Intervals: []time.Duration{h, 2 * h}, WarnAfter: 4 * h, ExpireAfter: 8 * h,
		Jitter: 0.5}.Preview()
	var at []float64
	for _, a := range p.Attempts {
		at = append(at, a.Earliest/3600)
	}
	want := []float64{0, 1, 3, 5, 7, 8}
	if len(at) != len(want) {
		t.Fatalf("attempts at %v hours", at)
	}
	for i := range want {
		if at[i] != want[i] {
			t.Errorf("attempt %d at %v h, want %v", i+1, at[i], want[i])
		}
	}
	if p.Attempts[2].Latest != 4.5*3600 || p.Longest != 2*3600 || p.Attempts[5].Latest > 8*3600 {
		t.Errorf("%+v", p)
	}
	text := strings.Join(p.Cost, "\n")
	for _, w := range []string{"is tried 6 times, 1 of them in the first hour", "waits up to 2 h longer",
		"hears of the delay after 4 h and 3 attempts", "down for a day loses the message", "second attempt only " +
			"after 1 h"} {
		if !strings.Contains(text, w) {
			t.Errorf("%q is missing in\n%s", w, text)
		}
	}
	if p := (Schedule{Intervals: []time.Duration{time.Second}, ExpireAfter: 10 * 24 * h}).Preview(); len(
		p.Attempts,
	) != maxPreview ||
		!strings.Contains(strings.Join(p.Cost, " "), "look like an attack") ||
		!strings.Contains(strings.Join(p.Cost, " "), "hears nothing") {
		t.Errorf("%d attempts, %v", len(p.Attempts), p.Cost)
	}
	for d, want := range map[time.Duration]string{90 * time.Second: "1 min 30 s", 36 * h: "1 d 12 h",
		48 * h: "2 d", 5 * time.Second: "5 s", 90 * time.Minute: "1 h 30 min", h: "1 h"} {
		if got := Words(d); got != want {
			t.Errorf("%s is written %q, want %q", d, got, want)
		}
	}
}
