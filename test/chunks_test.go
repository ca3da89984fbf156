package test

import (
	"fmt"
	"strings"
	"testing"

	"gullroute/internal/core/mail"
)

// A message that comes in pieces (BDAT, RFC 3030) is the message, with what DATA would make of it,
// and what is wrong with it is told where it is wrong, without losing what is command and what is
// content.
func TestMessagesComeInPieces(t *testing.T) {
	s := world(t)
	const to = "ada@saltmarsh.example"
	begin := func(to ...string) *talk {
		c := dial(t, s.inside, "127.20.1.5")
		c.hear()
		if hello := c.want("250", "EHLO a.skerryline.example"); !strings.Contains(hello, "CHUNKING") {
			t.Fatalf("not offered: %s", hello)
		}
		c.want("250", "MAIL FROM:<ines.harrow@skerryline.example>")
		for _, r := range to {
			c.want("250", "RCPT TO:<"+r+">")
		}
		return c
	}
	chunk := func(text string, last bool) string {
		word := ""
		if last {
			word = " LAST"
		}
		return fmt.Sprintf("BDAT %d%s\r\n%s", len(text), word, text)
	}
	text := message("in pieces") + ".\r\nMAIL FROM:<x@y.example>\r\n" + strings.Repeat("a line of the tide\r\n", 20_000)
	for name, pieces := range map[string][]string{
		"one": {text}, "two, cut in a CRLF": {text[:strings.Index(text, "\r\n")+1], text[strings.Index(text, "\r\n")+1:]},
		"many, all in one write": {text[:10], text[10:9000], text[9000:9001], text[9001:], ""},
	} {
		c := begin(to)
		all := ""
		for i, p := range pieces {
			all += chunk(p, i == len(pieces)-1)
		}
		go c.raw(all)
		reply := ""
		for i := range pieces {
			if reply = c.hear(); i < len(pieces)-1 &&
				!strings.HasPrefix(reply, fmt.Sprintf("250 2.0.0 %d octets", len(pieces[i]))) {
				t.Fatalf("%s: piece %d: %s", name, i, reply)
			}
		}
		if !strings.HasPrefix(reply, "250 2.0.0 accepted as ") {
			t.Fatalf("%s: %s", name, reply)
		}
		s.until(t, strings.Fields(reply)[4], mail.Delivered)
		all = ""
		for _, m := range s.messages(t, "mx.saltmarsh.example", to) {
			if strings.Contains(string(m.Content), "in pieces") {
				all = string(m.Content)
			}
		}
		if !strings.HasSuffix(all, text) {
			t.Errorf("%s: what arrived is another message: %d octets, %.200q", name, len(all), all)
		}
		c.want("250", "MAIL FROM:<ines.harrow@skerryline.example>") // the session is where it should be
	}
	for _, x := range []struct {
		name  string
		steps []string
	}{
		{"after it began, nothing else of the message", []string{chunk("Subject: x\r\n", false), "250", "RCPT TO:<b@saltmarsh.example>\r\n",
			"503 5.5.1", "DATA\r\n", "503 5.5.1", "MAIL FROM:<>\r\n", "503 5.5.1", "NOOP\r\n", "250", "RSET\r\n", "250",
			"MAIL FROM:<>\r\n", "250"}},
		{"a bare LF", []string{chunk("Subject: x\n\nx\n", true), "554 5.6.0 line 1 ends in a bare LF", "RCPT TO:<x@y.example>\r\n", "503"}},
		{"a bare CR over two pieces", []string{chunk("Subject: x\r", false), "250", chunk("x\r\n\r\n", true), "554 5.6.0 line 1 holds a bare CR"}},
		{"a NUL", []string{chunk("Subject: x\x00\r\n\r\n", true), "554 5.6.0"}},
		{"a long line without an end", []string{chunk(strings.Repeat("x", 3000), true), "554 5.6.0 line 1 is longer"}},
		{"no size", []string{"BDAT\r\n", "501 5.5.4"}},
		{"a size below zero", []string{"BDAT -1 LAST\r\n", "501 5.5.4"}},
		{"a size with more", []string{"BDAT 1 LAST NOW\r\n", "501 5.5.4"}},
		{"a size beyond all", []string{"BDAT 99999999999999999999999 LAST\r\n", "501 5.5.4"}},
		{"far too much", []string{"BDAT 99999999999 LAST\r\n", "552 5.3.4"}},
		{"commands in content are content", []string{chunk("RSET\r\nQUIT\r\n", false), "250", chunk("", true), "250 2.0.0 accepted"}},
	} {
		c := begin(to)
		for i := 0; i < len(x.steps); i += 2 {
			c.raw(x.steps[i])
			if reply := c.hear(); !strings.HasPrefix(reply, x.steps[i+1]) {
				t.Errorf("%s: %.60q: %s, want %s", x.name, x.steps[i], reply, x.steps[i+1])
				break
			}
		}
	}
	c := begin()
	c.raw(chunk("Subject: to nobody\r\n\r\n", false) + chunk("x\r\n", true) + "NOOP\r\n")
	for _, want := range []string{"554 5.5.1 no valid recipients", "554 5.5.1 no valid recipients", "250 2.0.0 ok"} {
		if reply := c.hear(); !strings.HasPrefix(reply, want) {
			t.Errorf("to nobody: %s, want %s", reply, want)
		}
	}
	c = dial(t, s.edge, "127.30.0.10")
	c.hear()
	c.raw("EHLO a.example\r\n")
	c.hear()
	c.raw(chunk("MAIL FROM:<x@y.example>\r\n", true) + "QUIT\r\n")
	if a, b := c.hear(), c.hear(); !strings.HasPrefix(a, "503 5.5.1 say MAIL first") || !strings.HasPrefix(b, "221") {
		t.Errorf("without MAIL: %s, %s", a, b)
	}
	lmtp := dial(t, s.lmtp, "127.0.0.1") // RFC 2033: one reply for each recipient, also of what is refused
	lmtp.hear()
	lmtp.want("250", "LHLO a")
	lmtp.want("250", "MAIL FROM:<ada@saltmarsh.example>")
	lmtp.want("250", "RCPT TO:<odile.marr@skerryline.example>")
	lmtp.want("250", "RCPT TO:<tomas.vik@skerryline.example>")
	lmtp.raw(chunk("Subject: x\n", true) + "NOOP\r\n")
	for _, want := range []string{"554 5.6.0", "554 5.6.0", "250 2.0.0 ok"} {
		if reply := lmtp.hear(); !strings.HasPrefix(reply, want) {
			t.Errorf("by LMTP: %s, want %s", reply, want)
		}
	}
	cut := begin(to)
	cut.raw("BDAT 100 LAST\r\nSubject: severedcable\r\n")
	cut.conn.Close()
	s.until0(t, func() error { // that it did not come is on record, with nothing taken
		out := s.run(t, "trace", "find", "--since", "1m", "--state", "refused", "-o", "json")
		if !strings.Contains(out, "did not come to its end") {
			return missing("the refusal of what was cut off")
		}
		return nil
	})
	if out, _, code := s.gull(t, "trace", "find", "severedcable", "--since", "1m"); code != 4 {
		t.Errorf("a message that was cut off was taken: %s", out)
	}
}
