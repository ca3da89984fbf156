package cli_test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gullroute/internal/api"
	"gullroute/internal/cli"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/teststand"
)

// gull runs a command line against a stand.
func gull(t *testing.T, s *teststand.Stand, token, in string, args ...string) (code int, out, errs string) {
	t.Helper()
	var o, e bytes.Buffer
	args = append(args, "--url", s.URL, "--token", token)
	code = cli.Main(args, strings.NewReader(in), &o, &e)
	return code, o.String(), e.String()
}

// The exit codes, as gull help says them.
const (
	done, refused, usage, unreachable, notFound = 0, 1, 2, 3, 4
)

func TestCommandsSayWhatTheyDidAndHowItWent(t *testing.T) {
	s := teststand.Start(t)
	id := s.Send("Berth for Thursday", "ada@saltmarsh.example", "crew@skerryline.example").String()
	for {
		m, err := s.Insight.Trace.Message(t.Context(), 0, s.Send("Later", "keeper@skerryline.example"))
		if err != nil {
			t.Fatal(err)
		}
		if m, err = s.Insight.Trace.Message(t.Context(), 0, mustID(t, id)); err != nil {
			t.Fatal(err)
		}
		if m.Message.Deliveries[0].State == mail.Deferred && m.Message.Deliveries[1].State == mail.Delivered {
			break
		}
	}
	file := filepath.Join(t.TempDir(), "boxes.csv")
	if err := os.WriteFile(file,
		[]byte("address,quota\npiet@skerryline.example,1 GB\nx@skerryline.example,lots\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args string
		code int
		says []string
	}{
		{"status", done, []string{"1 of", "resting", "by provider", "connection refused"}},
		{"queue list", done, []string{"ada@saltmarsh.example", "deferred"}},
		{"queue list --domain nowhere.example", done, nil},
		{"lane list", done, []string{"127.0.0.1:1", "resting"}},
		{"trace show " + id, done, []string{"Berth for Thursday", "let in by rule this machine",
			"crew@skerryline.example → ines.harrow@skerryline.example", "connection refused"}},
		{"trace show " + id + " --for user", done, []string{"“Berth for Thursday”"}},
		{"trace show " + id + " --for remote", done, []string{"UTC", "127.0.0.1"}},
		{"trace show " + id + " --for everybody", usage, []string{"user and remote"}},
		{"trace show 0000000000001", notFound, []string{"no such message"}},
		{"trace show xyz", usage, []string{"13 letters and digits"}},
		{"trace find Berth", done, []string{id}},
		{"queue hold --domain saltmarsh.example --dry-run", done, []string{"1 delivery would be held"}},
		{"queue hold --domain saltmarsh.example", done, []string{"1 delivery"}},
		{"queue list --state held", done, []string{"held"}},
		{"queue hold", usage, []string{"--all"}},
		{"explain --from ines.harrow@skerryline.example --to jo@sunkenpier.example", done,
			[]string{"this machine", "by provider"}},
		{"explain --from ines.harrow@skerryline.example --to jo@sunkenpier.example --client 192.0.2.1",
			done, []string{"REFUSED", "550 5.7.1"}},
		{"route add marsh --next-hop mx --recipients saltmarsh.example --position 1 --dry-run", done,
			[]string{"marsh"}},
		{"route move nowhere --position 1", notFound, []string{"no route"}},
		{"mailbox import " + file, refused, []string{"row at line 3", "lots"}},
		{"help terms", done, []string{"lane", "rehearsal"}},
		{"nonsense", usage, []string{"unknown command"}},
		{"queue list --sizes", usage, []string{"unknown flag"}},
	} {
		code, out, errs := gull(t, s, teststand.Keeper, "", strings.Fields(c.args)...)
		if code != c.code {
			t.Errorf("gull %s: exit code %d, want %d\n%s%s", c.args, code, c.code, out, errs)
		}
		for _, want := range c.says {
			if !strings.Contains(out+errs, want) {
				t.Errorf("gull %s lacks %q:\n%s%s", c.args, want, out, errs)
			}
		}
		if code != done && errs == "" {
			t.Errorf("gull %s failed and says nothing to the error output", c.args)
		}
	}
}

// The test's own server is set up for tests: whatever else is found, a machine of half a
// terabyte deserves more memory for it, and the advice is a statement to run.
func TestDoctorSaysWhatToSetOnTheDatabaseServer(t *testing.T) {
	s := teststand.Start(t)
	code, out, errs := gull(t, s, teststand.Viewer, "", "doctor", "database", "--memory", "512GB")
	if code != done && code != refused || !strings.Contains(out, "512.0 GB of memory.") ||
		!strings.Contains(out, "ALTER SYSTEM SET effective_cache_size = '256GB'\n") ||
		!strings.Contains(out, "ALTER SYSTEM SET shared_buffers = '8GB', then restart PostgreSQL") {
		t.Errorf("%d\n%s%s", code, out, errs)
	}
	_, out, _ = gull(t, s, teststand.Viewer, "", "doctor", "database", "-o", "json")
	var check api.DatabaseCheck
	if err := json.Unmarshal([]byte(out), &check); err != nil || !check.Here || check.Memory < 1<<28 {
		t.Errorf("%v, of this machine:\n%s", err, out)
	}
	if code, _, errs := gull(t, s, teststand.Viewer, "", "doctor", "database", "--memory", "lots"); code != usage ||
		!strings.Contains(errs, "512MB, 16GB or 1TB") {
		t.Errorf("%d %s", code, errs)
	}
}

func TestEveryListIsJSONForPrograms(t *testing.T) {
	s := teststand.Start(t)
	s.Until(s.Send("Berth", "ada@saltmarsh.example"), mail.Deferred)
	for _, args := range []string{"status", "queue list", "lane list", "trace find Berth", "snag list",
		"mailbox list", "alias list", "route list", "relay list", "listener list", "domain list",
		"peer list", "revision list", "node list", "session list", "review", "report", "draft show",
		"dkim list", "readiness"} {
		code, out, errs := gull(t, s, teststand.Viewer, "", append(strings.Fields(args), "-o", "json")...)
		if code != done && code != refused || !json.Valid([]byte(out)) {
			t.Errorf("gull %s -o json: %d\n%s%s", args, code, out, errs)
		}
	}
}

func TestWhatIsAskedIsAskedOnce(t *testing.T) {
	s := teststand.Start(t)
	id := s.Send("Berth", "ada@saltmarsh.example")
	s.Until(id, mail.Deferred)
	drop := []string{"queue", "drop", id.String()}
	if code, out, errs := gull(t, s, teststand.Keeper, "no\n", drop...); code == done {
		t.Errorf("dropped after a no:\n%s%s", out, errs)
	}
	if m, err := s.Insight.Trace.Message(t.Context(), 0,
		id); err != nil || m.Message.Deliveries[0].State != mail.Deferred {
		t.Errorf("%+v %v", m.Message.Deliveries, err)
	}
	if code, out, errs := gull(t, s, teststand.Keeper, "", append(drop, "--yes")...); code != done {
		t.Errorf("%d\n%s%s", code, out, errs)
	}
	s.Until(id, mail.Discarded)
}

func TestWhoMayNotIsToldSo(t *testing.T) {
	s := teststand.Start(t)
	for name, c := range map[string]struct {
		token, args, says string
		code              int
	}{
		"a viewer":   {teststand.Viewer, "queue flush --all", "administrator", refused},
		"a stranger": {"not-a-token", "status", "sign in again", unreachable},
	} {
		code, out, errs := gull(t, s, c.token, "", strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(errs, c.says) {
			t.Errorf("%s: %d\n%s%s", name, code, out, errs)
		}
	}
	s.URL = "http://127.0.0.1:1"
	if code, _, errs := gull(t, s, teststand.Keeper, "", "status"); code != unreachable ||
		!strings.Contains(errs, "is it running") {
		t.Errorf("%d %s", code, errs)
	}
}

func mustID(t *testing.T, text string) ident.ID {
	t.Helper()
	id, err := ident.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return id
}
