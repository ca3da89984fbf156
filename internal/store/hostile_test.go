package store

import (
	"errors"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/snag"
)

// hostile is text that a database does not keep as it is.
const hostile = "a\xff\x00b"

func TestStrangersTextFailsNoStatement(t *testing.T) {
	s, node := open(t)
	bad, good := entry("ines@skerryline.example", true,
		"a@saltmarsh.example"), entry("ines@skerryline.example", true, "b@saltmarsh.example")
	bad.Message.EnvID, bad.Message.MessageID, bad.Message.Helo, bad.Deliveries[0].ORCPT = hostile, hostile, hostile, hostile
	bad.Events = []mail.Event{
		{
			At:        time.Now(),
			Kind:      mail.EventDeferred,
			MessageID: bad.Message.ID,
			Text:      hostile,
			Detail:    map[string]any{hostile: hostile},
		},
	}
	if err := s.Enter(ctx, node, []*Entry{bad, good}); err != nil {
		t.Fatal(err)
	}
	for _, e := range []*Entry{bad, good} {
		d := e.Deliveries[0]
		d.State, d.Attempts, d.Last, d.RouteWhy = mail.Delivered, 1, &mail.LastReply{
			Code: 250,
			Text: hostile,
			TLS:  hostile,
		}, hostile
	}
	if _, err := s.Finish(
		ctx,
		node,
		[]*Outcome{{Delivery: bad.Deliveries[0], At: time.Now()},
			{Delivery: good.Deliveries[0], At: time.Now()}},
	); err != nil {
		t.Fatal(err)
	}
	m, err := s.Message(ctx, bad.Message.ID)
	if err != nil || m.Deliveries[0].Last == nil || m.Deliveries[0].Last.Text != "a\uFFFD\uFFFDb" {
		t.Errorf("%+v %v", m.Deliveries, err)
	}
	id := ids.Next()
	session := mail.SessionRecord{
		Session: mail.Session{
			ID:        id,
			Direction: mail.In,
			Protocol:  "SMTP",
			Address:   "127.0.0.1",
			Name:      hostile,
			Ended:     hostile,
			StartedAt: time.Now(),
			EndedAt:   mail.At(time.Now()),
		},
	}
	if err := s.Record(
		ctx,
		[]mail.SessionRecord{session},
		[]mail.Refusal{{ID: ids.Next(), At: time.Now(), SessionID: id, Sender: hostile, Text: hostile}},
	); err != nil {
		t.Error(err)
	}
	if _, err := s.Count(ctx); err != nil {
		t.Error(err)
	}
}

func TestANullSenderRefusedTwiceIsATroubleLikeAnother(t *testing.T) {
	s, _ := open(t)
	for range 2 {
		seen := SnagSeen{
			ID:    ids.Next(),
			Cause: diagnose.NoSuchUser,
			Place: snag.Place{Kind: snag.Client, Name: hostile},
			First: time.Now(),
			Last:  time.Now(),
			N:     1,
			Hours: map[time.Time]int64{
				time.Now().UTC().Truncate(time.Hour): 1,
			},
			Senders:  []string{},
			Domains:  []string{},
			Evidence: snag.Evidence{Recipient: hostile},
		}
		if err := s.SeeSnags(ctx, []SnagSeen{seen}); err != nil {
			t.Fatal(err)
		}
	}
	list, err := s.Snags.List(ctx, snag.Filter{Limit: 10})
	if err != nil || len(list) != 1 || list[0].Attempts != 2 {
		t.Errorf("%+v %v", list, err)
	}
}

func TestARefusalOfTheDataIsToldFromADatabaseThatIsAway(t *testing.T) {
	s, node := open(t)
	e := entry("ines@skerryline.example", true, "a@saltmarsh.example")
	if err := s.Enter(ctx, node, []*Entry{e}); err != nil {
		t.Fatal(err)
	}
	if err := s.Enter(ctx, node, []*Entry{e}); !errors.Is(err, ErrData) {
		t.Errorf("the same again: %v", err)
	}
	late := entry("ines@skerryline.example", true, "a@saltmarsh.example")
	late.Message.ID = ident.Floor(time.Now().AddDate(1, 0, 0)) // a day that has no partition
	late.Deliveries[0].MessageID = late.Message.ID
	if err := s.Enter(ctx, node, []*Entry{late}); err == nil || errors.Is(err, ErrData) {
		t.Errorf("a missing partition is our fault, not the message's: %v", err)
	}
}

func TestWhatCannotBeCountedHoldsUpNothing(t *testing.T) {
	s, node := open(t)
	good := entry("ines@skerryline.example", true, "a@saltmarsh.example")
	// A message whose size no sum can hold.
	for _, size := range []int64{1 << 62, 1 << 62} {
		bad := entry("huge@skerryline.example", true, "b@saltmarsh.example")
		bad.Message.Size = size
		if err := s.Enter(ctx, node, []*Entry{bad}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Enter(ctx, node, []*Entry{good}); err != nil {
		t.Fatal(err)
	}
	told := 0
	for range 10 {
		if _, err := s.Count(ctx); errors.Is(err, ErrData) {
			told++
		} else if err != nil {
			t.Fatal(err)
		}
	}
	if n, err := s.CountBacklog(ctx); n != 0 || err != nil || told == 0 {
		t.Errorf("%d are still to be counted, %d were told of: %v", n, told, err)
	}
	var n int64
	if err := s.pool.QueryRow(
		ctx,
		`SELECT coalesce(sum(n), 0) FROM count_sum WHERE dim = 'sender' AND tier = 'hour' AND value = 'ines@skerryline.example'`,
	).Scan(&n); err != nil ||
		n != 1 {
		t.Errorf("the other message counts %d times: %v", n, err)
	}
}

func TestLanesThatNobodyUsesAreForgotten(t *testing.T) {
	s, node := open(t)
	kept := entry("ines@skerryline.example", false, "a@saltmarsh.example")
	if err := s.Enter(ctx, node, []*Entry{kept}); err != nil {
		t.Fatal(err)
	}
	gone := &mail.Delivery{LaneID: 77, Route: "to the world", NextHop: "gone.example"}
	if err := s.nameLanesOf(ctx, []*mail.Delivery{gone, gone}); err != nil {
		t.Fatal(err)
	}
	for _, id := range []ident.ID{77, kept.Deliveries[0].LaneID} {
		if err := s.SetBackOff(ctx, BackOff{
			Lane:     id,
			Node:     node,
			Since:    time.Now(),
			Until:    time.Now().Add(-2 * time.Hour),
			Failures: 3,
			Last:     &mail.LastReply{Text: "no"},
		}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.pool.Exec(
		ctx,
		`UPDATE lane SET seen_on = current_date - 100; UPDATE lane_last SET at = now() - interval '3 days'`,
	); err != nil {
		t.Fatal(err)
	}
	if err := s.ForgetLanes(ctx, time.Now().AddDate(0, 0, -90)); err != nil {
		t.Fatal(err)
	}
	for _, table := range []string{"lane WHERE id =", "lane_back_off WHERE lane =", "lane_last WHERE lane ="} {
		for id, want := range map[ident.ID]int{77: 0, kept.Deliveries[0].LaneID: 1} {
			var n int
			if err := s.pool.QueryRow(ctx, `SELECT count(*) FROM `+table+` $1`,
				int64(id)).Scan(&n); err != nil ||
				n != want {
				t.Errorf("%s %d: %d rows, want %d: %v", table, id, n, want, err)
			}
		}
	}
	if empty, err := s.Empty(ctx,
		[]ident.ID{77, kept.Deliveries[0].LaneID}); err != nil || len(empty) != 1 ||
		empty[0] != 77 {
		t.Errorf("%v %v", empty, err)
	}
}

func TestAnAlertThatCannotBeReadHoldsUpNoOther(t *testing.T) {
	s, _ := open(t)
	for _, text := range []string{`{"since": 5}`, `{"title": "A trouble"}`} {
		if _, err := s.pool.Exec(
			ctx,
			`INSERT INTO alert (kind, target, at, due_at, snag) VALUES ('opened', 'keeper@skerryline.example', now(), now() - interval '1 minute', $1)`,
			[]byte(text),
		); err != nil {
			t.Fatal(err)
		}
	}
	list, err := s.DueAlerts(ctx, time.Now(), 10)
	if err != nil || len(list) != 2 || (list[0].Damaged == nil) == (list[1].Damaged == nil) {
		t.Errorf("%+v %v", list, err)
	}
}
