package test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"gullroute/test/browser"
)

var shownOnce = regexp.MustCompile(`(?m)^ +(?:password +)?([A-Z0-9]{16,})$`)

// Somebody new gets a first password at the console, chooses one of his own, sees what his role
// allows, and is out when he is switched off.
func TestConsoleLetsPeopleInAndOut(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "people", nil)
	keeper := s.open(t, "keeper")
	keeper.visit("/setup/operators")
	keeper.fill("main", "Name", "wren")
	keeper.click("main", "Add a person")
	keeper.shows("First password of wren")
	var first string
	keeper.do(chromedp.Evaluate(`document.querySelector(".mantine-Modal-content pre").textContent.trim()`, &first))

	ctx, stop, err := browser.Start(t.Context(), 1280, 800, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	wren := &page{t, ctx, "http://" + s.http}
	wren.visit("/")
	wren.fill("", "Name", "wren")
	wren.fill("", "Password", first)
	wren.click("", "Sign in")
	wren.shows("Welcome, wren", "Somebody else knows the password")
	const chosen = "petrel lantern oakum 9"
	wren.fill("", "Old password", first)
	wren.fill("", "New password", "wrenwrenwren")
	wren.fill("", "The new one once more", "wrenwrenwren")
	wren.click("", "Change the password")
	wren.shows("it would be guessed soon")
	wren.fill("", "New password", chosen)
	wren.fill("", "The new one once more", chosen)
	wren.click("", "Change the password")
	wren.shows("Queue", "Trace")
	wren.visit("/setup/operators")
	wren.shows("This is for administrators")
	wren.visit("/setup/audit")
	wren.shows("This is for administrators and auditors")
	wren.visit("/account")
	wren.shows("Your open sessions", "this one")

	keeper.visit("/setup/operators")
	keeper.click("", "Switch off: wren")
	keeper.shows("Switch on")
	wren.visit("/queue")
	wren.shows("Sign in to see where the mail is.")
	keeper.visit("/setup/audit?who=wren")
	keeper.shows("password-change", "refused", "sign-in")
	keeper.click("", "Was it altered?")
	keeper.shows("none was altered", "Keep its head elsewhere")
}

// The same by command, with a session of one's own and contexts for servers.
func TestCommandsGoByWhoIsSignedIn(t *testing.T) {
	t.Parallel()
	s := own(t, "login", nil)
	home := t.TempDir()
	as := func(in string, code int, args ...string) string {
		t.Helper()
		c := s.command(args...)
		c.Env = append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME=", "GULL_TOKEN=", "GULL_URL=")
		c.Stdin, c.Stdout, c.Stderr = strings.NewReader(in), nil, nil
		out, err := c.CombinedOutput()
		got := 0
		if err != nil {
			got = c.ProcessState.ExitCode()
		}
		if got != code {
			t.Fatalf("gull %s: %d, not %d: %s", strings.Join(args, " "), got, code, out)
		}
		return string(out)
	}
	at := "http://" + s.http
	m := shownOnce.FindStringSubmatch(s.run(t, "operator", "add", "wren", "--role", "operator"))
	if m == nil {
		t.Fatal("no password is shown")
	}
	if out := as(m[1]+"\n", 0, "login", "--url", at, "--name", "wren", "--context", "skerry"); !strings.Contains(out,
		"gull password") {
		t.Errorf("a first password is enough: %s", out)
	}
	if out := as("", 1, "queue", "list"); !strings.Contains(out, "choose a new password first") {
		t.Error(out)
	}
	as(m[1]+"\npetrel lantern oakum 9\n", 0, "password")
	if out := as("", 0, "whoami"); out != fmt.Sprintf("wren (operator) at %s\n", at) {
		t.Errorf("whoami: %q", out)
	}
	as("", 0, "queue", "list")
	if out := as("", 1, "route", "remove", "by provider"); !strings.Contains(out, "this needs the role administrator") {
		t.Error(out)
	}
	file := filepath.Join(home, ".config", "gull-route", "contexts.json")
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file of sessions: %v %v", info, err)
	}
	// A session goes to its own server and to no other.
	if out := as("", 3, "whoami", "--url", "http://127.0.0.1:1"); strings.Contains(out, "wren") {
		t.Error(out)
	}
	as("", 2, "whoami", "--context", "elsewhere")
	if out := as("", 3, "whoami", "--token", "of-another-server-than-this-one"); strings.Contains(out, at) {
		t.Errorf("a token goes to the server of a context: %s", out)
	}
	token := shownOnce.FindStringSubmatch(s.run(t, "token", "add", "backups", "--role", "auditor", "--lasts", "30d"))
	if out := as("", 0, "whoami", "--url", at, "--token", token[1]); out != fmt.Sprintf(
		"backups (auditor) at %s, by a token\n",
		at,
	) {
		t.Errorf("by a token: %q", out)
	}
	if out := as("", 0, "audit", "list", "--url", at, "--token", token[1]); !strings.Contains(out, "setup-remove") ||
		!strings.Contains(out, "not allowed") {
		t.Errorf("the record:\n%s", out)
	}
	lines := as("", 0, "audit", "export", "--form", "syslog", "--url", at, "--token", token[1])
	if !regexp.MustCompile(`(?m)^<108>1 \S+ - gull-route - \d+ \[audit@32473 who="wren" role="operator" .*action="setup-remove"`).
		MatchString(lines) {
		t.Errorf("for a log server:\n%s", lines)
	}
	if out := as("", 1, "audit", "verify", "--url", at, "--token", token[1], "--head", strings.Repeat("0", 64)); !strings.Contains(
		out,
		"CUT OFF",
	) {
		t.Error(out)
	}
	as("", 0, "logout")
	as("", 3, "queue", "list")

	// Nobody can sign in any more: whoever may write in the database helps himself.
	rescued := shownOnce.FindStringSubmatch(s.run(t, "operator", "rescue", "keeper"))
	as(rescued[1]+"\n", 0, "login", "--url", at, "--name", "keeper")
	if out := s.run(t, "audit", "list", "--action", "operator-rescue"); !strings.Contains(out, "keeper") {
		t.Errorf("a rescue is not on record: %s", out)
	}
	s.run(t, "audit", "verify")
}
