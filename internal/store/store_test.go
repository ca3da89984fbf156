package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/search"
)

var ctx = context.Background()

// open gives a test a database of its own, and the number of a node in it.
func open(t *testing.T) (*Store, int) {
	t.Helper()
	server := os.Getenv("GULL_TEST_DATABASE")
	if server == "" {
		t.Fatal("GULL_TEST_DATABASE is not set; run scripts/test")
	}
	conn, err := pgx.Connect(ctx, server)
	if err != nil {
		t.Fatal(err)
	}
	name := fmt.Sprintf("store_%d", time.Now().UnixNano())
	if _, err := conn.Exec(ctx, "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	conn.Close(ctx)
	db, err := Open(ctx, strings.TrimSuffix(server, "postgres")+name)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(db.Close)
	s := All(db)
	node, err := s.RegisterNode(ctx, "shore")
	if err != nil {
		t.Fatal(err)
	}
	return s, node
}

var ids = ident.NewMaker(1, time.Now)

// entry makes a message with deliveries to the given recipients; each domain is
// a lane of its own.
func entry(sender string, leased bool, recipients ...string) *Entry {
	now := time.Now().UTC()
	id := ids.Next()
	m := &mail.Message{
		ID:            id,
		ReceivedAt:    now,
		Sender:        sender,
		Subject:       "Berth for Thursday",
		HeaderFrom:    sender,
		MessageID:     "<1@x>",
		Size:          100,
		Listener:      "inside",
		ClientAddress: "127.20.1.5",
		Helo:          "machine",
		Revision:      1,
		Protocol:      "ESMTP",
	}
	e := &Entry{Message: m, Content: []byte("Subject: Berth for Thursday\r\n\r\nhi\r\n")}
	for i, r := range recipients {
		_, host, _ := strings.Cut(r, "@")
		e.Deliveries = append(e.Deliveries, &mail.Delivery{
			MessageID:     id,
			N:             int16(i + 1),
			Recipient:     r,
			Original:      r,
			State:         mail.Waiting,
			LaneID:        ident.ID(len(host))*1000 + ident.ID(host[0]),
			Route:         "out",
			NextHop:       host,
			Rule:          "all",
			RouteWhy:      "because",
			Revision:      1,
			NextAttemptAt: mail.At(now),
			ExpiresAt:     mail.At(now.Add(time.Hour)),
		})
		e.Leased = append(e.Leased, leased)
	}
	return e
}

func enterAll(t *testing.T, s *Store, node int, entries ...*Entry) {
	t.Helper()
	if err := s.Enter(ctx, node, entries); err != nil {
		t.Fatal(err)
	}
}

func lease(t *testing.T, s *Store, node int, skip ...ident.ID) []Due {
	t.Helper()
	due, err := s.LeaseDue(ctx,
		Lease{Node: node, Now: time.Now().Add(time.Second), Skip: skip, PerLane: 100, Total: 1000})
	if err != nil {
		t.Fatal(err)
	}
	return due
}

func outcome(d Due, state mail.State) *Outcome {
	now := time.Now().UTC()
	d.Delivery.State, d.Delivery.Attempts, d.Delivery.FirstAttemptAt, d.Delivery.LastAttemptAt = state, d.Delivery.Attempts+1, mail.At(
		now,
	), mail.At(
		now,
	)
	d.Delivery.NextAttemptAt = mail.At(now.Add(time.Hour))
	d.Delivery.Last = &mail.LastReply{
		Stage:    "recipient",
		Host:     "mx",
		Code:     450,
		Enhanced: "4.2.0",
		Text:     "later \"quoted\" ø",
	}
	d.Delivery.Cause = "greylisted"
	return &Outcome{Delivery: &d.Delivery, Run: d.Run, At: now}
}

func TestWhatIsEnteredIsReadBackWhole(t *testing.T) {
	s, node := open(t)
	e := entry("ines@skerryline.example", false, "a@saltmarsh.example", "b@dunlin.example")
	e.Message.Subject = "NUL \x00\xff, quote ', Grüße"
	e.Message.UTF8, e.Message.Ret, e.Message.EnvID, e.Message.Hops = true, "FULL", "QQ1", 3
	e.Deliveries[0].Via = []string{"x@skerryline.example", "y@skerryline.example"}
	e.Deliveries[1].ORCPT = "rfc822;b@dunlin.example"
	e.Events = []mail.Event{
		{
			At:        e.Message.ReceivedAt,
			Kind:      mail.EventDeferred,
			MessageID: e.Message.ID,
			N:         1,
			Node:      "shore",
			Text:      "t",
			Detail:    map[string]any{"n": 1.0, "s": "ü"},
		},
	}
	enterAll(t, s, node, e)
	m, err := s.Message(ctx, e.Message.ID)
	if err != nil {
		t.Fatal(err)
	}
	if m.Subject != "NUL \uFFFD\uFFFD, quote ', Grüße" || !m.UTF8 || m.Ret != "FULL" || m.EnvID != "QQ1" ||
		m.Hops != 3 ||
		m.ReceivedAt.Sub(e.Message.ReceivedAt).Abs() > time.Microsecond {
		t.Errorf("%+v", m)
	}
	if d := m.Deliveries; len(d) != 2 || strings.Join(d[0].Via,
		",") != "x@skerryline.example,y@skerryline.example" ||
		d[1].ORCPT != "rfc822;b@dunlin.example" ||
		d[1].NextHop != "dunlin.example" ||
		d[0].Key.N != 1 ||
		d[0].Last != nil {
		t.Errorf("%+v", d)
	}
	events, err := s.Events(ctx, e.Message.ID)
	if err != nil || len(events) != 1 || events[0].Detail["s"] != "ü" ||
		events[0].Delivery != e.Message.ID.String()+"-1" {
		t.Errorf("%+v %v", events, err)
	}
	c, err := s.OpenContent(ctx, e.Message.ID)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(c); err != nil || !bytes.Equal(got, e.Content) {
		t.Errorf("%q %v", got, err)
	}
	if _, err := s.Message(ctx, 1); !errors.Is(err, ErrNotFound) {
		t.Errorf("a message that is not there: %v", err)
	}
	if _, err := s.OpenContent(ctx, 1); !errors.Is(err, ErrNotFound) {
		t.Errorf("content that is not there: %v", err)
	}
}

func TestAGroupIsEnteredWholeOrNotAtAll(t *testing.T) {
	s, node := open(t)
	good, bad := entry("a@x.example", false, "a@saltmarsh.example"), entry("b@x.example", false,
		"b@saltmarsh.example")
	bad.Deliveries = append(bad.Deliveries, bad.Deliveries[0]) // the same key twice
	bad.Leased = append(bad.Leased, false)
	if err := s.Enter(ctx, node, []*Entry{good, bad}); err == nil || !strings.Contains(err.Error(),
		"duplicate key") {
		t.Fatalf("entered: %v", err)
	}
	if found, err := s.Search(ctx, search.Query{}, 0, 10); err != nil || len(found.Items) != 0 {
		t.Errorf("%d messages are there, %v", len(found.Items), err)
	}
	enterAll(t, s, node, good) // the connection is still of use
	if err := s.Withdraw(ctx, []ident.ID{good.Message.ID}); err != nil {
		t.Fatal(err)
	}
	if found, err := s.Search(ctx, search.Query{}, 0, 10); err != nil || len(found.Items) != 0 {
		t.Errorf("%d messages are there, %v", len(found.Items), err)
	}
}

func TestLargeContentComesAndGoesInPieces(t *testing.T) {
	s, node := open(t)
	for _, size := range []int{0, 1, PieceSize - 1, PieceSize, PieceSize + 1, 3*PieceSize + 17} {
		content := bytes.Repeat([]byte("0123456789abcdef"), size/16+1)[:size]
		e := entry("a@x.example", false, "a@saltmarsh.example")
		e.Content, e.Message.Size = nil, int64(size)
		if err := s.StoreContent(ctx, e.Message.ID, bytes.NewReader(content)); err != nil {
			t.Fatal(err)
		}
		enterAll(t, s, node, e)
		if size == 0 {
			continue
		}
		c, err := s.OpenContent(ctx, e.Message.ID)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(c); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d octets came back as %d, %v", size, len(got), err)
		}
		if err := s.DropContent(ctx, e.Message.ID); err != nil {
			t.Fatal(err)
		}
		if _, err := s.OpenContent(ctx, e.Message.ID); !errors.Is(err, ErrNotFound) {
			t.Errorf("dropped content: %v", err)
		}
	}
}

func TestLeasesAreTakenOnceAndOnlyWhatIsDue(t *testing.T) {
	s, node := open(t)
	later := entry("a@x.example", false, "c@saltmarsh.example")
	later.Deliveries[0].NextAttemptAt = mail.At(time.Now().Add(time.Hour))
	enterAll(t, s, node, entry("a@x.example", false, "a@saltmarsh.example", "b@dunlin.example"),
		entry("a@x.example", true, "mine@saltmarsh.example"), later)
	other, err := s.RegisterNode(ctx, "other")
	if err != nil {
		t.Fatal(err)
	}
	first := lease(t, s, node)
	if len(first) != 2 || first[0].Sender != "a@x.example" ||
		first[0].Delivery.NextHop != "saltmarsh.example" ||
		first[0].Size != 100 {
		t.Fatalf("%+v", first)
	}
	if again := lease(t, s, other); len(again) != 0 {
		t.Errorf("another node got %d of the same", len(again))
	}
	if err := s.GatherLanes(ctx); err != nil {
		t.Fatal(err)
	}
	next, err := s.NextDue(ctx, time.Now().Add(time.Second), nil, nil)
	if err != nil || next.Sub(later.Deliveries[0].NextAttemptAt.Time).Abs() > time.Millisecond {
		t.Errorf("next is due at %s, %v", next, err)
	}
	if err := s.ReturnLeases(
		ctx,
		node,
		[]mail.DeliveryID{first[0].Delivery.ID(), first[1].Delivery.ID()},
		time.Now(),
	); err != nil {
		t.Fatal(err)
	}
	if err := s.ReturnLeases(
		ctx,
		other,
		[]mail.DeliveryID{first[0].Delivery.ID()},
		time.Now().Add(time.Hour),
	); err != nil {
		t.Fatal(err)
	}
	if got := lease(t, s, other, first[0].Delivery.LaneID); len(got) != 1 ||
		got[0].Delivery.NextHop != "dunlin.example" {
		t.Errorf("with a lane skipped: %+v", got)
	}
}

func TestALaneOfManyDoesNotCrowdOutTheOthers(t *testing.T) {
	s, node := open(t)
	var many []*Entry
	for range 300 {
		many = append(many, entry("a@x.example", false, "a@saltmarsh.example"))
	}
	enterAll(t, s, node, append(many, entry("a@x.example", false, "b@dunlin.example"))...)
	try := many[0].Deliveries[0].LaneID
	one, err := s.LeaseDue(ctx, Lease{Node: node, Now: time.Now().Add(time.Second), Try: []ident.ID{try},
		Total: 100})
	if err != nil || len(one) != 1 || one[0].Delivery.LaneID != try {
		t.Errorf("a lane that is only tried gave %d messages, %v", len(one), err)
	}
	due, err := s.LeaseDue(ctx, Lease{Node: node, Now: time.Now().Add(time.Second), PerLane: 10, Total: 100})
	if err != nil {
		t.Fatal(err)
	}
	lanes := map[string]int{}
	for _, d := range due {
		lanes[d.Delivery.NextHop]++
	}
	if lanes["saltmarsh.example"] != 10 || lanes["dunlin.example"] != 1 {
		t.Errorf("%v", lanes)
	}
}

func TestADeadNodesLeasesAreFreed(t *testing.T) {
	s, node := open(t)
	enterAll(t, s, node, entry("a@x.example", true, "a@saltmarsh.example"))
	other, err := s.RegisterNode(ctx, "other")
	if err != nil {
		t.Fatal(err)
	}
	if n, err := s.ReleaseDead(ctx); err != nil || n != 0 {
		t.Errorf("a living node lost %d leases, %v", n, err)
	}
	// A clock that is set makes nobody dead.
	if _, err := s.pool.Exec(
		ctx,
		`UPDATE node SET seen_at = now() - interval '1 day' WHERE id = $1`,
		node,
	); err != nil {
		t.Fatal(err)
	}
	if n, err := s.ReleaseDead(ctx); err != nil || n != 0 {
		t.Errorf("a living node lost %d leases when the clock was set, %v", n, err)
	}
	s.deadAfter = 200 * time.Millisecond
	silence(t, s)
	if n, err := s.ReleaseDead(ctx); err != nil || n != 0 {
		t.Errorf("a node lost %d leases although we ourselves saw nothing meanwhile, %v", n, err)
	}
	for end, freed := time.Now().Add(20*time.Second), int64(0); freed == 0 && time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
		p, err := s.Heartbeat(ctx, other, mail.NodeFacts{})
		if err == nil && !p.Over {
			freed, err = s.ReleaseDead(ctx)
		}
		if err != nil || p.Over {
			t.Fatal(p, err)
		}
	}
	if got := lease(t, s, other); len(got) != 1 {
		t.Errorf("%d leases of a node that was silent are free", len(got))
	}
	s.deadAfter = deadAfter
	if p, err := s.Heartbeat(ctx, node, mail.NodeFacts{}); err != nil || !p.Over || p.Replaced {
		t.Errorf("a node that was taken for dead does not hear of it: %+v %v", p, err)
	}
	again, err := s.RegisterNode(ctx, "other") // it restarted
	if n, freed := s.ReleaseDead(ctx); err != nil || freed != nil || n != 1 || len(lease(t, s, again)) != 1 {
		t.Errorf("what an earlier run held is not free: %v", err)
	}
	if err := s.ReleaseNode(ctx, again); err != nil {
		t.Fatal(err)
	}
	third, _ := s.RegisterNode(ctx, "third")
	if len(lease(t, s, third)) != 1 {
		t.Error("a graceful stop did not give its leases back")
	}
}

// silence lets nothing be heard of any node for longer than one may be silent.
func silence(t *testing.T, s *Store) {
	t.Helper()
	if _, err := s.ReleaseDead(ctx); err != nil {
		t.Fatal(err)
	}
	time.Sleep(s.deadAfter + 10*time.Millisecond)
}

func TestOutcomesAreRecordedOnce(t *testing.T) {
	s, node := open(t)
	enterAll(
		t,
		s,
		node,
		entry("ines@skerryline.example", false, "a@saltmarsh.example", "b@dunlin.example",
			"c@greywacke.example"),
	)
	due := lease(t, s, node)
	byDomain := map[string]Due{}
	for _, d := range due {
		byDomain[d.Delivery.NextHop] = d
	}
	delivered, bounced, deferred := outcome(byDomain["saltmarsh.example"],
		mail.Delivered), outcome(byDomain["dunlin.example"],
		mail.Bounced), outcome(byDomain["greywacke.example"], mail.Deferred)
	deferred.Events = []mail.Event{
		{At: time.Now(), Kind: mail.EventDeferred, MessageID: deferred.Delivery.MessageID, N: 3, Text: "later"},
	}
	notice := entry("", false, "ines@skerryline.example")
	bounced.Generated = []*Entry{notice}
	notice.Message.NoticeOf = bounced.Delivery.MessageID
	group := []*Outcome{delivered, bounced, deferred}
	for range 2 { // the second time as after a lost answer
		if _, err := s.Finish(ctx, node, group); err != nil {
			t.Fatal(err)
		}
	}
	m, err := s.Message(ctx, delivered.Delivery.MessageID)
	if err != nil {
		t.Fatal(err)
	}
	var states []string
	for _, d := range m.Deliveries {
		states = append(states, string(d.State))
		if d.Last == nil || d.Last.Text != "later \"quoted\" ø" || d.Attempts != 1 || d.Cause != "greylisted" {
			t.Errorf("%+v %+v", d, d.Last)
		}
	}
	if strings.Join(states, " ") != "delivered bounced deferred" {
		t.Errorf("%v", states)
	}
	if events, err := s.Events(ctx, m.ID); err != nil || len(events) != 1 {
		t.Errorf("%d events, %v", len(events), err)
	}
	if notices, err := s.Generated(ctx,
		m.ID); err != nil || len(notices) != 1 || notices[0].ID != notice.Message.ID {
		t.Errorf("notices %v, %v", notices, err)
	}
	if left := lease(t, s, node); len(left) != 1 || left[0].Delivery.MessageID != notice.Message.ID {
		t.Errorf("what is due now: %+v", left)
	}
}

func TestAnOutcomeOfALostLeaseDefersNothing(t *testing.T) {
	s, node := open(t)
	enterAll(t, s, node, entry("a@x.example", false, "a@saltmarsh.example"))
	due := lease(t, s, node)
	other, _ := s.RegisterNode(ctx, "other")
	if err := s.ReturnLeases(ctx, node, []mail.DeliveryID{due[0].Delivery.ID()}, time.Now()); err != nil {
		t.Fatal(err)
	}
	if len(lease(t, s, other)) != 1 {
		t.Fatal("the other node did not get it")
	}
	if _, err := s.Finish(ctx, node, []*Outcome{outcome(due[0], mail.Deferred)}); err != nil {
		t.Fatal(err)
	}
	var holder int
	if err := s.pool.QueryRow(ctx, `SELECT lease FROM delivery`).Scan(&holder); err != nil || holder != other {
		t.Errorf("the lease is %d's, %v", holder, err)
	}
}

func TestMailboxesKeepTheirOwnCopy(t *testing.T) {
	s, node := open(t)
	e := entry("ada@saltmarsh.example", false, "ines@skerryline.example")
	enterAll(t, s, node, e)
	o := outcome(lease(t, s, node)[0], mail.Delivered)
	o.Mailbox = &MailboxMessage{
		Mailbox:  "ines@skerryline.example",
		ID:       e.Message.ID,
		Sender:   "ada@saltmarsh.example",
		Received: time.Now(),
	}
	if _, err := s.Finish(ctx, node, []*Outcome{o}); err != nil {
		t.Fatal(err)
	}
	if err := s.dropOld(ctx, time.Now().AddDate(0, 0, 2), "message", "content"); err != nil {
		t.Fatal(err) // the trace is forgotten, the message is not
	}
	items, err := s.MailboxMessages(ctx, "ines@skerryline.example", "", 0, 10)
	if err != nil || len(items) != 1 || items[0].Subject != "Berth for Thursday" {
		t.Fatalf("%+v %v", items, err)
	}
	c, err := s.MailboxContent(ctx, "ines@skerryline.example", items[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	want := "Return-Path: <ada@saltmarsh.example>\r\n" + string(e.Content)
	if got, err := io.ReadAll(c); err != nil || string(got) != want {
		t.Errorf("%q %v", got, err)
	}
	if _, err := s.MailboxContent(ctx, "odile@skerryline.example", items[0].ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("somebody else's message: %v", err)
	}
	if none, err := s.MailboxMessages(ctx, "ines@skerryline.example", "", items[0].ID,
		10); err != nil || len(none) != 0 {
		t.Errorf("before the first: %v %v", none, err)
	}
}

func TestLanesAreCounted(t *testing.T) {
	s, node := open(t)
	enterAll(t, s, node, entry("a@x.example", false, "a@saltmarsh.example"),
		entry("a@x.example", false, "b@saltmarsh.example"),
		entry("a@x.example", true, "c@dunlin.example"))
	var ours []Due
	for _, d := range lease(t, s, node) {
		if d.Delivery.Recipient == "a@saltmarsh.example" {
			ours = append(ours, d)
		}
	}
	if _, err := s.Finish(ctx, node, []*Outcome{outcome(ours[0], mail.Deferred)}); err != nil {
		t.Fatal(err)
	}
	lanes, err := s.Lanes.List(ctx)
	if err != nil || len(lanes) != 2 {
		t.Fatalf("%+v %v", lanes, err)
	}
	if l := lanes[0]; l.NextHop != "saltmarsh.example" || l.Waiting != 1 || l.Deferred != 1 || l.Bytes != 200 ||
		l.Last == nil ||
		l.Cause != "greylisted" ||
		l.OldestAt.IsZero() {
		t.Errorf("%+v", l)
	}
}

func TestActionsTouchOnlyWhatMatches(t *testing.T) {
	s, node := open(t)
	var all []*Entry
	for _, r := range []string{"a@saltmarsh.example", "b@saltmarsh.example", "c@dunlin.example"} {
		e := entry("Ines@skerryline.example", false, r)
		e.Deliveries[0].NextAttemptAt = mail.At(time.Now().Add(time.Hour))
		all = append(all, e)
	}
	held := entry("ines@skerryline.example", false, "d@saltmarsh.example")
	held.Deliveries[0].State, held.Deliveries[0].NextAttemptAt = mail.Held, mail.At(time.Now().Add(time.Hour))
	sending := entry("tomas@skerryline.example", true, "e@saltmarsh.example")
	enterAll(t, s, node, append(all, held, sending)...)
	old := ident.Floor(time.Now().Add(-time.Hour)).Time()
	number, err := s.BeginAction(ctx, mail.Action{Who: "keeper", Verb: mail.VerbExpire, Told: "later"})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name string
		f    mail.Filter
		want int64 // that are not being sent
		all  int64
	}{
		{"everything", mail.Filter{}, 4, 5},
		{"nobody", mail.Filter{Recipient: "nobody@saltmarsh.example"}, 0, 0},
		{"a recipient", mail.Filter{Recipient: "A@saltmarsh.example"}, 1, 1},
		{"a part", mail.Filter{Recipient: "@saltmarsh"}, 3, 4},
		{"a domain", mail.Filter{Domain: "Saltmarsh.example"}, 3, 4},
		{"a sender", mail.Filter{Sender: "ines@SKERRYLINE.example", Route: "out"}, 4, 4},
		{"a part of a sender", mail.Filter{Sender: "ines"}, 4, 4},
		{"a pattern is plain text", mail.Filter{Recipient: "%"}, 0, 0},
		{"a lane", mail.Filter{Lane: held.Deliveries[0].LaneID}, 3, 4},
		{"a state", mail.Filter{State: mail.Held}, 1, 1},
		{"a subject and a client", mail.Filter{Subject: "berth", Client: "127.20.1.5"}, 4, 5},
		{"a size", mail.Filter{Larger: 99, Smaller: 101}, 4, 5},
		{"an age", mail.Filter{Before: old}, 0, 0},
		{"chosen ones", mail.Filter{Deliveries: []mail.DeliveryID{held.Deliveries[0].ID(),
			all[0].Deliveries[0].ID()}}, 2, 2},
		{"attempts", mail.Filter{Attempts: 1}, 0, 0},
	} {
		matched, leased, err := s.CountQueue(ctx, c.f)
		if err != nil || matched != c.all || matched-leased != c.want {
			t.Errorf("%s: %d match and %d of them are being sent, %v", c.name, matched, leased, err)
		}
		done := int64(0)
		for {
			ids, err := s.Pick(ctx, c.f, 2)
			if err != nil {
				t.Fatal(c.name, err)
			}
			if len(ids) == 0 {
				break
			}
			n, err := s.Act(ctx,
				Change{Verb: mail.VerbExpire, Action: number, At: time.Now(), ExpireBy: time.Hour},
				ids)
			if err != nil {
				t.Fatal(c.name, err)
			}
			done += n
			c.f.After = ids[len(ids)-1]
		}
		if done != c.want {
			t.Errorf("%s: %d were touched", c.name, done)
		}
	}
	items, err := s.Queue.List(ctx, mail.Filter{State: mail.Held, Limit: 10})
	if err != nil || len(items) != 1 || items[0].Delivery.Recipient != "d@saltmarsh.example" {
		t.Errorf("%+v %v", items, err)
	}
	events, err := s.Events(ctx, held.Message.ID)
	if err != nil || len(events) == 0 || events[0].Kind != mail.EventAction || events[0].Text != "later" {
		t.Errorf("on record: %+v %v", events, err)
	}
}

func TestLanesAreCountedWithEveryChange(t *testing.T) {
	s, node := open(t)
	var entries []*Entry
	for i := range 6 {
		entries = append(
			entries,
			entry("a@x.example", false, fmt.Sprintf("r%d@saltmarsh.example", i),
				fmt.Sprintf("r%d@dunlin.example", i)),
		)
	}
	enterAll(t, s, node, entries...)
	compare := func(when string) {
		t.Helper()
		for range 2 { // as the changes stand, and gathered
			lanes, err := s.Lanes.List(ctx)
			if err != nil {
				t.Fatal(err)
			}
			got := map[ident.ID]string{}
			for _, l := range lanes {
				got[l.ID] = fmt.Sprint(l.Waiting, l.Deferred, l.Held, l.Bytes)
			}
			rows, err := s.pool.Query(
				ctx,
				`SELECT lane, count(*) FILTER (WHERE state = 'waiting') || ' ' || count(*) FILTER (WHERE state = 'deferred') || ' ' || count(*) FILTER (WHERE state = 'held') || ' ' || sum(size) FROM delivery GROUP BY lane`,
			)
			if err != nil {
				t.Fatal(err)
			}
			var lane ident.ID
			var want string
			n := 0
			if _, err := pgx.ForEachRow(rows, []any{&lane, &want}, func() error {
				n++
				if got[lane] != want {
					t.Errorf("%s: lane %s has %s, counted %s", when, lane, want, got[lane])
				}
				return nil
			}); err != nil || n != len(got) {
				t.Errorf("%s: %d lanes, counted %d, %v", when, n, len(got), err)
			}
			if err := s.GatherLanes(ctx); err != nil {
				t.Fatal(err)
			}
			var late int // a time before which nothing is due may never be too late
			if err := s.pool.QueryRow(
				ctx,
				`SELECT count(*) FROM delivery d WHERE lease IS NULL AND state <> 'held' AND due_at <
				(SELECT min(due) FROM (SELECT lane, due FROM lane_count UNION ALL SELECT lane, due FROM lane_delta) c WHERE c.lane = d.lane)`,
			).Scan(&late); err != nil ||
				late > 0 {
				t.Errorf("%s: %d deliveries would be overlooked, %v", when, late, err)
			}
		}
	}
	compare("entered")
	due := lease(t, s, node)
	compare("leased")
	var outcomes []*Outcome
	for i := range due {
		d := &due[i].Delivery
		d.State, d.Last, d.Attempts = mail.Delivered, &mail.LastReply{Stage: "content", Code: 250}, 1
		switch i % 3 {
		case 0:
			d.State, d.NextAttemptAt = mail.Deferred, mail.At(time.Now())
		case 1:
			d.State, d.NextAttemptAt, d.LaneID, d.NextHop = mail.Deferred, mail.At(time.Now()), 77, "elsewhere.example"
		}
		outcomes = append(outcomes, &Outcome{Delivery: d, Run: node, At: time.Now()})
	}
	if _, err := s.Finish(ctx, node, outcomes); err != nil {
		t.Fatal(err)
	}
	compare("tried")
	change := Change{Verb: mail.VerbHold, Action: 1, At: time.Now(), Reply: &mail.LastReply{Text: "no"}}
	act := func(f mail.Filter) {
		t.Helper()
		ids, err := s.Pick(ctx, f, 100)
		if err != nil {
			t.Fatal(err)
		}
		if n, err := s.Act(ctx, change, ids); err != nil || n == 0 {
			t.Fatal(n, err)
		}
	}
	act(mail.Filter{Domain: "saltmarsh.example"})
	compare("held")
	change.Verb = mail.VerbDrop
	act(mail.Filter{State: mail.Held})
	compare("dropped")
	change.Action = 2
	if n, err := s.Restore(ctx, change, 1, 100); err != nil || n == 0 {
		t.Fatal(n, err)
	}
	compare("restored")
	if err := s.Sweep(ctx, true); err != nil {
		t.Error(err)
	}
}

func TestOverdueDeliveriesAreFoundInAnyLane(t *testing.T) {
	s, node := open(t)
	old := entry("a@x.example", false, "a@saltmarsh.example")
	old.Message.ID = ident.Floor(time.Now().Add(-2 * time.Hour))
	old.Deliveries[0].MessageID = old.Message.ID
	old.Deliveries[0].ExpiresAt = mail.At(time.Now().Add(-time.Hour))
	old.Deliveries[0].NextAttemptAt = mail.At(time.Now().Add(time.Hour)) // its lane rests
	enterAll(t, s, node, old, entry("a@x.example", false, "b@saltmarsh.example"))
	due, err := s.LeaseOverdue(ctx, node, time.Now(), time.Now().Add(-time.Hour), 10)
	if err != nil || len(due) != 1 || due[0].Delivery.MessageID != old.Message.ID {
		t.Errorf("%+v %v", due, err)
	}
}

func TestOldDaysAreForgottenUnlessSomethingWaits(t *testing.T) {
	s, node := open(t)
	now := time.Now()
	partitions := func() int {
		var n int
		if err := s.pool.QueryRow(
			ctx,
			`SELECT count(*) FROM pg_inherits i JOIN pg_class p ON p.oid = i.inhparent WHERE p.relname IN ('message', 'content', 'event', 'delivery_done')`,
		).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	before := partitions()
	if err := s.KeepPartitions(ctx, now.AddDate(0, 0, 10), Retention{}); err != nil {
		t.Fatal(err)
	}
	if got := partitions(); got != before+4*5 {
		t.Errorf("%d partitions after ten days, %d before", got, before)
	}
	enterAll(t, s, node, entry("a@x.example", false, "a@saltmarsh.example"))
	if err := s.KeepPartitions(ctx, now.AddDate(0, 0, 10),
		Retention{24 * time.Hour, 24 * time.Hour}); err != nil {
		t.Fatal(err)
	}
	if found, err := s.Search(ctx, search.Query{}, 0, 10); err != nil || len(found.Items) != 1 {
		t.Errorf("a message that still waits was forgotten: %v", err)
	}
	if _, err := s.Finish(ctx, node, []*Outcome{outcome(lease(t, s, node)[0], mail.Delivered)}); err != nil {
		t.Fatal(err)
	}
	if err := s.KeepPartitions(ctx, now.AddDate(0, 0, 10),
		Retention{24 * time.Hour, 24 * time.Hour}); err != nil {
		t.Fatal(err)
	}
	if found, err := s.Search(ctx, search.Query{}, 0, 10); err != nil || len(found.Items) != 0 {
		t.Errorf("a message past its time is still there: %v", err)
	}
}

// The words of a message are found from its commit on, whether its day has an index or
// not, by the index once it has one, and an index whose making failed is made anew.
func TestWordsAreIndexedWhenTheirDayIsOver(t *testing.T) {
	s, node := open(t)
	enterAll(t, s, node, entry("Ada.Lovelock@x.example", false, "keeper@saltmarsh.example"),
		entry("b@x.example", false, "keeper@saltmarsh.example"))
	later := time.Now().AddDate(0, 0, 1).UTC().Truncate(24 * time.Hour)
	today := "find_text_" + time.Now().UTC().Format(dayFormat)
	finds := func(when string) {
		t.Helper()
		q, _ := search.Parse("lovelock", time.Now(), time.UTC)
		if found, err := s.Search(ctx, q, 0, 10); err != nil || len(found.Items) != 1 {
			t.Errorf("%s: %d found, %v", when, len(found.Items), err)
		}
	}
	indexed := func() (n int) {
		t.Helper()
		if err := s.pool.QueryRow(ctx, `SELECT count(*) FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
			WHERE c.relname = $1 AND i.indisvalid`, today+"_words").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	finds("the day goes on")
	if err := (Words{s.DB}).IndexClosed(ctx, later); err != nil || indexed() != 0 {
		t.Errorf("a day is indexed while it is going on: %v", err)
	}
	// An index whose making fails stays behind, and is of no use.
	if _, err := s.pool.Exec(ctx, `CREATE UNIQUE INDEX CONCURRENTLY `+today+`_words ON `+today+
		` ((id > 0))`); err == nil || indexed() != 0 {
		t.Fatalf("an index that can't be was made: %v", err)
	}
	for range 2 { // the second time there is nothing to do
		if err := (Words{s.DB}).IndexClosed(ctx, later.Add(closedAfter+24*time.Hour)); err != nil ||
			indexed() != 1 {
			t.Errorf("%d indexes, %v", indexed(), err)
		}
	}
	finds("indexed")
	var plan string
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SET LOCAL enable_seqscan = off`); err != nil {
			return err
		}
		return tx.QueryRow(ctx, `EXPLAIN (FORMAT JSON) SELECT id FROM `+today+
			` WHERE words LIKE '%lovelock%'`).Scan(&plan)
	})
	if err != nil || !strings.Contains(plan, today+"_words") {
		t.Errorf("a search does not go by the index: %s %v", plan, err)
	}
}

func TestAccountsTokensAndSessions(t *testing.T) {
	s, _ := open(t)
	a := Accounts{s.DB}
	if _, err := a.AddPerson(ctx, mail.Person{Name: "keeper", Role: "captain"}, "h"); err == nil {
		t.Error("a made-up role was taken")
	}
	for i, name := range []string{"keeper", "keeper", "deck"} {
		role := []mail.Role{mail.Administrator, mail.Viewer, mail.Viewer}[i]
		if added, err := a.AddPerson(ctx, mail.Person{Name: name, Role: role}, "hash of "+name); err != nil ||
			added != (i != 1) {
			t.Fatal(i, added, err)
		}
	}
	if role, hash, err := a.Password(ctx, "keeper"); err != nil || role != mail.Administrator ||
		hash != "hash of keeper" {
		t.Errorf("%s %s %v", role, hash, err)
	}
	if _, _, err := a.Password(ctx, "nobody"); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
	for name, expires := range map[string]time.Time{"fresh": time.Now().Add(time.Hour),
		"stale": time.Now().Add(-time.Second)} {
		if err := a.SignIn(ctx, []byte(name), mail.PersonSession{Name: "keeper", ExpiresAt: expires}); err != nil {
			t.Fatal(err)
		}
	}
	if who, _, err := s.SignedIn(ctx, []byte("fresh")); err != nil || who.Name != "keeper" ||
		who.Role != mail.Administrator {
		t.Errorf("%+v %v", who, err)
	}
	if _, _, err := s.SignedIn(ctx, []byte("stale")); !errors.Is(err, ErrNotFound) {
		t.Errorf("a session past its time: %v", err)
	}
	if err := s.SignOut(ctx, []byte("fresh")); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.SignedIn(ctx, []byte("fresh")); !errors.Is(err, ErrNotFound) {
		t.Errorf("a session after sign-out: %v", err)
	}
	if err := s.SetToken(ctx, []byte("t"), "script", mail.Administrator); err != nil {
		t.Fatal(err)
	}
	if tok, err := s.Token(ctx,
		[]byte("t"), ""); err != nil || tok.Name != "script" || tok.Role != mail.Administrator {
		t.Errorf("%+v %v", tok, err)
	}
}

func TestRevisionsAndCounts(t *testing.T) {
	s, _ := open(t)
	if _, err := s.LatestRevision(ctx); !errors.Is(err, ErrNotFound) {
		t.Errorf("before the first: %v", err)
	}
	for _, c := range []struct {
		text string
		want int
	}{{"a", 1}, {"a", 1}, {"b", 2}, {"a", 3}} {
		if n, _, err := s.AddRevision(ctx, NewRevision{Who: "keeper",
			Text: c.text}); err != nil || n != c.want {
			t.Errorf("%s: %d %v", c.text, n, err)
		}
	}
	if r, err := s.LatestRevision(ctx); err != nil || r.Number != 3 || r.Text != "a" || r.Who != "keeper" {
		t.Errorf("%+v %v", r, err)
	}
}
