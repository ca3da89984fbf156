package main

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"net/smtp"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/client"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/route"
)

// Sizes of a large set-up.
const (
	manyDomains   = 5000
	manyRules     = 2000
	manyRoutes    = 2000
	manyMailboxes = 100_000
	fewOfEach     = 10
)

// setupText is a configuration with so many domains, rules and routes.
func setupText(domains, rules, routes int) string {
	var b strings.Builder
	b.WriteString("service:\n  host_name: mail.skerryline.example\n  postmaster: " +
		"keeper@skerryline.example\n  resolvers: [\"127.0.0.1:9\"]\n  address_family: ipv4\n" +
		"listeners:\n  - {name: inside, address: \"INSIDE\", kind: inside, limits: " +
		"{messages_per_connection: 1000000}}\n  - {name: submission, address: " +
		"\"SUBMISSION\", kind: submission, tls: implicit, limits: " +
		"{connections_per_address: 1000}}\ndomains:\n  - {name: " +
		"skerryline.example, kind: local}\n")
	for i := range domains - 1 {
		fmt.Fprintf(&b, "  - {name: d%d.skerryline.example, kind: local}\n", i)
	}
	b.WriteString("relay_rules:\n")
	for i := range rules - 1 {
		if i%2 == 0 {
			fmt.Fprintf(&b, "  - {name: rule %d, networks: [127.%d.%d.0/24], action: allow}\n", i,
				100+i/256, i%256)
		} else {
			fmt.Fprintf(
				&b,
				"  - {name: rule %d, recipients: [r%d.example], networks: [127.0.0.0/8], action: "+
					"allow}\n",
				i,
				i,
			)
		}
	}
	b.WriteString("  - {name: all here, networks: [127.0.0.0/8], action: allow}\nroutes:\n")
	for i := range routes - 1 {
		fmt.Fprintf(
			&b,
			"  - {name: route %d, recipients: [r%d.example, \"*.r%d.example\"], next_hop: "+
				"smarthost, hosts: [h%d.example]}\n",
			i,
			i,
			i,
			i,
		)
	}
	b.WriteString("  - {name: out, recipients: [\"*\"], next_hop: mx}\n")
	return b.String()
}

// compiled is such a configuration with a directory of so many mailboxes.
func compiledSetup(domains, rules, routes, mailboxes int) (*config.Compiled, error) {
	c, err := config.Parse(
		[]byte(
			strings.NewReplacer("INSIDE", "127.0.0.1:0", "SUBMISSION",
				"127.0.0.1:0").Replace(setupText(domains, rules, routes)),
		),
	)
	if err != nil {
		return nil, err
	}
	d := directory.New()
	d.Put(
		&directory.Mailbox{Address: address.Address{Local: "keeper", Domain: "skerryline.example"}},
	)
	for i := range mailboxes - 1 {
		d.Put(&directory.Mailbox{
			Address: address.Address{
				Local:  "hand" + strconv.Itoa(i),
				Domain: "skerryline.example",
			},
			Name: "Hand " + strconv.Itoa(i),
		})
	}
	return config.Compile(c, 1, d), nil
}

const decisions = 200_000

// decide makes decisions for recipients of every sort, spread over all rules,
// routes and mailboxes, and returns nanoseconds each.
func decide(c *config.Compiled, rules, mailboxes int) float64 {
	r := rand.New(rand.NewPCG(1, 1))
	type question struct {
		e  config.Envelope
		to address.Address
	}
	questions := make([]question, 2000)
	for i := range questions {
		n := r.IntN(rules)
		q := question{
			e: config.Envelope{
				Listener: "inside",
				Client:   netip.AddrFrom4([4]byte{127, byte(100 + n/256), byte(n % 256), 9}),
				Sender:   address.Address{Local: "x", Domain: "skerryline.example"},
				Size:     4096,
			},
		}
		switch i % 4 {
		case 0:
			q.to = address.Address{
				Local:  "hand" + strconv.Itoa(r.IntN(mailboxes-1)),
				Domain: "skerryline.example",
			}
		case 1:
			q.to = address.Address{Local: "x", Domain: "r" + strconv.Itoa(n) + ".example"}
		case 2:
			q.to = address.Address{Local: "x", Domain: "in.r" + strconv.Itoa(n) + ".example"}
		default:
			q.to = address.Address{Local: "x", Domain: "saltmarsh.example"}
		}
		questions[i] = q
	}
	began := time.Now()
	for i := range decisions {
		q := &questions[i%len(questions)]
		if d := relay.Decide(c, q.e, q.to); d.Allow {
			_, _ = route.Plan(c, q.e, q.to)
		}
	}
	return float64(time.Since(began).Nanoseconds()) / decisions
}

// setup measures what a large set-up costs against a small one.
func (b *bench) setup() ([]result, error) {
	small, err := compiledSetup(fewOfEach, fewOfEach, fewOfEach, fewOfEach)
	if err != nil {
		return nil, err
	}
	large, err := compiledSetup(manyDomains, manyRules, manyRoutes, manyMailboxes)
	if err != nil {
		return nil, err
	}
	var values, bases []float64
	for range b.rounds {
		bases = append(bases, decide(small, fewOfEach, fewOfEach))
		values = append(values, decide(large, manyRules, manyMailboxes))
	}
	value, base, ratios := median(values, bases)
	results := []result{
		{
			"a decision, 5,000 domains, 2,000 rules and routes, 100,000 mailboxes",
			"10 of each",
			value,
			base,
			"ns",
			value / base,
			ratios,
			"<= 3",
			value/base <= 3,
		},
	}
	more, err := b.largeServer()
	return append(results, more...), err
}

// server is the service as people run it, in a process of its own.
type server struct {
	cmd                *exec.Cmd
	client             *client.Client
	inside, submission string
}

const benchToken = "token-of-the-benchmarks"

func freeAddress() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return ""
	}
	defer l.Close()
	return l.Addr().String()
}

func (b *bench) startServer() (*server, error) {
	st, _, err := b.fresh()
	if err != nil {
		return nil, err
	}
	st.Close()
	dir, err := os.MkdirTemp("", "gull-bench-")
	if err != nil {
		return nil, err
	}
	s := &server{inside: freeAddress(), submission: freeAddress()}
	setup := filepath.Join(dir, "setup.yaml")
	begin := filepath.Join(dir, "config.yaml")
	text := s.text(
		setupText(fewOfEach, fewOfEach, fewOfEach),
	) + "mailboxes:\n  - {address: keeper@skerryline.example, may_submit: true, password: " +
		"harbour-at-dawn}\n"
	for file, content := range map[string]string{setup: "tokens:\n  - {name: bench, role: " +
		"administrator, token: " + benchToken + "}\n", begin: text} {
		if err := os.WriteFile(file, []byte(content), 0o600); err != nil {
			return nil, err
		}
	}
	http := freeAddress()
	s.cmd = exec.Command("bin/gull", "serve", "--database", b.database, "--config", begin,
		"--setup", setup, "--http", http, "--spool", dir, "--node", "bench")
	s.cmd.Env = append(os.Environ(), "GULL_KEY_FILE=")
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	s.client = client.New("http://"+http, benchToken)
	for range 200 {
		if _, err = s.client.Status(b.ctx); err == nil {
			return s, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	s.stop()
	return nil, err
}

func (s *server) text(t string) string {
	return strings.NewReplacer("INSIDE", s.inside, "SUBMISSION", s.submission).Replace(t)
}

func (s *server) stop() { _ = s.cmd.Process.Kill(); _ = s.cmd.Wait() }

// memory is the largest resident size so far, in MB.
func (s *server) memory() float64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(status), "VmHWM:")
	kb, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
	return kb / 1000
}

// firstPage is how long the mailboxes' first page takes, in milliseconds, the
// median of 41.
func (s *server) firstPage(ctx context.Context) (float64, error) {
	var took []float64
	for range 41 {
		began := time.Now()
		if _, err := s.client.Mailboxes(ctx, url.Values{"limit": {"100"}}); err != nil {
			return 0, err
		}
		took = append(took, float64(time.Since(began).Microseconds())/1000)
	}
	return middle(took), nil
}

func (s *server) importMailboxes(ctx context.Context, from, to int) error {
	var csv bytes.Buffer
	csv.WriteString("address,name\n")
	for i := from; i < to; i++ {
		fmt.Fprintf(&csv, "hand%d@skerryline.example,Hand %d\n", i, i)
	}
	done, err := s.client.ImportEntries(ctx, "mailboxes", &csv, false, func(client.Progress) {})
	if err == nil && !done.Written {
		err = fmt.Errorf("the import was refused: %v", done.Problems)
	}
	return err
}

// largeServer measures the service itself: apply, memory, the first page, a
// rehearsal, and sign-ins beside mail.
func (b *bench) largeServer() ([]result, error) {
	s, err := b.startServer()
	if err != nil {
		return nil, err
	}
	defer s.stop()
	if err := s.importMailboxes(b.ctx, 0, 99); err != nil {
		return nil, err
	}
	few, err := s.firstPage(b.ctx)
	if err != nil {
		return nil, err
	}
	if err := s.importMailboxes(b.ctx, 99, manyMailboxes-1); err != nil {
		return nil, err
	}
	many, err := s.firstPage(b.ctx)
	if err != nil {
		return nil, err
	}
	d, err := s.client.ImportConfig(b.ctx, "large",
		s.text(setupText(manyDomains, manyRules, manyRoutes)), false)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if _, err := s.client.ApplyDraft(b.ctx, map[string]any{"version": d.Version}); err != nil {
		return nil, err
	}
	apply := time.Since(began).Seconds()
	results := []result{
		{
			"first page of 100,000 mailboxes",
			"of 100",
			many,
			few,
			"ms",
			many / few,
			[]float64{many / few},
			"<= 3",
			many/few <= 3,
		},
		{
			"compile and apply the large set-up, rehearsed",
			"2 s",
			apply * 1000,
			2000,
			"ms",
			apply / 2,
			[]float64{apply / 2},
			"<= 1",
			apply <= 2,
		},
	}
	rehearsal, err := s.rehearse(b.ctx)
	if err != nil {
		return nil, err
	}
	memory := s.memory()
	results = append(
		results,
		result{
			"a rehearsal of 10,000 envelopes on it",
			"2 s",
			rehearsal * 1000,
			2000,
			"ms",
			rehearsal / 2,
			[]float64{rehearsal / 2},
			"<= 1",
			rehearsal <= 2,
		},
		result{
			"largest memory of the service up to here",
			"300 MB",
			memory,
			300,
			"MB",
			memory / 300,
			[]float64{memory / 300},
			"< 1",
			memory < 300,
		},
	)
	more, err := b.signIns()
	return append(results, more...), err
}

const rehearsed = 10_000

// rehearse fills the history with messages to mailboxes and rehearses a draft on
// them.
func (s *server) rehearse(ctx context.Context) (float64, error) {
	l := load{
		address:     s.inside,
		connections: 20,
		messages:    rehearsed,
		content:     messageOf(1000),
		from:        "keeper@skerryline.example",
		to:          "hand%d@skerryline.example",
	}
	if _, err := l.run(); err != nil {
		return 0, err
	}
	if _, err := s.client.AddItem(
		ctx,
		"routes",
		map[string]any{
			"name":       "another",
			"recipients": []string{"another.example"},
			"next_hop":   "mx",
		},
		1,
		false,
	); err != nil {
		return 0, err
	}
	began := time.Now()
	r, err := s.client.Rehearse(ctx, rehearsed, func(client.Progress) {})
	if err == nil && r.Envelopes < rehearsed {
		err = fmt.Errorf("only %d envelopes were rehearsed", r.Envelopes)
	}
	return time.Since(began).Seconds(), err
}

const (
	attempts       = 200
	signInMessages = 20_000
)

// signIns compares the mail a server takes while 200 clients try to sign in over
// and over with what it takes without them.
func (b *bench) signIns() ([]result, error) {
	s, err := b.startServer()
	if err != nil {
		return nil, err
	}
	defer s.stop()
	l := load{
		address:     s.inside,
		connections: 20,
		messages:    signInMessages,
		content:     messageOf(4096),
		from:        "keeper@skerryline.example",
		to:          "keeper@skerryline.example",
	}
	if _, err := l.run(); err != nil { // the first messages warm up
		return nil, err
	}
	var values, bases []float64
	var checked, busy atomic.Int64
	for range b.rounds {
		alone, err := l.run()
		if err != nil {
			return nil, err
		}
		stop := make(chan struct{})
		var all sync.WaitGroup
		for range attempts {
			all.Add(1)
			go func() { defer all.Done(); s.signInUntil(stop, &checked, &busy) }()
		}
		time.Sleep(200 * time.Millisecond)
		beside, err := l.run()
		close(stop)
		all.Wait()
		if err != nil {
			return nil, err
		}
		bases, values = append(bases, alone), append(values, beside)
	}
	value, base, ratios := median(values, bases)
	memory := s.memory()
	fmt.Fprintf(os.Stderr, "sign-ins: %d were checked, %d deferred as too many at the same time\n",
		checked.Load(), busy.Load())
	return []result{
		{
			"accept while 200 clients try to sign in",
			"accept without them",
			value,
			base,
			"messages/s",
			value / base,
			ratios,
			"mail goes on",
			value > 0,
		},
		{
			"largest memory meanwhile",
			"300 MB",
			memory,
			300,
			"MB",
			memory / 300,
			[]float64{memory / 300},
			"< 1",
			memory < 300,
		},
	}, nil
}

// signInUntil signs in again and again, right, until stop is closed.
func (s *server) signInUntil(stop chan struct{}, checked, busy *atomic.Int64) {
	for {
		select {
		case <-stop:
			return
		default:
		}
		conn, err := tls.Dial("tcp", s.submission, &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			return
		}
		_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
		c, err := smtp.NewClient(conn, "127.0.0.1")
		if err == nil {
			err = c.Auth(
				smtp.PlainAuth("", "keeper@skerryline.example", "harbour-at-dawn", "127.0.0.1"),
			)
			if err == nil {
				checked.Add(1)
			} else {
				busy.Add(1)
			}
		}
		_ = conn.Close()
	}
}
