package test

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
)

// pair is a PostgreSQL primary with a synchronous standby, and two nodes on them.
type pair struct {
	*stack
	t      *testing.T
	other  *stack
	names  [2]string // of the clusters: the first is the primary at first
	ports  [2]string
	secret string
	now    int // which of them takes writes, and is to
}

func (p *pair) do(args ...string) {
	p.t.Helper()
	if args[0] == "promote" {
		p.now = 1
	}
	if out, err := exec.Command("../scripts/postgres", args...).CombinedOutput(); err != nil {
		p.t.Fatalf("%v: %v %s", args, err, out)
	}
}

// newClusters are the primary and the standby of a pair, without nodes; the URL is the
// primary's.
func newClusters(t *testing.T, name string) (*pair, *url.URL) {
	t.Helper()
	u, err := url.Parse(os.Getenv("GULL_TEST_DATABASE"))
	if err != nil {
		t.Fatal(err)
	}
	p := &pair{
		t:     t,
		names: [2]string{"test-" + name + "-a", "test-" + name + "-b"},
		ports: [2]string{freePort("127.0.0.1"), freePort("127.0.0.1")},
	}
	p.secret, _ = u.User.Password()
	t.Cleanup(func() {
		for _, n := range p.names {
			p.do("remove", n)
		}
	})
	p.do("start", p.names[0], p.ports[0], p.secret)
	p.do("standby", p.names[1], p.ports[1], p.secret, p.names[0], p.ports[0])
	u.Host = "127.0.0.1:" + p.ports[0]
	return p, u
}

func newPair(t *testing.T, name string) *pair {
	t.Helper()
	p, u := newClusters(t, name)
	database, err := newDatabase(u.String(), name)
	if err != nil {
		t.Fatal(err)
	}
	one, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	one.Host += ",127.0.0.1:" + p.ports[1]
	one.RawQuery = "target_session_attrs=read-write"
	if p.stack, err = newStackOn(false, one.String(), nil); err != nil {
		t.Fatal(err)
	}
	p.cleanUp(t)
	p.other = p.second(t, "reef")
	return p
}

// number asks the host that takes writes now; a former primary may too.
func (p *pair) number(sql string, args ...any) (n int) {
	p.t.Helper()
	if err := eventually(30*time.Second, func() error {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		u, err := url.Parse(p.database)
		if err != nil {
			return err
		}
		u.Host, u.RawQuery = "127.0.0.1:"+p.ports[p.now], ""
		db, err := pgx.Connect(ctx, u.String())
		if err != nil {
			return err
		}
		defer db.Close(ctx)
		return db.QueryRow(ctx, sql, args...).Scan(&n)
	}); err != nil {
		p.t.Fatal(err)
	}
	return n
}

// load keeps submitting messages at both nodes, and notes what became of each.
type load struct {
	p       *pair
	size    int
	stop    atomic.Bool
	wg      sync.WaitGroup
	mu      sync.Mutex
	taken   map[string]string // our ids by subject
	refused map[string]string // replies by subject, of messages whose content was sent
	early   int               // refused before
	slowest time.Duration     // of an answer to a message
}

func (p *pair) startLoad(connections, size int) *load {
	l := &load{p: p, size: size, taken: map[string]string{}, refused: map[string]string{}}
	for c := range connections {
		at := []string{p.inside, p.other.inside}[c%2]
		l.wg.Go(func() {
			for n := 0; !l.stop.Load(); {
				n = l.connection(at, c, n)
				time.Sleep(50 * time.Millisecond)
			}
		})
	}
	return l
}

func (l *load) connection(at string, c, n int) int {
	conn, err := net.DialTimeout("tcp", at, time.Second)
	if err != nil {
		return n
	}
	defer conn.Close()
	in := bufio.NewReader(conn)
	hear := func() string {
		_ = conn.SetReadDeadline(time.Now().Add(60 * time.Second))
		for {
			line, err := in.ReadString('\n')
			if err != nil || len(line) < 4 {
				return ""
			}
			if line[3] == ' ' {
				return strings.TrimSpace(line)
			}
		}
	}
	say := func(text string) string { fmt.Fprint(conn, text); return hear() }
	if hear() == "" || say("EHLO load.example\r\n") == "" {
		return n
	}
	for ; !l.stop.Load(); n++ {
		subject := fmt.Sprintf("load %d-%d", c, n)
		ready := true
		for _, step := range [][2]string{{"MAIL FROM:<tickets@skerryline.example>\r\n", "250"},
			{"RCPT TO:<survivor@barelock.example>\r\n", "250"}, {"DATA\r\n", "354"}} {
			if reply := say(step[0]); !strings.HasPrefix(reply, step[1]) {
				ready = false
				break
			}
		}
		if !ready {
			l.mu.Lock()
			l.early++
			l.mu.Unlock()
			time.Sleep(100 * time.Millisecond)
			return n + 1
		}
		began := time.Now()
		reply := say(
			"Subject: " + subject + "\r\n\r\n" + strings.Repeat(strings.Repeat("x", 70)+"\r\n",
				l.size/72) + ".\r\n",
		)
		l.mu.Lock()
		l.slowest = max(l.slowest, time.Since(began))
		if id, ok := strings.CutPrefix(reply, "250 2.0.0 accepted as "); ok {
			l.taken[subject] = id
		} else if reply != "" {
			l.refused[subject] = reply
		}
		l.mu.Unlock()
		if reply == "" {
			return n + 1 // nobody knows about this one
		}
	}
	return n
}

func (l *load) count() int { l.mu.Lock(); defer l.mu.Unlock(); return len(l.taken) }

func (l *load) more(n int) {
	l.p.t.Helper()
	before := l.count()
	if err := eventually(60*time.Second, func() error {
		if got := l.count() - before; got < n {
			return fmt.Errorf("only %d of %d messages were taken", got, n)
		}
		return nil
	}); err != nil {
		l.p.t.Fatal(err)
	}
}

// arrivals watches how long nothing arrives at the remote host while messages come in.
type arrivals struct {
	mu       sync.Mutex
	last     time.Time
	messages int
	longest  time.Duration // in all
	afterMax time.Duration // since a host took writes
	writable time.Time     // since when one does, zero while none does
	stop     chan struct{}
	ended    chan struct{}
}

func (p *pair) watch() *arrivals {
	a := &arrivals{last: time.Now(), writable: time.Now(), stop: make(chan struct{}),
		ended: make(chan struct{})}
	go func() {
		defer close(a.ended)
		for {
			select {
			case <-a.stop:
				return
			case <-time.After(100 * time.Millisecond):
			}
			n := p.host(p.t, "mx.barelock.example").Stats.Messages
			now := time.Now()
			a.mu.Lock()
			if n > a.messages {
				a.messages, a.last = n, now
			}
			a.longest = max(a.longest, now.Sub(a.last))
			if !a.writable.IsZero() {
				since := a.last
				if a.writable.After(since) {
					since = a.writable
				}
				a.afterMax = max(a.afterMax, now.Sub(since))
			}
			a.mu.Unlock()
		}
	}()
	return a
}

// takesWrites notes that a host does, or none.
func (a *arrivals) takesWrites(yes bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.writable = (time.Time{}); yes {
		a.writable = time.Now()
	}
}

// drills are what fails. Each leaves a host that takes writes.
var drills = []struct {
	name string
	size int // of the messages, octets
	do   func(*pair, *load, *arrivals)
}{
	{"kill the primary, promote the standby", 0, func(p *pair, l *load, a *arrivals) {
		p.do("crash", p.names[0])
		a.takesWrites(false)
		time.Sleep(8 * time.Second)
		p.do("promote", p.names[1])
		a.takesWrites(true)
	}},
	{"freeze the primary and wake it", 0, func(p *pair, l *load, a *arrivals) {
		p.do("freeze", p.names[0])
		a.takesWrites(false)
		time.Sleep(12 * time.Second)
		p.do("wake", p.names[0])
		a.takesWrites(true)
	}},
	{"freeze the primary, promote the standby", 0, func(p *pair, l *load, a *arrivals) {
		p.do("freeze", p.names[0])
		a.takesWrites(false)
		time.Sleep(6 * time.Second)
		p.do("promote", p.names[1])
		a.takesWrites(true)
		l.more(50)
		p.do("wake", p.names[0]) // it takes writes still, and must get none
	}},
	{"promote the standby, the primary lives", 0, func(p *pair, l *load, a *arrivals) {
		p.do("promote", p.names[1])
	}},
	{"lose the only standby, and have it back", 0, func(p *pair, l *load, a *arrivals) {
		p.do("crash", p.names[1])
		a.takesWrites(false)
		began := time.Now()
		for _, node := range []*stack{p.stack, p.other} {
			node.saysOfDatabase(p.t, "waiting", "commits wait for a synchronous standby")
		}
		time.Sleep(25*time.Second - time.Since(began))
		p.do("start", p.names[1], p.ports[1], p.secret)
		a.takesWrites(true)
	}},
	{"freeze a node and wake it", 0, func(p *pair, l *load, a *arrivals) {
		_ = p.other.serve.Process.Signal(syscall.SIGSTOP)
		time.Sleep(45 * time.Second)
		_ = p.other.serve.Process.Signal(syscall.SIGCONT)
	}},
	{"large messages, freeze the primary, promote the standby", 300 << 10, func(p *pair, l *load, a *arrivals) {
		p.do("freeze", p.names[0])
		a.takesWrites(false)
		time.Sleep(6 * time.Second)
		p.do("promote", p.names[1])
		a.takesWrites(true)
	}},
	{"a backlog of 10,000, kill the primary, promote the standby", 0, func(p *pair, l *load, a *arrivals) {
		a.takesWrites(false) // nothing is to be delivered for a while
		p.run(p.t, "queue", "pause")
		l.more(10_000)
		p.do("crash", p.names[0])
		time.Sleep(2 * time.Second)
		p.do("promote", p.names[1])
		l.more(10)
		p.run(p.t, "queue", "resume")
		a.takesWrites(true)
	}},
}

// short are the drills that the tests do; scripts/faults does all of them, many times.
var short = map[string]bool{
	"freeze the primary, promote the standby":                 true,
	"lose the only standby, and have it back":                 true,
	"large messages, freeze the primary, promote the standby": true,
}

func TestFaultFailover(t *testing.T) {
	if os.Getenv("GULL_FAULT_ROUNDS") == "" {
		t.Parallel()
	}
	for i, d := range drills {
		if os.Getenv("GULL_FAULT_ROUNDS") == "" && !short[d.name] {
			continue
		}
		t.Run(d.name, func(t *testing.T) {
			var sum tally
			for range min(rounds(), 10) {
				if os.Getenv("GULL_FAULT_ROUNDS") == "" && sum.rounds > 0 {
					break
				}
				t.Run("round", func(t *testing.T) { sum.add(drill(t, fmt.Sprintf("fo%d", i), d.size, d.do)) })
			}
			fmt.Printf(
				"| %s, %d times | %d | %d | %d | %d | %d |\n[%s: stranded %d, delivered though refused %d; "+
					"longest without delivery %s in all, %s with a host that takes writes; slowest answer "+
					"%s; refused before the content %d]\n",
				d.name,
				sum.rounds,
				sum.accepted,
				sum.delivered,
				sum.queued,
				sum.twice,
				sum.lost,
				d.name,
				sum.stranded,
				sum.ghosts,
				sum.longest.Round(100*time.Millisecond),
				sum.after.Round(100*time.Millisecond),
				sum.slowest.Round(100*time.Millisecond),
				sum.early,
			)
		})
	}
}

// tally is what became of the messages of a drill.
type tally struct {
	rounds, accepted, delivered, queued, twice, lost, stranded, ghosts, early int
	longest, after, slowest                                                   time.Duration
}

func (s *tally) add(o tally) {
	s.rounds++
	s.accepted, s.delivered, s.queued, s.twice, s.lost = s.accepted+o.accepted, s.delivered+o.delivered, s.queued+o.queued, s.twice+o.twice, s.lost+o.lost
	s.stranded, s.ghosts, s.early = s.stranded+o.stranded, s.ghosts+o.ghosts, s.early+o.early
	s.longest, s.after, s.slowest = max(s.longest, o.longest), max(s.after, o.after), max(s.slowest, o.slowest)
}

func drill(t *testing.T, name string, size int, do func(*pair, *load, *arrivals)) tally {
	t.Helper()
	p := newPair(t, name)
	l := p.startLoad(4, size)
	l.more(30)
	a := p.watch()
	do(p, l, a)
	l.more(30)
	l.stop.Store(true)
	l.wg.Wait()
	sum := tally{accepted: len(l.taken), early: l.early, slowest: l.slowest}
	if err := eventually(90*time.Second, func() error {
		if sum.queued = p.number(`SELECT count(*) FROM delivery`); sum.queued > 0 {
			return fmt.Errorf("%d messages are still in the queue", sum.queued)
		}
		return nil
	}); err != nil {
		sum.stranded = p.number(`SELECT count(*) FROM delivery WHERE lease IS NOT NULL`)
		for _, node := range []*stack{p.stack, p.other} { // what do they wait for? The log has their stacks
			_ = node.serve.Process.Signal(syscall.SIGQUIT)
		}
		time.Sleep(time.Second)
		t.Errorf(
			"%v; withdrawn %d, of lanes that are due %d, held %d",
			err,
			p.number(`SELECT count(*) FROM delivery d JOIN withdrawn w USING (message_id)`),
			p.number(
				`SELECT count(*) FROM delivery d WHERE due_at <= now() AND EXISTS (SELECT FROM lane_count c WHERE c.lane = d.lane AND c.due <= now())`,
			),
			p.number(`SELECT count(*) FROM delivery WHERE state = 'held'`),
		)
	}
	close(a.stop)
	<-a.ended
	sum.longest, sum.after = a.longest, a.afterMax
	var ids []int64
	for _, id := range l.taken {
		ids = append(ids, number64(t, id))
	}
	var refused []string
	for subject := range l.refused {
		refused = append(refused, subject)
	}
	sum.delivered = p.number(
		`SELECT count(*) FROM delivery_done WHERE state = $1 AND message_id = ANY($2)`,
		mail.Delivered,
		ids,
	)
	sum.lost = len(ids) - sum.delivered - p.number(`SELECT count(*) FROM delivery WHERE message_id = ANY($1)`, ids)
	sum.ghosts = p.number(
		`SELECT count(*) FROM message m JOIN delivery_done d ON d.message_id = m.id WHERE m.subject = ANY($1)`,
		refused,
	)
	sum.twice = p.host(
		t,
		"mx.barelock.example",
	).Stats.Messages - p.number(
		`SELECT count(*) FROM delivery_done WHERE state = 'delivered' AND recipient = 'survivor@barelock.example'`,
	)
	if sum.lost != 0 || sum.stranded != 0 || sum.ghosts != 0 {
		t.Errorf("%+v", sum)
	}
	limit := 15 * time.Second
	if os.Getenv("GULL_FAULT_ROUNDS") == "" {
		limit *= 2 // other tests go on beside it, with the race detector
	}
	if sum.after > limit {
		t.Errorf("with a host that takes writes, nothing was delivered for %s", sum.after)
	}
	return sum
}

// saysOfDatabase waits until the node says that it takes no mail, and why; "" is well.
func (s *stack) saysOfDatabase(t *testing.T, state, why string) {
	t.Helper()
	if err := eventually(20*time.Second, func() error {
		body, err := get("http://" + s.http + "/readyz")
		switch {
		case state == "" && err != nil:
			return err
		case state != "" && (err == nil || !strings.Contains(err.Error(),
			`"database":"`+state+`"`) || !strings.Contains(err.Error(), why)):
			return fmt.Errorf("readyz: %s %v, want %s: %s", body, err, state, why)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

func TestReadyIsWhoCanWriteAndHasARun(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "readonly", nil)
	ctx := context.Background()
	sql := func(text string) {
		t.Helper()
		db, err := pgx.Connect(ctx, s.database)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close(ctx)
		if _, err := db.Exec(ctx, text); err != nil {
			t.Fatal(err)
		}
	}
	name := s.database[strings.LastIndexByte(s.database, '/')+1:]
	others := `; SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()`
	sql(`ALTER DATABASE ` + name + ` SET default_transaction_read_only = on` + others)
	s.saysOfDatabase(t, "read-only", "let this service reach the primary")
	d := dial(t, s.inside, "127.20.1.5")
	d.hear()
	d.want("250", "EHLO a.example")
	d.want("451", "MAIL FROM:<tickets@skerryline.example>")
	d.want("221", "QUIT")
	sql(`SET TRANSACTION READ WRITE; ALTER DATABASE ` + name + ` RESET default_transaction_read_only` + others)
	s.saysOfDatabase(t, "", "")
	s.until(t, s.out(t, "a@saltmarsh.example"), mail.Delivered)

	if err := eventually(10*time.Second, func() error {
		if out := s.run(t, "snag", "list"); !strings.Contains(out, "our side, database read-only") {
			return fmt.Errorf("no snag says that the database was read-only:\n%s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}

	sql(`DELETE FROM node`) // as after a failover that lost it
	id := s.out(t, "b@saltmarsh.example")
	s.until(t, id, mail.Delivered)
	if n := s.number(t, `SELECT count(*) FROM node WHERE name = 'shore' AND NOT gone`); n != 1 {
		t.Errorf("%d runs of the node are on record", n)
	}

	sql(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (999999, true)`)
	s.until(t, s.out(t, "c@saltmarsh.example"), mail.Delivered) // it only grew
	sql(`UPDATE schema_use SET works_from = 999999`)
	s.saysOfDatabase(t, "newer", "schema is newer than this program")
}

// A manager of the database promotes and demotes by itself, as scripts/ha has it; without one, mail
// goes through a primary that nobody touches.
func TestMailGoesOnWhileADatabaseIsManaged(t *testing.T) {
	takesLong(t)
	dir := os.Getenv("GULL_HA_DIR")
	s := own(t, "managed", nil)
	se := startSenders(s, 2)
	se.more(t, 100)
	if dir != "" {
		if err := eventually(20*time.Minute, func() error {
			time.Sleep(time.Second)
			_, err := os.Stat(filepath.Join(dir, "done"))
			return err
		}); err != nil {
			t.Fatal(err)
		}
		se.more(t, 200)
	}
	se.end()
	se.account(t, "primary and its manager killed, "+cmp.Or(os.Getenv("GULL_HA_ROUNDS"), "0")+" times")
}
