package test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"go.yaml.in/yaml/v3"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

func TestExitCodesAndErrorsSayWhatToDo(t *testing.T) {
	s := world(t)
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	if err := os.WriteFile(
		bad,
		[]byte(
			"service: {host_name: a.example, postmaster: a@b.example}\nrelay_rules:\n  - {name: x, action: "+
				"allow, networks: [10.0.0.0/33]}\n",
		),
		0o600,
	); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args string
		code int
		want string
	}{
		{"status", 0, ""},
		{"queue list -o nonsense", 2,
			`--output "nonsense" is not known; allowed: table, json, jsonl, csv, yaml`},
		{"queue dance", 2, `there is no command "gull queue dance"`},
		{"dance", 2, "unknown command"},
		{"queue list --colour red", 2, "unknown flag: --colour; see gull queue list --help"},
		{"queue show", 2, "1 arguments are needed and 0 were given"},
		{"queue show xyz", 2, "is not an id"},
		{"queue show 0000000000001", 4, "there is no such message"},
		{"queue flush", 2, "say which messages"},
		{"trace find --subject no-such-subject-anywhere", 4, "nothing was found"},
		{"trace find --since soon", 2, `--since: "soon" is not a time`},
		{"explain", 2, "say at least one recipient"},
		{"explain --to a@b.example --client here", 2, `client: "here" is not an IP address`},
		{"config check " + bad, 1,
			"line 3, relay_rules[0].networks[0]: \"10.0.0.0/33\" has the prefix length 33"},
		{"config check /no/such/file", 2, "no such file"},
		{"status --token stranger", 3, "this token or session is not known"},
		{"status --url http://127.0.0.1:9", 3, "the service at http://127.0.0.1:9 cannot be reached"},
		{"mailbox messages nobody@skerryline.example", 4, "there is no mailbox"},
		{"simnet messages mx.nowhere.example", 4, "there is no host mx.nowhere.example"},
		{"simnet behave mx.barelock.example colour=red", 2, "unknown field"},
		{"serve --database postgres://x --bind edge", 2, "write LISTENER=ADDRESS:PORT"},
		{"send --from a@saltmarsh.example --to x@dunlin.example", 1,
			"the message was refused at listener edge"},
	} {
		_, stderr, code := s.gull(t, strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(stderr, c.want) {
			t.Errorf("gull %s: exit %d, %q; want %d, %q", c.args, code, stderr, c.code, c.want)
		}
	}
}

func TestExplainNamesRuleRouteAndAlias(t *testing.T) {
	s := world(t)
	out, _, _ := s.gull(t, "explain", "--client", "127.20.9.9", "--listener", "inside", "--from",
		"tickets@skerryline.example", "--to", "x@saltmarsh.example")
	for _, want := range []string{"REFUSED", "rule   quarantined machine (line ",
		"550 5.7.1 this machine was found"} {
		if !strings.Contains(out, want) {
			t.Errorf("explain lacks %q:\n%s", want, out)
		}
	}
	out, _, code := s.gull(t, "explain", "--to", "everyone@skerryline.example", "--to",
		"x@saltmarsh.example", "--to", "x@[127.30.0.60]", "--client", "127.20.1.5", "--listener",
		"inside", "-o", "json")
	var answers []api.Answer
	if err := json.Unmarshal([]byte(out), &answers); err != nil || code != 0 || len(answers) != 3 {
		t.Fatalf("%v %d %s", err, code, out)
	}
	if a := answers[0]; len(a.Paths) != 6 || a.Paths[0].Route != "mailbox" || len(a.Paths[0].Via) != 2 {
		t.Errorf("an alias: %+v", a)
	}
	if a := answers[1]; a.Rule != "ticket machines" || a.Paths[0].Route != "to the world" ||
		a.Paths[0].NextHop != "saltmarsh.example" ||
		a.Paths[0].Stranded {
		t.Errorf("outside: %+v", a)
	}
	if a := answers[2]; !a.Paths[0].Stranded || a.Paths[0].Why != "no route leads to [127.30.0.60]" {
		t.Errorf("stranded: %+v", a)
	}
	// What explain says is what happens.
	id := s.send(t, s.inside, "127.20.1.5", "", message("as explained"), "x@saltmarsh.example")
	if d := s.until(t, id, mail.Delivered); d.LaneID.String() != answers[1].Paths[0].Lane || d.Rule != answers[1].Rule {
		t.Errorf("it went by %s of %s", d.LaneID, d.Rule)
	}
	out, _, _ = s.gull(t, "explain", "--to", "ines.harrow@skerryline.example", "--size", "99000000")
	if !strings.Contains(out, "552 5.3.4") {
		t.Errorf("too large: %s", out)
	}
}

func TestSendFollowsAMessageToItsEnd(t *testing.T) {
	takesLong(t)
	s := world(t)
	out, stderr, code := s.gull(t, "send", "--listener", "inside", "--client", "127.20.1.5",
		"--from", "tickets@skerryline.example", "--to", "cli@greywacke.example", "--subject",
		"Grüße", "--text", "one\ntwo\n.three")
	if code != 0 {
		t.Fatalf("%d %s %s", code, out, stderr)
	}
	for _, want := range []string{"> MAIL FROM:<tickets@skerryline.example>", "< 250 2.0.0 accepted as ",
		"deferred   recipient: 451 4.7.1 greylisted", "delivered  content: 250 2.0.0", "It has ended: delivered."} {
		if !strings.Contains(out, want) {
			t.Errorf("send lacks %q:\n%s", want, out)
		}
	}
	l := s.messages(t, "mx.greywacke.example", "cli@greywacke.example")
	if len(l) != 1 || !strings.HasSuffix(string(l[0].Content), "one\r\ntwo\r\n.three\r\n") ||
		!strings.Contains(string(l[0].Content), "Subject: =?utf-8?q?Gr=C3=BC=C3=9Fe?=") {
		t.Errorf("the message: %s", l[0].Content)
	}
	out, _, code = s.gull(t, "send", "--to", "ines.harrow@skerryline.example", "-o", "json")
	var h api.Submitted
	if err := json.Unmarshal([]byte(out),
		&h); err != nil || code != 0 || h.ID == "" || h.Listener != "edge" ||
		len(h.Steps) != 6 {
		t.Errorf("%v %d %s", err, code, out)
	}
	out, _, code = s.gull(t, "trace", "show", h.ID)
	if code != 0 || !strings.Contains(out, "received from 127.0.0.1") ||
		!strings.Contains(out, "let in by rule our-domain") {
		t.Errorf("trace show: %d %s", code, out)
	}
}

func TestTheSameRecordsInEveryFormat(t *testing.T) {
	t.Parallel()
	s := own(t, "formats", nil)
	id := s.out(t, "shape@sunkenpier.example")
	s.until(t, id, mail.Deferred)
	fields := []string{
		"id",
		"message_id",
		"recipient",
		"original_recipient",
		"state",
		"lane",
		"route",
		"next_hop",
		"attempts",
		"first_attempt_at",
		"last_attempt_at",
		"next_attempt_at",
		"expires_at",
		"finished_at",
		"last_reply",
		"cause",
	}
	check := func(format string, record map[string]any) {
		t.Helper()
		for _, f := range fields {
			if _, ok := record[f]; !ok {
				t.Errorf("%s lacks %s: %v", format, f, record)
			}
		}
		if record["id"] != id+"-1" || record["cause"] != "connection-refused" {
			t.Errorf("%s: id %v, cause %v", format, record["id"], record["cause"])
		}
	}
	out, _, _ := s.gull(t, "queue", "list", "-o", "json")
	var list []map[string]any
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) != 1 {
		t.Fatalf("%v %s", err, out)
	}
	check("json", list[0])
	reply, _ := list[0]["last_reply"].(map[string]any)
	for _, f := range []string{"stage", "host", "address", "code", "enhanced", "text"} {
		if _, ok := reply[f]; !ok {
			t.Errorf("last_reply lacks %s: %v", f, reply)
		}
	}
	out, _, _ = s.gull(t, "queue", "list", "-o", "jsonl")
	var one map[string]any
	if err := json.Unmarshal([]byte(out), &one); err != nil || strings.Count(out, "\n") != 1 {
		t.Fatalf("%v %s", err, out)
	}
	check("jsonl", one)
	out, _, _ = s.gull(t, "queue", "list", "-o", "yaml")
	list = nil
	if err := yaml.Unmarshal([]byte(out), &list); err != nil || len(list) != 1 {
		t.Fatalf("%v %s", err, out)
	}
	check("yaml", list[0])
	out, _, _ = s.gull(t, "queue", "list", "-o", "csv")
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	if err != nil || len(rows) != 2 {
		t.Fatalf("%v %s", err, out)
	}
	one = map[string]any{}
	for i, name := range rows[0] {
		one[name] = rows[1][i]
	}
	check("csv", one)
	out, _, _ = s.gull(t, "lane", "list", "-o", "jsonl")
	one = nil
	if err := json.Unmarshal([]byte(out), &one); err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{"id", "route", "next_hop", "state", "waiting", "deferred", "held", "sending",
		"bytes", "oldest_at", "next_attempt_at", "last_reply"} {
		if _, ok := one[f]; !ok {
			t.Errorf("a lane lacks %s: %v", f, one)
		}
	}
	out, _, _ = s.gull(t, "trace", "find", "--id", id, "-o", "json")
	list = nil
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) != 1 {
		t.Fatalf("%v %s", err, out)
	}
	for _, f := range []string{"id", "received_at", "sender", "header_from", "subject", "size", "listener",
		"client_address", "helo", "account", "session_id", "revision", "deliveries"} {
		if _, ok := list[0][f]; !ok {
			t.Errorf("a message lacks %s: %v", f, list[0])
		}
	}
	out, _, _ = s.gull(t, "queue", "list")
	if !strings.Contains(out, "DELIVERY") ||
		!strings.Contains(out, "connect: 4.4.1 connection refused by 127.30.0.20") ||
		strings.Contains(out, "…") {
		t.Errorf("the table:\n%s", out)
	}
	out, _, _ = s.gull(t, "queue", "list", "--recipient", "elsewhere.example")
	if out != "Nothing waits.\n" {
		t.Errorf("an empty table: %q", out)
	}
	for _, c := range []struct {
		filter string
		found  int
	}{
		{"--state deferred", 1}, {"--state held", 0}, {"--sender ines.harrow@skerryline.example",
			1}, {"--sender tomas", 0},
		{"--recipient SHAPE@sunkenpier.example", 1}, {"--message " + id, 1}, {"--delivery " + id + "-1",
			1}, {"--delivery " + id + "-2", 0},
	} {
		out, stderr, code := s.gull(t, append([]string{"queue", "list", "-o", "jsonl"},
			strings.Fields(c.filter)...)...)
		if strings.Count(out, "\n") != c.found || code != 0 {
			t.Errorf("%s: %d records, %s", c.filter, strings.Count(out, "\n"), stderr)
		}
	}
}

func TestAFlushTriesNowAndDoesNotMoveTheEnd(t *testing.T) {
	t.Parallel()
	s := own(t, "flush", func(c string) string {
		return strings.Replace(c, "intervals: [1s]",
			"intervals: [1h]", 1)
	})
	s.behave(t, "mx.barelock.example", `{"rcpt": "450 4.2.1 not now"}`)
	id := s.out(t, "again@barelock.example")
	before := s.until(t, id, mail.Deferred)
	s.behave(t, "mx.barelock.example", `{"rcpt": ""}`)
	out, _, code := s.gull(t, "queue", "flush", "--recipient", "somebody@else.example")
	if code != 0 || !strings.HasPrefix(out, "Nothing that waits") {
		t.Errorf("a flush of nothing: %d %s", code, out)
	}
	out, _, code = s.gull(t, "queue", "flush", "--recipient", "again@barelock.example", "-o", "json")
	if code != 0 || !strings.Contains(out, `"touched": 1`) {
		t.Errorf("flush: %d %s", code, out)
	}
	after := s.until(t, id, mail.Delivered)
	if after.Attempts != 2 || !after.ExpiresAt.Equal(before.ExpiresAt.Time) {
		t.Errorf("after %d attempts, expires at %s and before at %s", after.Attempts, after.ExpiresAt,
			before.ExpiresAt)
	}
}

func TestTraceFollowTellsEverythingOfAllNodesAsItHappens(t *testing.T) {
	t.Parallel()
	takesLong(t)
	s := own(t, "follow", nil)
	other := s.second(t, "reef")
	c := s.command("trace", "follow", "-o", "jsonl")
	out, err := os.Create(filepath.Join(t.TempDir(), "out"))
	if err != nil {
		t.Fatal(err)
	}
	c.Stdout = out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
	var here, there string
	told := func(id, node, kind string) int {
		n := 0
		for _, line := range strings.Split(readFile(t, out.Name()), "\n") {
			if strings.Contains(line, id) && strings.Contains(line, `"node":"`+node+`"`) &&
				strings.Contains(line, `"kind":"`+kind+`"`) {
				n++
			}
		}
		return n
	}
	if err := eventually(15*time.Second, func() error {
		here, there = s.out(t, "follow@barelock.example"), other.out(t, "follow@barelock.example")
		time.Sleep(time.Second)
		if told(here, "shore", "received") != 1 || told(there, "reef", "received") != 1 ||
			told(here, "shore", "delivered")+told(here, "reef", "delivered") != 1 ||
			told(there, "reef", "delivered")+told(there, "shore", "delivered") != 1 {
			return os.ErrNotExist
		}
		return nil
	}); err != nil {
		t.Errorf("%s here and %s there; follow printed:\n%s", here, there, readFile(t, out.Name()))
	}
}

func TestTheServiceDoesNotStartOnABrokenConfiguration(t *testing.T) {
	s := world(t)
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	if err := os.WriteFile(bad, []byte("service:\n  host_name: a.example\n\tpostmaster: x\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	_, stderr, code := s.gull(t, "serve", "--config", bad, "--http", "127.0.0.1:0", "--node", "other")
	if code != 1 || !strings.Contains(stderr, "bad.yaml is not valid:\nline 3: this is not YAML") {
		t.Errorf("%d %s", code, stderr)
	}
}

func TestAServerStartsWithNothingSetUp(t *testing.T) {
	s := world(t)
	database, err := newDatabase(os.Getenv("GULL_TEST_DATABASE"), "nothing")
	if err != nil {
		t.Fatal(err)
	}
	address := loopback()
	c := s.command("serve", "--database", database, "--http", address, "--setup", s.setup,
		"--key-file", filepath.Join(t.TempDir(), "key"))
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = c.Process.Signal(syscall.SIGTERM); _ = c.Wait() }()
	if err := eventually(
		40*time.Second,
		func() error { _, err := get("http://" + address + "/readyz"); return err },
	); err != nil {
		t.Fatal(err)
	}
	out, stderr, code := s.gull(t, "--url", "http://"+address, "domain", "list")
	if code != 0 || !strings.Contains(out, "There is none yet. Add one: gull domain add") {
		t.Errorf("%d %s%s", code, out, stderr)
	}
}

func TestHelpShowsExamplesOfTheDemoWorld(t *testing.T) {
	for _, args := range []string{"status", "send", "queue list", "queue flush", "lane list", "trace find",
		"explain", "mailbox raw", "config import", "serve", "simnet behave"} {
		out, err := exec.Command(binary, append(strings.Fields(args), "--help")...).Output()
		if err != nil || !strings.Contains(string(out), "Examples:\n") || !strings.Contains(string(out),
			"gull "+args) {
			t.Errorf("gull %s --help: %v\n%s", args, err, out)
		}
	}
	out, err := exec.Command(binary, "completion", "bash").Output()
	if err != nil || !strings.Contains(string(out), "__start_gull") {
		t.Errorf("completion: %v", err)
	}
}

// Times are those of who reads them: of TZ, of the machine, or UTC where that is asked for.
func TestTimesAreOfTheReadersZone(t *testing.T) {
	t.Parallel()
	s := own(t, "zones", nil)
	id := s.out(t, "ada@saltmarsh.example")
	received := s.until(t, id, mail.Delivered).FinishedAt.Time
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Skip("no zones on this machine")
	}
	for _, c := range []struct{ zone, flag, want string }{
		{"Europe/Berlin", "--utc=false", received.In(berlin).Format("2006-01-02 15:04") + ":"},
		{"Europe/Berlin", "--utc", " UTC"},
		{"UTC", "--utc=false", " UTC"},
	} {
		run := s.command("trace", "show", id, c.flag)
		run.Env, run.Stdout, run.Stderr = append(run.Env, "TZ="+c.zone), nil, nil
		out, err := run.CombinedOutput()
		if err != nil || !strings.Contains(string(out), c.want) {
			t.Errorf("TZ=%s %s: %q is missing in\n%s", c.zone, c.flag, c.want, out)
		}
	}
}

// What a person keeps is his; what is for all needs the role.
func TestViewsAreKeptForOneOrForAll(t *testing.T) {
	t.Parallel()
	s := own(t, "kept", nil)
	put := func(token, at, body string) int {
		resp, _ := s.request(t, "PUT", "/api/v1/kept/"+at, body, bearer(token)...)
		return resp.StatusCode
	}
	const view = `{"value": {"path": "/queue", "search": {"state": "deferred"}}}`
	for _, c := range []struct {
		token, at, body string
		want            int
	}{
		{viewerToken, "view/mine", view, 204},
		{viewerToken, "view/ours?shared=true", view, 403},
		{adminToken, "view/ours?shared=true", view, 204},
		{viewerToken, "song/mine", view, 422},
		{viewerToken, "view/large", `{"value": {"x": "` + strings.Repeat("y", 17_000) + `"}}`, 422},
	} {
		if got := put(c.token, c.at, c.body); got != c.want {
			t.Errorf("%s: %d, not %d", c.at, got, c.want)
		}
	}
	for token, want := range map[string]string{viewerToken: "mine false ours true ", adminToken: "ours true "} {
		var page struct {
			Items []struct {
				Name   string
				Shared bool
			}
		}
		_, body := s.request(t, "GET", "/api/v1/kept", "", bearer(token)...)
		if err := json.Unmarshal([]byte(body), &page); err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, k := range page.Items {
			got += fmt.Sprint(k.Name, " ", k.Shared, " ")
		}
		if got != want {
			t.Errorf("%q is kept, not %q", got, want)
		}
	}
}
