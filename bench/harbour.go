package main

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/api"
	"gullroute/internal/client"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/route"
	"gullroute/internal/simnet"
)

const manyConfig = `
service:
  host_name: mail.skerryline.example
  postmaster: keeper@skerryline.example
  resolvers: ["DNS"]
  address_family: ipv4
  mx_port: PORT
  retry: {back_off: 2s}
listeners:
  - {name: inside, address: "INSIDE", kind: inside, limits: {messages_per_connection: 1000000}}
domains:
  - {name: skerryline.example, kind: local}
relay_rules:
  - {name: all here, networks: [127.0.0.0/8], action: allow}
routes:
  - {name: out, recipients: ["*"], next_hop: mx, tls: "off", connections: 5,
	messages_per_connection: 100000}
mailboxes:
  - {address: keeper@skerryline.example}
`

// sea is a simulated internet of many domains whose mail all goes to one host
// that takes and forgets it, and a host that hangs up on everybody.
type sea struct {
	net      *simnet.Net
	port     int
	dead     net.Listener
	attempts atomic.Int64
}

const deadAddress = "127.30.0.98"

func startSea() (*sea, error) {
	l, err := net.Listen("tcp", sinkAddress+":0")
	if err != nil {
		return nil, err
	}
	s := &sea{port: l.Addr().(*net.TCPAddr).Port}
	l.Close()
	w := &simnet.World{
		Hosts: []simnet.Spec{
			{
				Name:      "sink.saltmarsh.example",
				Address:   sinkAddress,
				Behaviour: simnet.Behaviour{Forgets: true},
			},
		},
		Domains: []simnet.Domain{
			{Name: "dead.example", MX: []string{"10 host.dead.example"}},
			{Name: "host.dead.example", A: []string{deadAddress}},
		},
	}
	for i := range someLanes {
		w.Domains = append(w.Domains, simnet.Domain{
			Name: fmt.Sprintf("lane%d.example", i),
			MX:   []string{"10 sink.saltmarsh.example"},
		})
	}
	if s.dead, err = net.Listen(
		"tcp",
		net.JoinHostPort(deadAddress, strconv.Itoa(s.port)),
	); err != nil {
		return nil, err
	}
	go func() {
		for {
			conn, err := s.dead.Accept()
			if err != nil {
				return
			}
			s.attempts.Add(1)
			conn.Close()
		}
	}()
	s.net, err = simnet.Start(
		simnet.Options{World: w, DNS: "127.0.0.1:0", Port: s.port, Control: "127.0.0.1:0"},
	)
	return s, err
}

func (s *sea) close() { s.net.Close(); s.dead.Close() }

// harbour is a service with a large queue, and a way into its database.
type harbour struct {
	b      *bench
	sea    *sea
	db     *pgx.Conn
	dir    string
	http   string
	inside string
	cmd    *exec.Cmd
	client *client.Client
	began  time.Time
	filled int // minutes before the beginning whose ids are in use
}

func (b *bench) newHarbour() (*harbour, error) {
	return b.newHarbourWith(func(c string) string { return c })
}

// newHarbourWith lets the configuration be edited.
func (b *bench) newHarbourWith(edit func(string) string) (*harbour, error) {
	st, _, err := b.fresh()
	if err != nil {
		return nil, err
	}
	st.Close()
	s, err := startSea()
	if err != nil {
		return nil, err
	}
	h := &harbour{b: b, sea: s, began: time.Now(), http: freeAddress(), inside: freeAddress()}
	if h.dir, err = os.MkdirTemp("", "gull-bench-"); err != nil {
		return nil, err
	}
	if h.db, err = pgx.Connect(b.ctx, b.database); err != nil {
		return nil, err
	}
	h.client = client.New("http://"+h.http, benchToken)
	text := strings.NewReplacer("DNS", s.net.DNS, "PORT", strconv.Itoa(s.port), "INSIDE",
		h.inside).Replace(edit(manyConfig))
	for name, content := range map[string]string{"setup.yaml": "tokens:\n  - {name: bench, role: " +
		"administrator, token: " + benchToken + "}\n", "config.yaml": text} {
		if err := os.WriteFile(filepath.Join(h.dir, name), []byte(content), 0o600); err != nil {
			return nil, err
		}
	}
	return h, h.start()
}

func (h *harbour) start() error {
	var err error
	h.cmd, err = h.node("bench", h.http, h.inside)
	if err != nil {
		return err
	}
	for range 400 {
		if _, err = h.client.Status(h.b.ctx); err == nil {
			return nil
		}
		time.Sleep(25 * time.Millisecond)
	}
	return err
}

func (h *harbour) node(name, http, inside string) (*exec.Cmd, error) {
	cmd := exec.Command("bin/gull", "serve", "--database", h.b.database, "--config",
		filepath.Join(h.dir, "config.yaml"), "--setup", filepath.Join(h.dir, "setup.yaml"),
		"--http", http, "--spool", h.dir, "--node", name, "--bind", "inside="+inside)
	cmd.Env = append(os.Environ(), "GULL_KEY_FILE=")
	return cmd, cmd.Start()
}

func (h *harbour) stop() {
	if h.cmd != nil {
		_ = h.cmd.Process.Kill()
		_ = h.cmd.Wait()
	}
}

func (h *harbour) close() { h.stop(); h.db.Close(h.b.ctx); os.RemoveAll(h.dir); h.sea.close() }

// fill puts messages into the queue as if they had come in: into so many lanes,
// due after a time.
func (h *harbour) fill(n, lanes int, domain, sender string, due time.Duration) error {
	ids, names := make([]int64, lanes), make([]string, lanes)
	for i := range lanes {
		names[i] = domain
		if strings.Contains(domain, "%d") {
			names[i] = fmt.Sprintf(domain, i)
		}
		ids[i] = int64(route.Lane("out", names[i]))
	}
	h.filled++
	base := int64(ident.Floor(h.began.Add(-time.Duration(h.filled) * time.Minute)))
	for _, step := range []struct {
		sql  string
		args []any
	}{
		{`INSERT INTO lane SELECT l.id, 'out', l.name FROM unnest($1::bigint[], $2::text[]) l(id,
			name) ON CONFLICT DO NOTHING`, []any{ids, names}},
		{`INSERT INTO message SELECT $1::bigint + i * 2048, now(), $3::text, $3,
			'Your ticket for the night boat', '<bench@skerryline.example>', 600, 'inside',
				'127.0.0.1', 'machine', '', 1, 1, 'ESMTP', 0, false, false, '', '', 0
			FROM generate_series(0, $2::bigint - 1) i`, []any{base, n, sender}},
		{`INSERT INTO content SELECT $1::bigint + i * 2048, 0,
			convert_to(E'Subject: Your ticket\r\n\r\n' || repeat('the night boat leaves at ten ',
				6) || E'\r\n', 'UTF8')
			FROM generate_series(0, $2::bigint - 1) i`, []any{base, n}},
		{`INSERT INTO delivery (message_id, n, recipient, original, via, orcpt, notify, state, lane,
			rule, route_why, revision, due_at, expires_at, size, domain)
			SELECT $1::bigint + i * 2048, 1, 'r' || i || '@' || ($6::text[])[1 + i % $4::int],
				'r' || i || '@' || ($6::text[])[1 + i % $4], '', '', 0, 'waiting',
					($5::bigint[])[1 + i % $4], 'all here', 'because', 1,
				now() + make_interval(secs => $3::float8), now() + interval '5 days', 600,
					($6::text[])[1 + i % $4]
			FROM generate_series(0,
				$2::bigint - 1) i`, []any{base, n, due.Seconds(), lanes, ids, names}},
	} {
		if _, err := h.db.Exec(h.b.ctx, step.sql, step.args...); err != nil {
			return err
		}
	}
	if _, err := h.db.Exec(h.b.ctx, `VACUUM ANALYZE delivery`); err != nil || n < acted {
		return err
	}
	_, err := h.db.Exec(h.b.ctx, `VACUUM ANALYZE message`)
	return err
}

func (h *harbour) number(sql string) (float64, error) {
	var n float64
	err := h.db.QueryRow(h.b.ctx, sql).Scan(&n)
	return n, err
}

// deliver fills in messages that are due and returns how many are delivered a
// second, from the first that is to nearly the last.
func (h *harbour) deliver(n, lanes int) (float64, error) {
	before, err := h.number(`SELECT count(*) FROM delivery_done`)
	if err != nil {
		return 0, err
	}
	if err := h.fill(n, lanes, "lane%d.example", "tickets@skerryline.example", 0); err != nil {
		return 0, err
	}
	var first time.Time
	start := 0.0
	for end := time.Now().Add(3 * time.Minute); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		done, err := h.number(`SELECT count(*) FROM delivery_done`)
		if err != nil {
			return 0, err
		}
		done -= before
		switch {
		case first.IsZero() && done > 0:
			first, start = time.Now(), done
		case done >= float64(n)*0.98:
			return (done - start) / time.Since(first).Seconds(), nil
		}
	}
	return 0, fmt.Errorf("the messages were not delivered in time")
}

// pages measures what people look at, in milliseconds, the median of several.
func (h *harbour) pages() (lanes, messages, filter float64, err error) {
	look := func(f func(i int) error) float64 {
		var took []float64
		for i := range 15 {
			began := time.Now()
			if e := f(i); e != nil {
				err = e
			}
			took = append(took, float64(time.Since(began).Microseconds())/1000)
		}
		return middle(took)
	}
	st, _, e := h.b.open()
	if e != nil {
		return 0, 0, 0, e
	}
	defer st.Close()
	lanes = look(
		func(int) error { _, err := st.Lanes.List(h.b.ctx); return err },
	) // the service keeps them for a moment
	messages = look(func(int) error {
		_, err := h.client.Queue(h.b.ctx,
			url.Values{"limit": {"100"}})
		return err
	})
	filter = look(func(i int) error {
		_, err := h.client.Queue(h.b.ctx,
			url.Values{"limit": {"100"}, "domain": {fmt.Sprintf("busy%d.example", i%3)}})
		return err
	})
	return lanes, messages, filter, err
}

// resident is the process's memory now, in MB.
func (h *harbour) resident() float64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", h.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	_, rest, running := strings.Cut(string(status), "VmRSS:")
	if !running {
		return 0
	}
	kb, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
	return kb / 1000
}

// restart returns the seconds from starting the service to its first delivery of
// a message that waited for it. Before, the service was killed with messages in
// hand.
func (h *harbour) restart() (float64, error) {
	h.stop()
	before, err := h.number(`SELECT count(*) FROM delivery_done`)
	if err != nil {
		return 0, err
	}
	if err := h.fill(
		1,
		1,
		"lane7.example",
		"tickets@skerryline.example",
		-time.Second,
	); err != nil {
		return 0, err
	}
	began := time.Now()
	if h.cmd, err = h.node("bench", h.http, h.inside); err != nil {
		return 0, err
	}
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if done, err := h.number(`SELECT count(*) FROM delivery_done`); err != nil ||
			done > before {
			return time.Since(began).Seconds(), err
		}
	}
	return 0, fmt.Errorf("nothing was delivered after a restart")
}

// act does something with many messages while messages go out, and returns how
// many a second it touches and the longest that a message took to be accepted and
// delivered meanwhile, in milliseconds.
func (h *harbour) act(r api.ActionRequest) (rate, longest float64, err error) {
	stop, ended := make(chan struct{}), make(chan float64, 1)
	go func() {
		longest := 0.0
		for i := 0; ; i++ {
			select {
			case <-stop:
				ended <- longest
				return
			default:
			}
			began := time.Now()
			l := load{
				address:     h.inside,
				connections: 1,
				messages:    1,
				content:     messageOf(1000),
				from:        "ines.harrow@skerryline.example",
				to:          "quick%d@lane3.example",
			}
			if _, err := l.run(); err == nil {
				longest = max(longest, float64(time.Since(began).Microseconds())/1000)
			}
			time.Sleep(5 * time.Millisecond)
		}
	}()
	time.Sleep(300 * time.Millisecond)
	began := time.Now()
	done, err := h.client.Act(h.b.ctx, r, func(client.Progress) {})
	took := time.Since(began).Seconds()
	close(stop)
	longest = <-ended
	if err == nil && done.Touched < acted {
		err = fmt.Errorf("%s: %d of %d were touched", r.Verb, done.Touched, acted)
	}
	return float64(done.Touched) / took, longest, err
}
