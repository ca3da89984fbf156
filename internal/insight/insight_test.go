package insight_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
	"gullroute/internal/core/review"
	"gullroute/internal/core/snag"
	"gullroute/internal/teststand"
)

func TestATraceIsTheWholePath(t *testing.T) {
	s := teststand.Start(t)
	id := s.Send("Berth for Thursday", "crew@skerryline.example", "ada@saltmarsh.example")
	for reached := false; !reached; {
		m, err := s.Insight.Trace.Message(t.Context(), 0, id)
		if err != nil {
			t.Fatal(err)
		}
		reached = m.Message.Deliveries[0].State == mail.Delivered &&
			m.Message.Deliveries[1].State == mail.Deferred
	}
	v, err := s.Insight.Trace.Message(t.Context(), 0, id)
	if err != nil {
		t.Fatal(err)
	}
	var kinds []string
	for i, e := range v.Events {
		kinds = append(kinds, string(e.Kind))
		if i > 0 && e.At.Before(v.Events[i-1].At) {
			t.Errorf("%s comes before %s", e.Kind, v.Events[i-1].Kind)
		}
	}
	for _, want := range []string{"received", "allowed", "expanded", "routed", "delivered", "deferred"} {
		if !strings.Contains(strings.Join(kinds, " "), want) {
			t.Errorf("%v lacks %s", kinds, want)
		}
	}
	if len(v.Causes) != 1 || v.Causes[0].Cause != string(diagnose.ConnectRefused) || v.Session == nil ||
		len(v.Boxes) != 1 ||
		v.Boxes[0].Address != "ines.harrow@skerryline.example" {
		t.Errorf("%+v %+v %+v", v.Causes, v.Session, v.Boxes)
	}
	session, err := s.Insight.Trace.Session(t.Context(), 0, v.Session.ID)
	if err != nil || len(session.Lines) == 0 || len(session.Subjects) != 1 ||
		session.Subjects[0].ID != id {
		t.Errorf("%+v %v", session, err)
	}
	content, err := s.Insight.Trace.View(t.Context(), id)
	if err != nil || len(content.Fields) == 0 {
		t.Errorf("%+v %v", content, err)
	}
	for name, err := range map[string]error{
		"message": func() error {
			_, err := s.Insight.Trace.Message(t.Context(), 0,
				ident.ID(1))
			return err
		}(),
		"session": func() error {
			_, err := s.Insight.Trace.Session(t.Context(), 0,
				ident.ID(1))
			return err
		}(),
		"refusal": func() error {
			_, err := s.Insight.Trace.Refusal(t.Context(), 0,
				ident.ID(1))
			return err
		}(),
		"archive": func() error { _, err := s.Insight.Trace.Records(t.Context(), 99); return err }(),
	} {
		if !errors.Is(err, fault.ErrNotFound) {
			t.Errorf("no such %s: %v", name, err)
		}
	}
}

func TestALaneInTroubleIsShownAsItIsNow(t *testing.T) {
	s := teststand.Start(t)
	id := s.Send("Berth", "ada@saltmarsh.example")
	lane := s.Until(id, mail.Deferred).Deliveries[0].LaneID
	one, err := s.Insight.Lanes.One(t.Context(), lane)
	if err != nil || one.State != mail.LaneResting || one.Deferred != 1 || one.Last == nil ||
		one.Cause != string(diagnose.ConnectRefused) || len(one.Schedule.Intervals) == 0 ||
		one.NextAttemptAt.Before(time.Now()) {
		t.Errorf("%+v %v", one, err)
	}
	// What a person does is seen immediately, whatever was listed a moment ago.
	p := mail.Pause{Kind: mail.PauseLane, Name: lane.String(), Who: "keeper", Why: "a drill"}
	if _, err := s.Control.Pauses.Pause(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	s.Insight.Lanes.Forget()
	if one, err = s.Insight.Lanes.One(t.Context(), lane); err != nil ||
		one.State != mail.LanePaused {
		t.Errorf("%+v %v", one.Lane, err)
	}
	if empty, err := s.Insight.Lanes.One(t.Context(), ident.ID(7)); err == nil &&
		empty.Waiting != 0 {
		t.Errorf("%+v", empty)
	}
}

func TestATroubleIsOneSnagHoweverOftenItHappens(t *testing.T) {
	s := teststand.Start(t)
	s.Until(s.Send("Berth", "ada@saltmarsh.example", "jo@sunkenpier.example"), mail.Deferred)
	for range 2 { // these wait in the lane that backs off
		s.Send("Berth", "ada@saltmarsh.example", "jo@sunkenpier.example")
	}
	var list []snag.Snag
	for end := time.Now().Add(15 * time.Second); len(list) == 0 || list[0].Waiting != 6; {
		var err error
		if list, err = s.Insight.Snags.List(t.Context(), snag.Filter{Limit: 10}); err != nil ||
			time.Now().After(end) {
			t.Fatalf("%+v %v", list, err)
		}
	}
	x := list[0]
	if len(list) != 1 || x.Cause != diagnose.ConnectRefused || x.Title == "" || len(x.Fixes) == 0 {
		t.Errorf("%d snags, %+v", len(list), x)
	}
	until := time.Now().Add(time.Hour)
	muted := snag.Change{MutedUntil: &until}
	if err := s.Insight.Snags.Change(t.Context(), x.ID, "keeper", muted); err != nil {
		t.Fatal(err)
	}
	if list, err := s.Insight.Snags.List(t.Context(), snag.Filter{Limit: 10}); err != nil ||
		len(list) != 0 {
		t.Errorf("a muted snag is listed: %+v %v", list, err)
	}
	if counts, err := s.Insight.Snags.Counts(t.Context()); err != nil ||
		counts["serious"]+counts["critical"]+counts["minor"] != 0 {
		t.Errorf("a muted snag counts: %v %v", counts, err)
	}
}

func TestFiguresAreOfWhatHappened(t *testing.T) {
	s := teststand.Start(t)
	s.Until(s.Send("Berth", "keeper@skerryline.example"), mail.Delivered)
	s.Until(s.Send("Berth", "ada@saltmarsh.example"), mail.Deferred)
	records, err := s.Insight.Trace.Records(t.Context(), 0)
	if err != nil {
		t.Fatal(err)
	}
	from, to := report.Hours(time.Now().Add(-time.Hour), time.Now().Add(time.Hour))
	want := map[string]int64{"received": 2, "delivered": 1, "deferred": 1, "bounced": 0}
	var got map[string]int64
	for end := time.Now().Add(15 * time.Second); ; {
		page, err := s.Insight.Reporter.ReportPage(
			t.Context(),
			records,
			from,
			to,
			time.UTC,
			"hour",
			5,
		)
		if err != nil {
			t.Fatal(err)
		}
		got = map[string]int64{}
		for _, point := range page.Series {
			for kind := range want {
				got[kind] += point.Counts[kind].N
			}
		}
		if got["received"] == 2 && got["delivered"] == 1 && got["deferred"] == 1 {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%v, want %v", got, want)
		}
	}
}

func TestANodeSaysWhyItIsNotReady(t *testing.T) {
	s := teststand.Start(t)
	if why := s.Insight.Nodes.Ready(); why != "" {
		t.Errorf("not ready: %s", why)
	}
	if why := s.Insight.Nodes.Stopped(t.Context()); why != "" {
		t.Errorf("stopped: %s", why)
	}
	if _, err := s.Control.Pauses.Pause(t.Context(),
		mail.Pause{Kind: mail.PauseDelivery, Who: "keeper"}); err != nil {
		t.Fatal(err)
	}
	if why := s.Insight.Nodes.Stopped(t.Context()); !strings.Contains(why, "keeper") {
		t.Errorf("all delivery is paused by keeper: %q", why)
	}
	list, err := s.Insight.Nodes.List(t.Context())
	if err != nil || len(list) != 1 || !list[0].Here || list[0].Name != "shore" {
		t.Errorf("%+v %v", list, err)
	}
}

func TestAFindingThatIsLivedWithIsKeptApart(t *testing.T) {
	s := teststand.Start(t)
	list, err := s.Insight.Reviewer.Review(t.Context(), s.InForce.Config())
	if err != nil || len(list) == 0 {
		t.Fatalf("%+v %v", list, err)
	}
	key := list[0].Key // the worst: none of the machine
	if err := s.Insight.Reviewer.Accept(t.Context(), "keeper", key, "only a test"); err != nil {
		t.Fatal(err)
	}
	again, err := s.Insight.Reviewer.Review(t.Context(), s.InForce.Config())
	ofMachine := func(f review.Finding) bool { return f.Rule == "machine" } // may be looked at in between
	list, again = slices.DeleteFunc(list, ofMachine), slices.DeleteFunc(again, ofMachine)
	accepted := 0
	for _, f := range again {
		if f.Accepted != nil {
			accepted++
			if f.Key != key || f.Accepted.Who != "keeper" || f.Accepted.Because != "only a test" {
				t.Errorf("%+v", f)
			}
		}
	}
	if err != nil || accepted != 1 || len(again) != len(list) {
		t.Errorf("%d accepted of %d, %v", accepted, len(again), err)
	}
	if err := s.Insight.Reviewer.Reopen(t.Context(), "keeper", key); err != nil {
		t.Errorf("%v", err)
	}
}
