package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/simnet"
)

// policy lets a domain of the simulated internet say a TLS policy.
func (s *stack) policy(t *testing.T, domain string, p simnet.STSPolicy) {
	t.Helper()
	body, _ := json.Marshal(p)
	req, _ := http.NewRequest(http.MethodPut, "http://"+s.control+"/policies/"+domain, bytes.NewReader(body))
	resp, err := http.DefaultClient.Do(req)
	if err != nil || resp.StatusCode != http.StatusNoContent {
		t.Fatalf("%v %v", err, resp)
	}
	resp.Body.Close()
}

// secured is the TLS of the session by which a message was delivered.
func (s *stack) secured(t *testing.T, id string) string {
	t.Helper()
	d := s.until(t, id, mail.Delivered)
	var x mail.Session
	if err := json.Unmarshal([]byte(s.run(t, "session", "show", d.Last.SessionID.String(), "-o", "json")), &x); err != nil {
		t.Fatal(err)
	}
	return x.TLS
}

// pin is the record by which DNS names a host's certificate.
func (s *stack) pin(t *testing.T, host string) string {
	t.Helper()
	text, err := os.ReadFile(s.config)
	if err != nil {
		t.Fatal(err)
	}
	server := regexp.MustCompile(`resolvers: \["([^"]+)"`).FindSubmatch(text)[1]
	port := s.mxPort(t)
	m := new(dns.Msg)
	m.SetQuestion(fmt.Sprintf("_%s._tcp.%s.", port, host), dns.TypeTLSA)
	answer, err := dns.Exchange(m, string(server))
	if err != nil || len(answer.Answer) != 1 {
		t.Fatal(err, answer)
	}
	return strings.Join(strings.Fields(answer.Answer[0].String()), " ")
}

// What a domain says of TLS for mail to it is kept: by MTA-STS (RFC 8461) and by DANE (RFC 7672).
func TestDomainsPoliciesAreKept(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "policies", func(c string) string { return strings.Replace(c, "intervals: [1s]", "intervals: [3s]", 1) })
	// A certificate that signed DNS does not name opens nothing; the one that it names does.
	right := s.pin(t, "mx.saltmarsh.example")
	s.run(t, "simnet", "publish", "--replace", strings.Replace(right[:len(right)-8], " 60 ", " 1 ", 1)+"00000000")
	first := s.out(t, "ada@saltmarsh.example")
	if d := s.until(t, first, mail.Deferred); d.Cause != diagnose.PolicyNotKept ||
		!strings.Contains(d.Last.Text, "none of 1 records in DNS names the certificate") ||
		!strings.Contains(d.Last.Text, "DANE of mx.saltmarsh.example demands that") {
		t.Errorf("a certificate that DNS does not name: %+v", d.Last)
	}
	s.run(t, "simnet", "publish", "--replace", right)
	if tls := s.secured(t, first); !strings.HasSuffix(tls, "verified by DANE") {
		t.Errorf("a host that signed DNS pins: %s", tls)
	}
	if tls := s.secured(t, s.out(t, "a@dunlin.example")); !strings.HasSuffix(tls, "verified by MTA-STS") {
		t.Errorf("a host that a policy names: %s", tls)
	}
	// Its MX is named by no policy of its own: nothing goes there, and the text says why.
	stuck := s.out(t, "a@tidemark.example")
	d := s.until(t, stuck, mail.Deferred)
	if d.Cause != diagnose.PolicyNotKept || !strings.Contains(d.Last.Text,
		"the policy of tidemark.example (MTA-STS, enforce) names no host mx.tidemark.example, only mail.tidemark.example") {
		t.Errorf("a host that no policy names: %+v %s", d.Last, d.Cause)
	}
	if n := len(s.messages(t, "mx.tidemark.example", "")); n != 0 {
		t.Errorf("%d messages went there all the same", n)
	}
	// What is done about it: they set it right, or we heed it no more, as an exception that is said.
	s.policy(t, "tidemark.example", simnet.STSPolicy{Mode: "testing", MX: []string{"mail.tidemark.example"}})
	if out := s.run(t, "tls-policy", "check", "tidemark.example"); !strings.Contains(out, "testing") {
		t.Errorf("asked anew: %s", out)
	}
	s.run(t, "queue", "flush", "--message", stuck)
	if tls := s.secured(t, stuck); strings.Contains(tls, "MTA-STS") {
		t.Errorf("a policy that is tried out: %s", tls)
	}

	// What was had counts while its server is in trouble, whatever the trouble, and what never was
	// had counts for nothing.
	s.policy(t, "greywacke.example", simnet.STSPolicy{Mode: "enforce", MX: []string{"mx.greywacke.example"}})
	s.run(t, "tls-policy", "check", "greywacke.example")
	for fault, says := range map[string]string{"gone": "answers 404", "certificate": "certificate is valid for www",
		"garbage": "no field", "elsewhere": "sends elsewhere"} {
		s.policy(t, "greywacke.example", simnet.STSPolicy{Mode: "none", Fault: fault})
		s.policy(t, "smallhatch.example", simnet.STSPolicy{Mode: "enforce", MX: []string{"x.example"}, Fault: fault})
		s.until0(t, func() error { // the record is kept for a second
			if out := s.run(t, "tls-policy", "check", "greywacke.example"); !strings.Contains(out, says) ||
				!strings.Contains(out, "enforce") {
				return fmt.Errorf("%s: %s", fault, out)
			}
			return nil
		})
		s.until(t, s.out(t, "a@smallhatch.example"), mail.Delivered)
	}
	id := s.out(t, "b@greywacke.example")
	if d := s.until(t, id, mail.Deferred); d.Cause != diagnose.PolicyNotKept ||
		!strings.Contains(d.Last.Text, "the host offers no TLS, and the policy of greywacke.example") {
		t.Errorf("no TLS under a policy that is kept: %+v", d.Last)
	}
	s.run(t, "peer", "add", "greywacke post", "--domains", "greywacke.example", "--ignore-policies")
	s.run(t, "draft", "apply")
	s.run(t, "queue", "flush", "--message", id)
	s.until(t, id, mail.Delivered)
	if out := s.run(t, "tls-policy", "list"); !strings.Contains(out, "dunlin.example") || !strings.Contains(out, "enforce") {
		t.Errorf("what is known:\n%s", out)
	}

	// Who signs is believed only where nobody stands between.
	if _, errOut, code := s.gull(t, "service", "set", "--resolvers", "192.0.2.53:53"); code == 0 ||
		!strings.Contains(errOut, "not on this machine") {
		t.Errorf("a resolver far away is believed: %s", errOut)
	}
}

// A policy's server that never answers delays mail to its domain only.
func TestASlowPolicyServerDelaysNobodyElse(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "slowpolicy", nil)
	s.policy(t, "smallhatch.example", simnet.STSPolicy{Mode: "enforce", MX: []string{"*.smallhatch.example"}, Fault: "slow"})
	waits := s.out(t, "a@smallhatch.example")
	began := time.Now()
	for range 20 {
		s.until(t, s.out(t, "b@ebbandflow.example"), mail.Delivered)
	}
	if took := time.Since(began); took > 10*time.Second {
		t.Errorf("mail to others took %s", took)
	}
	if d := s.until(t, waits, mail.Delivered); d.FinishedAt.Sub(began) < time.Second {
		t.Errorf("the policy was not waited for: %s", d.FinishedAt.Sub(began))
	}
}
