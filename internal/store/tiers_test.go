package store

import (
	"testing"
	"time"

	"gullroute/internal/core/report"
)

// What is counted stands in every tier, where the spans of a report look for it.
func TestCountsAddUpInEveryTier(t *testing.T) {
	s, node := open(t)
	enterAll(t, s, node, entry("a@x.example", false, "a@saltmarsh.example"),
		entry("b@x.example", false, "a@saltmarsh.example", "b@saltmarsh.example"))
	if err := s.countAll(ctx); err != nil {
		t.Fatal(err)
	}
	now := time.Now().UTC()
	for _, tier := range report.Tiers {
		at := now.Truncate(tier.Length)
		sums, err := s.Sums(ctx, "total", []string{"received"}, "",
			[]report.Span{{Tier: tier.Name, From: at, To: at.Add(tier.Length)}}, 0)
		if err != nil || len(sums) != 1 || sums[0].N != 2 {
			t.Errorf("%s: %+v %v", tier.Name, sums, err)
		}
	}
	sums, err := s.Sums(ctx, "total", []string{"received"}, "",
		report.Spans(now.AddDate(0, 0, -90), now.AddDate(0, 0, 90)), 0)
	if err != nil || len(sums) != 1 || sums[0].N != 2 {
		t.Errorf("half a year: %+v %v", sums, err)
	}
}
