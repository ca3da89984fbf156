package message

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf8"

	"gullroute/internal/core/inert"
)

// FuzzMessage gives any octets to all that reads a message's header and structure.
func FuzzMessage(f *testing.F) {
	for _, text := range []string{"From: a@b.example\r\nSubject: =?utf-8?q?=C3=9Cb?=\r\n\r\nhi\r\n",
		"Message-ID: <\xff@x>\r\nReturn-Path:\r\n <x>\r\n\r\n", " folded first\r\nA: b\r\n",
		"Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: " +
			"text/html\r\n\r\n<script>x</script>\r\n--b--\r\n", "Content-Type: multipart/mixed; " +
			"boundary=\"\"\r\n\r\n--\r\n", "A : b\r\nno field\r\n"} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		section, _ := SplitHeader(content)
		if !bytes.HasPrefix(content, section) {
			t.Fatalf("the section %q does not begin the content", section)
		}
		s := Summarize(section, "mail.skerryline.example")
		for _, text := range []string{s.From, s.Subject, s.MessageID} {
			if !utf8.ValidString(text) || len(text) > 500 || strings.ContainsFunc(text, inert.Acts) {
				t.Errorf("summary %q", text)
			}
		}
		left, dropped := DropFields(section, "Return-Path", "Bcc")
		if h := ParseHeader(left); dropped > 0 && h.Count("Bcc") > 0 &&
			ParseHeader(section).Count("Bcc") <= h.Count("Bcc") {
			t.Errorf("Bcc is left in %q", left)
		}
		for _, p := range Structure(content) {
			if !utf8.ValidString(p.Text) || !utf8.ValidString(p.Name) || len(p.Text) > 2*MaxText {
				t.Errorf("part %+v", p)
			}
		}
		if line := EncodeText(s.Subject); strings.ContainsAny(strings.ReplaceAll(line, "\r\n =?", ""), "\r\n") {
			t.Errorf("%q is written as %q", s.Subject, line)
		}
	})
}
