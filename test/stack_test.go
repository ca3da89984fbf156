// Package test drives the product as its users do: the service as a process of
// its own on a real PostgreSQL, with the simulated internet around it, called
// over SMTP, HTTP, the command line and the browser.
package test

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/client"
	"gullroute/internal/core/mail"
	"gullroute/internal/simnet"
)

const (
	adminToken  = "administrator-token-of-the-tests"
	viewerToken = "viewer-token-of-the-tests-only"
	password    = "tide-and-lantern"
)

// stack is a running demo world at ports of its own.
type stack struct {
	program string // of the service, if it is not the usual one
	// drawn is of a test in a browser: there the service has no race detector, which the others
	// give it; a browser alone keeps two processors busy.
	drawn                bool
	dir                  string
	http, edge, inside   string
	submission, smtps    string
	lmtp, ca             string
	imap, imaps          string
	pop3, pop3s          string
	control, database    string
	config, world, setup string
	extra                []string // further arguments of serve
	serve, sim           *exec.Cmd
	simArgs              []string
	log                  *os.File
}

// binary is the command; server is the service under test, of which scripts/test has one
// that looks for data races.
var (
	binary, _ = filepath.Abs("../bin/gull")
	server    = cmp.Or(os.Getenv("GULL_TEST_BINARY"), binary)
	raced     = server != binary
)

var shared = sync.OnceValues(func() (*stack, error) {
	s, err := newStack("shared", nil)
	running = append(running, s)
	return s, err
})

// running are the stacks that several tests share.
var running []*stack

func TestMain(m *testing.M) {
	code := m.Run()
	for _, s := range running {
		s.stop()
		if race := s.race(); race != "" {
			fmt.Printf("the service that tests share has a data race:\n%s\n", race)
			code = 1
		}
		s.clear()
	}
	os.Exit(code)
}

// world is the stack that most tests share.
func world(t *testing.T) *stack {
	t.Helper()
	s, err := shared()
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// own is a stack for one test. edit changes the configuration.
func own(t *testing.T, name string, edit func(string) string, extra ...string) *stack {
	t.Helper()
	s, err := newStackFor(strings.HasPrefix(t.Name(), "TestConsole"), name, edit, extra...)
	if err != nil {
		t.Fatal(err)
	}
	s.cleanUp(t)
	return s
}

// cleanUp stops the stack at the end of a test and looks for races.
func (s *stack) cleanUp(t *testing.T) {
	t.Cleanup(func() {
		s.stop()
		if race := s.race(); race != "" {
			t.Errorf("the service has a data race:\n%s", race)
		}
		s.clear()
	})
}

// race is the first report of a data race in the log of what ran, "" if there is none.
func (s *stack) race() string {
	text, err := os.ReadFile(s.log.Name())
	if err != nil {
		return ""
	}
	_, report, found := strings.Cut(string(text), "WARNING: DATA RACE")
	if !found {
		return ""
	}
	report, _, _ = strings.Cut(report, "==================")
	return report
}

// clear removes what the stack wrote.
func (s *stack) clear() {
	if os.Getenv("GULL_TEST_KEEP") == "" {
		os.RemoveAll(s.dir)
	}
}

// second starts another node on the stack's database.
func (s *stack) second(t *testing.T, name string) *stack {
	t.Helper()
	other := *s
	other.http, other.inside, other.edge = loopback(), loopback(), loopback()
	other.imap, other.imaps, other.pop3, other.pop3s = loopback(), loopback(), loopback(), loopback()
	bind := []string{
		"--bind",
		"edge=" + other.edge,
		"--bind",
		"submission=" + loopback(),
		"--bind",
		"submission over TLS=" + loopback(),
		"--bind",
		"inside=" + other.inside,
		"--bind",
		"neighbour=" + loopback(),
		"--bind", "imap=" + other.imap, "--bind", "imap over TLS=" + other.imaps,
		"--bind", "pop3=" + other.pop3, "--bind", "pop3 over TLS=" + other.pop3s,
	}
	other.serve = s.command(
		append(
			[]string{
				"serve",
				"--http",
				other.http,
				"--node",
				name,
				"--spool",
				s.dir,
				"--key-file",
				filepath.Join(s.dir, "key"),
				"--tls-roots",
				s.ca,
			},
			bind...)...)
	if err := other.serve.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = other.serve.Process.Kill(); _ = other.serve.Wait() })
	if err := eventually(
		time.Minute,
		func() error { _, err := get("http://" + other.http + "/readyz"); return err },
	); err != nil {
		t.Fatal(err)
	}
	return &other
}

func newStack(name string, edit func(string) string, extra ...string) (*stack, error) {
	return newStackFor(false, name, edit, extra...)
}

func newStackFor(drawn bool, name string, edit func(string) string, extra ...string) (*stack, error) {
	server := os.Getenv("GULL_TEST_DATABASE")
	if server == "" {
		return nil, fmt.Errorf("GULL_TEST_DATABASE is not set; run scripts/test")
	}
	database, err := newDatabase(server, name)
	if err != nil {
		return nil, err
	}
	return newStackOn(drawn, database, edit, extra...)
}

// newStackOn is a stack on a database that is there.
func newStackOn(drawn bool, database string, edit func(string) string, extra ...string) (*stack, error) {
	dir, err := os.MkdirTemp("", "gull-test-")
	if err != nil {
		return nil, err
	}
	s := &stack{
		drawn:  drawn,
		dir:    dir,
		config: filepath.Join(dir, "config.yaml"),
		world:  filepath.Join(dir, "world.yaml"),
		setup:  filepath.Join(dir, "setup.yaml"),
		extra:  extra,
	}
	mx, shelf, provider, dns := freePort(
		"127.30.0.10",
	), freePort("127.30.0.52"), freePort("127.30.0.40"), freePort("127.0.0.1")
	lookout, pop := freePort("127.30.0.70"), freePort("127.30.0.40")
	policies := freePort("127.30.0.90")
	s.http, s.inside, s.control = loopback(), loopback(), loopback()
	s.edge = "127.0.0.1:" + mx // where the simulated world looks for our MX host
	s.submission, s.smtps, s.lmtp = loopback(), loopback(), loopback()
	s.imap, s.imaps, s.pop3, s.pop3s = loopback(), loopback(), loopback(), loopback()
	ports := strings.NewReplacer("127.0.0.1:5355", "127.0.0.1:"+dns, "127.0.0.1:2530", s.edge,
		"2530", mx, "2494", policies, "127.0.0.1:2526", s.inside, "2424", shelf, "2587", provider, "2995", pop, "1344",
		lookout, "127.0.0.1:2545",
		s.submission, "127.0.0.1:2546", s.smtps, "127.0.0.1:2428", s.lmtp,
		"127.0.0.1:2543", s.imap, "127.0.0.1:2593", s.imaps, "127.0.0.1:2510", s.pop3,
		"127.0.0.1:2595", s.pop3s, "greylist: 45s",
		"greylist: 2s", "pause: 1500ms", "pause: 100ms",
		"intervals: [20s, 40s, 1m, 2m, 5m, 15m, 30m, 1h]", "intervals: [1s]", "back_off: 20s",
		"back_off: 1s", "greeting: 15s", "greeting: 2s",
		// Certificates are asked for where a test is about that.
		"    certificate: kept:mail\n", "", "    from: authority\n", "    from: by_hand\n",
		// Strangers are weighed where a test is about that.
		"    score: on\n", "    score: off\n", "    greylisting: by_score\n", "    greylisting: off\n")
	s.database = database
	for from, to := range map[string]string{"../demo/skerryline.yaml": s.config,
		"../demo/simnet.yaml": s.world} {
		text, err := os.ReadFile(from)
		if err != nil {
			return nil, err
		}
		edited := ports.Replace(string(text))
		if edit != nil && to == s.config {
			edited = edit(edited)
		}
		if err := os.WriteFile(to, []byte(edited), 0o600); err != nil {
			return nil, err
		}
	}
	setup := fmt.Sprintf(
		"accounts:\n  - {name: keeper, role: administrator, password: %s}\n  - {name: deck, role: viewer, "+
			"password: %s}\ntokens:\n  - {name: tests, role: administrator, token: %s}\n  - {name: looker, "+
			"role: viewer, token: %s}\nsecrets:\n  - {name: harbourlight, value: lantern-oil}\n"+
			"  - {name: customs, value: c2tlcnJ5IGxpbmUgY3VzdG9tcyBrZXkgb2YgdGhlIGRlbW8=}\n",
		password,
		password,
		adminToken,
		viewerToken,
	)
	if err := os.WriteFile(s.setup, []byte(setup), 0o600); err != nil {
		return nil, err
	}
	if s.log, err = os.Create(filepath.Join(dir, "log")); err != nil {
		return nil, err
	}
	s.ca = filepath.Join(dir, "ca.pem")
	s.simArgs = []string{
		"simnet",
		"serve",
		"--world",
		s.world,
		"--dns",
		"127.0.0.1:" + dns,
		"--mx-port",
		mx,
		"--control",
		s.control,
		"--edge",
		s.edge,
		"--policies",
		"127.30.0.90:" + policies,
		"--ca-file",
		s.ca,
	}
	if err := s.startSim(); err != nil {
		return nil, err
	}
	s.extra = append(s.extra, "--tls-roots", s.ca)
	return s, s.start()
}

// startSim starts the simulated internet, as it is at first.
func (s *stack) startSim() error {
	s.sim = s.command(s.simArgs...)
	if err := s.sim.Start(); err != nil {
		return err
	}
	return eventually(10*time.Second, func() error {
		_,
			err := get("http://" + s.control + "/hosts")
		return err
	})
}

func (s *stack) command(args ...string) *exec.Cmd {
	path := binary
	if args[0] == "serve" && !s.drawn {
		path = cmp.Or(s.program, server)
	}
	c := exec.Command(path, args...)
	c.Env = append(os.Environ(), "GULL_URL=http://"+s.http, "GULL_TOKEN="+adminToken,
		"GULL_SIMNET="+s.control, "GULL_DATABASE_URL="+s.database)
	c.Stdout, c.Stderr = s.log, s.log
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	return c
}

// start runs the service and waits until it is ready.
func (s *stack) start() error {
	s.serve = s.command(
		append(
			[]string{
				"serve",
				"--config",
				s.config,
				"--http",
				s.http,
				"--node",
				"shore",
				"--spool",
				s.dir,
				"--key-file",
				filepath.Join(s.dir, "key"),
				"--setup",
				s.setup,
			},
			s.extra...)...)
	if err := s.serve.Start(); err != nil {
		return err
	}
	return eventually(time.Minute, func() error {
		_,
			err := get("http://" + s.http + "/readyz")
		return err
	})
}

// kill ends the service without warning.
func (s *stack) kill() {
	_ = s.serve.Process.Kill()
	_ = s.serve.Wait()
}

func (s *stack) stop() {
	_ = s.serve.Process.Signal(syscall.SIGTERM)
	_ = s.serve.Wait()
	_ = s.sim.Process.Signal(syscall.SIGTERM)
	_ = s.sim.Wait()
}

func (s *stack) client() *client.Client { return client.New("http://"+s.http, adminToken) }

// gull runs a command and returns what it prints and its exit code.
func (s *stack) gull(t *testing.T, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	c := s.command(args...)
	var out, errOut bytes.Buffer
	c.Stdout, c.Stderr = &out, &errOut
	err := c.Run()
	if err != nil && c.ProcessState == nil {
		t.Fatal(err)
	}
	return out.String(), errOut.String(), c.ProcessState.ExitCode()
}

// run runs a command that must succeed, and returns what it prints.
func (s *stack) run(t *testing.T, args ...string) string {
	t.Helper()
	out, errOut, code := s.gull(t, args...)
	if code != 0 {
		t.Fatalf("gull %s: %d %s%s", strings.Join(args, " "), code, out, errOut)
	}
	return out
}

// host reads how a simulated host does.
func (s *stack) host(t *testing.T, name string) simnet.HostView {
	t.Helper()
	return decode[simnet.HostView](t, "http://"+s.control+"/hosts/"+name)
}

// messages reads what a simulated host received for a recipient.
func (s *stack) messages(t *testing.T, host, recipient string) []simnet.Message {
	t.Helper()
	var out []simnet.Message
	for _, l := range decode[[]simnet.Message](t, "http://"+s.control+"/hosts/"+host+"/messages") {
		if recipient == "" || len(l.Recipients) > 0 && l.Recipients[0] == recipient {
			out = append(out, l)
		}
	}
	return out
}

// behave changes how a simulated host acts.
func (s *stack) behave(t *testing.T, host string, change string) {
	t.Helper()
	req, _ := http.NewRequest(http.MethodPatch, "http://"+s.control+"/hosts/"+host, strings.NewReader(change))
	resp, err := http.DefaultClient.Do(req)
	if err != nil || resp.StatusCode != http.StatusOK {
		t.Fatalf("behave: %v %v", resp, err)
	}
	resp.Body.Close()
}

// find returns the newest message to a recipient.
func (s *stack) find(t *testing.T, to string) (mail.Message, bool) {
	t.Helper()
	p, err := s.client().Find(context.Background(), url.Values{"to": {to}, "limit": {"1"}})
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Items) == 0 {
		return mail.Message{}, false
	}
	return p.Items[0], true
}

// until waits until the first delivery of a message is in a state, and returns it.
func (s *stack) until(t *testing.T, id string, state mail.State) mail.Delivery {
	t.Helper()
	var last mail.Delivery
	err := eventually(20*time.Second, func() error {
		tr, err := s.client().Trace(context.Background(), id, nil)
		if err != nil {
			return err
		}
		last = tr.Message.Deliveries[0]
		if last.State != state {
			return fmt.Errorf("%s to %s is %s (%v), not %s", id, last.Recipient, last.State, last.Last, state)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return last
}

func eventually(limit time.Duration, f func() error) error {
	var err error
	for end := time.Now().Add(limit); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if err = f(); err == nil {
			return nil
		}
	}
	return err
}

func get(address string) ([]byte, error) {
	resp, err := http.Get(address)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s %s", address, resp.Status, body)
	}
	return body, err
}

func decode[T any](t *testing.T, address string) T {
	t.Helper()
	var v T
	body, err := get(address)
	if err == nil {
		err = json.Unmarshal(body, &v)
	}
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// nextPort goes through ports below those that the system gives to outgoing
// connections, so that nobody takes one between here and its use.
var nextPort atomic.Int64

func freePort(ip string) string {
	for range 10_000 {
		port := strconv.Itoa(20_000 + int(nextPort.Add(1)+int64(os.Getpid())*37)%12_000)
		free := true
		for _, at := range []string{ip, "127.0.0.1"} {
			l, err := net.Listen("tcp", net.JoinHostPort(at, port))
			if err != nil {
				free = false
				break
			}
			l.Close()
		}
		if free {
			return port
		}
	}
	return "0"
}

func loopback() string { return "127.0.0.1:" + freePort("127.0.0.1") }

// tablespace is where databases are made; "" is the usual place.
var tablespace string

func onTablespace() string {
	if tablespace == "" {
		return ""
	}
	return " TABLESPACE " + tablespace
}

func newDatabase(server, name string) (string, error) {
	conn, err := pgx.Connect(context.Background(), server)
	if err != nil {
		return "", err
	}
	defer conn.Close(context.Background())
	name = fmt.Sprintf("%s_%d", name, time.Now().UnixNano())
	if _, err := conn.Exec(context.Background(), "CREATE DATABASE "+name+onTablespace()); err != nil {
		return "", err
	}
	at, options, _ := strings.Cut(server, "?") // several hosts: net/url takes no such address apart
	return strings.TrimSuffix(strings.TrimSuffix(at, "postgres")+name+"?"+options, "?"), nil
}

// takesLong leaves out a test that waits for long, where scripts/test --quick asks for it.
func takesLong(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("long")
	}
}
