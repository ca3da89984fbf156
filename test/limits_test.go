package test

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

// An account that writes to very many with whom its owner never did is stopped, or what it
// sends is held; a person lets it go on.
func TestAnAccountThatWritesToStrangersIsStopped(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "stolen", func(c string) string {
		c = strings.Replace(
			c,
			"    kind: inside\n",
			"    kind: inside\n    sign_in: [plain]\n    sign_in_without_tls: true\n",
			1,
		)
		return strings.Replace(
			c,
			"    limits: {messages_per_hour: 200,",
			"    limits: {new_recipients_per_day: 3, over: stop, messages_per_hour: 200,",
			1,
		)
	})
	givePassword(t, s, inesAddress, inesPassword)
	known := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("known"), inesAddress)
	s.until(t, known, mail.Delivered)
	credentials := "AUTH PLAIN " + base64.StdEncoding.EncodeToString(
		[]byte("\x00"+inesAddress+"\x00"+inesPassword),
	)
	begin := func() *talk {
		t.Helper()
		d := dial(t, s.inside, "127.0.0.1")
		d.hear()
		d.want("250", "EHLO laptop.example")
		d.want("235", credentials)
		d.want("250", "MAIL FROM:<"+inesAddress+">")
		return d
	}
	stranger := func(n int) string { return fmt.Sprintf("RCPT TO:<stranger%d@saltmarsh.example>", n) }

	d, other := begin(), begin()
	d.want("250", "RCPT TO:<ada@saltmarsh.example>") // no stranger
	for n := range 3 {
		d.want("250", stranger(n))
	}
	if got := d.say(stranger(3)); !strings.HasPrefix(got, "450 4.7.1") ||
		!strings.Contains(got, "3 new recipients of today") {
		t.Errorf("a fourth stranger: %s", got)
	}
	if err := eventually(5*time.Second, func() error {
		e := dial(t, s.inside, "127.0.0.1")
		e.hear()
		e.want("250", "EHLO laptop.example")
		if got := e.say(credentials); !strings.HasPrefix(got, "454 4.7.0") || !strings.Contains(got, "was stopped") {
			return fmt.Errorf("it signs in again: %s", got)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if got := other.say("RCPT TO:<ada@saltmarsh.example>"); !strings.HasPrefix(got, "421") {
		t.Errorf("its other session goes on: %s", got)
	}
	if err := eventually(20*time.Second, func() error {
		if out := s.run(t, "snag", "list"); !strings.Contains(out, "account "+inesAddress) {
			return fmt.Errorf("no snag:\n%s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}

	s.run(t, "mailbox", "resume", inesAddress, "--why", "she has a new password")
	d = begin()
	for n := range 3 {
		d.want("250", stranger(10+n)) // it begins anew
	}
	d.want("250", "RSET")

	// Who writes to addresses that are not there is stopped by what comes back.
	s.run(t, "relay", "set", "people", "--limits-bounces-percent", "30", "--limits-new-recipients-per-day", "100")
	s.run(t, "draft", "apply")
	s.behave(t, "mx.saltmarsh.example", `{"rcpt": "550 5.1.1 no such user"}`)
	d = begin()
	for n := range 20 {
		d.want("250", stranger(30+n))
	}
	d.want("354", "DATA")
	d.want("250", message("to a bought list")+".")
	if err := eventually(20*time.Second, func() error {
		e := begin()
		if got := e.say("RCPT TO:<ada@saltmarsh.example>"); !strings.HasPrefix(got, "450 4.7.1") ||
			!strings.Contains(got, "20 bounced, and rule people allows less than 30%") {
			return fmt.Errorf("it writes on: %s", got)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	s.run(t, "mailbox", "resume", inesAddress, "--why", "it was her mistake")

	s.run(t, "relay", "set", "people", "--limits-over", "hold", "--limits-new-recipients-per-day", "1")
	s.run(t, "draft", "apply")
	d = begin()
	d.want("250", stranger(20))
	d.want("250", stranger(21))
	d.want("354", "DATA")
	d.want("250", message("to strangers")+".")
	held := s.held(t)
	if len(held) != 2 || held[0].By != mail.HeldByLimit ||
		!strings.Contains(held[0].Why, "1 new recipients of today") {
		t.Errorf("held: %+v", held)
	}
}
