package test

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// toDNS runs gull readiness publish, and reads what it says.
func (s *stack) toDNS(t *testing.T, args ...string) (p api.PublishPlan) {
	t.Helper()
	text := s.run(t, append([]string{"readiness", "publish", "-o", "json"}, args...)...)
	if err := json.Unmarshal([]byte(text), &p); err != nil {
		t.Fatal(err)
	}
	return p
}

// dnsPort is where the simulated internet's name server is.
func (s *stack) dnsPort(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile(s.config)
	if err != nil {
		t.Fatal(err)
	}
	return regexp.MustCompile(`resolvers: \["127.0.0.1:(\d+)"`).FindStringSubmatch(string(text))[1]
}

// secret keeps a password for others' servers.
func (s *stack) secret(t *testing.T, name, value string) {
	t.Helper()
	c := s.command("secret", "set", name)
	c.Stdin = strings.NewReader(value)
	if err := c.Run(); err != nil {
		t.Fatal(err)
	}
}

// answers asks a DNS server for the records of a name, sorted.
func answers(t *testing.T, server, name string, kind uint16) (out []string) {
	t.Helper()
	m := new(dns.Msg)
	m.SetQuestion(dns.Fqdn(name), kind)
	reply, err := dns.Exchange(m, server)
	if err != nil {
		t.Fatal(err)
	}
	for _, rr := range reply.Answer {
		out = append(out, strings.TrimPrefix(rr.String(), rr.Header().String()))
	}
	slices.Sort(out)
	return out
}

// Records are published by a button: others' records stay, nobody's change is overwritten, and what
// was done can be taken back.
func TestRecordsArePublishedAndTakenBack(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "publish", nil)
	at := "127.0.0.1:" + s.dnsPort(t)
	// Others' texts beside ours, and terms of others in SPF.
	s.run(t, "simnet", "publish", `skerryline.example. 60 IN TXT "ferry-booking-check=77"`)
	s.run(t, "simnet", "publish", "--replace",
		`skerryline.example. 60 IN TXT "v=spf1 include:_spf.harbourlight.example ?all"`)

	plan := s.toDNS(t, "skerryline.example", "spf")
	if len(plan.Steps) != 1 || plan.Steps[0].Change == nil {
		t.Fatalf("the plan: %+v", plan)
	}
	want := "v=spf1 include:_spf.harbourlight.example ip4:127.0.0.1 -all"
	if c := plan.Steps[0].Change; !slices.Equal(c.Removed, []string{"v=spf1 include:_spf.harbourlight.example ?all"}) ||
		!slices.Equal(c.Added, []string{want}) || len(c.After) != 2 {
		t.Errorf("SPF is not merged: %+v", c)
	}
	if got := answers(t, at, "skerryline.example", dns.TypeTXT); slices.Contains(got, `"`+want+`"`) {
		t.Error("a plan published something")
	}
	// Everything at once; the plan's second look finds nothing left but what is put in by hand.
	done := s.toDNS(t, "skerryline.example", "--yes")
	for _, step := range done.Steps {
		if step.Failed != "" || step.Change != nil && !strings.Contains(step.Seen, "shows it") {
			t.Errorf("%s: %+v", step.Record.Zone, step)
		}
	}
	if got := answers(t, at, "skerryline.example", dns.TypeTXT); !slices.Equal(got,
		[]string{`"ferry-booking-check=77"`, `"` + want + `"`}) {
		t.Errorf("texts: %v", got)
	}
	if len(answers(t, at, "_smtp._tls.skerryline.example", dns.TypeTXT)) != 1 {
		t.Error("the address of TLS reports is not there")
	}
	if done.Score <= plan.Score {
		t.Errorf("%.1f of ten before, %.1f after", plan.Score, done.Score)
	}
	for _, step := range s.toDNS(t, "skerryline.example").Steps {
		if step.Change != nil {
			t.Errorf("left to publish: %+v", step.Change)
		}
	}

	// It is on record, and taken back; once.
	var list []mail.DNSChange
	if err := json.Unmarshal([]byte(s.run(t, "dns-change", "list", "-o", "json")), &list); err != nil {
		t.Fatal(err)
	}
	id := ""
	for _, c := range list {
		if slices.Contains(c.Change.Added, want) && c.Who != "" {
			id = fmt.Sprint(c.ID)
		}
	}
	s.run(t, "dns-change", "take-back", id)
	if got := answers(t, at, "skerryline.example", dns.TypeTXT); !slices.Contains(got,
		`"v=spf1 include:_spf.harbourlight.example ?all"`) || len(got) != 2 {
		t.Errorf("taken back: %v", got)
	}
	if _, says, code := s.gull(t, "dns-change", "take-back", id); code == 0 || !strings.Contains(says, "already") {
		t.Errorf("twice: %s", says)
	}
	// Somebody changes it meanwhile: neither a plan that was seen before nor taking back does anything.
	stale := s.toDNS(t, "skerryline.example", "spf")
	const theirs = "v=spf1 ip4:127.30.0.77 ?all"
	s.run(t, "simnet", "publish", "--replace", `skerryline.example. 60 IN TXT "`+theirs+`"`)
	body, _ := json.Marshal(map[string]any{"points": []string{"spf"}, "mark": stale.Mark})
	if resp, says := s.request(t, "POST", "/api/v1/readiness/skerryline.example/publish", string(body),
		bearer(adminToken)...); resp.StatusCode != 409 {
		t.Errorf("a plan that is no longer true: %s %s", resp.Status, says)
	}
	again := s.toDNS(t, "skerryline.example", "spf", "--yes").Steps[0]
	s.run(t, "simnet", "publish", "--replace", `skerryline.example. 60 IN TXT "`+theirs+`"`)
	if _, says, code := s.gull(t, "dns-change", "take-back", fmt.Sprint(again.ID)); code == 0 ||
		!strings.Contains(says, "somebody else") {
		t.Errorf("taking back what others changed: %s", says)
	}
	if got := answers(t, at, "skerryline.example", dns.TypeTXT); !slices.Contains(got, `"`+theirs+`"`) {
		t.Errorf("others' change was overwritten: %v", got)
	}
	// A wrong key changes nothing, and the text says what to compare.
	s.secret(t, "customs", "d3Jvbmc=")
	s.withdraw(t, "_dmarc.skerryline.example", "TXT")
	says, _, code := s.gull(t, "readiness", "publish", "skerryline.example", "dmarc", "--yes")
	if code == 0 || !strings.Contains(says, "does not know the key gull.skerryline.example") {
		t.Errorf("a wrong key: %d %s", code, says)
	}
	if got := answers(t, at, "_dmarc.skerryline.example", dns.TypeTXT); len(got) != 0 {
		t.Errorf("a wrong key published %v", got)
	}
}

// A name server that others wrote takes our changes, too.
func TestANameServerThatOthersWroteTakesChanges(t *testing.T) {
	takesLong(t)
	t.Parallel()
	dir := t.TempDir()
	port := freePort("127.0.0.1")
	key := "c2tlcnJ5IGxpbmUgY3VzdG9tcyBrZXkgb2YgdGhlIGRlbW8="
	files := map[string]string{
		"zone": "$TTL 300\n@ IN SOA ns.kelpworks.example. keeper.kelpworks.example. 1 3600 600 86400 60\n" +
			"@ IN NS ns.kelpworks.example.\nns IN A 127.0.0.1\n@ IN MX 0 .\n@ IN TXT \"tide-table=4\"\n",
		"named.conf": fmt.Sprintf(`options { directory %q; pid-file none; session-keyfile none;
	listen-on port %s { 127.0.0.1; }; listen-on-v6 { none; }; recursion no; };
controls { };
key "gull.skerryline.example" { algorithm hmac-sha256; secret %q; };
zone "kelpworks.example" { type master; file "zone"; allow-update { key "gull.skerryline.example"; }; };
`, dir, port, key),
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	server := exec.Command("/usr/sbin/named", "-g", "-c", filepath.Join(dir, "named.conf"))
	log, _ := os.Create(filepath.Join(dir, "log"))
	server.Stdout, server.Stderr = log, log
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
	at := "127.0.0.1:" + port
	if err := eventually(20*time.Second, func() error {
		conn, err := net.Dial("tcp", at)
		if err == nil {
			conn.Close()
		}
		return err
	}); err != nil {
		text, _ := os.ReadFile(log.Name())
		t.Fatalf("%v\n%s", err, text)
	}
	s := own(t, "named", func(c string) string {
		c = strings.Replace(c, ", kelpworks.example]\n    key_name", "]\n    key_name", 1)
		return strings.Replace(c, "dns_servers:\n", "dns_servers:\n  - {name: other, address: \""+at+
			"\", zones: [kelpworks.example], key_name: gull.skerryline.example, secret: customs}\n", 1)
	})
	s.run(t, "simnet", "publish", "--replace", "kelpworks.example. 60 IN MX 0 .")
	done := s.toDNS(t, "kelpworks.example", "--yes")
	if len(done.Steps) < 2 {
		t.Errorf("steps: %+v", done.Steps)
	}
	for _, step := range done.Steps {
		if step.Change != nil && step.Failed != "" {
			t.Errorf("%+v", step)
		}
	}
	if got := answers(t, at, "kelpworks.example", dns.TypeMX); !slices.Equal(got,
		[]string{"10 mail.skerryline.example."}) {
		t.Errorf("MX: %v", got)
	}
	if got := answers(t, at, "kelpworks.example", dns.TypeTXT); !slices.Equal(got, []string{`"tide-table=4"`}) {
		t.Errorf("others' text: %v", got)
	}
	for _, step := range done.Steps {
		if step.ID != 0 {
			s.run(t, "dns-change", "take-back", fmt.Sprint(step.ID))
		}
	}
	if got := answers(t, at, "kelpworks.example", dns.TypeMX); !slices.Equal(got, []string{"0 ."}) {
		t.Errorf("MX taken back: %v", got)
	}
}
