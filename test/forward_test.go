package test

import (
	"context"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/arc"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/senderauth"
)

// What strangers write to people whose mail goes on elsewhere passes SPF there, comes back through
// us if it cannot be delivered, and says under seal what we found of its sender.
func TestForwardsHaveOurReturnPathAndASeal(t *testing.T) {
	t.Parallel()
	s := own(t, "forwards", func(c string) string {
		return strings.Replace(c, "  - {address: tomas.vik@skerryline.example,",
			"  - {address: kept@skerryline.example, forward_to: [kept@oldlocks.example]}\n"+
				"  - {address: tomas.vik@skerryline.example, forward_to: [tomas@brightbuoy.example],", 1)
	})
	ctx := context.Background()
	const domain = "skerryline.example"
	s.run(t, "domain", "set", domain, "--forwards-except", "kept@skerryline.example")
	s.run(t, "draft", "apply")
	k, err := s.client().MakeKey(ctx, map[string]any{"domain": domain, "algorithm": "rsa-2048"})
	if err != nil {
		t.Fatal(err)
	}
	s.publish(t, "zone line", k.Record, domain)
	s.run(t, "dkim", "use", domain, k.Selector)

	sign := foreign(t, s, "saltmarsh.example")
	content := sign("From: Ada <ada@saltmarsh.example>\r\nTo: tomas.vik@skerryline.example\r\nSubject: tides\r\n" +
		"Date: Mon, 30 Nov 2026 08:00:00 +0000\r\nMessage-ID: <tides@saltmarsh.example>\r\n\r\nHigh water at six.\r\n")
	const sender = "ada@saltmarsh.example"
	id := s.send(t, s.edge, "127.30.0.10", sender, content, "tomas.vik@"+domain, "kept@"+domain)
	s.until(t, id, mail.Delivered)
	got := s.received(t, "mx.brightbuoy.example", "tomas@brightbuoy.example")
	back := got.Sender
	if !strings.HasPrefix(back, "back-") || !strings.HasSuffix(back, "@"+domain) {
		t.Errorf("the return path is %s", back)
	}
	head := string(got.Content[:strings.Index(string(got.Content), "\r\n\r\n")])
	for _, part := range []string{"ARC-Seal: i=1; a=rsa-sha256; d=skerryline.example;", "cv=none",
		"ARC-Authentication-Results: i=1; mail.skerryline.example", "dkim=pass"} {
		if !strings.Contains(head, part) {
			t.Errorf("the seal lacks %q:\n%s", part, head)
		}
	}
	if kept := s.received(t, "mx.oldlocks.example", "kept@oldlocks.example"); kept.Sender != sender {
		t.Errorf("where the domain says so the sender stays: %s", kept.Sender)
	}

	// A notice comes back through it to the sender, and stands with the message.
	notice := "From: <mailer@brightbuoy.example>\r\nTo: <" + back + ">\r\nSubject: not delivered\r\n" +
		"MIME-Version: 1.0\r\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n" +
		"--b\r\n\r\nNobody there.\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\n" +
		"Reporting-MTA: dns; mx.brightbuoy.example\r\nOriginal-Envelope-Id: " + id + "\r\n\r\n" +
		"Final-Recipient: rfc822; tomas@brightbuoy.example\r\nAction: failed\r\nStatus: 5.1.1\r\n\r\n--b--\r\n"
	s.until(t, s.send(t, s.edge, "127.30.0.20", "", notice, back), mail.Delivered)
	if home := s.received(t, "mx.saltmarsh.example", sender); home.Sender != "" ||
		!strings.Contains(string(home.Content), "not delivered") {
		t.Errorf("what came back: %s\n%.600s", home.Sender, home.Content)
	}
	if out := s.run(t, "trace", "show", id); !strings.Contains(out, "mx.brightbuoy.example reports: failed 5.1.1") {
		t.Errorf("nothing stands with the message:\n%s", out)
	}
	// Nobody else gets through it.
	forged := strings.Replace(back, "@", "a@", 1)
	for _, x := range []struct{ from, to, says string }{
		{"ada@saltmarsh.example", back, "550 5.7.1 " + back + " takes notices only"},
		{"", forged, "was a return path: it is not one that we made"},
		{"", strings.Replace(back, domain, "lightkeepers.example", 1), "it is not one that we made"},
	} {
		if r := s.tries(t, s.edge, "127.30.0.20", x.from, "", x.to); !strings.Contains(r, x.says) {
			t.Errorf("from <%s> to %s: %s", x.from, x.to, r)
		}
	}
	for say, args := range map[string][]string{
		"the return path is one of skerryline.example": {"--from", sender, "--to", "tomas.vik@" + domain},
		"what comes back goes to " + sender:            {"--from", "<>", "--to", back},
	} {
		out := s.run(t, append([]string{"explain", "--client", "127.30.0.10", "--listener", "edge"}, args...)...)
		if !strings.Contains(out, say) {
			t.Errorf("explain %v:\n%s", args, out)
		}
	}
}

// Where a host that we trust passed a message on, its seal counts instead of the proof that was lost.
func TestSealsOfTrustedHostsCount(t *testing.T) {
	t.Parallel()
	s := own(t, "sealed", func(c string) string {
		return strings.Replace(c, "    kind: edge\n", "    kind: edge\n    identity: refuse\n", 1)
	})
	far := newARC(t, s, "two.example")
	s.txt(t, "_dmarc.saltmarsh.example", "v=DMARC1; p=reject")
	s.txt(t, "saltmarsh.example", "v=spf1 -all")
	send := func(content string) string {
		return s.tries(t, s.edge, "127.30.0.99", "list@two.example", content, "ines.harrow@skerryline.example")
	}
	plain := "From: Ada <ada@saltmarsh.example>\r\nSubject: passed on\r\n\r\nHello.\r\n"
	seen := "mx.two.example; dmarc=pass (p=reject) header.from=saltmarsh.example"
	if r := send(far(plain, seen)); !strings.HasPrefix(r, "550 5.7.26") {
		t.Errorf("the seal of somebody who is not trusted: %s", r)
	}
	s.run(t, "service", "set", "--forwards-trusted-sealers", "two.example")
	s.run(t, "draft", "apply")
	if r := send(far(plain, "mx.two.example; dmarc=fail header.from=saltmarsh.example")); !strings.HasPrefix(
		r,
		"550 5.7.26",
	) {
		t.Errorf("what they did not see proved: %s", r)
	}
	if r := send(strings.Replace(far(plain, seen), "Hello", "Jello", 1)); !strings.HasPrefix(r, "550 5.7.26") {
		t.Errorf("what was changed behind them: %s", r)
	}
	r := send(far(plain, seen))
	if !strings.HasPrefix(r, "250") {
		t.Fatalf("a trusted seal: %s", r)
	}
	m, _ := s.find(t, "ines.harrow@skerryline.example")
	if m.Identity == nil || m.Identity.Chain == nil || m.Identity.Chain.Vouched != "two.example" {
		t.Errorf("on record: %+v", m.Identity)
	}
	if out := s.run(t, "trace", "show", m.ID.String()); !strings.Contains(out,
		"two.example, which passed it on, saw saltmarsh.example proved") {
		t.Errorf("the trace does not say why:\n%s", out)
	}
}

// newARC seals messages as somebody else.
func newARC(t *testing.T, s *stack, domain string) func(content, found string) string {
	t.Helper()
	private, record, err := senderauth.NewKey(senderauth.RSA2048)
	if err != nil {
		t.Fatal(err)
	}
	key, err := senderauth.ReadKey(private)
	if err != nil {
		t.Fatal(err)
	}
	s.txt(t, "seal._domainkey."+domain, record)
	return func(content, found string) string {
		at := strings.Index(content, "\r\n\r\n") + 2
		fields, err := arc.Seal([]byte(content[:at]), strings.NewReader(content[at+2:]),
			arc.Key{Domain: domain, Selector: "seal", Signer: key}, found, senderauth.None,
			[]string{"From", "Subject"}, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		return string(fields) + content
	}
}

// tries hands a message in and returns the reply that ended it.
func (s *stack) tries(t *testing.T, listener, client, from, content, to string) string {
	t.Helper()
	c := dial(t, listener, client)
	c.hear()
	defer c.say("QUIT")
	c.want("250", "EHLO two.saltmarsh.example")
	c.want("250", "MAIL FROM:<"+from+">")
	if r := c.say("RCPT TO:<" + to + ">"); r[0] != '2' {
		return r
	}
	c.want("354", "DATA")
	return c.say(content + ".")
}
