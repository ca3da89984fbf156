package test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// from sends from an address of the simulated world, with a name in EHLO; it returns the last
// reply.
func (s *stack) from(t *testing.T, client, helo, sender, content string, to ...string) string {
	t.Helper()
	c := dial(t, s.edge, client)
	c.hear()
	c.want("250", "EHLO "+helo)
	c.want("250", "MAIL FROM:<"+sender+">")
	for _, r := range to {
		if reply := c.say("RCPT TO:<" + r + ">"); reply[0] != '2' {
			return "RCPT " + reply
		}
	}
	c.want("354", "DATA")
	return c.say(content + ".")
}

// plainMessage is a well-formed message.
func plainMessage(from, more string) string {
	return fmt.Sprintf(
		"%sFrom: <%s>\r\nTo: <ines.harrow@skerryline.example>\r\nSubject: Tides\r\nDate: Sun, 29 Nov 2026 10:00:00 +0000\r\n"+
			"Message-ID: <%d@undertow.example>\r\nGull-Score: -99\r\n\r\nhigh water at noon\r\n",
		more,
		from,
		time.Now().UnixNano(),
	)
}

func TestStrangersAreWeighed(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "strangers", func(c string) string {
		return strings.NewReplacer("greylist_for: 30s", "greylist_for: 1s", "    score: off\n", "    score: on\n",
			"    greylisting: off\n", "    greylisting: by_score\n").
			Replace(c)
	})
	ines, offers := "ines.harrow@skerryline.example", "offers@undertow.example"
	undertow := func(sender, more string, to ...string) string {
		t.Helper()
		return s.from(t, "127.30.0.65", "localhost", sender, plainMessage(sender, more), to...)
	}
	score := func(reply string) (mail.Message, string) {
		t.Helper()
		if !strings.HasPrefix(reply, "250") {
			t.Fatalf("not taken: %s", reply)
		}
		id := strings.Fields(reply)[4]
		var x api.Trace
		if err := json.Unmarshal([]byte(s.run(t, "trace", "show", id, "-o", "json")), &x); err != nil {
			t.Fatal(err)
		}
		return x.Message, s.run(t, "trace", "show", id)
	}

	if got := undertow(offers, "", ines); !strings.HasPrefix(
		got,
		"RCPT 451 4.7.1 you are not known here yet",
	) {
		t.Fatalf("a bad client that nobody knows: %s", got)
	}
	if got := undertow(offers, "", "postmaster@skerryline.example"); !strings.HasPrefix(got, "250") {
		t.Errorf("postmaster is not reached: %s", got)
	}
	time.Sleep(1100 * time.Millisecond)
	// 40 for its address, 20 for its greeting, 30 for its domain.
	m, story := score(undertow(offers, "", ines))
	if m.Score == nil || *m.Score < 90 || m.Deliveries[0].State != mail.Held {
		t.Errorf("score %v, %s", m.Score, m.Deliveries[0].State)
	}
	for _, words := range []string{"list driftnet 40", "false greeting 20", "list wrack 30", "held"} {
		if !strings.Contains(story, words) {
			t.Errorf("%q is not told:\n%s", words, story)
		}
	}
	s.run(t, "queue", "release", m.ID.String())
	s.until(t, m.ID.String(), mail.Delivered)
	p, _ := s.read(t, ines, m.ID.String())
	if got := p.Fields["Gull-Score"]; len(got) != 1 || !strings.HasPrefix(got[0], "9") ||
		!strings.Contains(got[0], "list driftnet 40") {
		t.Errorf("the field is %q", got)
	}
	if out := s.run(t, "trace", "find", "score:90"); !strings.Contains(out, offers) ||
		strings.Contains(s.try2(t, "trace", "find", "score:500"), offers) {
		t.Errorf("found by its score:\n%s", out)
	}

	t.Run("a client on lists and with a forged sender is refused", func(t *testing.T) {
		got := s.from(
			t,
			"127.30.0.64",
			"mail.skerryline.example",
			"ada@skerryline.example",
			plainMessage("ada@skerryline.example", ""),
			ines,
		)
		if !strings.HasPrefix(got, "RCPT 451") { // early it has 90
			t.Errorf("at first: %s", got)
		}
		s.run(t, "service", "set", "--reputation-thresholds-refuse", "85")
		s.run(t, "draft", "apply")
		if got := s.from(t, "127.30.0.64", "mail.skerryline.example", "ada@skerryline.example", plainMessage("ada@skerryline.example", ""), ines); got[:4] != "RCPT" ||
			!strings.Contains(got, "listed by driftnet, ask at https://driftnet.example/why (score 90)") {
			t.Errorf("by more than the threshold: %s", got)
		}
	})

	t.Run("people except somebody for a time", func(t *testing.T) {
		s.run(t, "reputation", "allow", "127.30.0.65", "--for", "1h", "--why", "they fix it")
		if m, story := score(undertow("new@undertow.example", "", ines)); m.Score != nil ||
			!strings.Contains(story, "allowed by network 127.30.0.65/32") {
			t.Errorf("an allowed client is weighed: %v\n%s", m.Score, story)
		}
		s.run(t, "reputation", "forget", "127.30.0.65/32")
		s.run(t, "reputation", "deny", "*.undertow.example", "--for", "1h")
		if got := undertow("x@a.undertow.example", "", ines); !strings.HasPrefix(
			got,
			"RCPT 550 5.7.1 sender *.undertow.example is not welcome here",
		) {
			t.Errorf("a denied sender: %s", got)
		}
		if got := undertow("x@a.undertow.example", "", "postmaster@skerryline.example"); !strings.HasPrefix(
			got,
			"250",
		) {
			t.Errorf("a denied sender does not reach postmaster: %s", got)
		}
		s.run(t, "reputation", "allow", "saltmarsh.example", "--for", "1h")
		if got := s.from(t, "127.30.0.65", "localhost", "ada@saltmarsh.example", plainMessage("ada@saltmarsh.example", ""), ines); !strings.HasPrefix(
			got,
			"250",
		) {
			t.Errorf("an allowed sender, proved by SPF: %s", got)
		}
		if _, errOut, code := s.gull(t, "reputation", "deny", "0.0.0.0/0"); code == 0 ||
			!strings.Contains(errOut, "everybody") {
			t.Errorf("everybody is denied: %d %s", code, errOut)
		}
	})

	t.Run("a relay in front of us is not weighed but whom it saw", func(t *testing.T) {
		hop := "Received: from localhost (mx.undertow.example [127.30.0.65])\r\n\tby pilotage.example with ESMTP id 7; Sun, 29 Nov 2026 10:00:00 +0000\r\n"
		far := "far@undertow.example"
		pilotage := func(more string) string {
			return s.from(t, "127.30.0.80", "pilotage.example", far, plainMessage(far, more), ines)
		}
		if got := pilotage(hop); !strings.HasPrefix(got, "451 4.7.1 you are not known") {
			t.Errorf("at first: %s", got)
		}
		time.Sleep(1100 * time.Millisecond)
		if got := pilotage(hop); !strings.HasPrefix(got, "550") || !strings.Contains(got, "driftnet") {
			t.Errorf("whom it saw has more than 85: %s", got)
		}
		m, story := score(
			pilotage(
				"Received: from mx.saltmarsh.example (mx.saltmarsh.example [127.30.0.10]) by pilotage.example; today\r\n",
			),
		)
		// Less 20 for a good address; 30 because SPF fails for it, 30 for its domain, 5 for the first contact.
		if m.Score == nil || *m.Score != 45 {
			t.Errorf("a good client behind it:\n%s", story)
		}
	})

	t.Run("a list that is none is taken out", func(t *testing.T) {
		s.run(t, "simnet", "publish", "2.0.0.127.gone.example. 60 IN A 127.0.0.2")
		s.run(t, "simnet", "publish", "1.0.0.127.gone.example. 60 IN A 127.0.0.2")
		s.run(t, "simnet", "publish", "99.0.30.127.gone.example. 60 IN A 127.0.0.2")
		s.run(t, "dnslist", "add", "says yes", "--zone", "gone.example", "--points", "1000")
		s.run(t, "dnslist", "add", "is not there", "--zone", "nolist.example")
		s.run(t, "draft", "apply")
		if reply := s.try(t, "ada@saltmarsh.example", plainMessage("ada@saltmarsh.example", ""), ines); !strings.HasPrefix(
			reply,
			"250",
		) {
			t.Errorf("everybody is listed: %s", reply)
		}
		if err := eventually(30*time.Second, func() error {
			out := s.run(t, "snag", "list")
			if !strings.Contains(out, "DNS list says yes") || !strings.Contains(out, "DNS list is not there") {
				return fmt.Errorf("snags:\n%s", out)
			}
			return nil
		}); err != nil {
			t.Error(err)
		}
		var w api.Weighing
		if err := json.Unmarshal([]byte(s.run(t, "reputation", "-o", "json")), &w); err != nil {
			t.Fatal(err)
		}
		for _, l := range w.Lists {
			if out := l.Name == "says yes" || l.Name == "is not there"; out != (l.Trouble != "") {
				t.Errorf("%s: %q", l.Name, l.Trouble)
			}
		}
	})
}

// try2 runs a command that may fail, for what it prints.
func (s *stack) try2(t *testing.T, args ...string) string {
	t.Helper()
	out, _, _ := s.gull(t, args...)
	return out
}
