package control_test

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/teststand"
)

func section(key string) config.Section {
	s, _ := config.FindSection(key)
	return s
}

// add is an edit that adds an item.
func add(key string, fields map[string]any) func(*config.Document) (string, error) {
	return func(d *config.Document) (string, error) {
		return fmt.Sprint("added ", fields["name"]), d.Add(section(key), fields, 0)
	}
}

func TestEditsAtTheSameTimeAreAllInTheDraft(t *testing.T) {
	s := teststand.Start(t)
	var wg sync.WaitGroup
	const people = 6
	for i := range people {
		wg.Go(func() {
			name := fmt.Sprintf("route %d", i)
			_, err := s.Control.Drafts.Edit(t.Context(), name, false, add("routes",
				map[string]any{"name": name, "next_hop": "mx", "recipients": []any{"a.example"}}))
			if err != nil {
				t.Errorf("%s: %v", name, err)
			}
		})
	}
	wg.Wait()
	d, err := s.Control.Drafts.State(t.Context(), true)
	if err != nil || len(d.Changes) != people || len(d.Log) != people || d.Stale {
		t.Errorf("%d changes, %d on record, stale %v, %v", len(d.Changes), len(d.Log), d.Stale, err)
	}
}

func TestADraftThatIsWrongChangesNothing(t *testing.T) {
	s := teststand.Start(t)
	_, err := s.Control.Drafts.Edit(t.Context(), "keeper", false, add("routes",
		map[string]any{"name": "a", "next_hop": "smarthost"}))
	var problems config.Problems
	if !errors.As(err, &problems) || !strings.Contains(err.Error(), "hosts") {
		t.Errorf("%v", err)
	}
	what, err := s.Control.Drafts.Edit(t.Context(), "keeper", true, add("routes",
		map[string]any{"name": "a", "next_hop": "mx"}))
	if err != nil || what == "" {
		t.Errorf("a dry run: %q %v", what, err)
	}
	if d, _ := s.Control.Drafts.State(t.Context(), false); d.Exists {
		t.Errorf("there is a draft: %+v", d)
	}
	_, err = s.Control.Drafts.Apply(t.Context(), "keeper", control.Apply{})
	if !errors.Is(err, control.ErrNoDraft) {
		t.Errorf("nothing was applied with %v", err)
	}
}

func TestAnOpenRelayIsAppliedOnlyByForceAndRevertedWhole(t *testing.T) {
	s := teststand.Start(t)
	drafts := s.Control.Drafts
	edit := func() {
		t.Helper()
		_, err := drafts.Edit(t.Context(), "keeper", false, add("relay_rules",
			map[string]any{"name": "all", "networks": []any{"0.0.0.0/0"}, "action": "allow"}))
		if err != nil {
			t.Fatal(err)
		}
	}
	edit()
	_, err := drafts.Apply(t.Context(), "keeper", control.Apply{})
	var blocked *control.Blocked
	if !errors.As(err, &blocked) || len(blocked.Why) == 0 {
		t.Fatalf("%v", err)
	}
	if _, err := drafts.Apply(t.Context(), "keeper", control.Apply{Force: true}); !errors.Is(err,
		control.ErrNoWhy) {
		t.Errorf("forced without a reason: %v", err)
	}
	old := control.Apply{Force: true, Why: "a drill", Version: 99}
	if _, err := drafts.Apply(t.Context(), "keeper", old); !errors.Is(err, control.ErrMark) {
		t.Errorf("applied what nobody had seen: %v", err)
	}
	before := s.InForce.Config().Revision
	done, err := drafts.Apply(t.Context(), "keeper", control.Apply{Force: true, Why: "a drill"})
	if err != nil || done.Revision != before+1 || s.InForce.Config().Revision != done.Revision {
		t.Fatalf("%+v %v", done, err)
	}
	if rev, err := drafts.Revision(t.Context(),
		done.Revision); err != nil || !rev.Forced || rev.Why != "a drill" {
		t.Errorf("%+v %v", rev, err)
	}
	back, err := drafts.Revert(t.Context(), "keeper", before, "the drill is over")
	if err != nil || back.Revision != before+2 || len(s.InForce.Config().RelayRules) != 1 {
		t.Errorf("%+v %v", back, err)
	}
}

func TestWhatIsNotConfirmedGoesBack(t *testing.T) {
	s := teststand.Start(t)
	drafts := s.Control.Drafts
	apply := func() int {
		t.Helper()
		_, err := drafts.Edit(t.Context(), "keeper", false, add("routes", map[string]any{
			"name": fmt.Sprint("extra ", time.Now().UnixNano()), "next_hop": "mx",
			"recipients": []any{"a.example"}}))
		if err != nil {
			t.Fatal(err)
		}
		done, err := drafts.Apply(
			t.Context(),
			"keeper",
			control.Apply{ConfirmWithin: time.Millisecond},
		)
		if err != nil {
			t.Fatal(err)
		}
		return done.Revision
	}
	first := apply()
	if by := s.InForce.ConfirmBy(); by.IsZero() {
		t.Fatal("nothing waits for confirmation")
	}
	time.Sleep(2 * time.Millisecond)
	if err := drafts.GoBackInTime(t.Context()); err != nil ||
		s.InForce.Config().Revision != first+1 ||
		len(s.InForce.Config().Routes) != 1 {
		t.Errorf("revision %d: %v", s.InForce.Config().Revision, err)
	}
	second := apply()
	if ok, err := drafts.Confirm(t.Context(), second); err != nil || !ok {
		t.Errorf("%v %v", ok, err)
	}
	if err := drafts.GoBackInTime(t.Context()); err != nil ||
		s.InForce.Config().Revision != second {
		t.Errorf("a confirmed revision went back: %v", err)
	}
}

func TestAddressesBelongToOne(t *testing.T) {
	s := teststand.Start(t)
	dir := s.Control.Directory
	parse := func(text string) address.Address {
		a, err := address.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	box := &directory.Mailbox{Address: parse("piet@skerryline.example"),
		Addresses: []address.Address{parse("ines.harrow@skerryline.example")}}
	if err := dir.PutMailbox(t.Context(), "keeper", box, true, false); err == nil ||
		!strings.Contains(err.Error(), "ines.harrow@skerryline.example") {
		t.Errorf("an address belongs to two: %v", err)
	}
	box.Addresses = nil
	if err := dir.PutMailbox(t.Context(), "keeper", box, true, false); err != nil {
		t.Fatal(err)
	}
	if err := dir.PutMailbox(t.Context(), "keeper", box, true, false); !errors.Is(
		err,
		fault.ErrExists,
	) {
		t.Errorf("made twice: %v", err)
	}
	loop := &directory.Alias{Address: parse("a@skerryline.example"),
		To: []address.Address{parse("crew@skerryline.example"), parse("a@skerryline.example")}}
	if err := dir.PutAlias(t.Context(), "keeper", loop, true, false); err == nil {
		t.Error("an alias leads to itself")
	}
	if err := dir.RemoveMailbox(t.Context(), "keeper", parse("nobody@skerryline.example")); !errors.Is(
		err,
		fault.ErrNotFound,
	) {
		t.Errorf("%v", err)
	}
	csv := "address,to\nb@skerryline.example,piet@skerryline.example\nc@skerryline.example,\n"
	in, err := dir.Import(
		t.Context(),
		"keeper",
		"alias",
		strings.NewReader(csv),
		false,
		func(int, string) {},
	)
	if err != nil || in.Written || len(in.Problems) != 1 || in.Problems[0].Line != 3 {
		t.Errorf("%+v %v", in, err)
	}
	if s.InForce.Config().Directory.Alias(parse("b@skerryline.example")) != nil {
		t.Error("a file with a wrong row was written in part")
	}
}

func TestWhatIsDoneWithMessagesIsTakenBack(t *testing.T) {
	s := teststand.Start(t)
	id := s.Send("Berth", "ada@saltmarsh.example", "jo@sunkenpier.example")
	s.Until(id, mail.Deferred)
	act := func(r api.ActionRequest) api.Done {
		t.Helper()
		done, err := s.Control.Actions.Act(t.Context(), "keeper", r, func(int64, int64) {})
		if err != nil {
			t.Fatalf("%s: %v", r.Verb, err)
		}
		return done
	}
	one := mail.Selection{Domain: "saltmarsh.example"}
	if done := act(api.ActionRequest{Verb: mail.VerbHold, Selection: one,
		DryRun: true}); done.Matched != 1 || done.Action != 0 {
		t.Errorf("a dry run: %+v", done)
	}
	s.Until(id, mail.Deferred)
	both := mail.Selection{Message: id.String()}
	held := act(api.ActionRequest{Verb: mail.VerbHold, Selection: both})
	if held.Touched != 2 {
		t.Errorf("%+v", held)
	}
	s.Until(id, mail.Held)
	if _, err := s.Control.Actions.Undo(t.Context(), "keeper", held.Action, "",
		func(int64, int64) {}); err != nil {
		t.Fatal(err)
	}
	for _, d := range s.Until(id, mail.Deferred).Deliveries {
		if d.Attempts != 1 {
			t.Errorf("%s has %d attempts", d.ID(), d.Attempts)
		}
	}
	for name, r := range map[string]api.ActionRequest{
		"everything by oversight": {Verb: mail.VerbHold},
		"dropped unsure":          {Verb: mail.VerbDrop, Selection: both},
		"rerouted to nowhere":     {Verb: mail.VerbReroute, Selection: both, Route: "nowhere"},
		"no domain":               {Verb: mail.VerbChangeDomain, Selection: both, Domain: "no domain"},
	} {
		var refused *fault.Refused
		if _, err := s.Control.Actions.Act(t.Context(), "keeper", r, func(int64, int64) {}); !errors.As(
			err,
			&refused,
		) ||
			refused.Field == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
	list, err := s.Control.Actions.List(t.Context(), 0, 10)
	if err != nil || len(list) != 2 || list[1].CanUndo || list[1].UndoneBy != list[0].ID {
		t.Errorf("%+v %v", list, err)
	}
}

func TestExplainDecidesAsTheListenerDoes(t *testing.T) {
	s := teststand.Start(t)
	ask := func(client, to string) api.Answer {
		t.Helper()
		list, err := s.Control.Explainer.Explain(t.Context(), api.Question{
			From: "ines.harrow@skerryline.example", To: []string{to}, Client: client})
		if err != nil || len(list) != 1 {
			t.Fatalf("%+v %v", list, err)
		}
		return list[0]
	}
	if a := ask("127.0.0.1", "ada@saltmarsh.example"); !a.Allowed || a.Rule != "this machine" ||
		a.Paths[0].Route != "by provider" || a.Paths[0].Lane == "" {
		t.Errorf("%+v", a)
	}
	if a := ask("192.0.2.1", "ada@saltmarsh.example"); a.Allowed || !strings.HasPrefix(a.Reply,
		"550 5.7.1") || len(a.Paths) != 0 {
		t.Errorf("%+v", a)
	}
	if a := ask("127.0.0.1", "crew@skerryline.example"); a.Paths[0].Recipient != "ines.harrow@skerryline.example" ||
		a.Paths[0].NextHop != "local" {
		t.Errorf("%+v", a)
	}
	if a := ask("127.0.0.1", "nobody@skerryline.example"); a.Allowed || !strings.HasPrefix(a.Reply,
		"550 5.1.1") {
		t.Errorf("%+v", a)
	}
}

func TestPausesNameWhatThereIs(t *testing.T) {
	s := teststand.Start(t)
	for _, p := range []mail.Pause{
		{Kind: mail.PauseRoute, Name: "nowhere"},
		{Kind: mail.PauseListener, Name: "nowhere"},
		{Kind: mail.PauseLane, Name: "xyz"},
		{Kind: mail.PauseRoute, Name: "by provider", Until: mail.At(time.Now().Add(-time.Hour))},
	} {
		if _, err := s.Control.Pauses.Pause(t.Context(), p); err == nil {
			t.Errorf("%+v was paused", p)
		}
	}
	p := mail.Pause{Kind: mail.PauseRoute, Name: "by provider", Who: "keeper"}
	if _, err := s.Control.Pauses.Pause(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	id := s.Send("Berth", "ada@saltmarsh.example")
	if m := s.Until(id, mail.Waiting); m.Deliveries[0].Attempts != 0 {
		t.Errorf("%+v", m.Deliveries)
	}
	if _, err := s.Control.Pauses.Resume(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	s.Until(id, mail.Deferred)
}
