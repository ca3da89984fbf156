package test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
)

// rounds is how often something is killed; scripts/faults sets more.
func rounds() int {
	if n, err := strconv.Atoi(os.Getenv("GULL_FAULT_ROUNDS")); err == nil {
		return n
	}
	return 2
}

// account waits until the queue is empty and prints what became of the messages
// that got their 250. None may be lost.
func (se *sender) account(t *testing.T, fault string) (twice int) {
	t.Helper()
	ctx := context.Background()
	db, err := pgx.Connect(ctx, se.s.database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	var ids []string
	for _, id := range se.taken {
		ids = append(ids, id)
	}
	number := func(sql string, args ...any) int {
		t.Helper()
		var n int
		if err := db.QueryRow(ctx, sql, args...).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	queued := 0
	if err := eventually(90*time.Second, func() error {
		if queued = number(`SELECT count(*) FROM delivery`); queued > 0 {
			return fmt.Errorf("%d messages are still in the queue", queued)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	var known []int64
	for _, id := range ids {
		known = append(known, number64(t, id))
	}
	delivered := number(`SELECT count(*) FROM delivery_done WHERE state = 'delivered' AND message_id = ANY($1)`, known)
	waiting := number(`SELECT count(*) FROM delivery WHERE message_id = ANY($1)`, known)
	everywhere := number(
		`SELECT count(*) FROM delivery_done WHERE state = 'delivered' AND recipient = 'survivor@barelock.example'`,
	)
	arrived := se.s.host(t, "mx.barelock.example").Stats.Messages
	lost := len(known) - delivered - waiting
	fmt.Printf("| %s | %d | %d | %d | %d | %d |\n", fault, len(known), delivered, waiting,
		arrived-everywhere, lost)
	if lost != 0 || arrived < everywhere {
		t.Errorf("%d messages that got their 250 are lost; %d arrived, %d are on record", lost, arrived,
			everywhere)
	}
	return arrived - everywhere
}

// row prints what became of a few messages that were followed one by one.
func (s *stack) row(t *testing.T, fault string, ids []string, twice int) {
	t.Helper()
	count := map[mail.State]int{}
	for _, id := range ids {
		tr, err := s.client().Trace(context.Background(), id, nil)
		if err != nil {
			t.Fatal(err)
		}
		count[tr.Message.Deliveries[0].State]++
	}
	delivered := count[mail.Delivered]
	queued := count[mail.Waiting] + count[mail.Deferred] + count[mail.Sending]
	fmt.Printf("| %s | %d | %d | %d | %d | %d |\n", fault, len(ids), delivered, queued, twice,
		len(ids)-delivered-queued)
}

func number64(t *testing.T, id string) int64 {
	t.Helper()
	var v mail.Message
	if err := v.ID.UnmarshalText([]byte(id)); err != nil {
		t.Fatal(err)
	}
	return int64(v.ID)
}

// more waits until so many more messages were taken.
func (se *sender) more(t *testing.T, n int) {
	t.Helper()
	before := se.count()
	if err := eventually(30*time.Second, func() error {
		se.mu.Lock()
		defer se.mu.Unlock()
		if len(se.taken) < before+n {
			return fmt.Errorf("only %d messages were taken; refused %v", len(se.taken)-before, se.refused)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
}

func moment() { time.Sleep(time.Duration(50+rand.IntN(700)) * time.Millisecond) }

func TestFaultTheServiceIsKilled(t *testing.T) {
	s := own(t, "killed", nil)
	se := startSenders(s, 4)
	for range rounds() {
		se.more(t, 30)
		moment()
		s.kill()
		if err := s.start(); err != nil {
			t.Fatal(err)
		}
	}
	se.end()
	se.account(t, fmt.Sprintf("SIGKILL of the service, %d times", rounds()))
}

// cluster starts a PostgreSQL of the test's own.
func cluster(t *testing.T, name string) (server string, do func(args ...string), port, secret string) {
	t.Helper()
	u, err := url.Parse(os.Getenv("GULL_TEST_DATABASE"))
	if err != nil {
		t.Fatal(err)
	}
	port = freePort("127.0.0.1")
	do = func(args ...string) {
		t.Helper()
		if out, err := exec.Command("../scripts/postgres", args...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	secret, _ = u.User.Password()
	do("start", name, port, secret)
	t.Cleanup(func() { do("stop", name) })
	u.Host = "127.0.0.1:" + port
	t.Setenv("GULL_TEST_DATABASE", u.String())
	return u.String(), do, port, secret
}

func TestFaultTheDatabaseIsKilled(t *testing.T) {
	_, do, port, secret := cluster(t, "test-faults")
	s := own(t, "databasekilled", nil)
	se := startSenders(s, 4)
	together := 0
	for round := range rounds() {
		se.more(t, 30)
		moment()
		if round%2 == 1 { // both at once, as a machine that loses its power does it
			s.kill()
			together++
		}
		do("crash", "test-faults")
		moment()
		do("start", "test-faults", port, secret)
		if round%2 == 1 {
			if err := s.start(); err != nil {
				t.Fatal(err)
			}
		}
	}
	se.more(t, 30)
	se.end()
	twice := se.account(t, fmt.Sprintf("crash of PostgreSQL, %d times (%d with the service)", rounds(), together))
	if twice > 100*together { // what goes on being sent while nothing is recorded would be
		t.Errorf("%d messages arrived twice after %d crashes of both", twice, together)
	}
}

func TestFaultOneOfTwoNodesIsKilled(t *testing.T) {
	t.Parallel()
	s := own(t, "nodekilled", nil)
	other := s.second(t, "reef")
	here, there := startSenders(s, 2), startSenders(other, 2)
	there.more(t, 100)
	here.more(t, 50)
	s.behave(t, "mx.barelock.example", `{"pause": "400ms"}`) // messages wait in both memories
	there.more(t, 50)
	_ = other.serve.Process.Kill()
	_ = other.serve.Wait()
	there.end()
	s.behave(t, "mx.barelock.example", `{"pause": "0s"}`)
	here.more(t, 50)
	here.end()
	for name, id := range there.taken {
		here.taken["there "+name] = id
	}
	began := time.Now()
	here.account(t, "SIGKILL of one of two nodes")
	if took := time.Since(began); took > 60*time.Second {
		t.Errorf("the other node took over only after %s", took)
	}
}

func TestFaultTheDatabasesDiskIsFull(t *testing.T) {
	place := t.TempDir()
	if out, err := exec.Command(
		"mount",
		"-t",
		"tmpfs",
		"-o",
		"size=64m,mode=777",
		"none",
		place,
	).CombinedOutput(); err != nil {
		t.Skipf("a small disk cannot be made here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", place).Run() })
	for dir := place; dir != "/"; dir = filepath.Dir(dir) { // PostgreSQL's user must get there
		_ = os.Chmod(dir, 0o777)
	}
	server, _, _, _ := cluster(t, "test-full")
	db, err := pgx.Connect(context.Background(), strings.Replace(server, "//gull:", "//postgres:", 1))
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(
		"install",
		"-d",
		"-m",
		"700",
		"-o",
		"postgres",
		filepath.Join(place, "small"),
	).CombinedOutput(); err != nil {
		t.Skipf("no user postgres here: %s", out)
	}
	name := fmt.Sprintf("small_%d", time.Now().UnixNano())
	if _, err := db.Exec(
		context.Background(),
		`CREATE TABLESPACE `+name+` LOCATION '`+filepath.Join(place, "small")+`'`,
	); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(context.Background(), `GRANT CREATE ON TABLESPACE `+name+` TO gull`); err != nil {
		t.Fatal(err)
	}
	db.Close(context.Background())
	tablespace = name
	t.Cleanup(func() { tablespace = "" })
	s := own(t, "full", nil)
	se := startSenders(s, 2)
	se.more(t, 50)
	empty := fill(t, place)
	if err := eventually(60*time.Second, func() error {
		se.mu.Lock()
		defer se.mu.Unlock()
		if se.refused["452 4.3.1"] < 3 {
			return fmt.Errorf("clients hear %v, not 452 4.3.1", se.refused)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	empty()
	se.more(t, 50) // by itself
	se.end()
	se.account(t, "disk of the database full")
}

func TestFaultDNSIsDownSlowOrLying(t *testing.T) {
	t.Parallel()
	s := own(t, "dns", nil)
	mode := func(m string) { t.Helper(); s.dns(t, m) }
	var ids []string
	for _, c := range []struct{ mode, to, says string }{
		{"lying", "a@saltmarsh.example", "not to be trusted"},
		{"down", "b@dunlin.example", "DNS gives no answer"},
	} {
		mode(c.mode)
		id := s.out(t, c.to)
		ids = append(ids, id)
		if d := s.until(t, id, mail.Deferred); d.Cause != "dns-trouble" || !strings.Contains(d.Last.Text,
			c.says) {
			t.Errorf("DNS %s: %s, %s", c.mode, d.Cause, d.Last.Text)
		}
		mode("well")
		s.run(t, "queue", "flush", "--all")
		if err := eventually(45*time.Second, func() error { // what was answered is kept for half a minute
			if m, _ := s.find(t, c.to); m.Deliveries[0].State != mail.Delivered {
				return fmt.Errorf("%s", m.Deliveries[0].State)
			}
			return nil
		}); err != nil {
			t.Errorf("after DNS was %s: %v", c.mode, err)
		}
	}
	mode("slow")
	ids = append(ids, s.out(t, "c@barelock.example"))
	s.until(t, ids[2], mail.Delivered)
	s.row(t, "DNS lying, down, slow", ids, 0)
	mode("well")
	id := s.out(t, "d@no-such-domain.example") // its word still counts when it is well
	if d := s.until(t, id, mail.Bounced); d.Cause != "no-such-domain" {
		t.Errorf("%s", d.Cause)
	}
}

func TestFaultTheRemoteHostHangsUpAtEachStage(t *testing.T) {
	t.Parallel()
	s := own(t, "hangsup", nil)
	var ids []string
	arrived := 0
	for _, c := range []struct {
		at, stage string
		twice     bool
	}{{"greeting", "greeting", false}, {"ehlo", "hello", false}, {"mail", "sender", false}, {"rcpt",
		"sender", false}, {"data", "content", false}, {"final", "content", true}} {
		time.Sleep(2500 * time.Millisecond) // connections that wait for a message are closed
		s.behave(t, "mx.barelock.example", `{"drop_at": "`+c.at+`"}`)
		to := c.at + "@barelock.example"
		id := s.out(t, to)
		ids = append(ids, id)
		d := s.until(t, id, mail.Deferred)
		if d.Cause != "connection-dropped" || string(d.Last.Stage) != c.stage && string(d.Last.Stage) != "recipient" {
			t.Errorf("hung up at %s: %s at %s", c.at, d.Cause, d.Last.Stage)
		}
		s.behave(t, "mx.barelock.example", `{"drop_at": ""}`)
		s.run(t, "queue", "flush", "--all")
		s.until(t, id, mail.Delivered)
		n := len(s.messages(t, "mx.barelock.example", to))
		if n != 1 && !c.twice || n == 0 {
			t.Errorf("hung up at %s: it arrived %d times", c.at, n)
		}
		arrived += n
	}
	s.row(t, "the remote host hangs up at six stages", ids, arrived-len(ids))
}
