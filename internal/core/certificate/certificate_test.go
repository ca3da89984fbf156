package certificate

import (
	"testing"
	"time"
)

// Certificates are renewed in the last third of their life, each name at a time of its own, whether
// they live for minutes or for a year.
func TestRenewalComesLongBeforeTheEnd(t *testing.T) {
	from := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	seen := map[time.Time]bool{}
	for _, life := range []time.Duration{10 * time.Minute, 6 * 24 * time.Hour, 90 * 24 * time.Hour, 9000 * time.Hour} {
		for _, name := range []string{"mail", "edge", "console", "policies"} {
			at := RenewAt(from, from.Add(life), name)
			seen[at] = true
			if at.Sub(from) < life*2/3 || at.Sub(from) > life*3/4 || Late(from, from.Add(life), at) {
				t.Errorf("%s, which lives %s, is renewed after %s", name, life, at.Sub(from))
			}
		}
		if !Late(from, from.Add(life), from.Add(life*9/10)) {
			t.Errorf("nine tenths of %s are not late", life)
		}
	}
	if len(seen) < 12 {
		t.Errorf("16 renewals come at %d times", len(seen))
	}
	info := Info{Names: []string{"mail.skerryline.example", "*.lightkeepers.example"}}
	for name, want := range map[string]bool{"mail.skerryline.example": true, "mta-sts.lightkeepers.example": true,
		"a.b.lightkeepers.example": false, "skerryline.example": false} {
		if Covers(info, []string{name}) != want {
			t.Errorf("%s is covered: %t", name, !want)
		}
	}
}
