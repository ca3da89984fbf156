package queue

import (
	"context"
	"errors"
	"runtime/metrics"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
	"gullroute/internal/store"
)

func TestAMessageThatTheDatabaseRefusesFailsAlone(t *testing.T) {
	f := newFake()
	f.slow = 10 * time.Millisecond
	q := start(t, f, false)
	var wg sync.WaitGroup
	var mu sync.Mutex
	refused := map[ident.ID]error{}
	for i := range 100 {
		e := entry(q, "", "a@sunkenpier.example")
		if i == 50 {
			f.mu.Lock()
			f.bad = e.Message.ID
			f.mu.Unlock()
		}
		wg.Add(1)
		go func() {
			defer wg.Done()
			if err := q.Enter(context.Background(), e); err != nil {
				mu.Lock()
				refused[e.Message.ID] = err
				mu.Unlock()
			}
		}()
	}
	wg.Wait()
	if len(refused) != 1 || !errors.Is(refused[f.bad],
		store.ErrData) || len(f.entered) != 99 || len(f.undone) != 0 {
		t.Errorf("%d are entered, refused are %v, taken out %v", len(f.entered), refused, f.undone)
	}
	if n, _ := q.InMemory(); n != 99 || q.Tally.Refused("messages") != 1 {
		t.Errorf("memory holds %d, %d are counted as refused", n, q.Tally.Refused("messages"))
	}
}

func TestAnOutcomeThatTheDatabaseRefusesIsRecordedWithoutItsWords(t *testing.T) {
	f := newFake()
	q := start(t, f, true)
	bad := entry(q, "keeper@skerryline.example", "a@sunkenpier.example")
	good := entry(q, "", "keeper@skerryline.example")
	f.bad = bad.Deliveries[0].MessageID
	f.gate = make(chan struct{})
	done := make(chan error, 2)
	for _, e := range []*store.Entry{bad, good} {
		e.Message.ID = e.Deliveries[0].MessageID + 1<<40 // only its outcome is refused
		go func() { done <- q.Enter(context.Background(), e) }()
	}
	close(f.gate)
	if err := errors.Join(<-done, <-done); err != nil {
		t.Fatal(err)
	}
	within(t, "both outcomes are on record", func() bool { return len(f.outcomes()) == 2 })
	for _, o := range f.outcomes() {
		if d := o.Delivery; d.MessageID == f.bad &&
			(d.State != mail.Deferred || d.Last == nil || d.Last.Text != "the reply could not be kept") {
			t.Errorf("%+v %+v", d, d.Last)
		}
	}
}

// made is how many goroutines were ever made.
func made() uint64 {
	s := []metrics.Sample{{Name: "/sched/goroutines-created:goroutines"}}
	metrics.Read(s)
	return s[0].Value.Uint64()
}

func TestNobodyRunsInCirclesWhileTheDatabaseIsAway(t *testing.T) {
	f := newFake()
	q := start(t, f, true)
	q.lastSeen.Store(-int64(time.Hour)) // as if nothing was heard of it
	if err := q.Enter(context.Background(), entry(q, "", "a@sunkenpier.example")); err != nil {
		t.Fatal(err)
	}
	before := made()
	time.Sleep(300 * time.Millisecond)
	if n := made() - before; n > 100 {
		t.Errorf("%d goroutines were made in 0.3 s", n)
	}
	if len(f.outcomes()) != 0 {
		t.Error("it was delivered while our leases may be another's")
	}
	if !q.heartbeat(context.Background()) {
		t.Fatal("no heartbeat")
	}
	within(t, "it is delivered when the database is back", func() bool { return len(f.outcomes()) == 1 })
}

func TestAPauseDuringACommitStrandsNothing(t *testing.T) {
	for name, pause := range map[string]mail.Pause{"delivery": {Kind: mail.PauseDelivery},
		"a route": {Kind: mail.PauseRoute, Name: "local"}} {
		f := newFake()
		f.gate = make(chan struct{})
		q := start(t, f, true)
		e := entry(q, "", "a@sunkenpier.example")
		pause.Name = map[bool]string{true: e.Deliveries[0].Route}[pause.Kind == mail.PauseRoute]
		done := make(chan error, 1)
		go func() { done <- q.Enter(context.Background(), e) }()
		within(t, "it is on its way", func() bool { n, _ := q.InMemory(); return n == 1 })
		q.SetPauses([]mail.Pause{pause})
		close(f.gate)
		if err := <-done; err != nil {
			t.Fatal(err)
		}
		within(t, "it goes back to the database", func() bool {
			f.mu.Lock()
			defer f.mu.Unlock()
			_, back := f.returned[e.Deliveries[0].ID()]
			n, _ := q.InMemory()
			return back && n == 0
		})
		if len(f.outcomes()) != 0 {
			t.Errorf("%s: it was delivered in the pause", name)
		}
	}
}

func TestAMessageThatWaitsForItsCommitCanBeLeft(t *testing.T) {
	f := newFake()
	f.gate = make(chan struct{}, 1)
	q := start(t, f, false)
	first, second := entry(q, "", "a@sunkenpier.example"), entry(q, "", "a@sunkenpier.example")
	done := make(chan error, 1)
	go func() { done <- q.Enter(context.Background(), first) }()
	within(t, "the first is being committed", func() bool { n, _ := q.InMemory(); return n == 1 })
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	if err := q.Enter(ctx, second); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("it waits on: %v", err)
	}
	close(f.gate)
	if err := <-done; err != nil {
		t.Errorf("who is being committed does not leave: %v", err)
	}
	if err := q.Enter(context.Background(), entry(q, "", "a@sunkenpier.example")); err != nil {
		t.Fatal(err)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.entered[second.Message.ID] != nil || f.entered[first.Message.ID] == nil {
		t.Error("what was left is entered all the same, or what was not is not")
	}
}

func TestALaneInTroubleIsLeftWhenNothingIsInItAnyMore(t *testing.T) {
	q := start(t, newFake(), false)
	e := entry(q, "", "a@sunkenpier.example")
	l := laneOf(q, e)
	l.host.failures, l.load.touched, l.host.backOffUntil = 3, time.Now().Add(-time.Hour), time.Now().Add(-time.Hour)
	if ids := q.InTrouble(); len(ids) != 1 || ids[0] != l.id {
		t.Fatalf("%v", ids)
	}
	q.Leave([]ident.ID{l.id})
	if _, known := q.View()[l.id]; known || len(q.InTrouble()) != 0 {
		t.Error("it is known for ever")
	}
}

func TestNothingGoesBackToASenderWhoIsForged(t *testing.T) {
	q := start(t, newFake(), false)
	fail := &senderauth.Assessment{
		SPF:   senderauth.SPF{Result: senderauth.Fail},
		DMARC: senderauth.DMARC{Result: senderauth.None},
	}
	forwarded := &senderauth.Assessment{
		SPF:   senderauth.SPF{Result: senderauth.Fail},
		DMARC: senderauth.DMARC{Result: senderauth.Pass},
	}
	for _, c := range []struct {
		name, sender, direction, rule string
		found                         *senderauth.Assessment
		told                          bool
	}{
		{"a stranger of whom nothing is known", "ada@saltmarsh.example", mail.In, config.RuleOurDomain, nil,
			true},
		{"SPF fails", "ada@saltmarsh.example", mail.In, config.RuleOurDomain, fail, false},
		{"SPF fails and DMARC passes", "ada@saltmarsh.example", mail.In, config.RuleOurDomain, forwarded, true},
		{"a stranger as one of ours", "keeper@skerryline.example", mail.In, config.RuleOurDomain, nil, false},
		{"one of ours by a rule", "keeper@skerryline.example", mail.In, "machines", nil, true},
		{"one of ours", "keeper@skerryline.example", mail.Out, "people", nil, true},
	} {
		e := entry(q, c.sender, "a@sunkenpier.example")
		e.Message.Direction, e.Message.Identity, e.Leased = c.direction, c.found, []bool{true}
		d := e.Deliveries[0]
		d.Rule, d.State, d.Cause, d.Last = c.rule, mail.Bounced, diagnose.NoSuchUser, &mail.LastReply{
			Code:     550,
			Enhanced: "5.1.1",
			Text:     "no",
		}
		j := jobsOf(e, 1)[0]
		j.content = &keptContent{data: e.Content}
		if told := len(q.notice(q.Config(), j, e.Deliveries, time.Now())) > 0; told != c.told {
			t.Errorf("%s: told %v", c.name, told)
		}
		box := &directory.Mailbox{
			Address: address.Address{Local: "keeper", Domain: "skerryline.example"},
			Reply:   &directory.Reply{Outside: "away", Inside: "away"},
		}
		section := []byte("To: keeper@skerryline.example\r\nFrom: <" + c.sender + ">\r\nSubject: Berth\r\n\r\nhi\r\n")
		j.content = &keptContent{data: section}
		if box.May(j.from()) {
			continue
		}
		if answered := q.reply(q.Config(), box, j, d, time.Now()) != nil; answered != c.told {
			t.Errorf("%s: answered %v", c.name, answered)
		}
	}
}

func TestWhereAnAddressIsPassedOnToIsNotTold(t *testing.T) {
	q := start(t, newFake(), false)
	for _, state := range []mail.State{mail.Delivered, mail.Bounced} {
		e := entry(q, "ada@saltmarsh.example", "a@sunkenpier.example")
		e.Leased = []bool{true}
		d := e.Deliveries[0]
		d.Recipient, d.Original, d.Via = "private@hidden.example", "ailsa@skerryline.example", []string{
			"ailsa@skerryline.example",
		}
		d.State, d.Cause, d.Last = state, diagnose.NoSuchUser, &mail.LastReply{
			Stage:    diagnose.StageRecipient,
			Host:     "mx.hidden.example",
			Code:     550,
			Enhanced: "5.1.1",
			Text:     "no private@hidden.example here",
		}
		j := jobsOf(e, 1)[0]
		j.content = &keptContent{data: e.Content}
		d.Notify = int16(smtp.NotifySuccess | smtp.NotifyFailure)
		list := q.notice(q.Config(), j, e.Deliveries, time.Now())
		if len(list) == 0 {
			t.Fatal("nobody is told")
		}
		text := string(list[0].Content)
		if strings.Contains(text, "hidden") ||
			!strings.Contains(text, "Final-Recipient: rfc822;ailsa@skerryline.example") {
			t.Errorf("%s: %s", state, text)
		}
	}
}

func TestNothingIsTakenWhileTheDatabaseIsNotWell(t *testing.T) {
	f := newFake()
	q := start(t, f, false)
	f.beat = errors.New("commits hang")
	if q.heartbeat(t.Context()); q.Database().State != store.Away {
		t.Fatalf("%+v", q.Database())
	}
	var no ErrNotNow
	if err := q.Enter(t.Context(), entry(q, "", "a@sunkenpier.example")); !errors.As(err,
		&no) || len(f.groups) != 0 {
		t.Errorf("a client waits for a commit that comes to no end: %v", err)
	}
	f.beat = nil
	q.heartbeat(t.Context())
	if err := q.Enter(t.Context(), entry(q, "", "a@sunkenpier.example")); err != nil {
		t.Errorf("it is well again: %v", err)
	}
	f.pulse = store.Pulse{Newer: true}
	if q.heartbeat(t.Context()); !q.fenced() || q.Taking() == nil {
		t.Error("an old program goes on with a newer schema")
	}
}

func TestALivingNodeWhoseRunIsOverBeginsAnew(t *testing.T) {
	f := newFake()
	f.gate = make(chan struct{})
	q := start(t, f, false)
	done := make(chan error)
	go func() { done <- q.Enter(context.Background(), entry(q, "", "a@sunkenpier.example")) }()
	within(t, "it is being committed", func() bool { n, _ := q.InMemory(); return n == 1 })
	f.pulse, f.next = store.Pulse{Over: true}, 7
	q.heartbeat(t.Context()) // it was taken for dead meanwhile
	if q.RunNumber() != 7 {
		t.Errorf("it goes on as run %d", q.RunNumber())
	}
	close(f.gate)
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	within(t, "what the former run leased is another's",
		func() bool { n, octets := q.InMemory(); return n == 0 && octets == 0 })
}

func TestACommitOfARunThatIsOverIsMadeAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := newFake()
		q := start(t, f, false)
		f.over, f.pulse, f.next = 1, store.Pulse{Over: true}, 2
		go func() { _ = q.beat(t.Context()) }()
		time.Sleep(time.Millisecond)
		began := time.Now()
		if err := q.Enter(t.Context(), entry(q, "", "a@sunkenpier.example")); err != nil ||
			time.Since(began) > time.Second {
			t.Errorf("%v after %s", err, time.Since(began))
		}
	})
}

func TestLeasesInNobodysHandsAreDueAgain(t *testing.T) {
	f := newFake()
	q := start(t, f, false)
	e := entry(q, "", "a@sunkenpier.example")
	if err := q.Enter(t.Context(), e); err != nil {
		t.Fatal(err)
	}
	within(t, "it is in its lane", func() bool { return q.known()[e.Deliveries[0].ID()] })
	stray, late := mail.DeliveryID{Message: 77, N: 1}, mail.DeliveryID{Message: 78, N: 1}
	f.leases = []store.LeaseHeld{{ID: e.Deliveries[0].ID()}, {ID: stray}, {ID: late}}
	look := func() {
		t.Helper()
		if err := q.reconcile(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	q.put.Add(1) // an outcome waits to be recorded, perhaps this one's
	look()
	look()
	if len(f.returned) != 0 {
		t.Fatalf("freed although an outcome was not yet on record: %v", f.returned)
	}
	q.written.Add(1)
	f.leases = f.leases[:2] // it was that of the last
	look()
	if _, freed := f.returned[stray]; !freed || len(f.returned) != 1 || q.Freed() != 1 {
		t.Errorf("freed %v", f.returned)
	}
}
