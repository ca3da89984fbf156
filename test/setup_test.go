package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
)

// blank is a stack on which nothing is set up but the edge.
func blank(t *testing.T, name string) *stack {
	t.Helper()
	return own(t, name, func(demo string) string {
		i, j := strings.Index(demo, "listeners:\n"), strings.Index(demo, "  - name: submission ")
		_, reports, _ := strings.Cut(demo, "  feedback: ")
		reports, _, _ = strings.Cut(reports, "\n")
		return strings.NewReplacer("  default_sender_domain: skerryline.example\n", "", "  feedback: "+reports+"\n", "").
			Replace(demo[:i]) +
			demo[i:j] + "\n" // the service and the edge
	})
}

func TestFromNothingToAMessageInAndAMessageOutByCommandsAlone(t *testing.T) {
	s := blank(t, "fromnothing")
	s.run(t, "service", "set", "--default-sender-domain", "", "--postmaster", "postmaster@skerryline.example")
	s.run(t, "domain", "add", "skerryline.example", "--kind", "local", "--generated-addresses",
		"{first}.{last}")
	s.run(t, "listener", "add", "inside", "--address", s.inside, "--kind", "inside")
	s.run(t, "relay", "add", "this machine", "--networks", "127.0.0.1", "--listeners", "inside", "--action",
		"allow")
	if out := s.run(t, "draft", "apply"); out != "Revision 2 is in force.\n" {
		t.Fatal(out)
	}
	if out := s.run(
		t,
		"mailbox",
		"add",
		"keeper@skerryline.example",
		"--name",
		"Ines Harrow",
	); !strings.Contains(out, "ines.harrow@skerryline.example too") {
		t.Errorf("the generated address is not told: %s", out)
	}
	in := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("in"),
		"ines.harrow@skerryline.example")
	s.until(t, in, mail.Delivered)
	if out := s.run(
		t,
		"mailbox",
		"messages",
		"keeper@skerryline.example",
	); !strings.Contains(out, "ada@saltmarsh.example") {
		t.Errorf("the message is not in the mailbox:\n%s", out)
	}
	// the answer has no way out: it is said where one looks, with the fix, and leaves by itself
	out := s.send(t, s.inside, "127.0.0.1", "keeper@skerryline.example", message("out"),
		"ada@saltmarsh.example")
	s.until(t, out, mail.Deferred)
	status := s.run(t, "status")
	for _, want := range []string{"1 stranded", "no route leads to saltmarsh.example", "gull route add"} {
		if !strings.Contains(status, want) {
			t.Errorf("status lacks %q:\n%s", want, status)
		}
	}
	s.run(t, "route", "add", "to the world", "--recipients", "*", "--next-hop", "mx")
	if applied := s.run(
		t,
		"draft",
		"apply",
	); !strings.Contains(
		applied,
		"1 deliveries that were without a route have one and are tried now",
	) {
		t.Errorf("apply: %s", applied)
	}
	s.until(t, out, mail.Delivered)
}

func TestAnOpenRelayIsRefusedUnlessForcedAndShownUntilFixed(t *testing.T) {
	t.Parallel()
	s := own(t, "openrelay", nil)
	s.run(t, "relay", "add", "visitors", "--networks", "0.0.0.0/0", "--action", "allow")
	rehearsal := s.run(t, "draft", "rehearse")
	for _, want := range []string{"DANGER: relay rule visitors lets anyone send anywhere (an open relay): " +
		"0.0.0.0/0 is the whole world", "CAME THROUGH", "source route:", "percent sign at a literal"} {
		if !strings.Contains(rehearsal, want) {
			t.Errorf("the rehearsal lacks %q:\n%s", want, rehearsal)
		}
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"draft", "apply"}, "lets anyone send anywhere (an open relay)"},
		{[]string{"draft", "apply", "--force"}, "force needs a reason"},
	} {
		if _, stderr, code := s.gull(t, c.args...); code != 1 || !strings.Contains(stderr, c.want) {
			t.Errorf("%v: %d %s", c.args, code, stderr)
		}
	}
	s.run(t, "draft", "apply", "--force", "--why", "the auditors test it")
	if out := s.run(t, "status"); !strings.HasPrefix(out,
		"DANGER: relay rule visitors lets anyone send anywhere") {
		t.Errorf("status does not begin with it:\n%s", out)
	}
	if out := s.run(t, "revision", "list"); !strings.Contains(out, "forced") ||
		!strings.Contains(out, "the auditors test it") {
		t.Errorf("it is not on record:\n%s", out)
	}
	s.run(t, "revision", "revert", "1")
	if out := s.run(t, "status"); strings.Contains(out, "DANGER") {
		t.Errorf("it is shown after it was fixed:\n%s", out)
	}
}

func TestARehearsalShowsWhatWasRefusedAndWouldBeTaken(t *testing.T) {
	t.Parallel()
	s := own(t, "refused", nil)
	c := dial(t, s.inside, "127.20.4.5")
	c.hear()
	c.want("250", "EHLO a")
	c.want("250", "MAIL FROM:<tickets@skerryline.example>")
	for range 3 {
		c.want("550 5.7.1", "RCPT TO:<x@saltmarsh.example>")
	}
	c.want("550 5.1.1", "RCPT TO:<nobody@skerryline.example>")
	s.run(t, "relay", "set", "ticket machines", "--networks", "127.20.1.0/24,127.20.4.0/24")
	out := s.run(t, "draft", "rehearse")
	for _, want := range []string{"4 envelopes with 4 recipients were replayed: 4 would",
		"newly ALLOWED: 3 recipients\n  before   refused by no-rule: 550 5.7.1", "after    to the world → " +
			"saltmarsh.example, TLS verified, allowed by ticket machines", "from 127.20.4.5 at inside"} {
		if !strings.Contains(out, want) {
			t.Errorf("the rehearsal lacks %q:\n%s", want, out)
		}
	}
}

func TestTwoPeopleChangeTheDraftAndNeitherLosesAChange(t *testing.T) {
	t.Parallel()
	s := own(t, "twopeople", nil)
	var all sync.WaitGroup
	codes := make([]int, 12)
	for i := range codes {
		all.Add(1)
		go func() {
			defer all.Done()
			_, _, codes[i] = s.gull(t, "peer", "add", fmt.Sprintf("peer %d", i), "--domains",
				fmt.Sprintf("d%d.example", i))
		}()
	}
	all.Wait()
	var list struct{ Items []struct{ Name string } }
	_, body := s.request(t, "GET", "/api/v1/setup/peers", "", bearer(adminToken)...)
	if err := json.Unmarshal([]byte(body), &list); err != nil {
		t.Fatal(err)
	}
	done := 0
	for _, c := range codes {
		if c == 0 {
			done++
		}
	}
	if len(list.Items) != 2+done || done < 2 {
		t.Errorf("%d were told that it is done, and the draft has %d of them", done, len(list.Items)-2)
	}
	// a form that was opened before another's change does not overwrite it
	item := func() (mark string) {
		_, body := s.request(t, "GET", "/api/v1/setup/routes/shelf", "", bearer(adminToken)...)
		return regexp.MustCompile(`"mark":"(\w+)"`).FindStringSubmatch(body)[1]
	}
	seen := item()
	s.run(t, "route", "set", "shelf", "--connections", "3")
	resp, body := s.request(
		t,
		"PUT",
		"/api/v1/setup/routes/shelf",
		fmt.Sprintf(
			`{"mark":%q,"fields":{"name":"shelf","recipients":["archive@skerryline.example"],"next_hop":"lmtp","hosts":["shelf.skerryline.example:2424"]}}`,
			seen,
		),
		bearer(adminToken)...)
	if resp.StatusCode != http.StatusConflict || !strings.Contains(body, "somebody changed it meanwhile") ||
		item() == seen {
		t.Errorf("an old form: %s %s", resp.Status, body)
	}
	if out := s.run(t, "draft",
		"show"); !strings.Contains(out, "route shelf: connections is now 3") ||
		!strings.Contains(out, "tests: route shelf changed") {
		t.Errorf("the draft does not tell who changed what:\n%s", out)
	}
	// a revert beneath the draft: it is not applied before it is looked at anew
	s.run(t, "config", "export", "--without-directory")
	s.run(t, "draft", "apply")
	s.run(t, "route", "set", "shelf", "--connections", "4")
	s.run(t, "revision", "revert", "1")
	if _, stderr, code := s.gull(t, "draft", "apply"); code != 1 ||
		!strings.Contains(stderr, "another revision came into force") {
		t.Errorf("a draft that is behind: %d %s", code, stderr)
	}
	if out := s.run(t, "draft", "rebase"); !strings.Contains(out, "route shelf was changed meanwhile too") {
		t.Errorf("rebase: %s", out)
	}
	s.run(t, "draft", "apply")
	if out := s.run(t, "route", "show", "shelf"); !strings.Contains(out, "connections              4") {
		t.Errorf("after the rebase:\n%s", out)
	}
}

// TestAViewerChangesNothing calls every operation that the interface describes.
func TestAViewerChangesNothing(t *testing.T) {
	s := world(t)
	var doc struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	_, body := s.request(t, "GET", "/api/openapi.json", "")
	if err := json.Unmarshal([]byte(body), &doc); err != nil {
		t.Fatal(err)
	}
	free := func(op string) bool { // these change nothing, or what is his own
		return rights.May(mail.Viewer, rights.Of(op, false))
	}
	fill := strings.NewReplacer("{section}", "routes", "{name}", "shelf", "{address}", inesAddress,
		"{number}", "1", "{id}", "0000000000001")
	before := s.run(t, "config", "export")
	tried := 0
	for path, methods := range doc.Paths {
		for method, op := range methods {
			if method == "get" || free(op.OperationID) || strings.HasPrefix(path, "/api/v1/own") { // a mailbox's own
				continue
			}
			tried++
			resp, body := s.request(t, strings.ToUpper(method), fill.Replace(path), "{}",
				bearer(viewerToken)...)
			if resp.StatusCode != http.StatusForbidden {
				t.Errorf("%s %s by a viewer: %s %s", method, path, resp.Status, body)
			}
			if resp, _ := s.request(
				t,
				strings.ToUpper(method),
				fill.Replace(path),
				"{}",
			); resp.StatusCode != http.StatusUnauthorized {
				t.Errorf("%s %s by a stranger: %s", method, path, resp.Status)
			}
		}
	}
	if tried < 24 || s.run(t, "config", "export") != before {
		t.Errorf("%d operations were tried, or something changed", tried)
	}
}

func TestAChangeThatNobodyConfirmsGoesBack(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "confirm", nil)
	s.run(t, "service", "set", "--retry-expire-after", "3d")
	s.run(t, "draft", "apply", "--confirm-within", "1s")
	if err := eventually(8*time.Second, func() error {
		if out := s.run(t, "revision", "list"); !strings.Contains(out, "back to 1") ||
			!strings.Contains(out, "was not confirmed in time") {
			return fmt.Errorf("%s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	s.run(t, "service", "set", "--retry-expire-after", "3d")
	s.run(t, "draft", "apply", "--confirm-within", "2s")
	s.run(t, "revision", "confirm", "4")
	time.Sleep(3500 * time.Millisecond)
	out := strings.Join(strings.Fields(s.run(t, "service", "show")), " ")
	if !strings.Contains(out, "retry.expire_after 3d") {
		t.Errorf("a confirmed revision went back:\n%s", out)
	}
}

func TestAKillDuringApplyLeavesOneRevisionWhole(t *testing.T) {
	takesLong(t)
	s := own(t, "killapply", nil)
	for round := range 4 {
		s.run(t, "service", "set", "--retry-expire-after", fmt.Sprintf("%dd", 3+round))
		apply := s.command("draft", "apply")
		_ = apply.Start()
		time.Sleep(time.Duration(3+round*6) * time.Millisecond)
		s.kill()
		_ = apply.Wait()
		if err := s.start(); err != nil {
			t.Fatal(err)
		}
		inForce := strings.Contains(s.run(t, "config", "export", "--without-directory"),
			fmt.Sprintf("expire_after: %dd", 3+round))
		var d api.Draft
		if err := json.Unmarshal([]byte(s.run(t, "draft", "show", "-o", "json")), &d); err != nil {
			t.Fatal(err)
		}
		if inForce == d.Exists || d.Stale {
			t.Errorf("round %d: in force %v, draft there %v, stale %v", round, inForce, d.Exists, d.Stale)
		}
		s.arrives(t, messagesTo(t, s, round))
		if d.Exists {
			s.run(t, "draft", "apply")
		}
	}
}

// messagesTo sends a message in and returns its recipient.
func messagesTo(t *testing.T, s *stack, n int) string {
	to := fmt.Sprintf("%s+%d@skerryline.example", "ines.harrow", n)
	s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("alive"), to)
	return to
}

func TestAnApplyReachesOtherNodesAndRunningSessions(t *testing.T) {
	t.Parallel()
	s := own(t, "twonodes", nil)
	other := s.second(t, "reef")
	session := dial(t, s.edge, "127.30.0.10")
	session.hear()
	for _, line := range []string{"EHLO a", "MAIL FROM:<>"} {
		session.want("250", line)
	}
	session.want("550 5.1.1", "RCPT TO:<new@skerryline.example>")
	session.want("250", "RSET")
	s.run(t, "mailbox", "add", "new@skerryline.example")
	s.run(t, "listener", "set", "edge", "--limits-recipients", "1")
	s.run(t, "draft", "apply")
	for _, line := range []string{"MAIL FROM:<>", "RCPT TO:<new@skerryline.example>"} {
		session.want("250", line)
	}
	session.want("452 4.5.3", "RCPT TO:<"+inesAddress+">") // the limit counts in the running session's next transaction
	if err := eventually(5*time.Second, func() error {
		out, stderr, code := s.gull(t, "--url", "http://"+other.http, "explain", "--to",
			"new@skerryline.example", "--listener", "edge")
		if code != 0 || !strings.Contains(out, "of revision 2)") ||
			!strings.Contains(out, "new@skerryline.example  allowed") {
			return fmt.Errorf("%s%s", out, stderr)
		}
		return nil
	}); err != nil {
		t.Errorf("the other node has not followed: %v", err)
	}
}

func TestMessagesThatWaitGoByTheNewRouteImmediately(t *testing.T) {
	t.Parallel()
	s := own(t, "otherway", func(c string) string {
		return strings.NewReplacer("intervals: [1s]", "intervals: [1h]", "back_off: 1s",
			"back_off: 1h").Replace(c)
	})
	id := s.out(t, "x@sunkenpier.example")
	s.until(t, id, mail.Deferred)
	s.run(t, "route", "add", "pier by provider", "--position", "1", "--recipients",
		"sunkenpier.example", "--next-hop", "lmtp", "--hosts",
		strings.Split(s.run(t, "route", "show", "shelf", "-o", "json"), `"`)[3])
	rehearsal := s.run(t, "draft", "rehearse")
	if !strings.Contains(
		rehearsal,
		"another route: 1 recipients, 1 of them waiting now\n  before   to the world → sunkenpier.example\n  "+
			"after    pier by provider",
	) {
		t.Errorf("the rehearsal does not say so:\n%s", rehearsal)
	}
	s.run(t, "draft", "apply")
	if d := s.until(t, id, mail.Delivered); d.Route != "pier by provider" || d.Revision != 2 {
		t.Errorf("%+v", d)
	}
}

func TestADirectRouteFallsBackToTheSmartHost(t *testing.T) {
	t.Parallel()
	s := own(t, "direct", nil)
	provider := regexp.MustCompile(`port +(\d+)`).FindStringSubmatch(s.run(t, "route", "show",
		"by provider"))[1]
	s.run(t, "route", "add", "direct first", "--position", "1", "--recipients",
		"homelines.example,strandwatch.example,nosuch.example", "--next-hop", "direct", "--hosts",
		"harbourlight.example", "--port", provider, "--tls", "verified", "--sign-in-account",
		"skerryline", "--sign-in-secret", "harbourlight")
	s.run(t, "draft", "apply")
	for _, to := range []string{"a@homelines.example",
		"b@strandwatch.example"} { // refused at the greeting, and at RCPT
		d := s.until(t, s.out(t, to), mail.Delivered)
		if d.Last.Host != "harbourlight.example" || len(d.Last.Tried) == 0 {
			t.Errorf("%s went by %+v", to, d.Last)
		}
	}
	if d := s.until(t, s.out(t, "nobody@nosuch.example"), mail.Bounced); d.Last.Host == "harbourlight.example" {
		t.Error("an unknown user was sent to the smart host all the same")
	}
}

func TestEverythingIsExportedAndImportedAgain(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "export", nil)
	givePassword(t, s, inesAddress, inesPassword)
	text := s.run(t, "config", "export")
	for _, secret := range []string{"argon2id", "lantern-oil", inesPassword} {
		if strings.Contains(text, secret) {
			t.Errorf("the export holds %q", secret)
		}
	}
	file := filepath.Join(t.TempDir(), "all.yaml")
	s.run(t, "config", "export", "--with-secrets", file)
	info, err := os.Stat(file)
	if err != nil || info.Mode().Perm() != 0o600 || !strings.Contains(readFile(t, file), "lantern-oil") ||
		!strings.Contains(readFile(t, file), "$argon2id$") {
		t.Errorf("%v %v", info, err)
	}
	if out := s.run(t, "config", "check", file); !strings.Contains(out, "20 mailboxes, 4 aliases") {
		t.Errorf("check: %s", out)
	}
	fresh := blank(t, "import")
	if out := fresh.run(t, "config", "import", file, "--apply"); !strings.HasPrefix(out,
		"Revision 2 is in force.") {
		t.Errorf("import: %s", out)
	}
	if again := fresh.run(t, "config", "export"); again != text {
		t.Errorf("what was imported differs:\n%s", again)
	}
	if r := python(
		t,
		fresh.smtpsOf(t),
		"tls",
		"smtp",
		"scram",
		inesAddress,
		inesPassword,
		inesAddress,
		inesAddress,
	); r.Code != 250 {
		t.Errorf("the password did not come along: %+v", r)
	}
}

// smtpsOf is where the submission listener with TLS from the start listens now.
func (s *stack) smtpsOf(t *testing.T) string {
	return regexp.MustCompile(`address +(\S+)`).FindStringSubmatch(s.run(t, "listener", "show",
		"submission over TLS"))[1]
}

func TestAHundredThousandMailboxesAreImportedAllOrNone(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "hundredthousand", nil)
	file := filepath.Join(t.TempDir(), "people.csv")
	write := func(bad map[int]string) {
		var b strings.Builder
		b.WriteString("address,name,quota,may_submit\n")
		for i := range 100_000 {
			line := fmt.Sprintf("hand%d@skerryline.example,Hand %d,100 MB,\n", i, i)
			if text := bad[i+2]; text != "" {
				line = text + "\n"
			}
			b.WriteString(line)
		}
		if err := os.WriteFile(file, []byte(b.String()), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(map[int]string{
		500:    "no at sign,Hand,1 GB,",
		70_001: "hand3@skerryline.example,Again,,",
		99_999: "x@saltmarsh.example,Stranger,lots,",
	})
	out, _, code := s.gull(t, "mailbox", "import", file)
	for _, want := range []string{"row at line 500, address:",
		"row at line 70001, address: hand3@skerryline.example stands already in row 5", "row at line 99999, quota: \"lots\" is not a size"} {
		if code != 1 || !strings.Contains(out, want) {
			t.Errorf("%d, without %q:\n%s", code, want, out)
		}
	}
	if n := s.mailboxes(t); n != 20 {
		t.Errorf("%d mailboxes after a refused import", n)
	}
	write(nil)
	began := time.Now()
	text, _, code := s.gull(t, "mailbox", "import", file)
	if code != 0 || !strings.Contains(text,
		"100000 rows were written: 100000 new") || s.mailboxes(t) != 100_020 {
		t.Errorf("%d %s, %d mailboxes", code, text, s.mailboxes(t))
	}
	t.Logf("100,000 rows in %s", time.Since(began).Round(time.Millisecond))
	for _, search := range []string{"hand99999", "Hand 99999"} {
		if out := s.run(
			t,
			"mailbox",
			"list",
			"--search",
			search,
		); !strings.Contains(out, "hand99999@skerryline.example") {
			t.Errorf("search %s: %s", search, out)
		}
	}
	if memory := rss(t, s); memory > 300<<20 && !raced { // the race detector takes several times as much
		t.Errorf("the service uses %d MB", memory>>20)
	}
	s.until(
		t,
		s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("hand"),
			"hand77777@skerryline.example"),
		mail.Delivered,
	)
}

func (s *stack) mailboxes(t *testing.T) int {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), s.database)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	var n int
	if err := conn.QueryRow(t.Context(), `SELECT count(*) FROM mailbox`).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// A configuration that is kept in a repository is applied where it differs, and only there.
func TestAFileIsAppliedWhereItDiffers(t *testing.T) {
	t.Parallel()
	s := own(t, "applied", nil)
	file := filepath.Join(s.dir, "kept.yaml")
	put := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	text := s.run(t, "config", "export")
	put(text)
	if out, _, code := s.gull(t, "apply", "-f", file, "--exit-code"); code != 0 ||
		!strings.Contains(out, "Nothing differs") {
		t.Errorf("as it is: %d %s", code, out)
	}
	put(strings.Replace(text, "retention: 30d", "retention: 31d", 1))
	if out, _, code := s.gull(t, "apply", "-f", file, "--check", "--exit-code"); code != 10 ||
		!strings.Contains(out, "+  retention: 31d") {
		t.Errorf("what would change: %d %s", code, out)
	}
	if out := s.run(t, "config", "export"); !strings.Contains(out, "retention: 30d") {
		t.Error("a check changed it")
	}
	s.run(t, "service", "set", "--address-family", "ipv4", "--retention", "20d")
	if _, stderr, code := s.gull(t, "apply", "-f", file); code != 1 ||
		!strings.Contains(stderr, "there is a draft that") {
		t.Errorf("over somebody's draft: %d %s", code, stderr)
	}
	s.run(t, "draft", "discard")
	if out, _, code := s.gull(t, "apply", "-f", file, "--exit-code", "--why", "kept longer"); code != 10 ||
		!strings.Contains(out, "is in force") {
		t.Errorf("applied: %d %s", code, out)
	}
	if out, _, code := s.gull(t, "apply", "-f", file, "--exit-code"); code != 0 {
		t.Errorf("a second time: %d %s", code, out)
	}
	// Mailboxes of the file are put in order too.
	put(
		strings.Replace(
			strings.Replace(text, "retention: 30d", "retention: 31d", 1),
			"name: Odile Marr",
			"name: Odile Marr-Vik",
			1,
		),
	)
	if out, _, code := s.gull(t, "apply", "-f", file, "--exit-code"); code != 10 {
		t.Errorf("another name of a person: %d %s", code, out)
	}
	if out := s.run(t, "mailbox", "show", "odile.marr@skerryline.example"); !strings.Contains(out, "Odile Marr-Vik") {
		t.Errorf("the mailbox was not changed: %s", out)
	}
	put(strings.Replace(text, "  - name: edge ", "  - name: edge \n    kind: nonsense\n#", 1))
	if _, _, code := s.gull(t, "apply", "-f", file); code == 0 {
		t.Error("nonsense was applied")
	}
	put(
		strings.Replace(
			text,
			"relay_rules:\n",
			"relay_rules:\n  - {name: door, networks: [0.0.0.0/0], action: allow}\n",
			1,
		),
	)
	if out, stderr, code := s.gull(t, "apply", "-f", file); code != 1 || !strings.Contains(out+stderr, "not applied") {
		t.Errorf("an open relay: %d %s %s", code, out, stderr)
	}
	if out := s.run(t, "draft", "show"); !strings.Contains(out, "There is no draft") {
		t.Errorf("a draft was left behind: %s", out)
	}
}
