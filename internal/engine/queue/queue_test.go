package queue

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
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
	"gullroute/internal/core/plan"
	"gullroute/internal/core/route"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// fake is a store in memory, which fails when it is told to.
type fake struct {
	store.Calm
	mu       sync.Mutex
	down     error
	entered  map[ident.ID]*store.Entry
	groups   []int
	undone   []ident.ID
	fate     store.Fate
	beat     error // of heartbeats
	pulse    store.Pulse
	next     int // the run that begins next
	over     int // a run that can make no leases
	leases   []store.LeaseHeld
	finished []*store.Outcome
	returned map[mail.DeliveryID]time.Time
	slow     time.Duration
	bad      ident.ID      // a message whose data the database refuses
	gate     chan struct{} // commits wait for it; nil for none
}

func newFake() *fake {
	return &fake{entered: map[ident.ID]*store.Entry{}, returned: map[mail.DeliveryID]time.Time{}}
}

func (f *fake) Enter(_ context.Context, run int, entries []*store.Entry) error {
	if run == f.over {
		return store.ErrOver
	}
	time.Sleep(f.slow)
	if f.gate != nil {
		<-f.gate
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.down != nil {
		return f.down
	}
	for _, e := range entries {
		if e.Message.ID == f.bad {
			return store.ErrData
		}
	}
	f.groups = append(f.groups, len(entries))
	for _, e := range entries {
		f.entered[e.Message.ID] = e
		for i, d := range e.Deliveries {
			if d.State.Final() {
				f.finished = append(f.finished, &store.Outcome{Delivery: d, Mailbox: e.Boxes[i]})
			}
		}
	}
	return nil
}

func (f *fake) Withdraw(_ context.Context, ids []ident.ID) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.down != nil {
		return f.down
	}
	f.undone = append(f.undone, ids...)
	return nil
}

func (f *fake) Heartbeat(context.Context, int, mail.NodeFacts) (store.Pulse, error) {
	return f.pulse, f.beat
}
func (f *fake) RegisterNode(context.Context, string) (int, error)      { return f.next, nil }
func (f *fake) Leases(context.Context, int) ([]store.LeaseHeld, error) { return f.leases, nil }

func (f *fake) FateOf(context.Context, *store.Unclear, ident.ID) (store.Fate, error) {
	return f.fate, nil
}

func (f *fake) StoreContent(context.Context, ident.ID, io.Reader) error { return nil }
func (f *fake) DropContent(context.Context, ident.ID) error             { return nil }
func (f *fake) OpenContent(context.Context, ident.ID) (*store.Content, error) {
	return nil, store.ErrNotFound
}
func (f *fake) LeaseDue(context.Context, store.Lease) ([]store.Due, error) {
	return nil, nil
}
func (f *fake) Replying(context.Context, string, string, time.Time, time.Time) (bool, error) {
	return true, nil
}
func (f *fake) LeaseOverdue(context.Context, int, time.Time, time.Time, int) ([]store.Due, error) {
	return nil, nil
}

func (f *fake) Unwarned(
	_ context.Context,
	after mail.DeliveryID,
	_ time.Time,
	_ int,
) ([]store.Due, mail.DeliveryID, error) {
	return nil, mail.DeliveryID{}, nil
}
func (f *fake) Warn(context.Context, int, time.Time, []store.Warning) ([]*store.Entry, error) {
	return nil, nil
}
func (f *fake) SetBackOff(context.Context, store.BackOff) error { return nil }
func (f *fake) NextDue(context.Context, time.Time, []ident.ID, []string) (time.Time, error) {
	return time.Time{}, nil
}

func (f *fake) ReturnLeases(_ context.Context, _ int, ids []mail.DeliveryID, due time.Time) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, id := range ids {
		f.returned[id] = due
	}
	return nil
}

func (f *fake) Finish(_ context.Context, _ int, outcomes []*store.Outcome) ([]*store.Entry, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.down != nil {
		return nil, f.down
	}
	for _, o := range outcomes {
		if o.Delivery.MessageID == f.bad && (o.Events != nil || o.Generated != nil) {
			return nil, store.ErrData
		}
	}
	f.finished = append(f.finished, outcomes...)
	return nil, nil
}

func (f *fake) set(err error) { f.mu.Lock(); f.down = err; f.mu.Unlock() }
func (f *fake) outcomes() []*store.Outcome {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]*store.Outcome(nil), f.finished...)
}

const settings = `
service: {host_name: mail.skerryline.example, postmaster: keeper@skerryline.example, retry: {intervals: [1h], back_off: 1h}, timeouts: {connect: 1s}}
domains:
  - {name: skerryline.example, kind: local}
routes:
  - {name: dead, recipients: [sunkenpier.example], next_hop: smarthost, hosts: ["127.0.0.1:1"]}
mailboxes:
  - {address: keeper@skerryline.example}
`

// start runs a queue over a fake store.
func start(t *testing.T, f *fake, run bool) *Queue {
	t.Helper()
	c, err := config.Parse([]byte(settings))
	if err != nil {
		t.Fatal(err)
	}
	q := New(Options{
		Store: f,
		Node:  1,
		Name:  "test",
		IDs:   ident.NewMaker(1, time.Now),
		Hub:   feed.NewHub(),
		Tally: counters.New(),
		Log:   slog.New(slog.DiscardHandler),
	})
	if !run {
		c.Service.Connections = 0 // what comes in stays
	}
	q.Apply(config.Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases)))
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		if run {
			q.Run(ctx)
		} else {
			q.RunIntake(ctx)
		}
	}()
	t.Cleanup(func() { f.set(nil); cancel(); <-done })
	return q
}

func entry(q *Queue, sender, to string) *store.Entry {
	from, _ := address.Parse(sender)
	recipient, _ := address.Parse(to)
	m := &mail.Message{ID: q.IDs.Next(), ReceivedAt: time.Now(), Sender: sender, Size: 40, Revision: 1}
	e := &store.Entry{Message: m, Content: []byte("Subject: Berth\r\n\r\nhi\r\n")}
	legs, _ := route.Plan(q.Config(), config.Envelope{Sender: from}, recipient)
	for i, leg := range legs {
		e.Deliveries = append(e.Deliveries, plan.NewDelivery(q.Config(), m, i+1, leg, recipient, "rule"))
	}
	return e
}

func within(t *testing.T, what string, f func() bool) {
	t.Helper()
	for end := time.Now().Add(5 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if f() {
			return
		}
	}
	t.Fatalf("not within five seconds: %s", what)
}

func TestMessagesThatComeTogetherShareACommit(t *testing.T) {
	f := newFake()
	f.slow = 20 * time.Millisecond
	q := start(t, f, false)
	var wg sync.WaitGroup
	for range 200 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			if err := q.Enter(context.Background(), entry(q, "", "a@sunkenpier.example")); err != nil {
				t.Error(err)
			}
		}()
	}
	wg.Wait()
	if len(f.entered) != 200 || len(f.groups) > 20 {
		t.Errorf("%d messages in %d commits", len(f.entered), len(f.groups))
	}
}

func TestACommitWhoseAnswerIsLostIsFoundOutOrWithdrawn(t *testing.T) {
	for name, c := range map[string]struct {
		fate            store.Fate
		taken, withdraw bool
	}{
		"it was committed":     {store.FateEntered, true, false},
		"it was not":           {store.FateNot, false, false},
		"it may be, some time": {store.FateOpen, false, true},
	} {
		dir := t.TempDir()
		synctest.Test(t, func(t *testing.T) {
			f := newFake()
			q := start(t, f, false)
			f.fate, q.Journal = c.fate, filepath.Join(dir, "journal")
			f.set(&store.Unclear{Cause: errors.New("the connection broke")})
			e, began := entry(q, "", "a@sunkenpier.example"), time.Now()
			err := q.Enter(context.Background(), e)
			if taken := err == nil; taken != c.taken {
				t.Errorf("%s: %v", name, err)
			}
			if n, _ := q.InMemory(); (n == 1) != c.taken {
				t.Errorf("%s: memory holds %d deliveries", name, n)
			}
			if took := time.Since(began); took > fateLimit+withdrawLimit {
				t.Errorf("%s: the client waited for %s", name, took)
			}
			if len(f.undone) != 0 {
				t.Errorf("%s: withdrawn while the database is away", name)
			}
			if c.withdraw { // the service ends before the database is back
				next := New(Options{Store: f, Journal: q.Journal, Log: q.Log})
				next.takeUpJournal()
				q = next
			}
			go func() { _ = q.withdrawLater(t.Context()) }()
			f.set(nil)
			time.Sleep(time.Second)
			synctest.Wait()
			if (len(f.undone) == 1 && f.undone[0] == e.Message.ID) != c.withdraw || q.doubts.any() {
				t.Errorf("%s: withdrawn %v", name, f.undone)
			}
			if _, err := os.Stat(q.Journal); !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("%s: the journal is still there: %v", name, err)
			}
		})
	}
}

// laneOf is the lane of a message's first delivery.
func laneOf(q *Queue, e *store.Entry) *lane {
	q.lanes.mu.Lock()
	defer q.lanes.mu.Unlock()
	return q.lanes.of(e.Deliveries[0])
}

func TestMemoryHoldsABoundedWindow(t *testing.T) {
	f := newFake()
	q := start(t, f, false)
	for range maxLaneWindow + 500 {
		if err := q.Enter(context.Background(), entry(q, "", "a@sunkenpier.example")); err != nil {
			t.Fatal(err)
		}
	}
	leased := 0
	for _, e := range f.entered {
		if e.Leased[0] {
			leased++
		}
	}
	n, octets := q.InMemory()
	if leased != maxLaneWindow || n != maxLaneWindow || octets > maxKept {
		t.Errorf("%d are leased, memory holds %d deliveries and %d octets", leased, n, octets)
	}
}

func TestADeadHostIsTriedOnceAndItsLaneRests(t *testing.T) {
	f := newFake()
	q := start(t, f, true)
	var all []*store.Entry
	for range 20 {
		e := entry(q, "keeper@skerryline.example", "a@sunkenpier.example")
		all = append(all, e)
		if err := q.Enter(context.Background(), e); err != nil {
			t.Fatal(err)
		}
	}
	// Those whose attempt failed are deferred; the others went back untried or
	// never came into memory.
	within(t, "every delivery is out of memory", func() bool { n, _ := q.InMemory(); return n == 0 })
	within(t, "outcomes are recorded", func() bool { return len(f.outcomes()) > 0 })
	tried := f.outcomes()
	for _, o := range tried {
		if o.Delivery.State != mail.Deferred || o.Delivery.Cause != diagnose.ConnectRefused ||
			o.Delivery.NextAttemptAt.Before(time.Now().Add(50*time.Minute)) ||
			len(o.Events) != 1 {
			t.Errorf("%+v", o.Delivery)
		}
	}
	view := q.View()[all[0].Deliveries[0].LaneID]
	if len(tried) > 10 || view.State != mail.LaneResting || view.Until.Before(time.Now().Add(50*time.Minute)) ||
		view.Last == nil {
		t.Errorf("%d attempts; the lane is %+v", len(tried), view)
	}
	f.mu.Lock()
	for id, due := range f.returned {
		if due.Before(time.Now().Add(50 * time.Minute)) {
			t.Errorf("%s went back and is due at %s, in the lane's rest", id, due)
		}
	}
	f.mu.Unlock()
	next := entry(q, "", "b@sunkenpier.example")
	if err := q.Enter(context.Background(), next); err != nil {
		t.Fatal(err)
	}
	if next.Leased[0] || next.Deliveries[0].NextAttemptAt.Before(time.Now().Add(50*time.Minute)) {
		t.Error("a message that comes while the lane rests is tried all the same")
	}
}

func TestWhatIsCommittedWhenItsLaneComesToRestGoesBack(t *testing.T) {
	f := newFake()
	q := start(t, f, false)
	f.gate = make(chan struct{})
	e := entry(q, "", "a@sunkenpier.example")
	done := make(chan error)
	go func() { done <- q.Enter(context.Background(), e) }()
	within(t, "room is kept for it", func() bool { n, _ := q.InMemory(); return n == 1 })
	q.lanes.backOff(laneOf(q, e), &deliver.Failure{Cause: diagnose.ConnectRefused})
	close(f.gate)
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	within(t, "it goes back for the lane's rest", func() bool {
		f.mu.Lock()
		defer f.mu.Unlock()
		return f.returned[e.Deliveries[0].ID()].After(time.Now().Add(50 * time.Minute))
	})
	if n, _ := q.InMemory(); n != 0 {
		t.Errorf("memory holds %d deliveries of a lane that rests", n)
	}
}

func TestOutcomesWaitForTheDatabase(t *testing.T) {
	f := newFake()
	q := start(t, f, true)
	e := entry(q, "ada@saltmarsh.example", "keeper@skerryline.example")
	if err := q.Enter(context.Background(), e); err != nil {
		t.Fatal(err)
	}
	within(t, "delivered", func() bool { return len(f.outcomes()) == 1 })
	f.set(fmt.Errorf("down"))
	if err := q.Enter(context.Background(), entry(q, "", "keeper@skerryline.example")); err == nil {
		t.Error("accepted without a database")
	}
	f.set(nil)
	second := entry(q, "ada@saltmarsh.example", "keeper@skerryline.example")
	if err := q.Enter(context.Background(), second); err != nil {
		t.Fatal(err)
	}
	within(t, "delivered after the database is back", func() bool {
		for _, o := range f.outcomes() {
			if o.Delivery.MessageID == second.Message.ID && o.Mailbox != nil &&
				strings.HasPrefix(string(o.Mailbox.Head()), "Return-Path: <ada@saltmarsh.example>") {
				return true
			}
		}
		return false
	})
}

func TestNoticesAreMadeOnlyWhereTheyMayBe(t *testing.T) {
	q := start(t, newFake(), false)
	for _, c := range []struct {
		name, sender string
		notify       int16
		want         bool
	}{
		{"a sender", "keeper@skerryline.example", 0, true},
		{"the null sender", "", 0, false},
		{"NOTIFY=NEVER", "keeper@skerryline.example", 1, false},
		{"NOTIFY=SUCCESS", "keeper@skerryline.example", 2, false},
		{"NOTIFY=FAILURE", "keeper@skerryline.example", 4, true},
		{"a sender of ours that does not exist", "nobody@skerryline.example", 0, false},
	} {
		e := entry(q, c.sender, "a@sunkenpier.example")
		d := e.Deliveries[0]
		d.Notify, d.State, d.Cause = c.notify, mail.Bounced, diagnose.NoSuchUser
		d.Last = &mail.LastReply{Stage: diagnose.StageRecipient, Host: "mx", Code: 550, Enhanced: "5.1.1",
			Text: "no"}
		j := &job{
			message:    e.Message.ID,
			received:   time.Now(),
			origin:     origin{sender: c.sender, size: int64(len(e.Content))},
			deliveries: e.Deliveries,
			content:    &keptContent{data: e.Content},
		}
		n := q.notice(q.Config(), j, e.Deliveries, time.Now())
		if (n != nil) != c.want {
			t.Errorf("%s: %v", c.name, n)
		}
		if n != nil &&
			(n[0].Message.Sender != "" || n[0].Message.NoticeOf != e.Message.ID ||
				n[0].Deliveries[0].Recipient != c.sender || n[0].Message.Subject != "Not delivered: Berth") {
			t.Errorf("%s: %+v", c.name, n[0].Message)
		}
	}
}

func TestWhatMayGoesIntoAMailboxWithItsCommit(t *testing.T) {
	for name, c := range map[string]struct {
		change func(q *Queue, e *store.Entry)
		direct bool
	}{
		"a mailbox of ours": {func(*Queue, *store.Entry) {}, true},
		"a sender who wants to be told": {func(_ *Queue, e *store.Entry) {
			e.Deliveries[0].Notify = 2
		}, false},
		"a decision of an earlier revision": {func(_ *Queue, e *store.Entry) {
			e.Deliveries[0].Revision--
		}, false},
		"a message that is held": {func(_ *Queue, e *store.Entry) {
			e.Deliveries[0].State = mail.Held
		}, false},
		"all delivery is paused": {func(q *Queue, _ *store.Entry) {
			q.SetPauses([]mail.Pause{{Kind: mail.PauseDelivery}})
		}, false},
		"its lane is frozen": {func(q *Queue, e *store.Entry) {
			q.Freeze([]ident.ID{e.Deliveries[0].LaneID})
		}, false},
		"another's mailbox": {func(_ *Queue, e *store.Entry) {
			e.Deliveries[0].Recipient = "nobody@skerryline.example"
		}, false},
	} {
		f := newFake()
		f.gate = make(chan struct{})
		q := start(t, f, false)
		e := entry(q, "ada@saltmarsh.example", "keeper@skerryline.example")
		c.change(q, e)
		done := make(chan error, 1)
		go func() { done <- q.Enter(t.Context(), e) }()
		close(f.gate)
		if err := <-done; err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		d := e.Deliveries[0]
		if direct := e.Boxes != nil && e.Boxes[0] != nil; direct != c.direct || direct != d.State.Final() {
			t.Errorf("%s: straight into the mailbox %v, state %s", name, direct, d.State)
		}
		if n, _ := q.InMemory(); c.direct && n != 0 {
			t.Errorf("%s: %d deliveries are in memory", name, n)
		}
	}
}
