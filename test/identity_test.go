package test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-msgauth/dkim"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/publish"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/simnet"
)

// publish puts a record into the simulated DNS in one of the three forms.
func (s *stack) publish(t *testing.T, form string, r publish.DNSRecord, zone string) {
	t.Helper()
	args := []string{"simnet", "publish", "--replace"}
	switch form {
	case "zone line":
		args = append(args, r.Zone)
	case "editor's form":
		args = append(args, "--zone", zone, "--host", r.Form.Host, "--type", r.Form.Type, "--value",
			r.Form.Value)
	default: // piece by piece
		args = append(args, "--host", r.Name, "--type", r.Type, "--value", r.Value)
	}
	s.run(t, args...)
}

// txt publishes a text.
func (s *stack) txt(t *testing.T, name, value string) {
	t.Helper()
	s.publish(t, "zone line", publish.New(name, name, "TXT", value), "")
}

// verified is what an independent implementation says of each signature.
func verified(t *testing.T, content []byte, records map[string]string) []bool {
	t.Helper()
	text := make([]rune, len(content)) // Latin-1 keeps every octet
	for i, c := range content {
		text[i] = rune(c)
	}
	given, err := json.Marshal(map[string]any{"message": string(text), "dns": records})
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command("/usr/bin/python3", "../internal/engine/senderauth/testdata/dkim_elsewhere.py")
	c.Stdin = bytes.NewReader(given)
	var stderr bytes.Buffer
	c.Stderr = &stderr
	out, err := c.Output()
	var results []bool
	if err != nil || json.Unmarshal(out, &results) != nil {
		t.Fatalf("the other verifier: %v: %s%s", err, out, &stderr)
	}
	return results
}

// received waits for what a host got for a recipient.
func (s *stack) received(t *testing.T, host, recipient string) simnet.Message {
	t.Helper()
	var got []simnet.Message
	if err := eventually(20e9, func() error {
		if got = s.messages(t, host, recipient); len(got) == 0 {
			return fmt.Errorf("%s has nothing for %s", host, recipient)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return got[0]
}

func TestMessagesAreSignedAndVerifyElsewhere(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "signed", func(c string) string {
		return strings.Replace(c, "peers:\n", "peers:\n  - {name: oldnews, domains: [plainscript.example], "+
			"plain_text: true, charset: us-ascii, no_8bit: true}\n", 1)
	})
	ctx := context.Background()
	key := func(fields map[string]any) mail.DKIMKey {
		k, err := s.client().MakeKey(ctx, fields)
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	const domain = "skerryline.example"
	rsa := key(map[string]any{"domain": domain, "algorithm": "rsa-3072"})
	ed := key(map[string]any{"domain": domain, "algorithm": "ed25519", "selector": "tide"})
	if _, stderr, code := s.gull(t, "dkim", "use", domain, "tide"); code != 1 ||
		!strings.Contains(stderr, "there is no TXT record at tide._domainkey.skerryline.example") {
		t.Errorf("a key that is not published may sign: %d %s", code, stderr)
	}
	s.publish(t, "zone line", ed.Record, domain)
	s.publish(t, "editor's form", rsa.Record, domain)
	for _, selector := range []string{"tide", rsa.Selector} {
		if out := s.run(t, "dkim", "use", domain, selector); !strings.Contains(out, "signing") {
			t.Errorf("use says %s", out)
		}
	}
	records := map[string]string{ed.Record.Name: ed.Record.Value, rsa.Record.Name: rsa.Record.Value}

	long := message("signed") + strings.Repeat("Nichts als Wasser, Wind und Möwen.  \r\n", 12_000)
	for name, content := range map[string]string{"short": message("signed"), "streamed": long,
		"bare": "From: <ines.harrow@skerryline.example>\r\n\r\n"} {
		to := name + "@saltmarsh.example"
		s.until(t, s.send(t, s.inside, "127.20.1.5", "tickets@skerryline.example", content, to), mail.Delivered)
		got := s.received(t, "mx.saltmarsh.example", to)
		if results := verified(t, got.Content, records); fmt.Sprint(results) != "[true true]" {
			t.Errorf("%s: signatures verify elsewhere: %v", name, results)
		}
		changed := bytes.Replace(got.Content, []byte("<ines.harrow@"), []byte("<ines.marrow@"), 1)
		if results := verified(t, changed, records); fmt.Sprint(results) != "[false false]" {
			t.Errorf("%s: with another From they verify too: %v", name, results)
		}
	}
	// What is written anew for a partner, who takes no 8-bit, is signed as it is sent.
	large := strings.Repeat("kært øje\r\n", 150_000) // more than memory keeps
	id := s.send(t, s.inside, "127.20.1.5", "tickets@skerryline.example", "From: =?utf-8?Q?S=C3=B8ren?= "+
		"<ines.harrow@skerryline.example>\r\nSubject: =?utf-8?Q?F=C3=A6rgeplan?=\r\n"+mixed+"\r\n"+htmlPart+
		"--b\r\nContent-Type: text/csv; name=kort.csv\r\nContent-Disposition: attachment; filename=kort.csv\r\n"+
		"Content-Transfer-Encoding: 8bit\r\n\r\n"+large+"\r\n--b--\r\n", "a@plainscript.example", "both@saltmarsh.example")
	s.until(t, id, mail.Delivered)
	written := s.received(t, "mx.plainscript.example", "a@plainscript.example")
	p := s.parse(t, written.Content)
	if results := verified(t, written.Content, records); fmt.Sprint(results) != "[true true]" ||
		p.Subject != "Faergeplan" || len(p.Parts) != 2 || p.Parts[1].Name != "kort.csv" ||
		!strings.Contains(p.Parts[0].Text, "Hej Aeroe bank.example [evil.example]") ||
		strings.Contains(
			p.Parts[0].Text,
			"unseen",
		) || p.Parts[1].Sha != fmt.Sprintf("%x", sha256.Sum256([]byte(large))) {
		t.Errorf("to the partner (%v): %+v\n%.1500s", results, p, written.Content)
	}
	if out := s.run(t, "trace", "show", id); !strings.Contains(out, "as agreed: HTML in part 1 was made plain text") {
		t.Errorf("nothing tells of it:\n%s", out)
	}
	if got := s.received(t, "mx.saltmarsh.example", "both@saltmarsh.example"); !bytes.Contains(
		got.Content,
		[]byte("kært øje"),
	) {
		t.Errorf("to others it is as it came:\n%.800s", got.Content)
	}
	// What others signed is not written anew: 8-bit as it is, it does not go to who takes none.
	locked := s.send(
		t,
		s.inside,
		"127.20.1.5",
		"tickets@skerryline.example",
		"From: <ines.harrow@skerryline.example>\r\n"+
			"Content-Type: multipart/signed; boundary=b; protocol=\"application/pgp-signature\"\r\n\r\n--b\r\n\r\nøre\r\n--b\r\n"+
			"Content-Type: application/pgp-signature\r\n\r\nx\r\n--b--\r\n",
		"b@plainscript.example",
	)
	if d := s.until(t, locked, mail.Bounced); d.Cause != diagnose.Needs8Bit ||
		!strings.Contains(d.Last.Text, "it was agreed with oldnews to send none") {
		t.Errorf("signed and 8-bit: %+v", d.Last)
	}
	// Our own notices are signed too, by the key of the domain above.
	s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example",
		"From: <ada@saltmarsh.example>\r\nSubject: to nobody\r\n\r\nhi\r\n",
		"nobody-at-all@lightkeepers.example")
	if got := s.received(
		t,
		"mx.saltmarsh.example",
		"ada@saltmarsh.example",
	); fmt.Sprint(verified(t, got.Content, records)) != "[true true]" {
		t.Errorf("a notice is not signed:\n%.800s", got.Content)
	}
	// What a stranger wrote is not, whoever it says it is from.
	s.until(
		t,
		s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("forged"),
			"somebody@kelpworks.example"),
		mail.Delivered,
	)
	if got := s.received(
		t,
		"in.kelpworks.example",
		"somebody@kelpworks.example",
	); bytes.Contains(got.Content, []byte("DKIM-Signature")) {
		t.Errorf("a stranger's message was signed in our name:\n%.500s", got.Content)
	}

	// Rotation: the new key takes over when its record is seen, the old one retires.
	next := key(map[string]any{"domain": domain, "takes_over": true, "overlap": 0})
	if next.State != mail.KeyMade || next.Selector == rsa.Selector {
		t.Fatalf("the next key: %+v", next)
	}
	s.publish(t, "pieces", next.Record, domain)
	if out := s.run(t, "dkim", "check", domain, next.Selector); !strings.Contains(out, ": signing") {
		t.Errorf("the new key has not taken over: %s", out)
	}
	if old, err := s.client().Key(ctx, domain,
		rsa.Selector); err != nil || old.State != mail.KeyRetired ||
		!strings.Contains(old.Next, "leave its record in DNS until") {
		t.Errorf("the old key: %+v %v", old, err)
	}
	if k, err := s.client().Key(ctx, domain, "tide"); err != nil || k.State != mail.KeySigning {
		t.Errorf("the key of the other kind: %+v %v", k, err)
	}
	records[next.Record.Name] = next.Record.Value
	s.until(t, s.out(t, "after@saltmarsh.example"), mail.Delivered)
	if got := s.received(
		t,
		"mx.saltmarsh.example",
		"after@saltmarsh.example",
	); fmt.Sprint(verified(t, got.Content, records)) != "[true true]" ||
		!bytes.Contains(got.Content, []byte("s="+next.Selector)) {
		t.Errorf("after the rotation:\n%.900s", got.Content)
	}
	// A record that was cut in a form's field is recognised.
	broken := publish.New(domain, next.Record.Name, "TXT", next.Record.Value[:200])
	s.publish(t, "zone line", broken, domain)
	if k, err := s.client().DoKey(ctx, domain, next.Selector, "check",
		false); err != nil || !strings.Contains(k.Fault, "is cut") ||
		!strings.Contains(k.Next, "immediately") {
		t.Errorf("a record that was cut: %+v %v", k, err)
	}
	for what, args := range map[string][]string{
		"messages are signed with this key": {"dkim", "remove", domain, next.Selector},
		"is not among our domains":          {"dkim", "make", "saltmarsh.example"},
		"there is a key tide of skerryline": {"dkim", "make", domain, "--selector", "tide"},
		"is no name":                        {"dkim", "make", domain, "--selector", "a b"},
	} {
		if _, stderr, code := s.gull(t, args...); code == 0 || !strings.Contains(stderr, what) {
			t.Errorf("%v: %d %s", args, code, stderr)
		}
	}
	// Private keys are nowhere but encrypted in the database.
	dump, err := exec.Command(
		"psql",
		s.database,
		"-Atc",
		"SELECT string_agg(k::text, '') || (SELECT string_agg(c::text, '') FROM change c) FROM dkim_key k",
	).CombinedOutput()
	if err != nil || bytes.Contains(dump, []byte("PRIVATE")) || bytes.Contains(readLog(t, s),
		[]byte("PRIVATE")) {
		t.Errorf("a private key shows: %v %.300s", err, dump)
	}
}

func readLog(t *testing.T, s *stack) []byte { return []byte(readFile(t, s.dir+"/log")) }

// foreign signs messages as somebody else's domain.
func foreign(t *testing.T, s *stack, domain string) func(content string) string {
	t.Helper()
	private, record, err := senderauth.NewKey(senderauth.Ed25519)
	if err != nil {
		t.Fatal(err)
	}
	key, err := senderauth.ReadKey(private)
	if err != nil {
		t.Fatal(err)
	}
	s.txt(t, "far._domainkey."+domain, record)
	return func(content string) string {
		var b bytes.Buffer
		if err := dkim.Sign(
			&b,
			strings.NewReader(content),
			&dkim.SignOptions{Domain: domain, Selector: "far", Signer: key},
		); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
}

func TestWhoAMessageIsFromIsFoundAndActedOn(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "identity", func(c string) string {
		c = strings.Replace(c, "    kind: edge\n", "    kind: edge\n    identity: refuse\n", 1)
		return strings.Replace(c, "\npeers:\n",
			"\npeers:\n  - {name: dunlin, domains: [dunlin.example], identity: hold}\n", 1)
	})
	s.txt(t, "saltmarsh.example", "v=spf1 ip4:127.30.0.10 -all")
	s.txt(t, "_dmarc.saltmarsh.example", "v=DMARC1; p=reject; sp=quarantine; adkim=s")
	s.txt(t, "_dmarc.fogbank.example", "v=DMARC1; p=none")
	s.txt(t, "_dmarc.greywacke.example", "v=DMARC1; p=maybe")
	s.txt(t, "sunkenpier.example", "v=spf1 -all")
	s.txt(t, "two.example", "v=spf1 +all")
	sign := foreign(t, s, "saltmarsh.example")
	signSub := foreign(t, s, "news.saltmarsh.example")
	from := func(domain string) string {
		return "From: Ada <ada@" + domain + ">\r\nTo: <harbour@skerryline.example>\r\nSubject: " +
			"tide\r\nAuthentication-Results: (forged) mail.SKERRYLINE.example;\r\n spf=pass " +
			"smtp.mailfrom=king.example\r\nAuthentication-Results: mx.far.example; spf=pass\r\n\r\nHigh.\r\n"
	}
	for _, c := range []struct {
		name, client, sender, content string
		want                          string // of the reply, or the results
		state                         mail.State
	}{
		{"proved by SPF", "127.30.0.10", "ada@saltmarsh.example", from("saltmarsh.example"),
			"spf=pass dkim=none dmarc=pass", mail.Delivered},
		{"proved by a signature", "127.30.0.99", "bounces@two.example", sign(from("saltmarsh.example")),
			"spf=pass dkim=pass dmarc=pass", mail.Delivered},
		{"neither, and the domain says reject", "127.30.0.99", "ada@saltmarsh.example",
			from("saltmarsh.example"), "550 5.7.26 neither SPF nor a signature proves saltmarsh.example: " +
				"SPF says fail for saltmarsh.example, and there is no signature; saltmarsh.example asks for " +
				"p=reject (_dmarc.saltmarsh.example)", ""},
		{"a signature that was broken", "127.30.0.99", "bounces@two.example",
			strings.Replace(sign(from("saltmarsh.example")), "High.", "Low.",
				1), "550 5.7.26 neither SPF nor a signature proves", ""},
		{"a signature of a domain below, strictly", "127.30.0.99", "bounces@two.example",
			signSub(from("saltmarsh.example")), "550 5.7.26 ", ""},
		{"a domain below asks for quarantine", "127.30.0.99", "bounces@two.example",
			from("mail.saltmarsh.example"), "spf=pass dkim=none dmarc=fail", mail.Held},
		{"nothing is asked for", "127.30.0.99", "ada@fogbank.example", from("fogbank.example"),
			"spf=none dkim=none dmarc=fail", mail.Delivered},
		{"no policy at all", "127.30.0.99", "ada@nosuch.example", from("nosuch.example"),
			"spf=none dkim=none dmarc=none", mail.Delivered},
		{"no policy, but SPF says no", "127.30.0.99", "ada@sunkenpier.example", from("sunkenpier.example"),
			"550 5.7.23 sunkenpier.example says by SPF that this client does not send for it", ""},
		{"a policy that cannot be read", "127.30.0.99", "ada@greywacke.example", from("greywacke.example"),
			"spf=none dkim=none dmarc=permerror", mail.Held},
		{"agreed with a peer", "127.30.0.99", "ada@dunlin.example", from("dunlin.example"),
			"spf=none dkim=none dmarc=none", mail.Held},
		{"two senders", "127.30.0.10", "ada@saltmarsh.example",
			"From: <ada@saltmarsh.example>, <ben@fogbank.example>\r\nSubject: two\r\n\r\nHigh.\r\n", "spf=pass dkim=none dmarc=permerror", mail.Held},
		{"the null sender", "127.30.0.10", "", from("fogbank.example"), "spf=none dkim=none dmarc=fail",
			mail.Delivered},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := dial(t, s.edge, c.client)
			d.hear()
			d.want("250", "EHLO two.saltmarsh.example")
			d.want("250", "MAIL FROM:<"+c.sender+">")
			d.want("250", "RCPT TO:<harbour@skerryline.example>")
			d.want("354", "DATA")
			reply := d.say(c.content + ".")
			d.say("QUIT")
			if c.state == "" {
				if !strings.HasPrefix(reply, c.want) {
					t.Errorf("%s, want %s", reply, c.want)
				}
				return
			}
			if !strings.HasPrefix(reply, "250") {
				t.Fatal(reply)
			}
			id := strings.Fields(reply)[4]
			s.until(t, id, c.state)
			tr, err := s.client().Trace(context.Background(), id, nil)
			if err != nil || tr.Message.Identity == nil {
				t.Fatalf("nothing was found: %v", err)
			}
			f := tr.Message.Identity
			sig := senderauth.None
			if len(f.DKIM) > 0 {
				sig = f.DKIM[0].Result
			}
			if got := fmt.Sprintf("spf=%s dkim=%s dmarc=%s", f.SPF.Result, sig, f.DMARC.Result); got != c.want {
				t.Errorf("%s, want %s: %+v", got, c.want, f)
			}
			if held := c.state == mail.Held; held != (f.Action == senderauth.Hold) ||
				held && !strings.Contains(s.run(t, "trace", "show", id), "held: ") {
				t.Errorf("what was done: %+v", f)
			}
			var raw bytes.Buffer
			if c.state == mail.Delivered {
				if err := s.client().MailboxRaw(
					context.Background(),
					"ines.harrow@skerryline.example",
					id,
					&raw,
				); err != nil {
					t.Fatal(err)
				}
				head := raw.String()
				if !strings.Contains(
					head,
					"Authentication-Results: mail.skerryline.example;\r\n\tspf="+string(f.SPF.Result),
				) ||
					strings.Contains(head, "king.example") ||
					!strings.Contains(head, "mx.far.example") {
					t.Errorf("the message says:\n%s", head)
				}
			}
		})
	}
	// What was held, a person releases.
	held, err := s.client().Queue(context.Background(), map[string][]string{"state": {"held"}})
	if err != nil || len(held.Items) != 4 {
		t.Fatalf("%d messages are held: %v", len(held.Items), err)
	}
	first := held.Items[0].Delivery.ID().Message.String()
	s.run(t, "queue", "release", first)
	s.until(t, first, mail.Delivered)
	// Our own machines and people are not asked.
	id := s.send(t, s.inside, "127.20.1.5", "tickets@skerryline.example", from("saltmarsh.example"),
		"harbour@skerryline.example")
	s.until(t, id, mail.Delivered)
	if tr, err := s.client().Trace(context.Background(), id, nil); err != nil || tr.Message.Identity != nil {
		t.Errorf("our own machine was asked who it is: %+v %v", tr.Message.Identity, err)
	}
	if out := s.run(
		t,
		"trace",
		"find",
		"harbour@skerryline.example",
		"--cause",
		"sender-unproved",
	); strings.Count(out, "refused: sender-unproved") != 4 {
		t.Errorf("refusals on record:\n%s", out)
	}
}

func TestMailWaitsWhoseSigningKeyIsNotOpened(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "locked", nil)
	const domain = "skerryline.example"
	k, err := s.client().MakeKey(context.Background(),
		map[string]any{"domain": domain, "algorithm": "rsa-2048"})
	if err != nil {
		t.Fatal(err)
	}
	s.publish(t, "zone line", k.Record, domain)
	s.run(t, "dkim", "use", domain, k.Selector)
	key := filepath.Join(s.dir, "key")
	kept := readFile(t, key)
	s.kill()
	if err := os.Remove(key); err != nil { // a new one is made at the start
		t.Fatal(err)
	}
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	id := s.out(t, "unsigned@saltmarsh.example")
	if d := s.until(t, id, mail.Deferred); d.Cause != diagnose.OurTrouble ||
		!strings.Contains(d.Last.Text, "not opened by this node's key file") {
		t.Errorf("%s: %+v", d.Cause, d.Last)
	}
	for _, args := range [][]string{{"status"}, {"dkim", "list"}, {"readiness", domain}} {
		if out, _, _ := s.gull(t, args...); !strings.Contains(out, "key file") {
			t.Errorf("gull %s does not say that the key is not opened:\n%s", strings.Join(args, " "), out)
		}
	}
	if err := eventually(10*time.Second, func() error {
		if out := s.run(t, "snag", "list"); !strings.Contains(out,
			"our side, signing key "+k.Selector+" of "+domain) {
			return fmt.Errorf("no snag says that the key is not opened:\n%s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	s.kill()
	if err := os.WriteFile(key, []byte(kept), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	s.run(t, "queue", "flush", "--all")
	s.until(t, id, mail.Delivered)
	if got := s.received(
		t,
		"mx.saltmarsh.example",
		"unsigned@saltmarsh.example",
	); !strings.Contains(string(got.Content), "DKIM-Signature:") {
		t.Error("it went out unsigned")
	}
}
