package test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/simnet"
)

// gatesOf are the gates and lists that the tests below use: each is met by a field of its own.
const gatesOf = `
lists:
  - name: partners
    kind: addresses
    entries: ["*.tern.example", "ada@saltmarsh.example"]
  - name: never
    kind: hours
    entries: ["LATER"]
gates:
  - name: known bad sender
    when: {direction: [in], senders: [flotsam.example]}
    then: {refuse: "flotsam is not taken here"}
  - name: programs from outside
    when: {direction: [in], attachment: [programs], none: {senders: ["list:partners"]}}
    then: {refuse: "programs are not taken from outside; put them where they can be fetched"}
    severity: serious
  - name: all that watches
    watch: true
    when: {header: ["X-Case: watch"]}
    then: {refuse: "never"}
    severity: critical
  - name: doubtful
    when: {header: ["X-Case: hold"]}
    then: {hold: true}
    severity: minor
  - name: away
    when: {header: ["X-Case: redirect"], recipients: [tickets@skerryline.example]}
    then: {redirect_to: [odile.marr@skerryline.example]}
  - name: kept
    when: {header: ["X-Case: copy"]}
    then: {copy_to: [bridge@skerryline.example]}
  - name: partner's way
    when: {direction: [out], header: ["X-Case: route"]}
    then: {route: by provider}
  - name: later
    when: {header: ["X-Case: delay"]}
    then: {delay: ["list:never"]}
  - name: thrown away
    when: {header: ["X-Case: discard"]}
    then: {discard: true}
    severity: critical
  - name: no pictures
    when: {header: ["X-Case: remove"]}
    then: {remove_attachments: [pictures]}
  - name: plain
    when: {header: ["X-Case: text"]}
    then: {clean: text}
  - name: clean
    when: {header: ["X-Case: clean"]}
    then: {clean: html}
  - name: footer
    when: {header: ["X-Case: footer"]}
    then: {add_text: "Skerry Line, Ærø harbour"}
  - name: outside
    when: {header: ["X-Case: mark"], recipients: [ines.harrow@skerryline.example, wren.castell@skerryline.example]}
    then: {mark: {subject: "[outside]", header: ["X-Skerry-Mark: from outside"]}}
  - name: not for wren
    when: {header: ["X-Case: mark"], recipients: [wren.castell@skerryline.example]}
    then: {refuse: "not for accounts"}
`

// gated is a world with those gates.
func gated(t *testing.T) *stack {
	return own(t, "gates", func(c string) string {
		gates := strings.Replace(gatesOf, "LATER", time.Now().AddDate(0, 1, 0).Format(time.DateOnly), 1)
		head, rest, _ := strings.Cut(c, "\nlists:\n")
		_, tail, _ := strings.Cut(rest, "\nmailboxes:\n")
		return head + gates + "\nmailboxes:\n" + tail
	})
}

// parsed is what Python's email package makes of a message.
type parsed struct {
	Subject string
	Fields  map[string][]string
	Defects []string
	Parts   []struct{ Type, Name, Text, Sha string }
}

const reader = `
import sys, json, email, email.policy, hashlib
m = email.message_from_binary_file(sys.stdin.buffer, policy=email.policy.default)
out = {"Subject": m["Subject"], "Fields": {}, "Defects": [], "Parts": []}
for k, v in m.items(): out["Fields"].setdefault(k, []).append(str(v))
for p in m.walk():
    out["Defects"] += [type(d).__name__ for d in p.defects]
    if p.is_multipart(): continue
    b = p.get_payload(decode=True) or b""
    text = p.get_content() if p.get_content_maintype() == "text" else ""
    out["Parts"].append({"Type": p.get_content_type(), "Name": p.get_filename() or "", "Text": text, "Sha": hashlib.sha256(b).hexdigest()})
print(json.dumps(out))
`

// read reads a message in a mailbox with Python.
func (s *stack) read(t *testing.T, box, id string) (parsed, string) {
	t.Helper()
	var raw bytes.Buffer
	if err := s.client().MailboxRaw(context.Background(), box, id, &raw); err != nil {
		t.Fatalf("%s of %s: %v", id, box, err)
	}
	p := s.parse(t, raw.Bytes())
	return p, raw.String()
}

// parse reads a message with Python.
func (s *stack) parse(t *testing.T, raw []byte) parsed {
	t.Helper()
	cmd := exec.Command("python3", "-c", reader)
	cmd.Stdin = bytes.NewReader(raw)
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	var p parsed
	if err := json.Unmarshal(out, &p); err != nil {
		t.Fatal(err)
	}
	if len(p.Defects) > 0 {
		t.Errorf("the message is broken: %v\n%.3000s", p.Defects, raw)
	}
	return p
}

// marked is a message with a field that a gate looks for.
func marked(name, more, body string) string {
	return "From: Ada <ada@saltmarsh.example>\r\nTo: ines.harrow@skerryline.example\r\nSubject: Gezeiten für Ærø\r\nX-Case: " + name +
		"\r\nX-Skerry-Mark: forged\r\nMIME-Version: 1.0\r\nMessage-ID: <" + name + fmt.Sprint(time.Now().UnixNano()) +
		"@saltmarsh.example>\r\n" + more + "\r\n" + body
}

const mixed = "Content-Type: multipart/mixed; boundary=b\r\n"

var picture = "\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR" + strings.Repeat("x", 300)

func file(name, content string) string {
	return "--b\r\nContent-Type: application/octet-stream; name=\"" + name + "\"\r\nContent-Disposition: attachment; filename=\"" + name +
		"\"\r\nContent-Transfer-Encoding: base64\r\n\r\n" + base64.StdEncoding.EncodeToString([]byte(content)) + "\r\n"
}

const htmlPart = "--b\r\nContent-Type: text/html; charset=utf-8\r\n\r\n<p onclick=\"x()\">Hej Ærø <a href=\"https://evil.example/a\">bank.example</a>" +
	"<script>steal()</script><img src=\"https://track.example/p.gif\"></p><div style=\"display:none\">unseen</div>\r\n"

// try sends from outside and returns the last reply.
func (s *stack) try(t *testing.T, sender, content string, to ...string) string {
	t.Helper()
	c := dial(t, s.edge, "127.30.0.99")
	c.hear()
	c.want("250", "EHLO mx.saltmarsh.example")
	c.want("250", "MAIL FROM:<"+sender+"> BODY=8BITMIME SMTPUTF8")
	for _, r := range to {
		if reply := c.say("RCPT TO:<" + r + ">"); reply[0] != '2' {
			return "RCPT " + reply
		}
	}
	c.want("354", "DATA")
	return c.say(content + ".")
}

func TestGatesDecideAndTell(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := gated(t)
	ines, sender := "ines.harrow@skerryline.example", "ada@saltmarsh.example"
	take := func(name, more, body string, to ...string) string {
		t.Helper()
		if len(to) == 0 {
			to = []string{ines}
		}
		reply := s.try(t, sender, marked(name, more, body), to...)
		if !strings.HasPrefix(reply, "250") {
			t.Fatalf("%s: %s", name, reply)
		}
		return strings.Fields(reply)[4]
	}

	t.Run("refused at RCPT and after the content", func(t *testing.T) {
		if got := s.try(t, "x@flotsam.example", marked("none", "", "x\r\n"), ines); got != "RCPT 550 5.7.1 flotsam is not taken here" {
			t.Errorf("the envelope: %s", got)
		}
		var zipped bytes.Buffer
		z := zip.NewWriter(&zipped)
		w, _ := z.Create("tides.dat")
		_, _ = w.Write([]byte("MZ" + strings.Repeat("\x00", 200)))
		_ = z.Close()
		body := "--b\r\n\r\nsee\r\n" + file("tides.zip", zipped.String()) + "--b--\r\n"
		got := s.try(t, "x@nosuch.example", marked("none", mixed, body), ines)
		if got != "550 5.7.1 programs are not taken from outside; put them where they can be fetched" {
			t.Errorf("the content: %s", got)
		}
		if got := s.try(t, "bo@post.tern.example", marked("none", mixed, body), ines); !strings.HasPrefix(got, "250") {
			t.Errorf("a partner of the list: %s", got)
		}
		for _, words := range []string{`gate:"programs from outside"`, "severity:serious", `gate:"known bad sender"`} {
			if err := eventually(5*time.Second, func() error {
				if out, _, _ := s.gull(t, "trace", "find", words); !strings.Contains(out, "refused") {
					return fmt.Errorf("%s: %s", words, out)
				}
				return nil
			}); err != nil {
				t.Error(err)
			}
		}
	})

	t.Run("where it goes", func(t *testing.T) {
		held := take("hold", "", "x\r\n")
		s.until(t, held, mail.Held)
		if out := s.run(t, "trace", "show", held); !strings.Contains(out, "gate doubtful: held") {
			t.Errorf("the history of one held:\n%s", out)
		}
		moved := take("redirect", "", "x\r\n", "tickets@skerryline.example")
		if d := s.until(t, moved, mail.Delivered); d.Recipient != "odile.marr@skerryline.example" || d.Original != "tickets@skerryline.example" {
			t.Errorf("redirected: %+v", d)
		}
		copied := take("copy", "", "x\r\n")
		s.until(t, copied, mail.Delivered)
		if _, raw := s.read(t, "bridge@skerryline.example", copied); strings.Contains(raw, "bridge") {
			t.Errorf("a copy names who else has it:\n%s", raw)
		}
		routed := s.send(t, s.inside, "127.0.0.1", ines, marked("route", "", "x\r\n"), "jo@saltmarsh.example")
		if d := s.until(t, routed, mail.Delivered); d.Route != "by provider" {
			t.Errorf("it went by %s", d.Route)
		}
		later := take("delay", "", "x\r\n")
		if d := s.until(t, later, mail.Deferred); time.Until(d.NextAttemptAt.Time) < 20*24*time.Hour || d.Cause != "gate-delays" {
			t.Errorf("delayed: %+v", d)
		}
		s.run(t, "queue", "flush", "--message", later, "--yes")
		s.until(t, later, mail.Delivered)
		gone := take("discard", "", "x\r\n")
		s.until(t, gone, mail.Discarded)
		watched := take("watch", "", "x\r\n")
		s.until(t, watched, mail.Delivered)
		m, _ := s.find(t, ines)
		if m.ID.String() != watched || m.Severity != "" || len(m.Gates) != 1 {
			t.Errorf("a watched one: %+v", m)
		}
		if out := s.run(t, "trace", "show", watched); !strings.Contains(out, "all that watches watches; it would have been: refused") {
			t.Errorf("the history of one watched:\n%s", out)
		}
	})

	t.Run("what is changed", func(t *testing.T) {
		body := "--b\r\nContent-Type: text/plain; charset=utf-8\r\n\r\nHej Ærø\r\n" + file("pier.png", picture) + file("notes.txt", "keep me\n") + "--b--\r\n"
		p, _ := s.read(t, ines, take("remove", mixed, body))
		if len(p.Parts) != 3 || p.Parts[0].Text != "Hej Ærø" || !strings.Contains(p.Parts[1].Text, "pier.png was taken out by gate no pictures") ||
			p.Parts[2].Name != "notes.txt" || p.Parts[2].Text+p.Parts[2].Sha == "" {
			t.Errorf("with a picture taken out: %+v", p.Parts)
		}
		body = htmlPart + file("notes.txt", "keep me\n") + "--b--\r\n"
		p, _ = s.read(t, ines, take("text", mixed, body))
		if p.Parts[0].Type != "text/plain" || !strings.Contains(p.Parts[0].Text, "Hej Ærø") || strings.Contains(p.Parts[0].Text, "steal") {
			t.Errorf("made plain: %+v", p.Parts)
		}
		p, raw := s.read(t, ines, take("clean", mixed, body))
		html := p.Parts[0].Text
		if p.Parts[0].Type != "text/html" || !strings.Contains(html, "evil.example]") || !strings.Contains(html, "Hej Ærø") {
			t.Errorf("cleaned: %s", html)
		}
		for _, bad := range []string{"steal", "onclick", "track.example", "unseen"} {
			if strings.Contains(html, bad) || strings.Contains(raw, bad) {
				t.Errorf("cleaned HTML holds %s: %s", bad, html)
			}
		}
		alternative := strings.Replace(mixed, "mixed", "alternative", 1)
		body = "--b\r\nContent-Type: text/plain; charset=us-ascii\r\nContent-Transfer-Encoding: base64\r\n\r\n" + base64.StdEncoding.EncodeToString([]byte("Hej")) +
			"\r\n--b\r\nContent-Type: text/html; charset=iso-8859-1\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n<body><p>Hej =C6</p></body>\r\n--b--\r\n"
		p, _ = s.read(t, ines, take("footer", alternative, body))
		if !strings.HasPrefix(p.Parts[0].Text, "Hej\n\nSkerry Line, Ærø harbour") || !strings.Contains(p.Parts[1].Text, "Hej Æ</p><p>Skerry Line, Ærø harbour</p>") {
			t.Errorf("with a footer: %+v", p.Parts)
		}
		signed := strings.Replace(mixed, "multipart/mixed", "multipart/signed; protocol=\"application/pgp-signature\"", 1)
		body = "--b\r\nContent-Type: text/plain\r\n\r\nsigned words\r\n--b\r\nContent-Type: application/pgp-signature\r\n\r\nsig\r\n--b--\r\n"
		id := take("footer", signed, body)
		if _, raw := s.read(t, ines, id); !strings.HasSuffix(raw, body) {
			t.Errorf("a signed message was changed:\n%s", raw)
		}
		if out := s.run(t, "trace", "show", id); !strings.Contains(out, "no text was added: the message is signed") {
			t.Errorf("it is not told:\n%s", out)
		}
	})

	t.Run("one message with different fates", func(t *testing.T) {
		id := take("mark", "", "x\r\n", ines, "tomas.vik@skerryline.example", "wren.castell@skerryline.example")
		var mine parsed
		var theirs parsed
		p, err := s.client().Find(context.Background(), map[string][]string{"limit": {"3"}})
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range p.Items {
			for _, d := range m.Deliveries {
				switch {
				case d.Recipient == ines && d.State == mail.Delivered:
					mine, _ = s.read(t, ines, m.ID.String())
				case d.Recipient == "tomas.vik@skerryline.example":
					theirs, _ = s.read(t, d.Recipient, m.ID.String())
				case d.Recipient == "wren.castell@skerryline.example" && (d.State != mail.Bounced || d.Cause != "gate-refuses"):
					t.Errorf("refused for one of them: %+v", d)
				}
			}
		}
		if mine.Subject != "[outside] Gezeiten für Ærø" || fmt.Sprint(mine.Fields["X-Skerry-Mark"]) != "[from outside]" {
			t.Errorf("marked: %q %v", mine.Subject, mine.Fields)
		}
		if theirs.Subject != "Gezeiten für Ærø" || len(theirs.Fields["X-Skerry-Mark"]) != 0 {
			t.Errorf("not marked, and the forged field gone: %q %v", theirs.Subject, theirs.Fields)
		}
		if err := eventually(10*time.Second, func() error {
			for _, m := range s.messages(t, "mx.saltmarsh.example", sender) {
				if strings.Contains(string(m.Content), "not for accounts") {
					return nil
				}
			}
			return fmt.Errorf("%s was not told of %s", sender, id)
		}); err != nil {
			t.Error(err)
		}
	})
}

// A scanner is asked, and what is unsure is not taken for clean.
func TestAScannerIsAsked(t *testing.T) {
	takesLong(t)
	t.Parallel()
	const lookout = "lookout.skerryline.example"
	s := own(t, "scanner", func(c string) string {
		c = strings.Replace(c, "    url: icap:", "    timeout: 700ms\n    size_up_to: 40 KB\n    url: icap:", 1)
		return strings.Replace(c, "\ngates:\n", "\ngates:\n  - {name: unsure, when: {scanner: [none, too_large]}, then: {hold: true}}\n", 1)
	})
	ines, sender := "ines.harrow@skerryline.example", "ada@saltmarsh.example"
	send := func(body string) string {
		t.Helper()
		return s.try(t, sender, marked("none", mixed, "--b\r\n\r\nsee\r\n"+body+"--b--\r\n"), ines)
	}
	for name, body := range map[string]string{
		"Test-File":       file("tides.txt", simnet.TestVirus),
		"Bulk.Lighthouse": "--b\r\n\r\n" + strings.Repeat("tide\r\n", 400) + "Free Lighthouse Oil for everybody\r\n",
	} {
		if got := send(body); !strings.HasPrefix(got, "550 5.7.1 a scanner found") {
			t.Errorf("%s: %s", name, got)
		}
	}
	for range 5 {
		if got := send(""); !strings.HasPrefix(got, "250") {
			t.Errorf("nothing in it: %s", got)
		} else {
			s.until(t, strings.Fields(got)[4], mail.Delivered)
		}
	}
	if n := s.host(t, lookout).Stats.Connections; n > 3 {
		t.Errorf("seven messages took %d connections", n)
	}
	held := func(name, why string, limit time.Duration) {
		t.Helper()
		began := time.Now()
		got := send("")
		if took := time.Since(began); !strings.HasPrefix(got, "250") || took > limit {
			t.Fatalf("%s: %s after %s", name, got, took)
		}
		id := strings.Fields(got)[4]
		s.until(t, id, mail.Held)
		if out := s.run(t, "trace", "show", id); !strings.Contains(out, why) {
			t.Errorf("%s: the history says not %q:\n%s", name, why, out)
		}
	}
	got := send("--b\r\n\r\n" + strings.Repeat(strings.Repeat("x", 70)+"\r\n", 900))
	s.until(t, strings.Fields(got)[4], mail.Held)
	s.behave(t, lookout, `{"greeting": "SSH-2.0-lookout"}`)
	held("another protocol", "no scanner answered: lookout: it answers what is not ICAP", 3*time.Second)
	s.behave(t, lookout, `{"greeting": "", "pause": "3s"}`)
	held("slow", "no scanner answered: lookout", 3*time.Second)
	s.behave(t, lookout, `{"pause": "0s", "closed": true}`)
	held("closed", "connection refused", 3*time.Second)
	held("at rest", "lookout rests after", time.Second)
	if err := eventually(10*time.Second, func() error {
		if out, _, _ := s.gull(t, "snag", "list"); !strings.Contains(out, "scanner lookout") {
			return fmt.Errorf("no snag of the scanner:\n%s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

// Three usual wishes, from commands alone: rehearsed, applied, seen, taken back.
func TestGatesAreSetUpAsANewUserWould(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "wishes", func(c string) string {
		head, rest, _ := strings.Cut(c, "\nlists:\n")
		_, tail, _ := strings.Cut(rest, "\nmailboxes:\n")
		return head + "\nmailboxes:\n" + tail
	})
	ines := "ines.harrow@skerryline.example"
	body := "--b\r\n\r\nsee\r\n" + file("tides.pdf.exe", "MZ"+strings.Repeat("\x00", 200)) + "--b--\r\n"
	program := marked("none", mixed, body)
	eml := filepath.Join(s.dir, "offer.eml")
	if err := os.WriteFile(eml, []byte(strings.ReplaceAll(program, "\r\n", "\n")), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := s.try(t, "x@flotsam.example", program, ines); !strings.HasPrefix(got, "250") {
		t.Fatalf("without gates: %s", got)
	}
	if out := s.run(t, "review"); !strings.Contains(out, "No gate stands against programs") {
		t.Errorf("the review does not miss a gate:\n%s", out)
	}

	s.run(t, "gate", "adopt", "no-programs")
	s.run(t, "gate", "add", "mail to dunlin", "--when-recipients", "dunlin.example", "--then-route", "by provider")
	s.run(t, "gate", "adopt", "office-hours", "--set", "address=tickets@skerryline.example", "--set", "zone=UTC")
	s.run(t, "list", "set", "office hours", "--entries", "2020-01-01 08:00-09:00") // never again
	if _, errOut, code := s.gull(t, "gate", "adopt", "partner", "--set", "domain=x.example"); code == 0 ||
		!strings.Contains(errOut, "route: say it") {
		t.Errorf("an answer is missing: %d %s", code, errOut)
	}
	if _, errOut, code := s.gull(t, "list", "remove", "office hours"); code == 0 || !strings.Contains(errOut, "gate outside office hours") {
		t.Errorf("a list in use was removed: %d %s", code, errOut)
	}
	if _, errOut, code := s.gull(t, "gate", "add", "x", "--when-any-body", "/(/", "--then-hold"); code == 0 || !strings.Contains(errOut, "when.any.body") {
		t.Errorf("a fault does not name its field: %d %s", code, errOut)
	}
	if out := s.run(t, "list", "set", "office hours", "--rename", "opening"); !strings.Contains(out, "renamed") {
		t.Errorf("renamed: %s", out)
	}
	out := s.run(t, "explain", "--draft", "--listener", "edge", "--client", "127.30.0.64", "--from", "x@flotsam.example",
		"--to", ines, "--message", eml)
	if !strings.Contains(out, "MET      1 no programs from outside") || !strings.Contains(out, "550 5.7.1 programs are not taken") {
		t.Errorf("explained:\n%s", out)
	}
	if out := s.run(t, "explain", "--draft", "--listener", "inside", "--from", ines, "--to", "cleo@dunlin.example"); !strings.Contains(out,
		"gate mail to dunlin sends it by route by provider") {
		t.Errorf("explained without the gate's route:\n%s", out)
	}
	if out := s.run(t, "draft", "rehearse"); !strings.Contains(out, "newly REFUSED") || !strings.Contains(out, "refused by gate no programs from outside") {
		t.Errorf("rehearsed:\n%s", out)
	}
	s.run(t, "draft", "apply")

	if got := s.try(t, "x@flotsam.example", program, ines); !strings.HasPrefix(got, "550 5.7.1 programs are not taken by mail here") {
		t.Errorf("a program: %s", got)
	}
	held := s.try(t, "ada@saltmarsh.example", marked("none", "", "x\r\n"), "tickets@skerryline.example")
	s.until(t, strings.Fields(held)[4], mail.Held)
	id := s.out(t, "cleo@dunlin.example")
	if d := s.until(t, id, mail.Delivered); d.Route != "by provider" || d.RouteWhy != "gate mail to dunlin sends it by route by provider" {
		t.Errorf("to dunlin by %s: %s", d.Route, d.RouteWhy)
	}
	if err := eventually(5*time.Second, func() error {
		if out, _, _ := s.gull(t, "trace", "find", "severity:serious"); !strings.Contains(out, "x@flotsam.example") {
			return fmt.Errorf("found: %s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	if out := s.run(t, "list", "state"); !strings.Contains(out, "outside office hours") {
		t.Errorf("who uses a list is not shown:\n%s", out)
	}
	if _, _, code := s.gull(t, "list", "ask", "opening", "now"); code != 4 {
		t.Errorf("a list of hours that are over is open: %d", code)
	}
	s.run(t, "gate", "add", "junk", "--when-senders", "flotsam.example", "--then-discard", "--severity", "critical")
	if _, errOut, code := s.gull(t, "draft", "apply"); code == 0 || !strings.Contains(errOut, "nobody is told") {
		t.Errorf("a gate that discards is applied without a word: %d %s", code, errOut)
	}
	s.run(t, "draft", "apply", "--force", "--why", "nothing but parcels comes from there")
	s.run(t, "gate", "set", "junk", "--about", "agreed with Ines")
	s.run(t, "draft", "apply")
	s.run(t, "revision", "revert", "1", "--why", "tried enough")
	if got := s.try(t, "x@flotsam.example", program, ines); !strings.HasPrefix(got, "250") {
		t.Errorf("after taking it back: %s", got)
	}
}
