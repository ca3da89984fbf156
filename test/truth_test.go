package test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

// says checks what a command prints and how it ends.
func (s *stack) says(t *testing.T, wantCode int, want string, args ...string) {
	t.Helper()
	out, errOut, code := s.gull(t, args...)
	if code != wantCode || !strings.Contains(out+errOut, want) {
		t.Errorf("gull %s: exit %d, want %d and %q:\n%s%s", strings.Join(args, " "), code, wantCode, want,
			out, errOut)
	}
}

func TestStoppedMailIsSaidWhereAnybodyLooks(t *testing.T) {
	t.Parallel()
	s := own(t, "stopped", nil)
	ready := func(status int, want string) {
		t.Helper()
		resp, body := s.request(t, http.MethodGet, "/readyz", "")
		if resp.StatusCode != status || !strings.Contains(body, want) {
			t.Errorf("readyz: %s %s, want %d and %q", resp.Status, body, status, want)
		}
	}
	s.run(t, "queue", "pause", "--why", "crane on the quay")
	s.says(t, 0, "All delivery is paused by tests (crane on the quay)", "status")
	ready(http.StatusOK, "all delivery is paused")
	s.run(t, "queue", "resume")
	s.run(t, "node", "drain", "shore", "--why", "new disk")
	s.says(
		t,
		0,
		"Every running node is drained (shore): no mail is taken and none leaves. Let one go on: gull node "+
			"resume shore",
		"status",
	)
	ready(http.StatusServiceUnavailable, "this node is drained")
	s.says(t, 1, "takes nothing just now: 421", "send", "--from", inesAddress, "--to",
		"harbour@saltmarsh.example", "--listener", "inside")
	s.run(t, "node", "resume", "shore")
	ready(http.StatusOK, `"status":"ready"`)
	if out := s.run(t, "status"); strings.Contains(out, "no mail leaves") || strings.Contains(out,
		"paused by") {
		t.Errorf("mail leaves again, and the status says:\n%s", out)
	}

	// a route for nodes that are nowhere holds its mail; it must not look as if it moved
	s.run(t, "route", "add", "south quay", "--position", "1", "--recipients", "saltmarsh.example",
		"--next-hop", "mx", "--nodes", "nowhere")
	s.run(t, "draft", "apply")
	s.send(t, s.inside, "127.20.1.5", "tickets@skerryline.example", message("stuck"),
		"harbour@saltmarsh.example")
	want := "route south quay is for nowhere, and no node of that name runs"
	s.says(t, 0, want, "explain", "--to", "harbour@saltmarsh.example", "--client", "127.20.1.5",
		"--listener", "inside")
	if err := eventually(5*time.Second, func() error {
		if out := s.run(t, "lane", "list", "-o", "json"); !strings.Contains(out, want) ||
			!strings.Contains(out, `"stranded"`) {
			return fmt.Errorf("the lane is not stranded: %s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

func TestExplainAsksWhatTheSessionAsks(t *testing.T) {
	t.Parallel()
	s := own(t, "listed", nil)
	s.run(t, "route", "add", "kelp", "--position", "1", "--recipients", "kelp.example", "--next-hop", "mx")
	s.run(t, "domain", "add", "kelp.example", "--kind", "relay", "--verify", "list", "--recipients",
		"bosun@kelp.example", "--route", "kelp")
	s.run(t, "draft", "apply")
	question := []string{
		"explain",
		"--from",
		"a@saltmarsh.example",
		"--client",
		"203.0.113.5",
		"--listener",
		"edge",
		"--to",
	}
	s.says(t, 0, "bosun@kelp.example  allowed", append(question, "bosun@kelp.example")...)
	s.says(t, 0, "postmaster@kelp.example  allowed", append(question, "postmaster@kelp.example")...)
	s.says(
		t,
		0,
		"550 5.1.1 cook@kelp.example is not among the recipients of kelp.example",
		append(question, "cook@kelp.example")...)
}

func TestOnlyWhatWasSentCounts(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "counted", func(c string) string {
		return strings.Replace(c, "intervals: [1s]", "intervals: [1s]\n    warn_after: 1s", 1)
	})
	// the size that a client declares is not traffic
	d := dial(t, s.edge, "127.20.9.1")
	d.hear()
	for _, line := range []string{"EHLO a.example", "MAIL FROM:<a@saltmarsh.example> SIZE=9000000",
		"RCPT TO:<nobody.here@skerryline.example>", "QUIT"} {
		d.raw(line + "\r\n")
		d.hear()
	}
	if err := eventually(10*time.Second, func() error {
		if n := s.number(t, "SELECT count(*) FROM refusal WHERE size = 9000000"); n != 1 {
			return fmt.Errorf("%d refusals on record", n)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	// a probe of our own listeners is no mail of anybody
	s.run(t, "probe", "--inwards", "*")
	if err := eventually(10*time.Second, func() error {
		if n := s.number(t, "SELECT count(*) FROM refusal WHERE sender = 'stranger@driftnet.example'"); n == 0 {
			return fmt.Errorf("no refusal of a probe is on record")
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	s.counted(t)
	if n := s.number(
		t,
		"SELECT coalesce(sum(n), 0)::bigint FROM count_sum WHERE kind = 'rejected' AND dim = 'total' AND "+
			"tier = 'day'",
	); n != 1 {
		t.Errorf("%d are counted as rejected, want the one that was", n)
	}
	if n := s.number(t, "SELECT coalesce(sum(bytes), 0)::bigint FROM count_sum WHERE kind = 'rejected'"); n != 0 {
		t.Errorf("%d octets are counted that nobody sent", n)
	}
	if out := s.run(t, "snag", "list", "-o", "json"); strings.Contains(out, "driftnet.example") {
		t.Errorf("a probe of ours opened a snag: %s", out)
	}

	// a notice of delay is found by its subject
	s.send(t, s.inside, "127.20.1.5", inesAddress, message("late"), "a@fogbank.example")
	if err := eventually(40*time.Second, func() error {
		if out, _, _ := s.gull(
			t,
			"trace",
			"find",
			"Not delivered yet",
			"-o",
			"json",
		); !strings.Contains(out, inesAddress) {
			return fmt.Errorf("the notice of a delay is not found by its subject: %s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

func TestAMailboxGoesOnlyWhenItIsMeant(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "gone", nil)
	s.says(t, 0, "deck@skerryline.example", "mailbox", "remove", "deck@skerryline.example", "--dry-run")
	s.says(t, 0, "deck@skerryline.example", "mailbox", "show", "deck@skerryline.example")
	s.run(t, "mailbox", "remove", "deck@skerryline.example", "--yes")
	s.says(t, 4, "there is no mailbox deck@skerryline.example", "mailbox", "show", "deck@skerryline.example")
}

func TestAWordOfLaterIsNotTakenForARule(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "later", nil)
	s.run(t, "relay", "add", "slow", "--position", "1", "--listeners", "inside", "--recipients",
		"dunlin.example", "--action", "allow", "--limits-messages-per-hour", "1")
	s.run(t, "draft", "apply")
	s.run(t, "send", "--from", inesAddress, "--to", "a@dunlin.example", "--listener", "inside")
	s.says(t, 1, "listener inside did not take it now: 4", "send", "--from", inesAddress, "--to",
		"a@dunlin.example", "--listener", "inside")
	began := time.Now()
	s.says(t, 0, "It has not come to its end within 2s", "send", "--from", inesAddress, "--to",
		"a@fogbank.example", "--listener", "inside", "--wait", "2s")
	if took := time.Since(began); took > 15*time.Second {
		t.Errorf("it was followed for %s", took)
	}
}

func TestMasksHideEveryFormAndEveryWayRound(t *testing.T) {
	takesLong(t)
	t.Parallel()
	hook := "https://watch.skerryline.example/t0ken-of-the-hook"
	s := own(t, "masks", func(c string) string {
		return strings.Replace(
			c,
			"\nservice:\n",
			"\nservice:\n  viewers_see: {addresses: masked, subjects: hidden}\n  alerts: {to: "+
				"[keeper@skerryline.example], webhook: \""+hook+"\", secret: harbourlight}\n",
			1,
		)
	})
	id := s.send(t, s.inside, "127.20.1.5", `"mate o'deck"@skerryline.example`,
		message("secret berth"), "harbour@saltmarsh.example")
	s.until(t, id, mail.Delivered)
	look := bearer(viewerToken)
	for _, path := range []string{"/api/v1/messages/" + id, "/api/v1/trace?to=harbour@saltmarsh.example",
		"/api/v1/config", "/api/v1/mailboxes"} {
		resp, body := s.request(t, http.MethodGet, path, "", look...)
		if resp.StatusCode != http.StatusOK {
			t.Errorf("%s: %s %s", path, resp.Status, body)
		}
		for _, told := range []string{"deck\\\"@", "deck\"@", "o'deck", "harbour@saltmarsh", "ines.harrow@",
			"secret berth"} {
			if strings.Contains(body, told) {
				t.Errorf("%s tells a viewer %q", path, told)
			}
		}
	}
	// the answers to questions by a part would tell it piece by piece
	for _, path := range []string{"/api/v1/trace?q=harb", "/api/v1/trace?q=subject:berth",
		"/api/v1/trace?q=from:mate*", "/api/v1/mailboxes?search=har"} {
		if resp, body := s.request(
			t,
			http.MethodGet,
			path,
			"",
			look...); resp.StatusCode != http.StatusUnprocessableEntity ||
			!strings.Contains(body, "hidden from viewers") {
			t.Errorf("%s is answered to a viewer: %s %s", path, resp.Status, body)
		}
	}
	if resp, body := s.request(
		t,
		http.MethodGet,
		"/api/v1/trace?q=harbour@saltmarsh.example",
		"",
		look...); resp.StatusCode != http.StatusOK ||
		!strings.Contains(body, id) {
		t.Errorf("a whole address is not found: %s %s", resp.Status, body)
	}

	// the path of a webhook is shown to nobody, and an edit of what is shown keeps it
	shown := s.run(t, "config", "export")
	if strings.Contains(shown, "t0ken") || !strings.Contains(shown,
		"https://watch.skerryline.example/(hidden)") {
		t.Errorf("the webhook is shown as it is, or not at all:\n%s", shown)
	}
	edited := filepath.Join(t.TempDir(), "edited.yaml")
	if err := os.WriteFile(
		edited,
		[]byte(strings.Replace(shown, "subjects: hidden", "subjects: whole", 1)),
		0o600,
	); err != nil {
		t.Fatal(err)
	}
	s.run(t, "config", "import", edited)
	s.run(t, "draft", "apply")
	if n := s.number(
		t,
		"SELECT count(*) FROM config_revision WHERE text LIKE '%t0ken-of-the-hook%' AND text LIKE "+
			"'%subjects: whole%'",
	); n != 1 {
		t.Error("the edit lost the path of the webhook")
	}
	if log := readFile(t, s.log.Name()); strings.Contains(log, "t0ken") {
		t.Error("the log tells the webhook's path")
	}
}
