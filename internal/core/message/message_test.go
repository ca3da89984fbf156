package message

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/address"
)

func TestHeadersAreReadAsTheyCome(t *testing.T) {
	section, complete := SplitHeader(
		[]byte(
			"From: Ines\r\n Harrow <ines@x.example>\r\nSUBJECT : =?utf-8?q?Gr=C3=BC=C3=9Fe?= " +
				"=?utf-8?b?IQ==?=\r\nReceived: a\r\nreceived: b\r\n\r\nbody: no\r\n",
		),
	)
	if !complete {
		t.Fatal("the empty line was not found")
	}
	h := ParseHeader(section)
	if len(h) != 4 || h.First("from") != "Ines Harrow <ines@x.example>" || Decode(h.First("Subject")) != "Grüße!" ||
		h.First("body") != "" {
		t.Errorf("%+v", h)
	}
	for in, want := range map[string]struct {
		fields   int
		complete bool
	}{
		"\r\nonly a body\r\n":                 {0, true},
		"no field here\r\n\r\n":               {0, true},
		" folded from the start\r\n\r\n":      {0, true},
		"A: b\r\nnot a field\r\nC: d\r\n\r\n": {1, true},
		"A: b\r\n":                            {1, false},
		"A B: c\r\n\r\n":                      {0, true},
	} {
		section, complete := SplitHeader([]byte(in))
		if h := ParseHeader(section); len(h) != want.fields || complete != want.complete {
			t.Errorf("%q: %d fields, complete %v", in, len(h), complete)
		}
	}
}

func TestDecodedTextIsSafeToShow(t *testing.T) {
	for in, want := range map[string]string{
		"plain":                                 "plain",
		"=?utf-8?q?a=0D=0Ab?=":                  "a  b",
		"=?utf-8?q?=00=1B[31m?=":                "  [31m",
		"=?iso-8859-1?q?bl=E5b=E6r?=":           "blåbær",
		"=?unknown-charset?q?x?=":               "=?unknown-charset?q?x?=",
		"raw \xff\xfe":                          "raw \uFFFD",
		"=?utf-8?b?bm90IGNsb3NlZA":              "=?utf-8?b?bm90IGNsb3NlZA",
		"=?utf-8?q?one?= =?utf-8?q?_word?= end": "one word end",
	} {
		if got := Decode(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}

func TestSummaryCountsHopsAndOurOwn(t *testing.T) {
	ours := "Received: from a by Mail.Skerryline.Example with ESMTP id 1;\r\n\tnow\r\n"
	theirs := "Received: from mail.skerryline.example by mx.saltmarsh.example;\r\n\tnow\r\n"
	long := strings.Repeat("ø", 400)
	s := Summarize(
		[]byte(ours+theirs+ours+"Subject: "+long+"\r\nMessage-ID: <1@x>\r\nFrom: a@b.example\r\n"),
		"mail.skerryline.example",
	)
	if s.Hops != 3 || s.OwnHops != 2 || s.MessageID != "<1@x>" || s.From != "a@b.example" {
		t.Errorf("%+v", s)
	}
	if len(s.Subject) != 500 || !strings.HasSuffix(s.Subject, "ø") {
		t.Errorf("a long subject has %d octets and ends in %q", len(s.Subject), s.Subject[len(s.Subject)-2:])
	}
}

func TestReceivedLine(t *testing.T) {
	at := time.Date(2026, 11, 23, 5, 21, 53, 0, time.UTC)
	to, _ := address.Parse("x@saltmarsh.example")
	utf8, _ := address.Parse("å@saltmarsh.example")
	r := Received{
		Helo:     "machine.skerryline.example",
		Client:   netip.MustParseAddr("127.20.1.5"),
		By:       "mail.skerryline.example",
		Protocol: "ESMTP",
		ID:       "05A",
		For:      to,
		At:       at,
	}
	want := "Received: from machine.skerryline.example ([127.20.1.5])\r\n\tby mail.skerryline.example with " +
		"ESMTP id 05A\r\n\tfor <x@saltmarsh.example>;\r\n\tMon, 23 Nov 2026 05:21:53 +0000\r\n"
	if got := r.String(); got != want {
		t.Errorf("%q", got)
	}
	for _, helo := range []string{"", "a b", "x) by evil (", "new\r\nline", strings.Repeat("x", 300),
		"bücher"} {
		r.Helo = helo
		if got := r.String(); !strings.HasPrefix(got, "Received: from unknown (") {
			t.Errorf("the name %q got into the line: %q", helo, got)
		}
	}
	r.For, r.Client = utf8, netip.MustParseAddr("::ffff:127.20.1.5")
	if got := r.String(); strings.Contains(got, "for <") || !strings.Contains(got, "([127.20.1.5])") {
		t.Errorf("%q", got)
	}
	r.Protocol, r.Client = "UTF8SMTP", netip.MustParseAddr("2001:db8::1")
	if got := r.String(); !strings.Contains(got, "for <å@saltmarsh.example>") ||
		!strings.Contains(got, "([IPv6:2001:db8::1])") {
		t.Errorf("%q", got)
	}
}

func TestEncodedTextStaysOnItsLines(t *testing.T) {
	for _, s := range []string{"plain", "Grüße", "a\r\nBcc: x@y.example", strings.Repeat("long words ", 40),
		strings.Repeat("blåbær ", 40)} {
		got := EncodeText(s)
		for i, line := range strings.Split(got, "\r\n") {
			if len(line) > 900 || i > 0 && !strings.HasPrefix(line, " ") {
				t.Errorf("%.20q: line %d is %q", s, i+1, line)
			}
		}
		unfolded := strings.ReplaceAll(got, "\r\n", "")
		if Decode(unfolded) != strings.Join(strings.Fields(s), " ") {
			t.Errorf("%.20q came back as %q", s, Decode(unfolded))
		}
	}
}
