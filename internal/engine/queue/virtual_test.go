package queue

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/dsn"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/live"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/engine/tally"
	"gullroute/internal/simnet"
	"gullroute/internal/store"
)

// rows is a store in memory that leases as the database does.
type rows struct {
	*fake
	mu      sync.Mutex
	waiting map[mail.DeliveryID]*row
	content map[ident.ID][]byte
	done    map[mail.DeliveryID]mail.Delivery
	tries   map[mail.DeliveryID][]time.Time
	notices []*store.Entry
}

type row struct {
	due    store.Due
	leased bool
}

func newRows() *rows {
	return &rows{fake: newFake(), waiting: map[mail.DeliveryID]*row{}, content: map[ident.ID][]byte{}, done: map[mail.DeliveryID]mail.Delivery{}, tries: map[mail.DeliveryID][]time.Time{}}
}

func (r *rows) Enter(_ context.Context, _ int, entries []*store.Entry) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.enter(entries)
	return nil
}

func (r *rows) enter(entries []*store.Entry) {
	for _, e := range entries {
		m := e.Message
		r.content[m.ID] = e.Content
		for i, d := range e.Deliveries {
			r.waiting[d.ID()] = &row{store.Due{Delivery: *d, Sender: m.Sender, Size: m.Size, UTF8: m.UTF8, Ret: m.Ret, EnvID: m.EnvID, NoticeOf: m.NoticeOf, Received: m.ReceivedAt}, e.Leased[i]}
		}
		if m.MadeHere() {
			r.notices = append(r.notices, e)
		}
	}
}

func (r *rows) sorted() []*row {
	var all []*row
	for _, one := range r.waiting {
		all = append(all, one)
	}
	slices.SortFunc(all, func(a, b *row) int {
		return int(a.due.Delivery.NextTryAt.Sub(b.due.Delivery.NextTryAt.Time)) + int(a.due.Delivery.MessageID-b.due.Delivery.MessageID)/1e12
	})
	return all
}

func (r *rows) LeaseDue(_ context.Context, l store.Lease) ([]store.Due, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []store.Due
	per := map[ident.ID]int{}
	for _, one := range r.sorted() {
		d := &one.due.Delivery
		limit := l.PerLane
		if slices.Contains(l.Try, d.LaneID) {
			limit = 1
		}
		if one.leased || d.NextTryAt.After(l.Now) || d.State == mail.Held || slices.Contains(l.Skip, d.LaneID) || per[d.LaneID] >= limit || len(out) >= l.Total {
			continue
		}
		per[d.LaneID]++
		one.leased = true
		out = append(out, one.due)
	}
	return out, nil
}

func (r *rows) LeaseOverdue(_ context.Context, _ int, now, _ time.Time, _ int) ([]store.Due, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []store.Due
	for _, one := range r.sorted() {
		if !one.leased && !one.due.Delivery.ExpiresAt.After(now) {
			one.leased = true
			out = append(out, one.due)
		}
	}
	return out, nil
}

func (r *rows) NextDue(_ context.Context, _ time.Time, skip []ident.ID, _ []string) (time.Time, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, one := range r.sorted() {
		if !one.leased && !slices.Contains(skip, one.due.Delivery.LaneID) {
			return one.due.Delivery.NextTryAt.Time, nil
		}
	}
	return time.Time{}, nil
}

func (r *rows) ReturnLeases(_ context.Context, _ int, ids []mail.DeliveryID, due time.Time) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, id := range ids {
		if one := r.waiting[id]; one != nil {
			one.leased = false
			if due.After(one.due.Delivery.NextTryAt.Time) {
				one.due.Delivery.NextTryAt = mail.At(due)
			}
		}
	}
	return nil
}

func (r *rows) Finish(_ context.Context, _ int, outcomes []*store.Outcome) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, o := range outcomes {
		id := o.Delivery.ID()
		r.tries[id] = append(r.tries[id], o.At)
		if o.Delivery.State.Final() {
			r.done[id] = *o.Delivery
			delete(r.waiting, id)
		} else if one := r.waiting[id]; one != nil {
			one.due.Delivery, one.leased = *o.Delivery, false
		}
		r.enter(o.Begotten)
	}
	return nil
}

func (r *rows) OpenContent(_ context.Context, id ident.ID) (*store.Content, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return store.ContentOf(r.content[id]), nil
}

func (r *rows) Unwarned(_ context.Context, after mail.DeliveryID, before time.Time, _ int) ([]store.Due, mail.DeliveryID, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	last := mail.DeliveryID{}
	var out []store.Due
	for id, one := range r.waiting {
		if id.Message > after.Message && id.Message < ident.Floor(before) {
			last.Message, last.N = max(last.Message, id.Message), 1
			if one.due.Delivery.WarnedAt.IsZero() && one.due.Sender != "" {
				out = append(out, one.due)
			}
		}
	}
	return out, last, nil
}

func (r *rows) Warn(_ context.Context, _ int, at time.Time, warnings []store.Warning) ([]*store.Entry, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, w := range warnings {
		for _, id := range w.Deliveries {
			if one := r.waiting[id]; one != nil {
				one.due.Delivery.WarnedAt = mail.At(at)
			}
		}
		r.enter(w.Notices)
	}
	return nil, nil
}

// names answers for DNS from a world.
type names struct{ net *simnet.Inside }

func (n names) MX(_ context.Context, domain string) ([]resolve.Host, error) {
	var out []resolve.Host
	for i, h := range n.net.Hosts(domain) {
		out = append(out, resolve.Host{Name: h, Preference: uint16(i)})
	}
	if len(out) == 0 {
		return nil, &resolve.Failure{Cause: diagnose.NoSuchDomain, Permanent: true, Enhanced: "5.1.2", Text: "no such domain"}
	}
	return out, nil
}

func (n names) Addrs(_ context.Context, host string) ([]netip.Addr, error) {
	if a, ok := n.net.Addr(host); ok {
		return []netip.Addr{a}, nil
	}
	return nil, &resolve.Failure{Cause: diagnose.NoAddress, Enhanced: "4.4.4", Text: "no address"}
}

// sea is a queue over the demo's simulated internet, in virtual time.
type sea struct {
	t     *testing.T
	rows  *rows
	net   *simnet.Inside
	queue *Queue
	start time.Time
}

const virtualSettings = `
service:
  host_name: mail.skerryline.example
  postmaster: keeper@skerryline.example
  retry: {intervals: [20s, 40s, 1m, 2m, 5m, 15m, 30m, 1h], jitter: 0, warn_after: 4h, give_up: 2d, lane_rest: 20s}
  timeouts: {connect: 10s, greeting: 15s, command: 30s}
domains: [{name: skerryline.example, kind: local}]
routes: [{name: to the world, recipients: ["*.example"], next_hop: mx}]
peers: [{name: patient, domains: [hangup.example], retry: {intervals: [6h], give_up: 1d}}]
mailboxes: [{address: ines.harrow@skerryline.example}]
`

// atSea runs a test in virtual time: two days of schedule take a moment.
func atSea(t *testing.T, f func(*sea)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		time.Sleep(time.Until(time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC)))
		text, err := os.ReadFile("../../../demo/simnet.yaml")
		if err != nil {
			t.Fatal(err)
		}
		world, err := simnet.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		n, err := simnet.NewInside(world)
		if err != nil {
			t.Fatal(err)
		}
		c, err := config.Parse([]byte(virtualSettings))
		if err != nil {
			t.Fatal(err)
		}
		s := &sea{t: t, rows: newRows(), net: n, start: time.Now()}
		s.queue = New(Options{Store: s.rows, Node: 1, Name: "test", IDs: ident.NewMaker(1, time.Now), Hub: live.NewHub(), Tally: tally.New(), Log: slog.New(slog.DiscardHandler),
			Outward: deliver.Options{Dial: n.Dial, Resolver: names{n}}})
		s.queue.Apply(config.Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases)))
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { s.queue.Run(ctx); close(done) }()
		defer func() {
			cancel()
			<-done
			time.Sleep(time.Hour) // sessions that hosts hold open end
		}()
		f(s)
	})
}

// send enters letters and returns their deliveries.
func (s *sea) send(n int, from, to string) []mail.DeliveryID {
	s.t.Helper()
	var ids []mail.DeliveryID
	for range n {
		e := letter(s.queue, from, to)
		if err := s.queue.Enter(context.Background(), e); err != nil {
			s.t.Fatal(err)
		}
		ids = append(ids, e.Deliveries[0].ID())
	}
	return ids
}

// ended waits until deliveries have come to their end, for at most so long.
func (s *sea) ended(ids []mail.DeliveryID, atMost time.Duration) {
	s.t.Helper()
	for range int(atMost/time.Second) + 1 {
		s.rows.mu.Lock()
		left := 0
		for _, id := range ids {
			if _, ok := s.rows.done[id]; !ok {
				left++
			}
		}
		s.rows.mu.Unlock()
		if left == 0 {
			return
		}
		time.Sleep(time.Second)
	}
	s.t.Fatalf("not all letters came to their end within %s", atMost)
}

// tries are the seconds after the start at which a delivery was tried.
func (s *sea) tries(id mail.DeliveryID) []int {
	s.rows.mu.Lock()
	defer s.rows.mu.Unlock()
	var out []int
	for _, at := range s.rows.tries[id] {
		out = append(out, int(at.Sub(s.start).Round(time.Second).Seconds()))
	}
	return out
}

// notice is the n-th notice that was made, read again.
func (s *sea) notice(n int) (dsn.Report, string, int) {
	s.t.Helper()
	time.Sleep(time.Second)
	s.rows.mu.Lock()
	defer s.rows.mu.Unlock()
	if len(s.rows.notices) <= n {
		s.t.Fatalf("there are %d notices", len(s.rows.notices))
	}
	e := s.rows.notices[n]
	r, err := dsn.Read(e.Content, "mail.skerryline.example")
	if err != nil || e.Message.Sender != "" || e.Deliveries[0].Recipient != "ines.harrow@skerryline.example" {
		s.t.Fatalf("notice %d: %v\n%s", n, err, e.Content)
	}
	return r, string(e.Content), int(e.Message.ReceivedAt.Sub(s.start).Round(time.Second).Seconds())
}

const ines = "ines.harrow@skerryline.example"

func TestGreylistedLettersArriveAtTheThirdAttempt(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(1, ines, "finn@greywacke.example")
		s.ended(ids, time.Hour)
		if got := fmt.Sprint(s.tries(ids[0])); got != "[0 20 60]" || s.rows.done[ids[0]].State != mail.Delivered || len(s.rows.notices) != 0 {
			t.Errorf("tried at %s, then %s", got, s.rows.done[ids[0]].State)
		}
	})
}

func TestAFullMailboxIsReturnedWhenItsHostSaysForGood(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(1, ines, "ivo@fullshelf.example")
		s.ended(ids, time.Hour)
		r, text, at := s.notice(0)
		if got := fmt.Sprint(s.tries(ids[0])); got != "[0 20 60]" || s.rows.done[ids[0]].State != mail.Bounced || at != 60 {
			t.Errorf("tried at %s, told at %d", got, at)
		}
		if one := r.Recipients[0]; one.Action != dsn.Failed || one.Status != "5.2.2" || one.Final != "ivo@fullshelf.example" || one.RemoteHost != "mx.fullshelf.example" || !strings.Contains(text, "mailbox is full") {
			t.Errorf("%+v\n%s", one, text)
		}
	})
}

func TestASlowHostIsGivenItsTime(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(3, ines, "una@slowtide.example")
		s.ended(ids, time.Hour)
		for _, id := range ids {
			if d := s.rows.done[id]; d.State != mail.Delivered || d.Attempts != 1 || len(s.tries(id)) != 1 || s.tries(id)[0] < 6 {
				t.Errorf("%s after attempts at %v", d.State, s.tries(id))
			}
		}
	})
}

func TestAHostOfFewConnectionsGetsNoMoreAndItsRateIsKept(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(150, ines, "leif@ebbandflow.example")
		s.ended(ids, time.Hour)
		over := 0
		for _, id := range ids {
			if d := s.rows.done[id]; d.State != mail.Delivered {
				t.Errorf("%s: %s", id, d.State)
			} else if d.Attempts > 1 {
				over++
			}
		}
		st := s.net.Stats("mx.ebbandflow.example")
		crowded := st.MostOpen - 2
		if st.Letters != 150 || crowded > 4 || over < 60 || over > 95 || len(s.rows.notices) != 0 {
			t.Errorf("%d letters, at most %d connections at once, %d tried again", st.Letters, st.MostOpen, over)
		}
		if took := time.Since(s.start); took < 2*time.Minute || took > 10*time.Minute {
			t.Errorf("150 letters at 60 a minute took %s", took)
		}
	})
}

func TestADeadHostWithManyLettersCostsOneConnectionAnInterval(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(100, ines, "jo@sunkenpier.example")
		s.ended(ids, 49*time.Hour)
		dials := s.net.Dials("mx.sunkenpier.example")
		// 20 s, 40 s, … up to ten minutes between two: 291 in two days, and the
		// connections that were opened together at first.
		if n := len(dials); n < 285 || n > 300 {
			t.Errorf("%d connections were tried in two days", n)
		}
		for i := firstConnections + 1; i < len(dials); i++ {
			if gap := dials[i].Sub(dials[i-1]); gap < 19*time.Second || dials[i].Sub(s.start) > 30*time.Minute && gap < 9*time.Minute && dials[i].Sub(s.start) < 47*time.Hour {
				t.Fatalf("connection %d came %s after the one before, at %s", i, gap, dials[i].Sub(s.start))
			}
		}
		told := map[dsn.Action]int{}
		for i := range s.rows.notices {
			r, _, at := s.notice(i)
			told[r.Recipients[0].Action]++
			if a := r.Recipients[0].Action; a == dsn.Delayed && (at < 4*3600 || at > 4*3600+60) || a == dsn.Failed && (at < 48*3600 || at > 48*3600+180 || r.Recipients[0].Status != "4.4.7") {
				t.Errorf("%s %s at %d s", a, r.Recipients[0].Status, at)
			}
		}
		if told[dsn.Delayed] != 100 || told[dsn.Failed] != 100 {
			t.Errorf("told: %v", told)
		}
	})
}

func TestAHostThatNeverAnswersIsGivenUpInTime(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(1, ines, "kit@fogbank.example")
		s.ended(ids, 49*time.Hour)
		d := s.rows.done[ids[0]]
		tries := s.tries(ids[0])
		// Fifteen seconds until each greeting is given up, then the longer of the
		// lane's rest and the letter's own interval.
		if got := fmt.Sprint(tries[:8]); got != "[15 50 105 200 375 710 1625 3440]" || d.State != mail.Expired || tries[len(tries)-1] > 48*3600+30 || len(tries) != 55 {
			t.Errorf("%s after %d attempts at %v", d.State, len(tries), tries)
		}
		first, text, at := s.notice(0)
		if first.Recipients[0].Action != dsn.Delayed || at < 4*3600 || at > 4*3600+30 || !strings.Contains(text, "We keep trying until Wednesday, 25 November 2026 05:00") {
			t.Errorf("%+v at %d\n%s", first, at, text)
		}
		last, _, _ := s.notice(1)
		if len(s.rows.notices) != 2 || last.Recipients[0].Action != dsn.Failed || last.Recipients[0].Status != "4.4.7" {
			t.Errorf("%d notices, %+v", len(s.rows.notices), last)
		}
	})
}

func TestAPeersOwnScheduleCounts(t *testing.T) {
	atSea(t, func(s *sea) {
		long := letter(s.queue, ines, "ada@hangup.example")
		long.Content = append(long.Content, bytes.Repeat([]byte("a line of the letter\r\n"), 40)...)
		long.Message.Size = int64(len(long.Content))
		if err := s.queue.Enter(context.Background(), long); err != nil {
			t.Fatal(err)
		}
		ids := []mail.DeliveryID{long.Deliveries[0].ID()}
		s.ended(ids, 25*time.Hour)
		d := s.rows.done[ids[0]]
		if got := fmt.Sprint(s.tries(ids[0])); got != "[0 21600 43200 64800 86400]" || d.State != mail.Expired || d.Last.Stage != diagnose.StageContent || d.Cause != diagnose.Dropped {
			t.Errorf("%s (%s at %s) after attempts at %s", d.State, d.Cause, d.Last.Stage, got)
		}
	})
}

func TestABulkSenderDoesNotStopAShortLetter(t *testing.T) {
	atSea(t, func(s *sea) {
		many := s.send(600, "tickets@skerryline.example", "una@slowtide.example")
		time.Sleep(time.Minute)
		before := s.net.Stats("mx.slowtide.example").Letters
		one := s.send(1, ines, "una@slowtide.example")
		s.ended(one, time.Hour)
		if n := s.net.Stats("mx.slowtide.example").Letters - before; n > 25 {
			t.Errorf("%d letters of a bulk sender went before a single one", n)
		}
		s.ended(many, 2*time.Hour)
	})
}
