package store

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
)

func addr(t *testing.T, s string) address.Address {
	t.Helper()
	a, err := address.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func TestTheDirectoryIsKeptAsItWasWritten(t *testing.T) {
	s, _ := open(t)
	pattern, _ := address.ParsePattern("skerryline.example")
	until := form.Day{}
	_ = until.UnmarshalText([]byte("2026-12-01"))
	ines := &directory.Mailbox{
		Address:   addr(t, "Søren@bølgevik.example"),
		Name:      "Søren",
		Addresses: []address.Address{addr(t, `"odd one"@bølgevik.example`)},
		Quota:     50_000_000,
		ForwardTo: []address.Address{
			addr(t, "x@saltmarsh.example"),
		},
		KeepCopy:  true,
		MaySubmit: true,
		SendAs:    address.Patterns{pattern},
		Reply: &directory.Reply{
			Inside:  "in",
			Outside: "out\nof office",
			Until:   until,
		},
		Hash:      "hash",
		Scram:     "keys",
		Generated: []address.Address{addr(t, "s@bølgevik.example")},
	}
	crew := &directory.Alias{
		Address: addr(t, "crew@skerryline.example"),
		To:      []address.Address{addr(t, "a@skerryline.example"), addr(t, "b@saltmarsh.example")},
		About:   "boats",
	}
	change := DirectoryChange{
		Who:       "keeper",
		Mailboxes: []*directory.Mailbox{ines},
		Aliases:   []*directory.Alias{crew},
		Records:   []Record{{What: "mailbox", Name: "Søren@bølgevik.example", After: ines.Fields()}},
	}
	if err := s.ChangeDirectory(ctx, change); err != nil {
		t.Fatal(err)
	}
	d, err := s.LoadDirectory(ctx)
	if err != nil {
		t.Fatal(err)
	}
	kept := d.Mailbox(addr(t, "søren@bølgevik.example"))
	if kept == nil || fmt.Sprint(kept.Fields()) != fmt.Sprint(ines.Fields()) ||
		d.Mailbox(addr(t, `"odd one"@bølgevik.example`)) != kept ||
		d.Mailbox(addr(t, "s@bølgevik.example")) != kept ||
		kept.Hash != "" {
		t.Errorf("%+v", kept)
	}
	if a := d.Alias(crew.Address); a == nil || fmt.Sprint(a.Fields()) != fmt.Sprint(crew.Fields()) {
		t.Errorf("%+v", a)
	}
	again := *ines
	again.Hash, again.Scram, again.Name = "", "", "Søren of Bølgevik"
	if err := s.ChangeDirectory(
		ctx,
		DirectoryChange{Who: "keeper", Mailboxes: []*directory.Mailbox{&again}},
	); err != nil {
		t.Fatal(err)
	}
	if hash, scram, err := s.Credentials(ctx,
		ines.Address.Key()); err != nil || hash != "hash" || scram != "keys" {
		t.Errorf("a change without password took the password: %q %q %v", hash, scram, err)
	}
	boxes, aliases, err := s.DirectoryEntries(ctx,
		[]string{ines.Address.Key(), crew.Address.Key(), "nobody@x.example"})
	if err != nil || len(boxes) != 1 || boxes[0].Name != "Søren of Bølgevik" || len(aliases) != 1 {
		t.Errorf("%v %v %v", boxes, aliases, err)
	}
	if err := s.ChangeDirectory(
		ctx,
		DirectoryChange{DropMailboxes: []string{ines.Address.Key()}, DropAliases: []string{crew.Address.Key()}},
	); err != nil {
		t.Fatal(err)
	}
	if d, _ := s.LoadDirectory(ctx); len(d.Mailboxes())+len(d.Aliases()) != 0 {
		t.Error("what was taken out is still there")
	}
	if _, _, err := s.Credentials(ctx, ines.Address.Key()); !errors.Is(err, ErrNotFound) {
		t.Errorf("the password of a mailbox that is gone: %v", err)
	}
	if records, err := s.Records(ctx, "mailbox", "Søren@bølgevik.example", 0,
		10); err != nil || len(records) != 1 || records[0].Who != "keeper" ||
		records[0].After["quota"] != "50 MB" {
		t.Errorf("%+v %v", records, err)
	}
}

func TestMailboxesAreListedPageByPage(t *testing.T) {
	s, node := open(t)
	var change DirectoryChange
	for i := range 250 {
		change.Mailboxes = append(change.Mailboxes, &directory.Mailbox{
			Address: addr(t, fmt.Sprintf("hand%03d@skerryline.example", i)),
			Name:    fmt.Sprintf("Hand %d", i),
		})
	}
	change.Mailboxes = append(change.Mailboxes, &directory.Mailbox{
		Address:   addr(t, "zoe@bølgevik.example"),
		Addresses: []address.Address{addr(t, "pier@bølgevik.example")},
	})
	if err := s.ChangeDirectory(ctx, change); err != nil {
		t.Fatal(err)
	}
	e := entry("ada@saltmarsh.example", true, "hand000@skerryline.example")
	enterAll(t, s, node, e)
	o := outcome(Due{Delivery: *e.Deliveries[0]}, mail.Delivered)
	o.Mailbox = &MailboxMessage{
		Mailbox:  "hand000@skerryline.example",
		ID:       e.Message.ID,
		Received: time.Now(),
	}
	for range 2 { // the second time as after a lost answer: it counts once
		if _, err := s.Finish(ctx, node, []*Outcome{o}); err != nil {
			t.Fatal(err)
		}
	}
	messages, octets, err := s.MailboxUse(ctx, "hand000@skerryline.example")
	if err != nil || messages != 1 || octets != 100+int64(len("Return-Path: <>\r\n")) {
		t.Errorf("%d messages of %d octets, %v", messages, octets, err)
	}
	if err := s.GatherMailboxes(ctx); err != nil {
		t.Fatal(err)
	}
	seen := 0
	for after := ""; ; {
		page, err := s.Directory.ListMailboxes(ctx, mail.MailboxList{After: after, Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		if seen == 0 && (page[0].Messages != 1 || page[0].Octets != octets || page[0].HasPassword) {
			t.Errorf("%+v", page[0])
		}
		if seen += len(page); len(page) < 100 {
			break
		}
		after = page[99].Address
	}
	if seen != 251 {
		t.Errorf("%d on all pages", seen)
	}
	for _, c := range []struct {
		words mail.MailboxList
		want  int
	}{{mail.MailboxList{Search: "HAND 24"}, 11}, {mail.MailboxList{Search: "pier@"}, 1},
		{mail.MailboxList{Domain: "xn--blgevik-q1a.example"}, 1}, {mail.MailboxList{Search: "%"}, 0},
		{mail.MailboxList{Within: []string{"xn--blgevik-q1a.example"}}, 1}} {
		c.words.Limit = 100 // by address
		if page, err := s.Directory.ListMailboxes(ctx, c.words); err != nil || len(page) != c.want {
			t.Errorf("%+v: %d, want %d, %v", c.words, len(page), c.want, err)
		}
	}
}

func TestMailboxesAreSortedByWhatTheyUse(t *testing.T) {
	s, _ := open(t)
	var change DirectoryChange
	for i, name := range []string{"Bo", "ada", "Cleo"} {
		change.Mailboxes = append(change.Mailboxes, &directory.Mailbox{
			Address: addr(t, fmt.Sprintf("m%d@skerryline.example", i)),
			Name:    name,
			Quota:   form.Size(1000 * (i + 1)),
		})
	}
	if err := s.ChangeDirectory(ctx, change); err != nil {
		t.Fatal(err)
	}
	for i, octets := range []int{500, 1900, 2000} {
		if _, err := s.pool.Exec(ctx, `INSERT INTO mailbox_use VALUES ($1, 1, $2)`,
			fmt.Sprintf("m%d@skerryline.example", i), octets); err != nil {
			t.Fatal(err)
		}
	}
	for sort, want := range map[string]string{"name": "ada Bo Cleo", "used": "Cleo ada Bo",
		"quota": "ada Cleo Bo", "address": "Bo ada Cleo"} {
		var got []string
		for after := ""; len(got) < 3; {
			page, err := s.Directory.ListMailboxes(ctx, mail.MailboxList{Sort: sort, After: after, Limit: 2})
			if err != nil || len(page) == 0 {
				t.Fatal(sort, page, err)
			}
			for _, m := range page {
				got = append(got, m.Name)
			}
			if after = fmt.Sprint(len(got)); sort == "address" {
				after = page[len(page)-1].Address
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("by %s: %v, want %s", sort, got, want)
		}
	}
}

func TestADraftIsSavedByItsVersionAndGoneWithItsRevision(t *testing.T) {
	s, _ := open(t)
	if _, err := s.Draft(ctx); !errors.Is(err, ErrNotFound) {
		t.Errorf("before the first: %v", err)
	}
	if n, _, err := s.AddRevision(ctx, NewRevision{Who: "keeper", Text: "a"}); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	first, err := s.SaveDraft(ctx, Draft{Base: 1, Text: "b"}, "keeper", "b written")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.SaveDraft(
		ctx,
		Draft{Base: 1, Text: "c"},
		"deck",
		"as if there were none",
	); !errors.Is(err, ErrMoved) {
		t.Errorf("a save over another's: %v", err)
	}
	var won, moved int
	var mu sync.Mutex
	var all sync.WaitGroup
	for range 6 {
		all.Add(1)
		go func() {
			defer all.Done()
			_, err := s.SaveDraft(ctx, Draft{Base: 1, Text: "d", Version: first}, "keeper", "d")
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				won++
			} else if errors.Is(err, ErrMoved) {
				moved++
			}
		}()
	}
	all.Wait()
	if won != 1 || moved != 5 {
		t.Errorf("%d saves of one version, %d refused", won, moved)
	}
	d, _ := s.Draft(ctx)
	for _, n := range []NewRevision{{Text: "d", Base: 1, Draft: first},
		{Text: "d", Base: 7, Draft: d.Version}} {
		if _, _, err := s.AddRevision(ctx, n); !errors.Is(err, ErrMoved) {
			t.Errorf("%+v: %v", n, err)
		}
	}
	soon := time.Now().Add(time.Minute)
	change := &DirectoryChange{
		Who:       "keeper",
		Mailboxes: []*directory.Mailbox{{Address: addr(t, "a@skerryline.example")}},
	}
	n, _, err := s.AddRevision(ctx, NewRevision{
		Who:       "keeper",
		Why:       "because",
		Text:      "d",
		Base:      1,
		Draft:     d.Version,
		Forced:    true,
		ConfirmBy: &soon,
		Directory: change,
	})
	if err != nil || n != 2 {
		t.Fatal(n, err)
	}
	if _, err := s.Draft(ctx); !errors.Is(err, ErrNotFound) {
		t.Errorf("the draft outlives its revision: %v", err)
	}
	if log, _ := s.DraftChanges(ctx); len(log) != 0 {
		t.Errorf("and so does its record: %v", log)
	}
	list, err := s.Revisions.List(ctx, 0, 10)
	if err != nil || len(list) != 2 || !list[0].Forced || list[0].Why != "because" ||
		list[0].ConfirmBy.IsZero() ||
		list[0].Text != "" {
		t.Errorf("%+v %v", list, err)
	}
	for i, want := range []bool{true, false} { // once is enough
		if ok, err := s.Confirm(ctx, 2); ok != want || err != nil {
			t.Errorf("confirmation %d: %v %v", i+1, ok, err)
		}
	}
	if dir, _ := s.LoadDirectory(ctx); dir.Mailbox(addr(t, "a@skerryline.example")) == nil {
		t.Error("the directory did not come with the revision")
	}
	// What was confirmed does not go back, whoever has not heard of it yet.
	if _, _, err := s.AddRevision(ctx, NewRevision{Who: "gull serve", Text: "going back", Reverts: 1,
		Base: 2, Unconfirmed: true}); !errors.Is(err, ErrMoved) {
		t.Errorf("a confirmed revision goes back: %v", err)
	}
}

func TestEnvelopesAreReadForRehearsalAndWaitingOnesAreMoved(t *testing.T) {
	s, node := open(t)
	done := entry("ada@saltmarsh.example", true, "a@skerryline.example", "b@skerryline.example")
	waits := entry("ines@skerryline.example", false, "x@dunlin.example")
	enterAll(t, s, node, done, waits)
	if _, err := s.Finish(
		ctx,
		node,
		[]*Outcome{outcome(Due{Delivery: *done.Deliveries[0]}, mail.Delivered)},
	); err != nil {
		t.Fatal(err)
	}
	list, err := s.RecentEnvelopes(ctx, 0, 10)
	if err != nil || len(list) != 2 || list[0].ID != waits.Message.ID || len(list[1].Recipients) != 2 ||
		list[1].Client != "127.20.1.5" ||
		list[1].Listener != "inside" {
		t.Errorf("%+v %v", list, err)
	}
	if older, _ := s.RecentEnvelopes(ctx, waits.Message.ID,
		10); len(older) != 1 || older[0].ID != done.Message.ID {
		t.Errorf("%+v", older)
	}
	due, err := s.PlannedBefore(ctx, 2, mail.DeliveryID{}, 10)
	if err != nil || len(due) != 1 || due[0].Client != "127.20.1.5" { // what is leased is left to its node
		t.Fatalf("%+v %v", due, err)
	}
	d := &due[0].Delivery
	d.LaneID, d.Route, d.NextHop, d.RouteWhy, d.Revision = 77, "by provider", "harbourlight.example:587", "moved", 2
	if n, err := s.Reroute(ctx, []*mail.Delivery{d}); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	moved := lease(t, s, node)
	if len(moved) != 1 || moved[0].Delivery.Route != "by provider" || moved[0].Delivery.Revision != 2 ||
		moved[0].Delivery.RouteWhy != "moved" {
		t.Errorf("%+v", moved)
	}
	if again, _ := s.PlannedBefore(ctx, 2, mail.DeliveryID{}, 10); len(again) != 0 {
		t.Errorf("it would be moved again: %+v", again)
	}
	other := entry("", false, "y@dunlin.example")
	enterAll(t, s, node, other)
	due, err = s.LeaseDue(
		ctx,
		Lease{Node: node, Now: time.Now().Add(time.Second), Routes: []string{"out"}, PerLane: 10, Total: 10},
	)
	if err != nil || len(due) != 0 {
		t.Errorf("a route of another node's was taken: %+v %v", due, err)
	}
}

func TestSecretsRepliesAndCountsAreKept(t *testing.T) {
	s, _ := open(t)
	if err := s.SetSecret(ctx, "keeper", "harbourlight", []byte("encrypted")); err != nil {
		t.Fatal(err)
	}
	if list, err := s.Secrets.List(ctx); err != nil || len(list) != 1 || list[0].Who != "keeper" {
		t.Errorf("%+v %v", list, err)
	}
	if err := s.RemoveSecret(ctx, "keeper", "harbourlight"); err != nil {
		t.Error(err)
	}
	if _, err := s.Secret(ctx, "harbourlight"); !errors.Is(err, ErrNotFound) {
		t.Errorf("a secret that is gone: %v", err)
	}
	if records, _ := s.Records(ctx, "secret", "", 0, 10); len(records) != 2 ||
		strings.Contains(fmt.Sprint(records), "encrypted") {
		t.Errorf("%+v", records)
	}
	now := time.Now()
	for i, want := range []bool{true, false} {
		if first, err := s.Replying(ctx, "piet", "ada", now, now.Add(-time.Hour)); first != want || err != nil {
			t.Errorf("reply %d: %v %v", i+1, first, err)
		}
	}
	if first, _ := s.Replying(ctx, "piet", "ada", now.Add(2*time.Hour), now.Add(time.Hour)); !first {
		t.Error("after its time there is no second reply")
	}
	hour := now.UTC().Truncate(time.Hour)
	for range 2 {
		if err := s.AddSent(
			ctx,
			[]Sent{{Rule: "people", Holder: "ines", Hour: hour, Messages: 1, Recipients: 3, Fresh: 1, Ended: 3, Bounced: 1},
				{Rule: "people", Holder: "ines", Hour: hour.Add(-72 * time.Hour), Messages: 9, Recipients: 9}},
		); err != nil {
			t.Fatal(err)
		}
	}
	if list, err := s.SentSince(ctx, "people", "ines",
		hour.Add(-time.Hour)); err != nil || len(list) != 1 || list[0].Messages != 2 ||
		list[0].Recipients != 6 || list[0].Fresh != 2 || list[0].Ended != 6 || list[0].Bounced != 2 {
		t.Errorf("%+v %v", list, err)
	}
	if err := s.ForgetSent(ctx, now); err != nil {
		t.Fatal(err)
	}
	if list, _ := s.SentSince(ctx, "people", "ines", hour.Add(-100*time.Hour)); len(list) != 1 {
		t.Errorf("old counts stay: %+v", list)
	}
}

func TestOtherNodesHearOfChanges(t *testing.T) {
	s, _ := open(t)
	heard := make(chan Notice, 10)
	missed := make(chan struct{}, 10)
	go s.Listen(t.Context(), func() { missed <- struct{}{} }, func(n Notice) { heard <- n })
	<-missed // it listens, and first reads what it may have missed
	if err := s.ChangeDirectory(
		ctx,
		DirectoryChange{Who: "keeper",
			Mailboxes: []*directory.Mailbox{{Address: addr(t, "A@skerryline.example")}}},
	); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.AddRevision(ctx, NewRevision{Text: "a"}); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"directory [a@skerryline.example]", "config []"} {
		select {
		case n := <-heard:
			if got := fmt.Sprint(n.Kind, " ", n.Keys); got != want {
				t.Errorf("heard %s, want %s", got, want)
			}
		case <-time.After(5 * time.Second):
			t.Fatalf("nothing was heard of %s", want)
		}
	}
}

func TestGoingBackTakesOutWhatARevisionBrought(t *testing.T) {
	s, _ := open(t)
	box := func(text, name string) *directory.Mailbox {
		a, err := address.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		return &directory.Mailbox{Address: a, Name: name, Hash: "hash"}
	}
	add := func(n NewRevision) []string {
		t.Helper()
		_, says, err := s.AddRevision(ctx, n)
		if err != nil {
			t.Fatal(err)
		}
		return says
	}
	change := func(boxes ...*directory.Mailbox) *DirectoryChange {
		return &DirectoryChange{Who: "keeper", Mailboxes: boxes}
	}
	add(NewRevision{Who: "keeper", Text: "a", Directory: change(box("ines@skerryline.example", "Ines"))})
	add(NewRevision{
		Who:  "keeper",
		Text: "b",
		Directory: change(box("ines@skerryline.example", "Other"),
			box("new@skerryline.example", "New"), box("full@skerryline.example", "Full"),
			box("later@skerryline.example", "Later")),
	})
	if err := s.ChangeDirectory(ctx, *change(box("later@skerryline.example", "Changed by hand"))); err != nil {
		t.Fatal(err)
	}
	if _, err := s.pool.Exec(
		ctx,
		`INSERT INTO mailbox_use (mailbox, messages, octets) VALUES ('full@skerryline.example', 1, 100)`,
	); err != nil {
		t.Fatal(err)
	}
	names := func() string {
		t.Helper()
		rows, err := s.pool.Query(
			ctx,
			`SELECT name || CASE password WHEN '' THEN ' without' ELSE '' END FROM mailbox ORDER BY key`,
		)
		if err != nil {
			t.Fatal(err)
		}
		list, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			t.Fatal(err)
		}
		return strings.Join(list, ", ")
	}
	says := add(NewRevision{Who: "keeper", Text: "a", Reverts: 1})
	if got := names(); got != "Full, Ines, Changed by hand" || len(says) != 4 {
		t.Errorf("after going back: %s; %q", got, says)
	}
	add(NewRevision{Who: "keeper", Text: "b", Reverts: 2})
	if got := names(); got != "Full, Other, Changed by hand, New" {
		t.Errorf("and forward again: %s", got)
	}
}
