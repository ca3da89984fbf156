package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
)

// Our people and machines hand messages in ahead of their time (RFC 4865): they leave then, into
// mailboxes of ours too, and not before, unless somebody says so.
func TestMessagesAreHandedInAheadOfTheirTime(t *testing.T) {
	s := world(t)
	hand := func(option, to, want string) string {
		c := dial(t, s.inside, "127.20.1.5")
		c.hear()
		if hello := c.want("250", "EHLO a.skerryline.example"); !strings.Contains(hello, "FUTURERELEASE 2592000 20") {
			t.Fatalf("not offered: %s", hello)
		}
		reply := c.want(want, "MAIL FROM:<ines.harrow@skerryline.example> "+option)
		if want != "250" {
			return reply
		}
		c.want("250", "RCPT TO:<"+to+">")
		c.want("354", "DATA")
		return strings.Fields(c.want("250 2.0.0 accepted as ", message("later")+"."))[4]
	}
	began := time.Now()
	soon := []string{
		hand("HOLDFOR=3", "ada@saltmarsh.example", "250"),
		hand(
			"HOLDUNTIL="+time.Now().Add(4*time.Second).UTC().Format(time.RFC3339),
			"odile.marr@skerryline.example",
			"250",
		),
	}
	far := hand("HOLDFOR=86400 SIZE=500", "ada@saltmarsh.example", "250")
	if d := s.until(t, far, mail.Deferred); d.Cause != diagnose.SenderDelays || d.Attempts != 0 ||
		d.NextAttemptAt.Sub(began) < 23*time.Hour || d.ExpiresAt.Sub(began) < 48*time.Hour {
		t.Errorf("a day ahead: %+v", d)
	}
	for _, id := range soon {
		if d := s.until(t, id, mail.Delivered); d.FinishedAt.Sub(began) < 2900*time.Millisecond {
			t.Errorf("to %s: it left after %s", d.Recipient, d.FinishedAt.Sub(began))
		}
	}
	s.run(t, "queue", "flush", "--message", far)
	s.until(t, far, mail.Delivered)
	past := hand("HOLDUNTIL=2020-01-01T00:00:00Z", "ada@saltmarsh.example", "250")
	s.until(t, past, mail.Delivered)
	for option, says := range map[string]string{
		"HOLDFOR=0": "number of seconds", "HOLDFOR=-5": "number of seconds", "HOLDFOR=9999999999": "number of seconds",
		"HOLDFOR=2592001": "30 days ahead", "HOLDUNTIL=tomorrow": "a time like", "HOLDUNTIL=2126-01-01T00:00:00Z": "30 days ahead",
		"HOLDFOR=5 HOLDUNTIL=2126-01-01T00:00:00Z": "not both", "HOLDFOR=5 HOLDFOR=6": "twice",
	} {
		if reply := hand(option, "", "501 5.5.4"); !strings.Contains(reply, says) {
			t.Errorf("%s: %s", option, reply)
		}
	}
	c := dial(t, s.edge, "127.30.0.10")
	c.hear()
	if hello := c.want("250", "EHLO a"); strings.Contains(hello, "FUTURERELEASE") {
		t.Errorf("offered to strangers: %s", hello)
	}
	c.want("555 5.5.4", fmt.Sprintf("MAIL FROM:<ada@saltmarsh.example> HOLDFOR=%d", 5))
}
