package test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/publish"
	"gullroute/internal/core/readiness"
	"gullroute/internal/core/snag"
)

// aspect finds one point of a look.
func aspect(t *testing.T, r readiness.Readiness, key string) readiness.Aspect {
	t.Helper()
	for _, a := range r.Points {
		if a.Key == key {
			return a
		}
	}
	t.Fatalf("there is no point %s: %+v", key, r)
	return readiness.Aspect{}
}

func (s *stack) ready(t *testing.T, domain string) readiness.Readiness {
	t.Helper()
	r, err := s.client().CheckReadiness(context.Background(), domain)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// withdraw takes records out of the simulated DNS.
func (s *stack) withdraw(t *testing.T, name, kind string) {
	t.Helper()
	req, _ := http.NewRequest(
		http.MethodDelete,
		"http://"+s.control+"/dns/records/"+name+"/"+kind,
		nil,
	)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
}

// What readiness says to publish, pasted in each of the forms, makes it pass.
func TestTheRecordsThatReadinessShowsMakeItPass(t *testing.T) {
	t.Parallel()
	for _, form := range []string{"zone line", "editor's form", "pieces"} {
		t.Run(form, func(t *testing.T) {
			t.Parallel()
			s := own(t, "ready"+form[:1], func(c string) string {
				return strings.Replace(c, "  mx_port:",
					"  addresses: [127.0.0.1, \"2001:db8::25\"]\n  mx_port:", 1)
			})
			const domain = "skerryline.example"
			for _, name := range []string{domain, "_dmarc." + domain, "_smtp._tls." + domain,
				"mail." + domain, "1.0.0.127.in-addr.arpa", "1.0.0.127.driftnet.example"} {
				s.withdraw(t, name, "ANY")
			}
			s.run(t, "dkim", "make", domain, "--algorithm", "rsa-3072")
			before := s.ready(t, domain)
			if before.Score > 2 {
				t.Errorf("a domain without any record has %.1f: %s", before.Score, before.Verdict)
			}
			for round := range 3 { // what is right lets more be seen
				for _, a := range s.ready(t, domain).Points {
					for _, r := range a.Records {
						zone := domain
						if strings.HasSuffix(r.Name, ".arpa") {
							zone = strings.SplitN(r.Name, ".", 2)[1]
							r = publish.New(zone, r.Name, r.Type, r.Value)
						}
						s.publish(t, form, r, zone)
					}
				}
				if round == 0 {
					for _, k := range s.keys(t, domain) {
						s.run(t, "dkim", "use", domain, k)
					}
				}
			}
			after := s.ready(t, domain)
			for _, key := range []string{"mx", "reach", "host-name", "ptr", "ehlo-name", "spf", "dkim",
				"dmarc", "tls-reports"} {
				if a := aspect(t, after, key); a.Result != readiness.Pass || len(a.Records) > 0 {
					t.Errorf("%s is %s: %s %q", key, a.Result, a.Says, a.Found)
				}
			}
			if a := aspect(t, after, "tls"); a.Result != readiness.Warning { // the certificate is made here
				t.Errorf("TLS is %s: %s", a.Result, a.Says)
			}
			if after.Score < 9 {
				t.Errorf("it has %.1f: %s", after.Score, after.Verdict)
			}
		})
	}
}

func (s *stack) keys(t *testing.T, domain string) []string {
	t.Helper()
	keys, err := s.client().Keys(context.Background(), domain)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, k := range keys {
		out = append(out, k.Selector)
	}
	return out
}

// Each thing that is wrong in DNS is found and said.
func TestReadinessFindsWhatIsWrong(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "unready", func(c string) string {
		return strings.Replace(c, "block_lists: [driftnet.example]",
			"block_lists: [driftnet.example, nolist.example]", 1)
	})
	const domain = "skerryline.example"
	s.txt(t, domain, "v=spf1 ip4:127.0.0.1 -all")
	s.txt(t, "_dmarc."+domain, "v=DMARC1; p=reject; rua=mailto:postmaster@skerryline.example")
	s.withdraw(t, "1.0.0.127.driftnet.example", "ANY")
	first := s.ready(t, domain)
	for _, key := range []string{"spf", "dmarc", "block-lists"} {
		if a := aspect(t, first, key); a.Result != readiness.Pass {
			t.Fatalf("%s is %s: %s", key, a.Result, a.Says)
		}
	}
	mx := func(value string) {
		s.withdraw(t, domain, "MX")
		s.run(t, "simnet", "publish", domain+". 60 IN MX "+value)
	}
	for _, c := range []struct {
		name  string
		spoil func()
		key   string
		is    readiness.Result
		says  string
	}{
		{"no policy", func() { s.txt(t, "_dmarc."+domain, "v=DMARC1; p=none; rua=mailto:a@b.example") },
			"dmarc", readiness.Warning, "protects nobody"},
		{"a policy that cannot be read", func() { s.txt(t, "_dmarc."+domain, "v=DMARC1; p=perhaps") },
			"dmarc", readiness.Fail, "p=perhaps is no policy"},
		{"two SPF records", func() {
			s.run(t, "simnet", "publish", domain+". 60 IN TXT \"v=spf1 mx -all\"")
		}, "spf", readiness.Fail, "several SPF records"},
		{"everybody passes", func() { s.withdraw(t, domain, "TXT"); s.txt(t, domain, "v=spf1 +all") },
			"spf", readiness.Fail, "the whole world"},
		{"we do not pass", func() { s.txt(t, domain, "v=spf1 ip4:192.0.2.0/24 -all") }, "spf",
			readiness.Fail, "127.0.0.1 does not pass (fail)"},
		{"too many lookups", func() {
			s.txt(t, "many.example", "v=spf1 "+strings.Repeat("a:mx.saltmarsh.example ", 6)+"?all")
			s.txt(t, domain, "v=spf1 ip4:127.0.0.1 include:many.example include:many.example -all")
		}, "spf", readiness.Fail, "asks DNS 14 times"},
		{"an include that leads nowhere",
			func() { s.txt(t, domain, "v=spf1 include:gone.example ip4:127.0.0.1 -all") }, "spf", readiness.Fail, "gone.example, which it names"},
		{"a circle", func() { s.txt(t, domain, "v=spf1 include:"+domain+" -all") }, "spf", readiness.Fail,
			"includes itself"},
		{"an MX that is an alias", func() {
			s.run(t, "simnet", "publish", "alias.skerryline.example. 60 IN CNAME mail.skerryline.example.")
			mx("10 alias.skerryline.example.")
		}, "mx", readiness.Fail, "alias (CNAME) of mail.skerryline.example"},
		{"somebody else's MX", func() { mx("10 mx.saltmarsh.example.") }, "mx", readiness.Fail,
			"mail goes elsewhere"},
		{"a null MX", func() { mx("0 .") }, "mx", readiness.Fail, "takes no mail at all"},
		{"an MX without address", func() {
			mx("10 nowhere.skerryline.example.")
			s.run(t, "simnet", "publish", domain+". 60 IN MX 20 mail.skerryline.example.")
		}, "mx", readiness.Fail, "nowhere.skerryline.example cannot be found"},
		{"a host that does not answer", func() {
			mx("10 mail.skerryline.example.")
			s.run(t, "simnet", "publish", domain+". 60 IN MX 20 mx.sunkenpier.example.")
		}, "reach", readiness.Fail, "connection refused"},
		{"a name that does not lead back", func() {
			s.run(t, "simnet", "publish", "--replace",
				"1.0.0.127.in-addr.arpa. 60 IN PTR mx.saltmarsh.example.")
		}, "ptr", readiness.Fail, "does not lead back"},
		{"no name", func() { s.withdraw(t, "1.0.0.127.in-addr.arpa", "ANY") }, "ptr", readiness.Fail,
			"has no name"},
		{"listed", func() {
			s.run(t, "simnet", "publish", "1.0.0.127.driftnet.example. 60 IN A 127.0.0.4")
			s.txt(t, "1.0.0.127.driftnet.example", "seen sending to traps")
		}, "block-lists", readiness.Fail, "127.0.0.1 is on the block list driftnet.example (seen sending " +
			"to traps)"},
		{"a TLSA record of another certificate", func() {
			s.run(t, "simnet", "publish",
				fmt.Sprintf("_%s._tcp.mail.skerryline.example. 60 IN TLSA 3 1 1 %064d",
					strings.Split(s.edge, ":")[1], 7))
		}, "dane", readiness.Fail, "do not fit its certificate"},
		{"a policy of MTA-STS that is not there", func() { s.txt(t, "_mta-sts."+domain, "v=STSv1; id=1") },
			"mta-sts", readiness.Fail, "its policy cannot be used"},
	} {
		c.spoil()
		if a := aspect(t, s.ready(t, domain), c.key); a.Result != c.is ||
			!strings.Contains(a.Says, c.says) {
			t.Errorf("%s: %s is %s: %s %q", c.name, c.key, a.Result, a.Says, a.Found)
		}
	}
	// What was right and is not is a snag, which says what to publish and ends by itself.
	x := s.snag(
		t,
		diagnose.NotReady,
		domain,
		func(x snag.Snag) bool { return x.Severity == snag.Serious },
	)
	if out := s.run(
		t,
		"snag",
		"fix",
		x.ID.String(),
		"--do",
		"record",
	); !strings.Contains(out, domain+". 3600 IN TXT \"v=spf1") {
		t.Errorf("the fix says %s", out)
	}
	looks, err := s.client().Readiness(context.Background(), domain)
	if err != nil || len(looks.Changes) < 10 {
		t.Errorf("changes on record: %d %v", len(looks.Changes), err)
	}
	s.withdraw(t, domain, "ANY")
	s.txt(t, domain, "v=spf1 ip4:127.0.0.1 -all")
	s.txt(t, "_dmarc."+domain, "v=DMARC1; p=reject; rua=mailto:postmaster@skerryline.example")
	mx("10 mail.skerryline.example.")
	s.withdraw(t, "1.0.0.127.driftnet.example", "ANY")
	s.withdraw(
		t,
		fmt.Sprintf("_%s._tcp.mail.skerryline.example", strings.Split(s.edge, ":")[1]),
		"ANY",
	)
	s.run(t, "simnet", "publish", "1.0.0.127.in-addr.arpa. 60 IN PTR mail.skerryline.example.")
	s.ready(t, domain)
	s.ready(t, domain)
	if out := s.run(t, "readiness"); !strings.Contains(out, domain) || !strings.Contains(out,
		"Not looked at yet.") {
		t.Errorf("the list says %s", out)
	}
	if why := s.over(t, x); !strings.Contains(why, "is right again") {
		t.Errorf("it ended: %s", why)
	}
	if _, stderr, code := s.gull(t, "readiness", "saltmarsh.example"); code != 4 ||
		!strings.Contains(stderr, "gull probe checks others") {
		t.Errorf("somebody else's domain: %d %s", code, stderr)
	}
}
