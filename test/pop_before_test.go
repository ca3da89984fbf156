package test

import (
	"fmt"
	"strings"
	"testing"
)

// A provider who takes mail only after his mailbox was looked at by POP3 gets looked at, under
// TLS, as often as that is needed.
func TestAMailboxIsLookedAtBeforeTheProviderTakesMail(t *testing.T) {
	t.Parallel()
	s := own(t, "popbefore", nil)
	s.behave(t, "harbourlight.example", `{"pop_first":"5m"}`)
	id := s.send(t, s.inside, "127.20.1.5", tomas, "Subject: by provider\r\n\r\nx\r\n", "a@harbourmail.example")
	s.until0(t, func() error {
		if text := s.run(t, "queue", "list", "--message", id, "-o", "json"); !strings.Contains(text, "by POP first") {
			return fmt.Errorf("it does not wait for a look: %s", text)
		}
		return nil
	})
	pop := ""
	for _, line := range strings.Split(readFile(t, s.world), "\n") {
		if rest, is := strings.CutPrefix(strings.TrimSpace(line), "pop_port: "); is {
			pop = strings.Fields(rest)[0]
		}
	}
	set := func(secret string) {
		s.run(
			t,
			"route",
			"set",
			"by provider",
			"--pop-before-host",
			"harbourlight.example:"+pop,
			"--pop-before-account",
			"skerryline",
			"--pop-before-secret",
			secret,
		)
		s.run(t, "draft", "apply", "--force", "--why", "the provider wants to be looked at")
	}
	c := s.command("secret", "set", "wrong one")
	c.Stdin = strings.NewReader("not the password\n")
	if err := c.Run(); err != nil {
		t.Fatal(err)
	}
	set("wrong one")
	s.until0(t, func() error {
		s.run(t, "queue", "flush", "--message", id)
		text := s.run(t, "queue", "list", "--message", id, "-o", "json")
		if !strings.Contains(text, "POP before sending") || !strings.Contains(text, "sign-in-refused") {
			return fmt.Errorf("what is wrong is not said: %s", text)
		}
		return nil
	})
	set("harbourlight")
	s.until0(t, func() error {
		if text := s.run(t, "trace", "show", id, "-o", "json"); !strings.Contains(text, `"delivered"`) {
			s.run(t, "queue", "flush", "--message", id)
			return fmt.Errorf("it is not delivered: %s", text)
		}
		return nil
	})
	looked, transcript := 0, ""
	for _, x := range sessionsOf(t, s) {
		if x.Protocol == "POP3" && x.Outcome == "passed" {
			looked++
			transcript = s.run(t, "session", "show", x.ID.String())
		}
	}
	if looked != 1 || !strings.Contains(transcript, "PASS (credentials left out)") ||
		strings.Contains(transcript, "lantern-oil") {
		t.Errorf("%d looks:\n%s", looked, transcript)
	}
	// One look counts for a while.
	s.send(t, s.inside, "127.20.1.5", tomas, "Subject: another\r\n\r\nx\r\n", "b@harbourmail.example")
	s.until0(t, func() error {
		if n := len(s.messages(t, "harbourlight.example", "b@harbourmail.example")); n != 1 {
			return fmt.Errorf("%d came", n)
		}
		return nil
	})
	if out, errOut, code := s.gull(t, "route", "set", "to the world", "--pop-before-host", "x.example",
		"--pop-before-account", "a", "--pop-before-secret", "harbourlight"); code == 0 {
		t.Errorf("a next hop of mx takes it: %s%s", out, errOut)
	}
}
