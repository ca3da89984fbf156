package simnet

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
)

// run starts the demo's simulated internet at free ports.
func run(t *testing.T) (n *Net, port string) {
	t.Helper()
	w, err := Load("../../demo/simnet.yaml")
	if err != nil {
		t.Fatal(err)
	}
	free := func(ip string) int {
		l, err := net.Listen("tcp", ip+":0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		return l.Addr().(*net.TCPAddr).Port
	}
	mx := free("127.30.0.10")
	for i := range w.Hosts {
		if w.Hosts[i].Port != 0 {
			w.Hosts[i].Port = free(w.Hosts[i].Address)
		}
	}
	n, err = Start(Options{World: w, DNS: "127.0.0.1:0", Port: mx, Control: "127.0.0.1:0"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(n.Close)
	return n, strconv.Itoa(mx)
}

func TestDNSAnswersOverBothTransports(t *testing.T) {
	n, _ := run(t)
	for _, transport := range []string{"udp", "tcp"} {
		for _, c := range []struct {
			name  string
			kind  uint16
			rcode int
			want  string
		}{
			{"saltmarsh.example.", dns.TypeMX, dns.RcodeSuccess, "10 mx.saltmarsh.example."},
			{"MX.Saltmarsh.example.", dns.TypeA, dns.RcodeSuccess, "127.30.0.10"},
			{"mx.saltmarsh.example.", dns.TypeAAAA, dns.RcodeSuccess, ""},
			{"nomail.example.", dns.TypeMX, dns.RcodeSuccess, "0 ."},
			{"lostbuoy.example.", dns.TypeMX, dns.RcodeNameError, ""},
			{"foghorn.example.", dns.TypeMX, dns.RcodeServerFailure, ""},
			{"10.0.30.127.in-addr.arpa.", dns.TypePTR, dns.RcodeSuccess, "mx.saltmarsh.example."},
		} {
			m := new(dns.Msg)
			m.SetQuestion(c.name, c.kind)
			r, _, err := (&dns.Client{Net: transport}).Exchange(m, n.DNS)
			if err != nil {
				t.Fatal(err)
			}
			got := ""
			if len(r.Answer) > 0 {
				got = strings.TrimPrefix(r.Answer[0].String(), r.Answer[0].Header().String())
			}
			if r.Rcode != c.rcode || got != c.want {
				t.Errorf("%s %s over %s: %s %q", c.name, dns.TypeToString[c.kind], transport,
					dns.RcodeToString[r.Rcode], got)
			}
		}
	}
}

// ask sends lines to a host and returns the first line of each reply.
func ask(t *testing.T, address string, lines ...string) []string {
	t.Helper()
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return []string{"closed"}
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	br := bufio.NewReader(conn)
	var out []string
	for _, line := range append([]string{""}, lines...) {
		if line != "" {
			fmt.Fprintf(conn, "%s\r\n", line)
		}
		first := ""
		for {
			l, err := br.ReadString('\n')
			if err != nil {
				return append(out, "gone")
			}
			if first == "" {
				first = strings.TrimSpace(l)
			}
			if len(l) > 3 && l[3] == ' ' {
				break
			}
		}
		out = append(out, first)
	}
	return out
}

func TestHostsActAsTheyAreDescribed(t *testing.T) {
	_, mx := run(t)
	envelope := []string{"EHLO a.example", "MAIL FROM:<a@skerryline.example>", "RCPT TO:<x@y.example>"}
	for _, c := range []struct {
		name, address string
		lines         []string
		last          string
	}{
		{"healthy", "127.30.0.10", append(envelope, "DATA", "hi\r\n."), "250 2.0.0 taken"},
		{"closed", "127.30.0.20", nil, "closed"},
		{"greylisting", "127.30.0.13", envelope, "451 4.7.1 greylisted"},
		{"full", "127.30.0.14", envelope, "452 4.2.2"},
		{"unknown person", "127.30.0.15", envelope, "550 5.1.1"},
		{"known person", "127.30.0.15", append(envelope[:2:2], "RCPT TO:<harbour@nosuch.example>"), "250"},
		{"block list", "127.30.0.16", envelope, "550 5.7.1 your address is on the block list"},
		{"residential addresses", "127.30.0.17", nil, "554 5.7.1 no mail from residential addresses"},
		{"too large", "127.30.0.22", append(envelope[:1:1], "MAIL FROM:<a@b.example> SIZE=300000"),
			"552 5.3.4"},
		{"hangs up", "127.30.0.25", append(envelope, "DATA", strings.Repeat("x", 300)+"\r\n."), "gone"},
		{"nobody to send to", "127.30.0.10", append(envelope[:2:2], "DATA"), "503 5.5.1"},
	} {
		got := ask(t, c.address+":"+mx, c.lines...)
		if last := got[len(got)-1]; !strings.HasPrefix(last, c.last) {
			t.Errorf("%s: %q, want %s", c.name, got, c.last)
		}
	}
	if got := ask(
		t,
		"127.30.0.14:"+mx,
		append(envelope, "RCPT TO:<x@y.example>", "RCPT TO:<x@y.example>")...); !strings.HasPrefix(
		got[len(got)-1],
		"552 5.2.2",
	) {
		t.Errorf("after some tries a full shelf is full for good: %q", got)
	}
}

func TestControlShowsAndChangesAHost(t *testing.T) {
	n, mx := run(t)
	call := func(method, path, body string) int {
		t.Helper()
		req, _ := http.NewRequest(method, "http://"+n.Control+path, strings.NewReader(body))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	address := "127.30.0.24:" + mx
	for _, c := range []struct {
		change string
		status int
		heard  string
	}{
		{`{"greeting": "421 4.3.2 not now"}`, 200, "421 4.3.2 not now"},
		{`{"greeting": "", "closed": true}`, 200, "closed"},
		{`{"closed": false}`, 200, "220 mx.barelock.example ESMTP"},
		{`{"colour": "red"}`, 400, "220 mx.barelock.example ESMTP"},
		{`{"pause": "soon"}`, 400, "220 mx.barelock.example ESMTP"},
	} {
		if status := call(http.MethodPatch, "/hosts/mx.barelock.example", c.change); status != c.status {
			t.Errorf("%s: %d", c.change, status)
		}
		if got := ask(t, address); got[0] != c.heard {
			t.Errorf("after %s: %q", c.change, got)
		}
	}
	if status := call(http.MethodGet, "/hosts/nowhere", ""); status != http.StatusNotFound {
		t.Errorf("an unknown host: %d", status)
	}
	if status := call(http.MethodDelete, "/hosts/mx.barelock.example/messages",
		""); status != http.StatusNoContent {
		t.Errorf("forget messages: %d", status)
	}
}

func TestAWorldIsReadStrictly(t *testing.T) {
	for text, want := range map[string]string{
		"hosts:\n  - {name: a, address: 192.0.2.1}\n":               "not a loopback address",
		"hosts:\n  - {name: a, address: 127.0.0.1, colour: red}\n":  "colour",
		"hosts:\n  - {name: a, address: 127.0.0.1, pause: a bit}\n": "a bit",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
