package receive

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/rehearse"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/smtp"
)

// with serves settings whose listener has more fields.
func with(t *testing.T, k *keeper, fields string) *Server {
	t.Helper()
	return serve(
		t,
		k,
		strings.Replace(settings, "kind: inside, limits: {message_size: 2 MB}", fields, 1),
	)
}

func TestWhoMayConnect(t *testing.T) {
	for _, c := range []struct{ name, fields, greeting string }{
		{"everybody", "kind: inside", "220"},
		{"a network that is allowed", "kind: inside, allow: [127.0.0.0/8]", "220"},
		{"only others are allowed", "kind: inside, allow: [127.20.0.0/16]",
			"554 5.7.1 127.0.0.1 may not connect"},
		{"denied, though allowed", "kind: inside, allow: [127.0.0.0/8], deny: [127.0.0.1]", "554 5.7.1"},
		{"other nodes' listener", "kind: inside, nodes: [reef]", ""},
		{"this node's", "kind: inside, nodes: [reef, test]", "220"},
	} {
		s := with(t, newKeeper(), c.fields)
		at := s.Addresses()["inside"]
		if c.greeting == "" {
			if at != "" {
				t.Errorf("%s: it is open at %s", c.name, at)
			}
			continue
		}
		dial(t, s).say("", c.greeting)
	}
	s := with(t, newKeeper(), "kind: inside, limits: {new_per_minute: 3}")
	if time.Now().Second() > 55 { // not across a minute's end
		time.Sleep(6 * time.Second)
	}
	for range 3 {
		dial(t, s).say("", "220")
	}
	dial(t, s).say("", "421 4.7.0 too many new connections from 127.0.0.1; at most 3 a minute")
	s = with(t, newKeeper(), "kind: inside, limits: {connections_per_address: 1}")
	first := dial(t, s)
	first.say("", "220")
	dial(t, s).say("", "421 4.7.0 too many connections from 127.0.0.1; at most 1 at the same time")
}

func TestAConnectionEndsWhenItHasSentEnough(t *testing.T) {
	s := with(t, newKeeper(), "kind: inside, limits: {session_size: 2 KB}")
	c := dial(t, s)
	c.say("", "220")
	c.say("EHLO a\r\n", "250")
	c.say("MAIL FROM:<>\r\nRCPT TO:<keeper@skerryline.example>\r\nDATA\r\n", "250", "250", "354")
	c.say(strings.Repeat("a line of the message\r\n", 100)+".\r\n", "250")
	c.say("MAIL FROM:<>\r\n", "421 4.7.0")
}

func TestTheKindsOfListenerSpeakAsTheyShould(t *testing.T) {
	for _, c := range []struct{ fields, hello, verb, want string }{
		{"kind: inside", "EHLO a", "STARTTLS", "502 5.5.1 STARTTLS is not offered"},
		{"kind: inside", "EHLO a", "AUTH PLAIN", "502 5.5.1 AUTH is not offered"},
		{"kind: inside, tls: starttls", "EHLO a", "STARTTLS now", "501 5.5.4"},
		{"kind: inside, tls: required", "EHLO a", "MAIL FROM:<>", "530 5.7.0 say STARTTLS first"},
		{"kind: submission, tls: required", "EHLO a", "AUTH PLAIN x", "538 5.7.11"},
		{"kind: submission, sign_in: [login], sign_in_without_tls: true", "EHLO a", "AUTH PLAIN x",
			"504 5.5.4 this mechanism is not offered here; there are: LOGIN"},
		{"kind: submission, sign_in_without_tls: true", "EHLO a", "MAIL FROM:<>", "530 5.7.0 sign in first"},
		{"kind: submission, sign_in_without_tls: true", "HELO a", "AUTH PLAIN x", "503 5.5.1 say EHLO first"},
		{"kind: lmtp", "LHLO a", "EHLO a", "500 5.5.1 this is LMTP; say LHLO"},
		{"kind: edge", "EHLO a", "LHLO a", "500 5.5.1 this is SMTP; say EHLO"},
	} {
		d := dial(t, with(t, newKeeper(), c.fields))
		d.say("", "220")
		d.say(c.hello+"\r\n", "250")
		d.say(c.verb+"\r\n", c.want)
	}
	d := dial(t, with(t, newKeeper(), "kind: edge, limits: {recipients: 7, messages_per_connection: 3}"))
	d.say("", "220")
	fmt.Fprint(d.c, "EHLO a\r\n")
	for line := ""; !strings.HasSuffix(line, "LIMITS MAILMAX=3 RCPTMAX=7\r\n"); {
		if line, _ = d.br.ReadString('\n'); line == "" || line[3] == ' ' {
			t.Fatalf("no limits are said; the last line is %q", line)
		}
	}
}

func TestTLSFromTheFirstOctet(t *testing.T) {
	s := with(t, newKeeper(), "kind: inside, tls: implicit")
	conn, err := tls.Dial("tcp", s.Addresses()["inside"], &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	state := conn.ConnectionState()
	if name := state.PeerCertificates[0].Subject.CommonName; name != "mail.skerryline.example" ||
		state.Version < tls.VersionTLS12 {
		t.Errorf("%s, %x", name, state.Version)
	}
	c := &talk{t, conn, bufio.NewReader(conn)}
	c.say("", "220")
	c.say("EHLO a\r\n", "250")
	c.say("STARTTLS\r\n", "502 5.5.1")
	plain, err := net.Dial("tcp", s.Addresses()["inside"]) // somebody who does not speak TLS
	if err != nil {
		t.Fatal(err)
	}
	defer plain.Close()
	fmt.Fprint(plain, "EHLO a\r\n")
	_ = plain.SetReadDeadline(time.Now().Add(5 * time.Second))
	if line, err := bufio.NewReader(plain).ReadString('\n'); err == nil &&
		strings.HasPrefix(line, "220") {
		t.Errorf("a greeting in the clear: %q", line)
	}
}

// budget allows so many recipients in all.
type budget struct {
	left    int
	counted []string
}

func (b *budget) Take(
	_ context.Context,
	rule, holder string,
	_ config.RuleLimits,
	m relay.More,
) string {
	if b.left == 0 {
		return holder + " has no more left under " + rule
	}
	b.left--
	b.counted = append(b.counted, fmt.Sprintf("%s %s %v", rule, holder, m.First))
	return ""
}

func (b *budget) GiveBack(_, _ string, _, recipients, _ int) { b.left += recipients }

func (b *budget) Forget(string) {}

func TestLimitsQuotaAndVerificationAreAskedAtRCPT(t *testing.T) {
	text := settings + `  - {address: far@skerryline.example, to: [x@saltmarsh.example]}
relay_rules:
  - {name: machines, networks: [127.0.0.0/8], recipients: [saltmarsh.example], action: allow, limits: {recipients_per_day: 2}}
routes:
  - {name: partner, next_hop: smarthost, hosts: [in.kelpworks.example]}
  - {name: out, recipients: ["*"], next_hop: mx}
`
	text = strings.Replace(
		text,
		"  - {name: skerryline.example, kind: local}\n",
		"  - {name: skerryline.example, kind: local}\n  - {name: kelpworks.example, kind: relay, route: "+
			"partner, verify: call}\n  - {name: listed.example, kind: relay, route: partner, verify: list, "+
			"recipients: [one@listed.example]}\n",
		1,
	)
	text = strings.Replace(text, "{address: keeper@skerryline.example}",
		"{address: keeper@skerryline.example, quota: 1 MB}", 1)
	k := newKeeper()
	s := serve(t, k, text)
	b := &budget{left: 2}
	s.Allowance = b
	full := &fullness{}
	s.Mailboxes, s.Verifier = full, nobody{}
	c := dial(t, s)
	c.say("", "220")
	c.say("EHLO a\r\n", "250")
	c.say("MAIL FROM:<a@skerryline.example>\r\n", "250")
	c.say("RCPT TO:<a@saltmarsh.example>\r\nRCPT TO:<b@saltmarsh.example>\r\n", "250", "250")
	c.say(
		"RCPT TO:<c@saltmarsh.example>\r\n",
		"450 4.7.1 127.0.0.1 has no more left under machines",
	)
	for to, want := range map[string]string{"one@listed.example": "250", "two@listed.example": "550 5.1.1",
		"postmaster@listed.example": "250", "any@kelpworks.example": "250", "nobody@kelpworks.example": "550 5.1.1 not known"} {
		c.say("RCPT TO:<"+to+">\r\n", want)
	}
	c.say("RCPT TO:<keeper@skerryline.example>\r\n", "250")
	full.used = 1_000_000
	c.say(
		"RCPT TO:<keeper@skerryline.example>\r\n",
		"452 4.2.2 mailbox keeper@skerryline.example is full",
	)
	full.err = errors.New("the database is away")
	c.say("RCPT TO:<keeper@skerryline.example>\r\n", "250") // delivery will find out
	c.say("DATA\r\n", "354")
	c.say("hi\r\n.\r\n", "250")
	<-k.entries
	if got := strings.Join(b.counted,
		"; "); got != "machines 127.0.0.1 true; machines 127.0.0.1 false" || b.left != 0 {
		t.Errorf("counted: %s, %d are left", got, b.left)
	}
	b.left = 1
	c.say(
		"MAIL FROM:<a@skerryline.example>\r\nRCPT TO:<a@saltmarsh.example>\r\nRSET\r\n",
		"250",
		"250",
		"250",
	)
	c.say("MAIL FROM:<a@skerryline.example>\r\nRCPT TO:<a@saltmarsh.example>\r\nQUIT\r\n", "250",
		"250", "221") // what was not sent does not count
}

func TestRefusalsAreRememberedWithinBounds(t *testing.T) {
	var r refusals
	for i := range maxRefused + 10 {
		r.add(
			config.Envelope{Size: int64(i)},
			address.Address{Local: "x", Domain: "saltmarsh.example"},
		)
	}
	s := &Server{}
	s.refused.list = r.list
	list := s.Refused()
	sizes := map[int64]bool{}
	for _, e := range list {
		sizes[e.Size] = true
	}
	if len(list) != maxRefused || sizes[9] || !sizes[10] || !sizes[maxRefused+9] {
		t.Errorf("%d are kept", len(list))
	}
	list[0] = rehearse.Envelope{} // a copy
	if s.refused.list[0].Recipients == nil {
		t.Error("the memory itself was given out")
	}
}

func TestPeoplesMessagesAreCompleted(t *testing.T) {
	text := strings.Replace(settings, "kind: inside, limits: {message_size: 2 MB}",
		"kind: submission, sign_in_without_tls: true", 1)
	s := serve(t, newKeeper(), text)
	c, err := config.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	cfg := config.Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases))
	from := &smtp.Mail{From: address.Address{Local: "keeper", Domain: "skerryline.example"}}
	se := contentTalk{&session{server: s, cfg: cfg, conf: cfg.Listener("inside"),
		transaction: transaction{mail: from}}}
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	for _, x := range []struct{ given, want string }{
		{"Subject: a\r\n", "From: <keeper@skerryline.example>\r\nDate: Mon, 23 Nov 2026 09:00:00 " +
			"+0000\r\nMessage-ID: <0000000000007@mail.skerryline.example>\r\nSubject: a\r\n"},
		{"FROM: a\r\ndate: b\r\n",
			"Message-ID: <0000000000007@mail.skerryline.example>\r\nFROM: a\r\ndate: b\r\n"},
		{"From: a\r\nDate: b\r\nMessage-ID: c\r\n", "From: a\r\nDate: b\r\nMessage-ID: c\r\n"},
	} {
		if got, _ := se.fix([]byte(x.given), 7, now); string(got) != x.want {
			t.Errorf("%q became\n%q, want\n%q", x.given, got, x.want)
		}
	}
	se.conf = &config.Listener{Kind: config.Inside}
	if got, changed := se.fix([]byte("Subject: a\r\n"), 7, now); changed ||
		string(got) != "Subject: a\r\n" {
		t.Errorf("a machine's message was changed: %q", got)
	}
}

// fullness is how full every mailbox is.
type fullness struct {
	used int64
	err  error
}

func (f *fullness) MailboxesUse(_ context.Context, boxes []string) (map[string]int64, error) {
	return map[string]int64{boxes[0]: f.used}, f.err
}

// nobody is a next hop that knows everybody but nobody.
type nobody struct{}

func (nobody) Verify(_ context.Context, _ *config.Compiled, to address.Address) *smtp.Reply {
	if to.Local != "nobody" {
		return nil
	}
	r := smtp.NewReply(550, "5.1.1", "not known")
	return &r
}
