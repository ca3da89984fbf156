package test

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"gullroute/internal/client"
	"gullroute/internal/core/mail"
)

// sender keeps sending messages to one host and notes which got their 250.
type sender struct {
	s       *stack
	stop    atomic.Bool
	mu      sync.Mutex
	taken   map[string]string // our id by the message's own number
	refused map[string]int    // replies other than 250, by code
	wg      sync.WaitGroup
}

func startSenders(s *stack, connections int) *sender {
	se := &sender{s: s, taken: map[string]string{}, refused: map[string]int{}}
	for c := range connections {
		se.wg.Add(1)
		go func() {
			defer se.wg.Done()
			for n := 0; !se.stop.Load(); {
				n = se.connection(c, n)
				time.Sleep(20 * time.Millisecond)
			}
		}()
	}
	return se
}

// connection sends until the connection breaks, and returns the next number.
func (se *sender) connection(c, n int) int {
	conn, err := net.DialTimeout("tcp", se.s.inside, time.Second)
	if err != nil {
		return n
	}
	defer conn.Close()
	br := bufio.NewReader(conn)
	say := func(text string) (string, bool) {
		_ = conn.SetDeadline(time.Now().Add(40 * time.Second))
		fmt.Fprint(conn, text)
		for {
			line, err := br.ReadString('\n')
			if err != nil || len(line) < 4 {
				return "", false
			}
			if line[3] == ' ' {
				return strings.TrimSpace(line), true
			}
		}
	}
	if _, ok := say(""); !ok {
		return n
	}
	if _, ok := say("EHLO sender.example\r\n"); !ok {
		return n
	}
	for ; !se.stop.Load(); n++ {
		name := fmt.Sprintf("%d-%d", c, n)
		var reply string
		ok := true
		for _, text := range []string{"MAIL FROM:<tickets@skerryline.example>\r\n",
			"RCPT TO:<survivor@barelock.example>\r\n", "DATA\r\n", "Subject: " + name + "\r\n\r\nhi\r\n.\r\n"} {
			if reply, ok = say(text); !ok {
				return n + 1 // nobody knows about this one
			}
		}
		se.mu.Lock()
		if id, taken := strings.CutPrefix(reply, "250 2.0.0 accepted as "); taken {
			se.taken[name] = id
		} else {
			se.refused[reply[:min(9, len(reply))]]++
		}
		se.mu.Unlock()
	}
	return n
}

func (se *sender) end() {
	se.stop.Store(true)
	se.wg.Wait()
}

func (se *sender) count() int {
	se.mu.Lock()
	defer se.mu.Unlock()
	return len(se.taken)
}

// settle waits until the queue is empty and checks that each message that got its
// 250 has arrived. It returns how many arrived twice.
func (se *sender) settle(t *testing.T) int {
	t.Helper()
	var arrived map[string]int
	err := eventually(40*time.Second, func() error {
		arrived = map[string]int{}
		for _, l := range se.s.messages(t, "mx.barelock.example", "survivor@barelock.example") {
			_, rest, _ := strings.Cut(string(l.Content), "Subject: ")
			name, _, _ := strings.Cut(rest, "\r\n")
			arrived[name]++
		}
		missing := 0
		for name := range se.taken {
			if arrived[name] == 0 {
				missing++
			}
		}
		if missing > 0 {
			return fmt.Errorf("%d of %d messages that got their 250 have not arrived", missing, len(se.taken))
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	twice := 0
	for _, n := range arrived {
		if n > 1 {
			twice++
		}
	}
	return twice
}

func TestNoMessageThatGotIts250IsLostWhenTheDatabaseIsKilled(t *testing.T) {
	takesLong(t)
	_, postgres, port, secret := cluster(t, "test-crash")
	s := own(t, "crashed", nil)
	se := startSenders(s, 4)
	some := func(what string) {
		t.Helper()
		before := se.count()
		if err := eventually(30*time.Second, func() error {
			if se.count() < before+60 {
				return fmt.Errorf("%s: only %d messages were taken", what, se.count()-before)
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	some("before")
	postgres("crash", "test-crash")
	if err := eventually(20*time.Second, func() error {
		se.mu.Lock()
		defer se.mu.Unlock()
		if se.refused["451 4.3.0"] < 3 {
			return fmt.Errorf("clients hear %v, not 451 4.3.0", se.refused)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	if resp, err := http.Get("http://" + s.http + "/readyz"); err != nil ||
		resp.StatusCode != http.StatusServiceUnavailable {
		t.Errorf("/readyz with the database down: %v %v", resp, err)
	}
	if _, err := client.New("http://"+s.http,
		adminToken).Status(context.Background()); err == nil ||
		!strings.Contains(err.Error(), "the database does not answer") {
		t.Errorf("status with the database down: %v", err)
	}
	postgres("start", "test-crash", port, secret)
	some("after")
	se.end()
	twice := se.settle(t)
	t.Logf("%d messages got their 250, none is lost, %d arrived twice, refused %v", len(se.taken), twice,
		se.refused)
	if err := eventually(20*time.Second, func() error {
		lanes, err := s.client().Lanes(context.Background(), nil)
		if err == nil && len(lanes.Items) > 0 {
			err = fmt.Errorf("the queue is not empty: %+v", lanes.Items)
		}
		return err
	}); err != nil {
		t.Error(err)
	}
}

func TestAGracefulStopLeavesNothingBehind(t *testing.T) {
	s := own(t, "stopped", nil)
	se := startSenders(s, 2)
	time.Sleep(500 * time.Millisecond)
	held := s.out(t, "a@sunkenpier.example")
	_ = s.serve.Process.Signal(os.Interrupt)
	if err := s.serve.Wait(); err != nil {
		t.Errorf("the service ended with %v", err)
	}
	se.end()
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	if twice := se.settle(t); twice > 0 {
		t.Errorf("%d messages arrived twice after a graceful stop", twice)
	}
	s.until(t, held, mail.Deferred)
}
