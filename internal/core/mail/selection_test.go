package mail

import (
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
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

func TestManyDestinationsMeanUsAndOneMeansThem(t *testing.T) {
	lanes := func(resting, moving int, stage diagnose.Stage) []Lane {
		var out []Lane
		for range resting {
			out = append(out, Lane{
				NextHop: "x.example",
				State:   LaneResting,
				Last: &LastReply{Stage: stage,
					Code: map[diagnose.Stage]int{diagnose.StageHello: 554}[stage]},
			})
		}
		for range moving {
			out = append(out, Lane{NextHop: "y.example", State: LaneMoving})
		}
		return append(out, Lane{NextHop: "local", State: LaneMoving},
			Lane{NextHop: "z.example", State: LaneStranded},
			Lane{NextHop: "p.example", State: LanePaused})
	}
	for _, c := range []struct {
		name            string
		resting, moving int
		stage           diagnose.Stage
		whose, says     string
	}{
		{"all well", 0, 9, "", "nobody", ""},
		{"one", 1, 5, diagnose.StageConnect, "theirs",
			"x.example cannot be used; the 5 other lanes are moving"},
		{"the only one", 1, 0, diagnose.StageConnect, "theirs", "nothing else waits"},
		{"a few of many", 3, 20, diagnose.StageConnect, "theirs", "3 destinations cannot be used"},
		{"most at connect", 8, 2, diagnose.StageConnect, "ours", "8 of 10 destinations cannot be reached"},
		{"most at DNS", 8, 2, diagnose.StageDNS, "ours", "our resolver"},
		{"most at TLS", 4, 0, diagnose.StageTLS, "ours", "our clock"},
		{"most refuse", 4, 0, diagnose.StageHello, "ours", "our address or name"},
		{"most give no greeting", 4, 0, diagnose.StageGreeting, "theirs",
			"4 destinations cannot be used"}, // a silence is no refusal
	} {
		if v := LookAt(
			lanes(c.resting, c.moving, c.stage),
		); v.Whose != c.whose || !strings.Contains(v.Title, c.says) ||
			(v.Title != "") != (v.Next != "") {
			t.Errorf("%s: %+v", c.name, v)
		}
	}
}
