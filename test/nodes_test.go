package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

// Two nodes take and deliver mail; one's program is replaced by a later one, and both begin anew
// one after the other: nothing is lost, and one of them always takes mail.
func TestNodesBeginAnewOneByOneWithALaterProgram(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "rolling", nil)
	s.program = filepath.Join(s.dir, "gull")
	install := func(version string) {
		t.Helper()
		made := filepath.Join(s.dir, "new")
		if out, err := exec.Command("go", "build", "-C", "..", "-o", made, "-ldflags",
			"-X gullroute/internal/service.Version="+version, "./cmd/gull").CombinedOutput(); err != nil {
			t.Fatalf("%s", out)
		}
		if err := os.Rename(made, s.program); err != nil {
			t.Fatal(err)
		}
	}
	program, err := os.ReadFile(server)
	if err == nil {
		err = os.WriteFile(s.program, program, 0o700)
	}
	if err != nil {
		t.Fatal(err)
	}
	other := s.second(t, "reef")
	pid := other.serve.Process.Pid
	here, there := startSenders(s, 2), startSenders(other, 2)
	there.more(t, 30)

	list := func() map[string]mail.Node {
		t.Helper()
		var nodes []mail.Node
		if err := json.Unmarshal([]byte(s.run(t, "node", "list", "-o", "json")), &nodes); err != nil {
			t.Fatal(err)
		}
		out := map[string]mail.Node{}
		for _, n := range nodes {
			out[n.Name] = n
		}
		return out
	}
	var before map[string]mail.Node
	if err := eventually(10*time.Second, func() error {
		if before = list(); before["reef"].Facts == nil || before["shore"].Facts == nil {
			return os.ErrNotExist
		}
		return nil
	}); err != nil {
		t.Fatal("the nodes say nothing of themselves")
	}
	f := before["reef"].Facts
	if f.Version == "" || f.Role != "takes and delivers" || f.Listeners["edge"] != other.edge ||
		f.Sessions < 1 || f.Memory < 1<<20 || f.Revision < 1 {
		t.Errorf("of itself reef says %+v", *f)
	}
	if text := s.run(t, "node", "show", "reef"); !strings.Contains(text, f.Version) ||
		!strings.Contains(text, other.edge) {
		t.Errorf("gull node show: %s", text)
	}

	install("1.0.0-later")
	if text := s.run(t, "upgrade", "check"); !strings.Contains(text, "Nothing speaks against it") ||
		!strings.Contains(text, "reef ("+f.Version) {
		t.Errorf("gull upgrade check: %s", text)
	}
	if err := os.Remove(s.setup); err != nil { // as one is told to
		t.Fatal(err)
	}
	text := s.run(t, "node", "restart", "--all", "--why", "upgrade")
	if !regexp.MustCompile(`(?s)^reef began anew with version 1.0.0-later.*\nshore began anew`).MatchString(text) {
		t.Errorf("not one after the other, who answers last: %s", text)
	}
	after := list()
	for name := range before {
		if after[name].Number == before[name].Number || after[name].State != "running" {
			t.Errorf("%s did not begin anew: %+v", name, after[name])
		}
	}
	if other.serve.ProcessState != nil || other.serve.Process.Pid != pid {
		t.Error("the process has ended: who watches over it would begin it a second time")
	}
	there.more(t, 30)
	here.more(t, 30)
	there.end()
	here.end()
	for name, id := range there.taken {
		here.taken["there "+name] = id
	}
	here.account(t, "two nodes begin anew one by one, one with a later program")
	for _, se := range []*sender{here, there} {
		for reply, n := range se.refused {
			if strings.HasPrefix(reply, "5") {
				t.Errorf("%d messages were refused for good meanwhile: %s", n, reply)
			}
		}
	}
	if _, errOut, code := s.gull(t, "node", "restart", "nowhere"); code == 0 || !strings.Contains(errOut,
		"gull node list") {
		t.Errorf("an unknown node: %d %s", code, errOut)
	}
}
