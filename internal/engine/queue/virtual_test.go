package queue_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/dsn"
	"gullroute/internal/core/mail"
	"gullroute/internal/simnet"
	"gullroute/internal/virtual"
)

// sea is a queue over the demo's simulated internet, in virtual time.
type sea struct {
	*virtual.World
	t     *testing.T
	start time.Time
}

const virtualSettings = `
service:
  host_name: mail.skerryline.example
  postmaster: keeper@skerryline.example
  retry: {intervals: [20s, 40s, 1m, 2m, 5m, 15m, 30m, 1h], jitter: 0, warn_after: 4h, expire_after: 2d, back_off: 20s}
  timeouts: {connect: 10s, greeting: 15s, command: 30s}
domains: [{name: skerryline.example, kind: local}]
routes: [{name: to the world, recipients: ["*.example"], next_hop: mx}]
peers: [{name: patient, domains: [hangup.example], retry: {intervals: [6h], expire_after: 1d}}]
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
		w, err := virtual.Start(virtualSettings, world, "test")
		if err != nil {
			t.Fatal(err)
		}
		defer w.Stop()
		s := &sea{w, t, time.Now()}
		f(s)
	})
}

// send enters messages and returns their deliveries.
func (s *sea) send(n int, from, to string) []mail.DeliveryID {
	s.t.Helper()
	var ids []mail.DeliveryID
	for range n {
		e := s.Message(from, to, []byte("Subject: Berth\r\n\r\nhi\r\n"))
		if err := s.Queue.Enter(context.Background(), e); err != nil {
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
		left := 0
		for _, id := range ids {
			if _, ok := s.Rows.Done(id); !ok {
				left++
			}
		}
		if left == 0 {
			return
		}
		time.Sleep(time.Second)
	}
	s.t.Fatalf("not all messages came to their end within %s", atMost)
}

func (s *sea) end(id mail.DeliveryID) mail.Delivery {
	d, _ := s.Rows.Done(id)
	return d
}

// tries are the seconds after the start at which a delivery was tried.
func (s *sea) tries(id mail.DeliveryID) []int {
	var out []int
	for _, at := range s.Rows.Tries(id) {
		out = append(out, int(at.Sub(s.start).Round(time.Second).Seconds()))
	}
	return out
}

// notice is the n-th notice that was made, read again.
func (s *sea) notice(n int) (dsn.Report, string, int) {
	s.t.Helper()
	time.Sleep(time.Second)
	notices := s.Rows.Notices()
	if len(notices) <= n {
		s.t.Fatalf("there are %d notices", len(notices))
	}
	e := notices[n]
	r, err := dsn.Read(e.Content, "mail.skerryline.example")
	if err != nil || e.Message.Sender != "" || e.Deliveries[0].Recipient != "ines.harrow@skerryline.example" {
		s.t.Fatalf("notice %d: %v\n%s", n, err, e.Content)
	}
	return r, string(e.Content), int(e.Message.ReceivedAt.Sub(s.start).Round(time.Second).Seconds())
}

const ines = "ines.harrow@skerryline.example"

func TestGreylistedMessagesArriveAtTheThirdAttempt(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(1, ines, "finn@greywacke.example")
		s.ended(ids, time.Hour)
		if got := fmt.Sprint(
			s.tries(ids[0]),
		); got != "[0 20 60]" || s.end(ids[0]).State != mail.Delivered ||
			len(s.Rows.Notices()) != 0 {
			t.Errorf("tried at %s, then %s", got, s.end(ids[0]).State)
		}
	})
}

func TestAFullMailboxIsReturnedWhenItsHostSaysForGood(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(1, ines, "ivo@fullshelf.example")
		s.ended(ids, time.Hour)
		r, text, at := s.notice(0)
		if got := fmt.Sprint(s.tries(ids[0])); got != "[0 20 60]" || s.end(ids[0]).State != mail.Bounced || at != 60 {
			t.Errorf("tried at %s, told at %d", got, at)
		}
		if one := r.Recipients[0]; one.Action != dsn.Failed || one.Status != "5.2.2" ||
			one.Final != "ivo@fullshelf.example" ||
			one.RemoteHost != "mx.fullshelf.example" ||
			!strings.Contains(text, "mailbox is full") {
			t.Errorf("%+v\n%s", one, text)
		}
	})
}

func TestASlowHostIsGivenItsTime(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(3, ines, "una@slowtide.example")
		s.ended(ids, time.Hour)
		for _, id := range ids {
			if d := s.end(
				id,
			); d.State != mail.Delivered || d.Attempts != 1 || len(s.tries(id)) != 1 ||
				s.tries(id)[0] < 6 {
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
			if d := s.end(id); d.State != mail.Delivered {
				t.Errorf("%s: %s", id, d.State)
			} else if d.Attempts > 1 {
				over++
			}
		}
		st := s.Net.Stats("mx.ebbandflow.example")
		crowded := st.MostOpen - 2
		if st.Messages != 150 || crowded > 4 || over < 60 || over > 95 || len(s.Rows.Notices()) != 0 {
			t.Errorf("%d messages, at most %d connections at the same time, %d tried again",
				st.Messages, st.MostOpen, over)
		}
		if took := time.Since(s.start); took < 2*time.Minute || took > 10*time.Minute {
			t.Errorf("150 messages at 60 a minute took %s", took)
		}
	})
}

func TestADeadHostWithManyMessagesCostsOneConnectionAnInterval(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(100, ines, "jo@sunkenpier.example")
		s.ended(ids, 49*time.Hour)
		dials := s.Net.Dials("mx.sunkenpier.example")
		// 20 s, 40 s, … up to ten minutes between two: 291 in two days, and the
		// connections that were opened together at first.
		if n := len(dials); n < 285 || n > 300 {
			t.Errorf("%d connections were tried in two days", n)
		}
		for i := 4; i < len(dials); i++ {
			if gap := dials[i].Sub(dials[i-1]); gap < 19*time.Second ||
				dials[i].Sub(s.start) > 30*time.Minute && gap < 9*time.Minute && dials[i].Sub(s.start) < 47*time.Hour {
				t.Fatalf("connection %d came %s after the one before, at %s", i, gap, dials[i].Sub(s.start))
			}
		}
		told := map[dsn.Action]int{}
		for i := range s.Rows.Notices() {
			r, _, at := s.notice(i)
			told[r.Recipients[0].Action]++
			if a := r.Recipients[0].Action; a == dsn.Delayed && (at < 4*3600 || at > 4*3600+60) ||
				a == dsn.Failed && (at < 48*3600 || at > 48*3600+180 || r.Recipients[0].Status != "4.4.7") {
				t.Errorf("%s %s at %d s", a, r.Recipients[0].Status, at)
			}
		}
		if told[dsn.Delayed] != 100 || told[dsn.Failed] != 100 {
			t.Errorf("told: %v", told)
		}
	})
}

func TestAMessageToAHostThatNeverAnswersExpiresInTime(t *testing.T) {
	atSea(t, func(s *sea) {
		ids := s.send(1, ines, "kit@fogbank.example")
		s.ended(ids, 49*time.Hour)
		d := s.end(ids[0])
		tries := s.tries(ids[0])
		// Fifteen seconds until each greeting times out, then the longer of the
		// lane's rest and the message's own interval.
		if got := fmt.Sprint(
			tries[:8],
		); got != "[15 50 105 200 375 710 1625 3440]" || d.State != mail.Expired || tries[len(tries)-1] > 48*3600+30 ||
			len(tries) != 55 {
			t.Errorf("%s after %d attempts at %v", d.State, len(tries), tries)
		}
		first, text, at := s.notice(0)
		if first.Recipients[0].Action != dsn.Delayed || at < 4*3600 || at > 4*3600+30 ||
			!strings.Contains(text, "We keep trying until Wednesday, 25 November 2026 05:00") {
			t.Errorf("%+v at %d\n%s", first, at, text)
		}
		last, _, _ := s.notice(1)
		if len(s.Rows.Notices()) != 2 || last.Recipients[0].Action != dsn.Failed ||
			last.Recipients[0].Status != "4.4.7" {
			t.Errorf("%d notices, %+v", len(s.Rows.Notices()), last)
		}
	})
}

func TestAPeersOwnScheduleCounts(t *testing.T) {
	atSea(t, func(s *sea) {
		long := s.Message(ines, "ada@hangup.example", []byte("Subject: Berth\r\n\r\nhi\r\n"))
		long.Content = append(long.Content, bytes.Repeat([]byte("a line of the message\r\n"), 40)...)
		long.Message.Size = int64(len(long.Content))
		if err := s.Queue.Enter(context.Background(), long); err != nil {
			t.Fatal(err)
		}
		ids := []mail.DeliveryID{long.Deliveries[0].ID()}
		s.ended(ids, 25*time.Hour)
		d := s.end(ids[0])
		if got := fmt.Sprint(
			s.tries(ids[0]),
		); got != "[0 21600 43200 64800 86400]" || d.State != mail.Expired || d.Last.Stage != diagnose.StageContent ||
			d.Cause != diagnose.Dropped {
			t.Errorf("%s (%s at %s) after attempts at %s", d.State, d.Cause, d.Last.Stage, got)
		}
	})
}

func TestABulkSenderDoesNotStopAShortMessage(t *testing.T) {
	atSea(t, func(s *sea) {
		many := s.send(600, "tickets@skerryline.example", "una@slowtide.example")
		time.Sleep(time.Minute)
		before := s.Net.Stats("mx.slowtide.example").Messages
		one := s.send(1, ines, "una@slowtide.example")
		s.ended(one, time.Hour)
		if n := s.Net.Stats("mx.slowtide.example").Messages - before; n > 25 {
			t.Errorf("%d messages of a bulk sender went before a single one", n)
		}
		s.ended(many, 2*time.Hour)
	})
}
