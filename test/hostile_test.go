package test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// long is how long a fault lasts when scripts/faults asks for it, and short how long
// in every other run.
func long(long, short time.Duration) time.Duration {
	if os.Getenv("GULL_FAULT_ROUNDS") != "" {
		return long
	}
	return short
}

// number reads one number from the stack's database.
func (s *stack) number(t *testing.T, sql string, args ...any) (n int64) {
	t.Helper()
	db, err := pgx.Connect(context.Background(), s.database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	if err := db.QueryRow(context.Background(), sql, args...).Scan(&n); err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
	return n
}

// metric reads one of the service's metrics.
func (s *stack) metric(t *testing.T, name string) float64 {
	t.Helper()
	_, text := s.request(t, "GET", "/metrics", "", bearer(adminToken)...)
	for line := range strings.Lines(text) {
		if rest, ok := strings.CutPrefix(line, name+" "); ok {
			v, err := strconv.ParseFloat(strings.TrimSpace(rest), 64)
			if err != nil {
				t.Fatal(err)
			}
			return v
		}
	}
	t.Fatalf("there is no metric %s in %.300s", name, text)
	return 0
}

// poison is what a hostile client says on one connection: text that no database keeps,
// wherever a client may put it. It returns how many refusals it heard of recipients.
func poison(s *stack, n int) (refused int) {
	conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 66, 6)}, Timeout: time.Second}).Dial(
		"tcp",
		s.edge,
	)
	if err != nil {
		return 0
	}
	c := newCaller(conn)
	defer c.conn.Close()
	c.hears()
	c.says("EHLO hostile.example")
	for i := range 20 {
		for _, line := range []string{"MAIL FROM:<a@saltmarsh.example> ENVID=a+FFb",
			"MAIL FROM:<a@saltmarsh.example> ENVID=a+00b", "HELO \xff", "VRFY \xff\x1b[2J"} {
			if !strings.HasPrefix(c.says(line), "5") && !strings.HasPrefix(line, "VRFY") {
				return refused
			}
			if c.broken {
				return refused
			}
			if i > 0 { // not too many errors for one connection
				break
			}
		}
		c.says(fmt.Sprintf("MAIL FROM:<hostile-%d-%d@saltmarsh.example>", n, i))
		if strings.HasPrefix(c.says(fmt.Sprintf("RCPT TO:<nobody-%d-%d@skerryline.example>", n, i)), "550") {
			refused++
		}
		c.says("RCPT TO:<keeper@skerryline.example> ORCPT=rfc822;a+FFb")
		c.says("RCPT TO:<keeper@skerryline.example> ORCPT=rfc822;a+41b")
		if !strings.HasPrefix(c.says("DATA"), "354") {
			return refused
		}
		c.says(
			"Message-ID: <\xff\xfe@x>\r\nFrom: \xff <a\xff@saltmarsh.example>\r\nSubject: " +
				"\xff\xc0\x80\x1b[2J\r\nX: \xf5\r\nContent-Type: multipart/report; " +
				"report-type=delivery-status; boundary=\"\xff\"\r\n\r\n\xff\r\n.",
		)
		if c.broken {
			return refused
		}
	}
	return refused
}

func TestFaultPoisonFailsNobodyElse(t *testing.T) {
	t.Parallel()
	s := own(t, "poison", func(c string) string {
		return strings.Replace(
			c,
			"kind: edge\n",
			"kind: edge\n    limits: {errors: 1000, connections_per_address: 100, new_per_minute: 100000, "+
				"messages_per_connection: 100000}\n",
			1,
		)
	})
	var refused atomic.Int64
	var hostile sync.WaitGroup
	stop := make(chan struct{})
	for k := range 2 {
		hostile.Add(1)
		go func() {
			defer hostile.Done()
			for n := k; ; n += 2 {
				select {
				case <-stop:
					return
				default:
					refused.Add(int64(poison(s, n)))
				}
			}
		}()
	}
	se := startSenders(s, 20)
	want := 10_000
	if os.Getenv("GULL_FAULT_ROUNDS") == "" {
		want = 500
	}
	end := time.Now().Add(long(time.Minute, 5*time.Second))
	if err := eventually(5*time.Minute, func() error {
		if se.count() < want || time.Now().Before(end) {
			return fmt.Errorf("%d good messages", se.count())
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	se.end()
	close(stop)
	hostile.Wait()
	if len(se.refused) > 0 || refused.Load() == 0 {
		t.Errorf("good messages were refused: %v; of the hostile clients' %d recipients were",
			se.refused, refused.Load())
	}
	se.account(t, fmt.Sprintf("poison of two hostile clients beside %d messages", se.count()))
	s.counted(t)
	for what, c := range map[string]struct {
		sql  string
		want int64
	}{
		"refusals of the hostile clients": {`SELECT count(*) FROM refusal WHERE client_address = '127.0.66.6' AND stage = 'recipient' AND code = 550`, refused.Load()},
		"messages of the others":          {`SELECT count(*) FROM message WHERE sender = 'tickets@skerryline.example' AND listener = 'inside'`, int64(se.count())},
		"their count in reports":          {`SELECT coalesce(sum(n), 0) FROM count_sum WHERE tier = 'hour' AND dim = 'sender' AND value = 'tickets@skerryline.example' AND kind = 'received'`, int64(se.count())},
	} {
		if err := eventually(20*time.Second, func() error {
			if got := s.number(t, c.sql); got != c.want {
				return fmt.Errorf("%s: %d on record, there were %d", what, got, c.want)
			}
			return nil
		}); err != nil {
			t.Error(err)
		}
	}
	if n := s.metric(t, `gull_loop_faults_total{loop="snags"}`); n != 0 {
		t.Errorf("snags could not be brought up to date %v times", n)
	}
	for _, w := range []string{"messages", "outcomes", "records", "snags", "counts"} {
		if n := s.metric(t, `gull_data_refused_total{writer="`+w+`"}`); n != 0 {
			t.Errorf("the database refused %v of the %s: their text should be clean before", n, w)
		}
	}
}

// caller is a client that does not mind what it hears.
type caller struct {
	conn   net.Conn
	buf    [4096]byte
	broken bool
}

func newCaller(conn net.Conn) *caller { return &caller{conn: conn} }

func (c *caller) hears() string {
	_ = c.conn.SetDeadline(time.Now().Add(20 * time.Second))
	text := ""
	for !strings.HasSuffix(text, "\n") || len(text) > 3 && strings.Contains(endOf(text),
		"-") && endOf(text)[3] == '-' {
		n, err := c.conn.Read(c.buf[:])
		text += string(c.buf[:n])
		if err != nil {
			c.broken = true
			break
		}
	}
	return text
}

func endOf(text string) string {
	lines := strings.Split(strings.TrimRight(text, "\r\n"), "\n")
	if last := lines[len(lines)-1]; len(last) > 3 {
		return last
	}
	return "    "
}

func (c *caller) says(line string) string {
	if _, err := fmt.Fprint(c.conn, line+"\r\n"); err != nil {
		c.broken = true
		return ""
	}
	return c.hears()
}

// hostileHost is a mail server whose certificate has a NUL and bad UTF-8 in its names,
// and whose replies hold what acts.
func hostileHost(t *testing.T, ip string) (port string, taken *atomic.Int64) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := x509.Certificate{
		SerialNumber: big.NewInt(1),
		Subject:      pkix.Name{CommonName: "mx\x00evil", Organization: []string{"a\x00b"}},
		DNSNames:     []string{"mx\x00evil.example"},
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().Add(time.Hour),
	}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	settings := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
	port, taken = freePort(ip), &atomic.Int64{}
	l, err := net.Listen("tcp", net.JoinHostPort(ip, port))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	serve := func(conn net.Conn) {
		defer func() { conn.Close() }()
		c := newCaller(conn)
		fmt.Fprint(c.conn, "220 \xff\x00\x1b[2J\r\n")
		for {
			line := c.hears()
			switch verb := strings.ToUpper(strings.TrimSpace(line)); {
			case c.broken:
				return
			case strings.HasPrefix(verb, "EHLO"):
				fmt.Fprint(c.conn, "250-\xff\x00\r\n250-STARTTLS\r\n250 X\x00\xff\r\n")
			case verb == "STARTTLS":
				fmt.Fprint(c.conn, "220 \x00go\r\n")
				secured := tls.Server(conn, settings)
				if secured.Handshake() != nil {
					return
				}
				conn, c = secured, newCaller(secured)
			case strings.HasPrefix(verb, "DATA"):
				fmt.Fprint(c.conn, "354 go\r\n")
				for text := ""; !strings.HasSuffix(text, "\r\n.\r\n") && !c.broken; {
					text += c.hears()
				}
				if taken.Add(1)%2 == 0 {
					fmt.Fprint(c.conn, "451 4.7.1 later \xff\x00\u202e\r\n")
				} else {
					fmt.Fprint(c.conn, "250 2.0.0 \xff\x00 taken\r\n")
				}
			case strings.HasPrefix(verb, "QUIT"):
				fmt.Fprint(c.conn, "221 \xff\r\n")
				return
			default:
				fmt.Fprint(c.conn, "250 \xff\x00 ok\r\n")
			}
		}
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go serve(conn)
		}
	}()
	return port, taken
}

func TestFaultAHostileCertificateStopsNoRecord(t *testing.T) {
	t.Parallel()
	port, taken := hostileHost(t, "127.0.66.7")
	s := own(t, "certificate", func(c string) string {
		return strings.Replace(
			c,
			"routes:\n",
			"routes:\n  - {name: hostile, recipients: [hostile.example], next_hop: smarthost, hosts: "+
				"[\"127.0.66.7:"+port+"\"], tls: offered}\n",
			1,
		)
	})
	var ids []string
	for i := range 6 {
		ids = append(
			ids,
			s.send(t, s.inside, "127.20.1.5", "tickets@skerryline.example", message("hostile"),
				fmt.Sprintf("a%d@hostile.example", i)),
		)
		ids = append(ids, s.out(t, fmt.Sprintf("b%d@barelock.example", i)))
	}
	if err := eventually(40*time.Second, func() error {
		for _, id := range ids {
			tr, err := s.client().Trace(context.Background(), id, nil)
			if err != nil {
				return err
			}
			if d := tr.Message.Deliveries[0]; d.State != mail.Delivered {
				return fmt.Errorf("%s to %s is %s: %+v", id, d.Recipient, d.State, d.Last)
			}
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	tr, err := s.client().Trace(context.Background(), ids[0], nil)
	if err != nil || taken.Load() < 6 {
		t.Fatal(taken.Load(), err)
	}
	if last := tr.Message.Deliveries[0].Last; last == nil || !strings.Contains(last.TLS, "not verified") ||
		strings.Contains(last.TLS, "\x00") {
		t.Errorf("%+v", last)
	}
	if n := s.metric(t, `gull_data_refused_total{writer="outcomes"}`); n != 0 {
		t.Errorf("the database refused %v outcomes", n)
	}
	s.row(t, "a host with a hostile certificate", ids, 0)
}

func TestFaultTheDatabaseIsAwayForLongWithManyLanesWaiting(t *testing.T) {
	_, do, port, secret := cluster(t, "test-away")
	s := own(t, "away", func(c string) string {
		return strings.Replace(c, "intervals: [1s]",
			"intervals: [5s]", 1)
	})
	lanes := 1000
	if os.Getenv("GULL_FAULT_ROUNDS") == "" {
		lanes = 100
	}
	s.run(t, "route", "add", "many", "--recipients", "*.many.example", "--next-hop", "mx")
	s.run(t, "route", "move", "many", "--position", "1")
	s.run(t, "draft", "apply")
	s.behave(t, "mx.barelock.example", `{"pause": "300ms"}`) // messages wait in memory
	se := startSenders(s, 4)
	conn := dial(t, s.inside, "127.20.1.9")
	conn.hear()
	conn.want("250", "EHLO machine")
	s.dns(t, "down")
	for i := range lanes {
		conn.want("250", "MAIL FROM:<tickets@skerryline.example>")
		conn.want("250", fmt.Sprintf("RCPT TO:<a@n%d.many.example>", i))
		conn.want("354", "DATA")
		conn.want("250", message("many")+".")
	}
	se.more(t, 50)
	before, heap := s.metric(t, "go_goroutines"), s.metric(t, "process_resident_memory_bytes")
	do("crash", "test-away")
	most, mostHeap := before, heap
	for end := time.Now().Add(long(5*time.Minute,
		30*time.Second)); time.Now().Before(end); time.Sleep(time.Second) {
		most, mostHeap = max(
			most,
			s.metric(t, "go_goroutines"),
		), max(mostHeap, s.metric(t, "process_resident_memory_bytes"))
	}
	do("start", "test-away", port, secret)
	fmt.Printf(
		"[goroutines before the outage and at most in it: %.0f, %.0f; resident memory: %.0f, %.0f MB]\n",
		before,
		most,
		heap/1e6,
		mostHeap/1e6,
	)
	if most > before+1500 || mostHeap > heap+300e6 {
		t.Errorf("what runs and what it holds grows while the database is away")
	}
	s.dns(t, "well")
	se.more(t, 20)
	se.end()
	s.behave(t, "mx.barelock.example", `{"pause": "0s"}`)
	if err := eventually(
		60*time.Second,
		func() error { // the resolver's answers were no answers: those domains do not exist
			if n := s.number(t, `SELECT count(*) FROM delivery`); n > 0 {
				return fmt.Errorf("%d deliveries are left", n)
			}
			return nil
		},
	); err != nil {
		t.Error(err)
	}
	se.account(t, fmt.Sprintf("the database away for %s, %d lanes waiting",
		long(5*time.Minute, 30*time.Second), lanes))
}

// dns lets the simulated resolver be well, slow, lying or down.
func (s *stack) dns(t *testing.T, mode string) {
	t.Helper()
	req, _ := http.NewRequest(http.MethodPut, "http://"+s.control+"/dns/"+mode, nil)
	resp, err := http.DefaultClient.Do(req)
	if err != nil || resp.StatusCode != http.StatusNoContent {
		t.Fatalf("dns %s: %v %v", mode, resp, err)
	}
	resp.Body.Close()
}

func TestFaultPausingUnderLoadStrandsNothing(t *testing.T) {
	t.Parallel()
	s := own(t, "pausing", nil)
	se := startSenders(s, 4)
	se.more(t, 20)
	times := 20
	if os.Getenv("GULL_FAULT_ROUNDS") != "" {
		times = 200
	}
	m, found := s.find(t, "survivor@barelock.example")
	if !found {
		t.Fatal("there is no message")
	}
	lane := m.Deliveries[0].LaneID.String()
	c := s.client()
	for i := range times {
		p := []api.StopRequest{{Kind: mail.PauseDelivery}, {Kind: mail.PauseRoute, Name: "to the world"},
			{Kind: mail.PauseLane, Name: lane}}[i%3]
		if _, err := c.Pause(context.Background(), p); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i%4) * 20 * time.Millisecond)
		if _, err := c.Resume(context.Background(), p); err != nil {
			t.Fatal(err)
		}
		time.Sleep(20 * time.Millisecond)
	}
	se.more(t, 20)
	se.end()
	se.account(t, fmt.Sprintf("delivery, a route, a lane paused and resumed under load, %d times", times))
	if n := s.number(t, `SELECT count(*) FROM delivery WHERE lease IS NOT NULL`); n != 0 {
		t.Errorf("%d deliveries are left leased", n)
	}
}

func TestFaultABadResolverDoesNotDelayItsOwnEnd(t *testing.T) {
	t.Parallel()
	s := own(t, "resolver", nil)
	silent, err := net.ListenPacket("udp", "127.0.66.8:0") // takes questions and answers none
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	within := long(time.Minute, 5*time.Second)
	s.run(t, "service", "set", "--resolvers", silent.LocalAddr().String())
	s.run(t, "draft", "apply", "--confirm-within", within.String(), "--force", "--why", "a test")
	began := time.Now()
	go func() { _, _, _ = s.gull(t, "readiness", "skerryline.example") }()
	if err := eventually(within+10*time.Second, func() error {
		if out := s.run(t, "revision", "list"); !strings.Contains(out, "was not confirmed in time") {
			return fmt.Errorf("%s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	if took := time.Since(began); took > within+8*time.Second || took < within-time.Second {
		t.Errorf("a revision to be confirmed within %s went back after %s", within, took)
	}
	fmt.Printf("[a resolver that never answers, to be confirmed within %s: back after %s]\n",
		within, time.Since(began).Round(100*time.Millisecond))
}
