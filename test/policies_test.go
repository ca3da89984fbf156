package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/readiness"
	"gullroute/internal/simnet"
)

// policy lets a domain of the simulated internet say a TLS policy.
func (s *stack) policy(t *testing.T, domain string, p simnet.STSPolicy) {
	t.Helper()
	body, _ := json.Marshal(p)
	req, _ := http.NewRequest(
		http.MethodPut,
		"http://"+s.control+"/policies/"+domain,
		bytes.NewReader(body),
	)
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
	s := own(
		t,
		"policies",
		func(c string) string { return strings.Replace(c, "intervals: [1s]", "intervals: [3s]", 1) },
	)
	// A certificate that signed DNS does not name opens nothing; the one that it names does.
	right := s.pin(t, "mx.saltmarsh.example")
	s.run(
		t,
		"simnet",
		"publish",
		"--replace",
		strings.Replace(right[:len(right)-8], " 60 ", " 1 ", 1)+"00000000",
	)
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
	if tls := s.secured(t, s.out(t, "a@dunlin.example")); !strings.HasSuffix(
		tls,
		"verified by MTA-STS",
	) {
		t.Errorf("a host that a policy names: %s", tls)
	}
	// Its MX is named by no policy of its own: nothing goes there, and the text says why.
	stuck := s.out(t, "a@dimbuoy.example")
	d := s.until(t, stuck, mail.Deferred)
	if d.Cause != diagnose.PolicyNotKept || !strings.Contains(
		d.Last.Text,
		"the policy of dimbuoy.example (MTA-STS, enforce) names no host mx.dimbuoy.example, only mail.dimbuoy.example",
	) {
		t.Errorf("a host that no policy names: %+v %s", d.Last, d.Cause)
	}
	if n := len(s.messages(t, "mx.dimbuoy.example", "")); n != 0 {
		t.Errorf("%d messages went there all the same", n)
	}
	// What is done about it: they set it right, or we heed it no more, as an exception that is said.
	s.policy(
		t,
		"dimbuoy.example",
		simnet.STSPolicy{Mode: "testing", MX: []string{"mail.dimbuoy.example"}},
	)
	if out := s.run(t, "tls-policy", "check", "dimbuoy.example"); !strings.Contains(
		out,
		"testing",
	) {
		t.Errorf("asked anew: %s", out)
	}
	s.run(t, "queue", "flush", "--message", stuck)
	if tls := s.secured(t, stuck); strings.Contains(tls, "MTA-STS") {
		t.Errorf("a policy that is tried out: %s", tls)
	}

	// What was had counts while its server is in trouble, whatever the trouble, and what never was
	// had counts for nothing.
	s.policy(
		t,
		"greywacke.example",
		simnet.STSPolicy{Mode: "enforce", MX: []string{"mx.greywacke.example"}},
	)
	s.run(t, "tls-policy", "check", "greywacke.example")
	for fault, says := range map[string]string{"gone": "answers 404", "certificate": "certificate is valid for www",
		"garbage": "no field", "elsewhere": "sends elsewhere"} {
		s.policy(t, "greywacke.example", simnet.STSPolicy{Mode: "none", Fault: fault})
		s.policy(
			t,
			"smallhatch.example",
			simnet.STSPolicy{Mode: "enforce", MX: []string{"x.example"}, Fault: fault},
		)
		s.until0(t, func() error { // the record is kept for a second
			if out := s.run(t, "tls-policy", "check", "greywacke.example"); !strings.Contains(
				out,
				says,
			) ||
				!strings.Contains(out, "enforce") {
				return fmt.Errorf("%s: %s", fault, out)
			}
			return nil
		})
		s.until(t, s.out(t, "a@smallhatch.example"), mail.Delivered)
	}
	id := s.out(t, "b@greywacke.example")
	if d := s.until(t, id, mail.Deferred); d.Cause != diagnose.PolicyNotKept ||
		!strings.Contains(
			d.Last.Text,
			"the host offers no TLS, and the policy of greywacke.example",
		) {
		t.Errorf("no TLS under a policy that is kept: %+v", d.Last)
	}
	s.run(t, "peer", "add", "greywacke post", "--domains", "greywacke.example", "--ignore-policies")
	s.run(t, "draft", "apply")
	s.run(t, "queue", "flush", "--message", id)
	s.until(t, id, mail.Delivered)
	if out := s.run(t, "tls-policy", "list"); !strings.Contains(out, "dunlin.example") ||
		!strings.Contains(out, "enforce") {
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
	s.policy(
		t,
		"smallhatch.example",
		simnet.STSPolicy{Mode: "enforce", MX: []string{"*.smallhatch.example"}, Fault: "slow"},
	)
	waits := s.out(t, "a@smallhatch.example")
	began := time.Now()
	for range 20 {
		s.until(t, s.out(t, "b@ebbandflow.example"), mail.Delivered)
	}
	if took := time.Since(began); took > 13*time.Second {
		t.Errorf("mail to others took %s", took)
	}
	if d := s.until(t, waits, mail.Delivered); d.FinishedAt.Sub(began) < time.Second {
		t.Errorf("the policy was not waited for: %s", d.FinishedAt.Sub(began))
	}
}

// What we ask of others who send to a domain of ours is said by the service itself, in step with
// the settings, and readiness tells what is missing until a sender finds all of it.
func TestOurOwnPolicyIsSaidAndFound(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "ownpolicy", nil)
	const domain = "skerryline.example"
	text, err := os.ReadFile(s.config)
	if err != nil {
		t.Fatal(err)
	}
	port := regexp.MustCompile(`policy_port: (\d+)`).FindSubmatch(text)[1]
	var files [2]string
	for i, name := range []string{"mta-sts." + domain, "www." + domain} {
		pem, err := get("http://" + s.control + "/certificates/" + name)
		if err != nil {
			t.Fatal(err)
		}
		files[i] = filepath.Join(s.dir, name+".pem")
		if err := os.WriteFile(files[i], []byte(pem), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	used := filepath.Join(s.dir, "used.pem")
	install := func(from string) {
		t.Helper()
		pem, err := os.ReadFile(from)
		if err == nil {
			err = os.WriteFile(used, pem, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	install(files[1])
	_ = s.serve.Process.Signal(syscall.SIGTERM)
	_ = s.serve.Wait()
	s.extra = append(
		s.extra,
		"--policies",
		"127.30.0.91:"+string(port),
		"--policies-cert",
		used,
		"--policies-key",
		used,
	)
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	aspect := func() (a readiness.Aspect) {
		t.Helper()
		var r readiness.Readiness
		if err := json.Unmarshal([]byte(s.run(t, "readiness", domain, "-o", "json")), &r); err != nil {
			t.Fatal(err)
		}
		for _, p := range r.Points {
			if p.Key == "mta-sts" {
				a = p
			}
		}
		return a
	}
	shows := func(when string, want readiness.Result, says string) readiness.Aspect {
		t.Helper()
		a := aspect()
		if a.Result != want || !strings.Contains(a.Says, says) {
			t.Errorf("%s: %s %s", when, a.Result, a.Says)
		}
		return a
	}
	shows("nothing is said", readiness.NotChecked, "gull domain set")
	s.run(t, "domain", "set", domain, "--tls-policy-mode", "testing")
	s.run(t, "draft", "apply")
	a := shows("nobody knows", readiness.Fail, "publish its record")
	if len(a.Records) != 2 || a.Records[0].Name != "_mta-sts."+domain {
		t.Fatalf("what to publish: %+v", a.Records)
	}
	s.run(t, "simnet", "publish", "--replace", a.Records[0].Zone)
	s.run(t, "simnet", "publish", "--replace", "mta-sts."+domain+". 1 IN A 127.30.0.91")
	shows("a certificate of another name", readiness.Fail, "certificate is valid for www")
	// A renewed certificate counts without a new start.
	time.Sleep(time.Second) // its file is known by its time
	install(files[0])
	s.until0(t, func() error {
		if a := aspect(); a.Result != readiness.Warning || !strings.Contains(a.Says, "testing") {
			return fmt.Errorf("a policy that tests: %s %s", a.Result, a.Says)
		}
		return nil
	})
	s.run(t, "domain", "set", domain, "--tls-policy-mode", "enforce")
	s.run(t, "draft", "apply")
	a = shows(
		"another policy under the old id",
		readiness.Fail,
		"changed since the record was published",
	)
	s.run(t, "simnet", "publish", "--replace", a.Records[0].Zone)
	shows("all of it", readiness.Pass, "names our hosts")
	s.run(t, "domain", "set", domain, "--tls-policy-hosts", "mx.elsewhere.example")
	s.run(t, "draft", "apply")
	a = shows("another host", readiness.Fail, "changed since")
	s.run(t, "simnet", "publish", "--replace", a.Records[0].Zone)
	shows("a policy without our host", readiness.Fail, "does not name the host")

	for host, want := range map[string]int{"mta-sts." + domain: 200, domain: 404, "mta-sts.lightkeepers.example": 404} {
		req, _ := http.NewRequest(http.MethodGet, "http://"+s.http+"/.well-known/mta-sts.txt", nil)
		req.Host = host
		resp, err := http.DefaultClient.Do(req)
		if err != nil || resp.StatusCode != want {
			t.Errorf("%s: %v %v", host, resp, err)
		}
		resp.Body.Close()
	}
}
