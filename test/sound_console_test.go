package test

import (
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/test/browser"
)

// From a domain that is not ready to signed messages, in the console alone but for
// the DNS.
func TestConsoleMakesADomainReady(t *testing.T) {
	t.Parallel()
	s := own(t, "readyconsole", nil)
	p := s.open(t, "keeper")
	p.visit("/readiness")
	p.shows("lightkeepers.example", "not yet")
	p.press("lightkeepers.example")
	p.shows("It was not looked at yet", "Messages of this domain are not signed")
	p.press("Look now")
	p.shows("of 10", "Our address 127.0.0.1 does not pass",
		"v=spf1 include:_spf.harbourlight.example ip4:127.0.0.1 -all",
		"is on the block list driftnet.example")
	p.press("Make")
	p.shows("it signs by itself as soon as DNS shows it", "v=DKIM1; k=rsa; p=")
	p.press("Publish…")
	p.shows("Nothing is changed before you press the button", "at customs",
		"− v=spf1 include:_spf.harbourlight.example -all",
		"+ v=spf1 include:_spf.harbourlight.example ip4:127.0.0.1 -all")
	p.press("Publish 10 changes")
	p.shows("of 10 now", "Published; the zone's server shows it", "Messages are signed, and DNS has the keys",
		"messages are signed with it")
	p.press("Take back the change of _dmarc.lightkeepers.example TXT")
	p.shows("_dmarc.lightkeepers.example is as it was before")
}

// From nothing in DNS to ten of ten: make a key, publish, done. The certificate comes by itself.
func TestConsoleLeadsToTenOfTenInFivePresses(t *testing.T) {
	t.Parallel()
	s := own(t, "tenoften", func(c string) string {
		return strings.Replace(byAuthority(c), "    kind: edge\n    tls: starttls\n",
			"    kind: edge\n    tls: starttls\n    certificate: kept:mail\n", 1)
	})
	const domain = "skerryline.example"
	for _, name := range []string{domain, "_dmarc." + domain, "_smtp._tls." + domain, "mail." + domain,
		"1.0.0.127.driftnet.example"} {
		s.withdraw(t, name, "ANY")
	}
	s.run(t, "service", "set", "--addresses", "127.0.0.1")
	s.run(t, "draft", "apply")
	p := s.open(t, "keeper")
	p.visit("/readiness/" + domain)
	presses := 0
	press := func(name string) { t.Helper(); presses++; p.press(name) }
	press("Look now")
	p.shows("of 10", "It publishes no SPF record")
	press("Make")
	p.shows("it signs by itself as soon as DNS shows it")
	press("Publish…")
	p.shows("Nothing is changed before you press the button", "at customs")
	press(value[string](p, `[...document.querySelectorAll("section[aria-labelledby=publish] button")]
		.map((b) => b.innerText).find((t) => t.startsWith("Publish"))`))
	p.shows("of 10 now")
	press("Look now")
	p.shows("10.0", "Everything that was looked at is right")
	if presses > 5 {
		t.Errorf("%d presses", presses)
	}
	if r := s.ready(t, domain); r.Score != 10 {
		t.Errorf("%.1f of ten: %s", r.Score, r.Verdict)
	}
}

func TestConsoleProbesAHostAndOurListeners(t *testing.T) {
	t.Parallel()
	s := own(t, "probeconsole", nil)
	waiting := s.out(t, "harbour@sunkenpier.example")
	s.until(t, waiting, mail.Deferred)
	p := s.open(t, "keeper")
	p.visit("/messages/" + waiting)
	p.press("Probe the path")
	p.click("main form", "Probe")
	p.shows("connection refused by 127.30.0.20", "a message there takes route to the world",
		"Who can fix it: remote administrator")
	p.visit("/probe?target=harbour@saltmarsh.example")
	p.shows("Nothing is sent unless you ask")
	time.Sleep(2 * time.Second)
	if n := s.host(t, "mx.saltmarsh.example").Stats.Connections; n != 0 {
		t.Errorf("a link to a probe connected %d times by itself", n)
	}
	p.do(browser.Press(`main form input[type=checkbox]`))
	p.click("main form", "Probe")
	p.shows("Everything works up to the message itself", "the certificate verifies by DANE for mx.saltmarsh.example")
	p.press("Show the transcript")
	p.shows("RCPT TO:<harbour@saltmarsh.example>", "EHLO mail.skerryline.example")
	for range 3 { // what happens meanwhile sends nothing again
		s.until(t, s.out(t, "harbour@barelock.example"), mail.Delivered)
		time.Sleep(700 * time.Millisecond)
	}
	if n := len(s.messages(t, "mx.saltmarsh.example", "harbour@saltmarsh.example")); n != 1 {
		t.Errorf("one press sent %d messages", n)
	}
	p.visit("/probe?inwards=edge&client=127.30.0.10")
	p.click("main form", "Probe")
	p.shows("listener edge", "none came through")
	// Who may only look sees the form, and connects to nobody.
	v := s.open(t, "deck")
	v.visit("/probe?target=saltmarsh.example")
	v.shows("Only an administrator may connect to others")
}

func TestConsoleFixesAndAcceptsFindings(t *testing.T) {
	t.Parallel()
	s := own(t, "reviewconsole", nil)
	p := s.open(t, "keeper")
	p.visit("/setup/review")
	p.shows("kinds of finding were looked for", "Nobody is told of trouble",
		"Machines may send without limit", "If fixed:")
	p.press("Tell keeper@skerryline.example")
	p.shows("In the draft now: tell keeper@skerryline.example")
	s.run(t, "draft", "apply", "--why", "the review")
	p.visit("/setup/review")
	p.shows("Nobody gets the daily report")
	if strings.Contains(p.text(), "Nobody is told of trouble") {
		t.Error("it is still there after it was fixed")
	}
	s.run(t, "review", "accept", "no-quota", "--because", "the disk is large")
	p.visit("/setup/review")
	p.shows("Nobody gets the daily report")
	if strings.Contains(p.text(), "Mailboxes may grow without limit") {
		t.Error("what was accepted is shown as open")
	}
}

func TestConsoleAsksDomainsOfTheirTLSPolicy(t *testing.T) {
	t.Parallel()
	s := own(t, "policyconsole", nil)
	p := s.open(t, "keeper")
	p.visit("/setup/peers")
	p.shows("What other domains say of TLS", "Nothing is known yet")
	p.fill("section[aria-labelledby=tls-policies]", "Domain", "dimbuoy.example")
	p.press("Ask now")
	p.shows("its policy says enforce", "names no host mx.dimbuoy.example, only mail.dimbuoy.example",
		"it gets no mail", "counts until")
}
