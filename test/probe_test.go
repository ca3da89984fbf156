package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/probe"
	"gullroute/internal/core/publish"
)

// probed is a probe by command, and its exit code.
func (s *stack) probed(t *testing.T, args ...string) (probe.Probe, int) {
	t.Helper()
	out, stderr, code := s.gull(t, append([]string{"probe", "-o", "json"}, args...)...)
	var p probe.Probe
	if err := json.Unmarshal([]byte(out), &p); err != nil {
		t.Fatalf("probe %v: %d %s%s", args, code, out, stderr)
	}
	return p, code
}

// taken finds a step of the first conversation, or of those before it.
func taken(p probe.Probe, name string) probe.ProbeStep {
	for _, s := range p.Steps {
		if s.Name == name {
			return s
		}
	}
	for _, a := range p.Attempts {
		for _, s := range a.Steps {
			if s.Name == name {
				return s
			}
		}
	}
	return probe.ProbeStep{}
}

func TestAProbeSaysWhatIsWrongWithEachHost(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "probe", nil)
	for _, c := range []struct {
		target, step, result, says string
		cause                      diagnose.Cause
		exit                       int
	}{
		{"saltmarsh.example", "certificate", "pass", "the certificate verifies by DANE for mx.saltmarsh.example",
			"", 0},
		{"harbour@saltmarsh.example", "recipient", "pass", "it answers 250", "", 0},
		{"mx.saltmarsh.example", "dns", "pass", "mx.saltmarsh.example", "", 0},
		{"dunlin.example", "connect", "fail", "connection refused", "", 0}, // the second host answers
		{"sunkenpier.example", "connect", "fail", "connection refused", diagnose.ConnectRefused, 1},
		{"somebody@nosuch.example", "recipient", "fail", "550 5.1.1", diagnose.NoSuchUser, 1},
		{"a@strandwatch.example", "recipient", "fail", "block list driftnet.example", diagnose.BlockListed, 1},
		{"homelines.example", "greeting", "fail", "554 5.7.1 no mail from residential addresses",
			diagnose.ResidentialAddress, 1},
		{"oldlocks.example", "certificate", "warning", "expired", "", 0},
		{"barelock.example", "tls", "warning", "messages go in the clear", "", 0},
		{"nomail.example", "dns", "fail", "null MX", diagnose.NoMail, 1},
		{"lostbuoy.example", "dns", "fail", "does not exist", diagnose.NoSuchDomain, 1},
		{"foghorn.example", "dns", "fail", "DNS gives no answer", diagnose.DNSTrouble, 1},
		{"fogbank.example", "greeting", "fail", "did not answer in time", diagnose.NoAnswer, 1},
	} {
		t.Run(c.target, func(t *testing.T) {
			p, code := s.probed(t, c.target)
			got := taken(p, c.step)
			if code != c.exit || got.Result != c.result || !strings.Contains(got.Says, c.says) {
				t.Errorf("exit %d, step %s is %s: %s\n%s", code, c.step, got.Result, got.Says, p.Verdict)
			}
			if c.cause != "" && (p.Cause == nil || p.Cause.Cause != string(c.cause) || p.Cause.WhoCanFix == "") {
				t.Errorf("the cause is %+v, want %s", p.Cause, c.cause)
			}
			if p.Took > 30 || p.Verdict == "" {
				t.Errorf("it took %.1f s: %q", p.Took, p.Verdict)
			}
		})
	}
	// By several routes and addresses of ours, to compare.
	p, _ := s.probed(t, "harbour@homelines.example", "--route", "to the world", "--route",
		"by provider", "--source", "127.20.1.5")
	if len(p.Attempts) != 2 || p.Attempts[0].Failed() == nil || p.Attempts[1].Failed() != nil ||
		p.Attempts[1].Source != "127.20.1.5" ||
		p.Result != probe.Warning {
		t.Errorf("two routes: %s %+v", p.Verdict, p.Attempts)
	}
	if in := taken(
		probe.Probe{Attempts: p.Attempts[1:]},
		"sign-in",
	); in.Result != probe.Pass || strings.Contains(fmt.Sprint(in.Lines), "lantern-oil") ||
		len(in.Lines) == 0 {
		t.Errorf("sign-in at the smart host: %+v", in)
	}
	// A real message arrives.
	if p, code := s.probed(t, "message@saltmarsh.example", "--message"); code != 0 || p.Sent == 0 ||
		!strings.Contains(
			string(s.received(t, "mx.saltmarsh.example", "message@saltmarsh.example").Content),
			"Subject: A probe of the path to you",
		) {
		t.Errorf("the message: %d %+v", code, p)
	}
	// The conversation stands among the sessions.
	if p, _ := s.probed(
		t,
		"saltmarsh.example",
	); !strings.Contains(
		s.run(t, "session", "show", p.Attempts[0].Session.String()),
		"EHLO mail.skerryline.example",
	) {
		t.Error("the session is not on record")
	}
	for args, want := range map[string]string{"probe": "name a host", "probe a@": "target",
		"probe saltmarsh.example --route nowhere": "none named", "probe saltmarsh.example --message": "needs an address", "probe x.example:port": "no port", "probe --inwards cellar": "none named"} {
		if _, stderr, code := s.gull(t, strings.Fields(args)...); code != 2 || !strings.Contains(stderr, want) {
			t.Errorf("gull %s: %d %s", args, code, stderr)
		}
	}
}

func TestAProbeInwardsShowsWhoMayRelay(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "inwards", nil)
	p, code := s.probed(t, "--inwards", "edge", "--client", "127.30.0.10")
	if relay := taken(
		p,
		"relay",
	); code != 0 || relay.Result != probe.Pass || !strings.Contains(relay.Says, "refused") &&
		!strings.Contains(relay.Says, "none came through") ||
		taken(p, "recipient").Result != probe.Pass {
		t.Errorf("a stranger at the edge: %d %s %+v", code, p.Verdict, p.Attempts)
	}
	if p, _ := s.probed(t, "--inwards", "*", "--client", "127.30.0.10"); len(p.Attempts) != 4 ||
		p.Result == probe.Fail {
		t.Errorf("all listeners: %s, %d", p.Verdict, len(p.Attempts))
	}
	if p, _ := s.probed(t, "--inwards", "inside", "--client",
		"127.20.1.5"); taken(p, "relay").Result != probe.Warning ||
		!strings.Contains(taken(p, "relay").Says, "127.20.1.5 may relay here by our rules") {
		t.Errorf("a machine of ours: %+v", taken(p, "relay"))
	}
	// An open relay is found by the conversation.
	s.run(t, "relay", "add", "anybody", "--networks", "127.30.0.0/16", "--action", "allow")
	if out, stderr, code := s.gull(t, "draft", "apply", "--force", "--why",
		"the test of an open relay"); code != 0 {
		t.Fatalf("apply: %s%s", out, stderr)
	}
	if p, code := s.probed(t, "--inwards", "edge", "--client",
		"127.30.0.10"); code != 1 || taken(p, "relay").Result != probe.Fail ||
		!strings.Contains(p.Verdict, "this is an open relay") {
		t.Errorf("an open relay: %d %s", code, p.Verdict)
	}
}

// A host that means harm can neither hang, flood nor deface anything.
func TestAHostileHostIsBounded(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "hostile", nil)
	const host, domain = "mx.saltmarsh.example", "saltmarsh.example"
	began := rss(t, s)
	for _, c := range []struct {
		name, behave string
		cause        diagnose.Cause
	}{
		{"an endless greeting", `{"endless": "greeting"}`, diagnose.NotSMTP},
		{"an endless reply", `{"endless": "rcpt", "lacks": ["PIPELINING"]}`, diagnose.NotSMTP},
		{"a line of a megabyte", `{"endless": "", "long_line": 1048576}`, diagnose.NotSMTP},
		{"a certificate for ten thousand names",
			`{"long_line": 0, "tls": "crowded", "rcpt": "450 4.2.1 not now"}`, ""},
		{"control characters", `{"tls": "valid", "rcpt": "450 4.2.1 \u001b[2J\u001b]0;gone\u0007 \u202egnp.exe <script>alert(1)</script> <img src=x onerror=alert(1)>"}`, ""},
	} {
		s.behave(t, host, c.behave)
		to := strings.ReplaceAll(c.name, " ", "-") + "@" + domain
		start := time.Now()
		id := s.out(t, to)
		s.gull(t, "queue", "flush", "--domain", domain) // or the lane rests longer with each case
		d := s.until(t, id, mail.Deferred)
		if took := time.Since(
			start,
		); took > 15*time.Second || c.cause != "" && d.Cause != c.cause ||
			len(d.Last.Text) > 8<<10 {
			t.Errorf("%s: %s after %s: %.200s", c.name, d.Cause, took, d.Last.Text)
		}
		if p, _ := s.probed(t, to); p.Took > 30 || len(fmt.Sprint(p)) > 64<<10 {
			t.Errorf("%s: the probe took %.1f s and says %d octets", c.name, p.Took, len(fmt.Sprint(p)))
		}
	}
	if grown := rss(t, s) - began; grown > 160<<20 { // the hosts offer gigabytes
		t.Errorf("the service grew by %d MB", grown>>20)
	}
	// What it says does nothing to a terminal, nor to a page.
	m, _ := s.find(t, "control-characters@"+domain)
	for _, args := range [][]string{{"trace", "show", m.ID.String()}, {"queue", "list"}, {"lane", "list"},
		{"snag", "list"}, {"probe", "control-characters@" + domain}, {"session", "list"}} {
		if out, stderr, _ := s.gull(t, args...); strings.ContainsAny(out+stderr,
			"\x1b\x07\u202e") || len(out) == 0 {
			t.Errorf("gull %v prints what acts on a terminal: %q", args, out)
		}
	}
	p := s.open(t, "keeper")
	for _, page := range []string{"/messages/" + m.ID.String(), "/queue", "/lanes", "/snags"} {
		p.visit(page)
		var bad bool
		p.do(
			chromedp.Sleep(500*time.Millisecond),
			chromedp.Evaluate(
				`!!document.querySelector("main script, main img[src=x]") || /[\u001b\u0007\u202e]/.test(document.body?.innerText ?? "")`,
				&bad,
			),
		)
		if bad {
			t.Errorf("page %s shows what a host said as it came", page)
		}
	}
	// DNS that leads in circles, and answers of 64 KB.
	s.withdraw(t, domain, "ANY")
	s.run(t, "simnet", "publish", "round.example. 60 IN CNAME about.example.")
	s.run(t, "simnet", "publish", "about.example. 60 IN CNAME round.example.")
	s.run(t, "simnet", "publish", "circle.example. 60 IN MX 10 round.example.")
	s.run(t, "simnet", "publish",
		"circle.example. 60 IN TXT \"v=spf1 include:circle.example redirect=circle.example\"")
	for n := range 230 {
		s.publish(
			t,
			"zone line",
			publish.New("wide.example", "wide.example", "TXT",
				fmt.Sprintf("%03d %s", n, strings.Repeat("y", 250))),
			"wide.example",
		)
		s.run(
			t,
			"simnet",
			"publish",
			fmt.Sprintf("wide.example. 60 IN MX %d n%d.%s.wide.example.", n, n, strings.Repeat("z", 60)),
		)
	}
	for _, to := range []string{"a@circle.example", "a@wide.example"} {
		start := time.Now()
		s.until(t, s.out(t, to), mail.Deferred)
		if p, _ := s.probed(t, to); p.Took > 30 || time.Since(start) > 40*time.Second {
			t.Errorf("%s took %s", to, time.Since(start))
		}
		id := s.send(t, s.edge, "127.30.0.10", to, message("from "+to), "harbour@skerryline.example")
		s.until(t, id, mail.Delivered)
	}
	// After all that, mail flows.
	s.until(t, s.out(t, "well@nosuch.example"), mail.Bounced)
	if _, err := s.client().Queue(context.Background(), url.Values{"limit": {"1"}}); err != nil {
		t.Error(err)
	}
}
