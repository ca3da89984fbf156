package smtp

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"
)

func TestContentIsReadStrictly(t *testing.T) {
	long := strings.Repeat("x", 999)
	for _, c := range []struct{ name, in, want, fault string }{
		{"plain", "Subject: a\r\n\r\nhi\r\n.\r\n", "Subject: a\r\n\r\nhi\r\n", ""},
		{"empty", ".\r\n", "", ""},
		{"transparency dots come off", "..a\r\n...\r\n.\r\n", ".a\r\n..\r\n", ""},
		{"LF dot LF does not end it", "a\n.\nb\r\n.\r\n", "a\n.\nb\r\n", "line 1 ends in a bare LF"},
		{"LF dot CRLF does not end it", "a\n.\r\nMAIL FROM:<x>\r\n.\r\n", "a\n.\r\nMAIL FROM:<x>\r\n",
			"line 1 ends in a bare LF"},
		{"CR dot CR does not end it", "a\r.\rb\r\n.\r\n", "a\r.\rb\r\n", "line 1 holds a bare CR"},
		{"CRLF dot CR does not end it", "a\r\n.\rb\r\n.\r\n", "a\r\n\rb\r\n", "line 2 holds a bare CR"},
		{"a NUL is named", "a\r\nb\x00c\r\n.\r\n", "a\r\nb\x00c\r\n", "line 2 holds a NUL"},
		{"998 octets are a line", long[:998] + "\r\n.\r\n", long[:998] + "\r\n", ""},
		{"999 octets with a transparency dot are", "." + "." + long[:997] + "\r\n.\r\n",
			"." + long[:997] + "\r\n", ""},
		{"1001 octets are not", long + "xx\r\n.\r\n", long + "xx\r\n", "line 1 is longer than 998"},
	} {
		for _, size := range []int{16, 17, 1024} { // buffers smaller than a line too
			r := NewContentReader(bufio.NewReaderSize(strings.NewReader(c.in), size))
			got, err := io.ReadAll(r)
			if err != nil || string(got) != c.want {
				t.Errorf("%s (buffer %d): %q, %v; want %q", c.name, size, got, err, c.want)
			}
			fault := ""
			if r.Fault() != nil {
				fault = r.Fault().Text()
			}
			if !strings.Contains(fault, c.fault) || (c.fault == "") != (fault == "") {
				t.Errorf("%s (buffer %d): fault %q, want %q", c.name, size, fault, c.fault)
			}
		}
	}
	if _, err := io.ReadAll(
		NewContentReader(bufio.NewReader(strings.NewReader("cut off\r\n"))),
	); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("content without an end: %v", err)
	}
}

func TestContentSurvivesTheWire(t *testing.T) {
	for _, content := range []string{"", "a\r\n", ".\r\n", "..\r\n.a\r\n\r\n.\r\n", "no last end"} {
		for _, step := range []int{1, 2, 3, 100} {
			var wire bytes.Buffer
			w := NewContentWriter(bufio.NewWriter(&wire))
			for rest := []byte(content); len(rest) > 0; {
				n := min(step, len(rest))
				if _, err := w.Write(rest[:n]); err != nil {
					t.Fatal(err)
				}
				rest = rest[n:]
			}
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
			r := NewContentReader(bufio.NewReader(&wire))
			got, err := io.ReadAll(r)
			want := content
			if want != "" && !strings.HasSuffix(want, "\r\n") {
				want += "\r\n"
			}
			if err != nil || string(got) != want || r.Fault() != nil || wire.Len() > 0 {
				t.Errorf("%q by %d: %q, %v, %v", content, step, got, err, r.Fault())
			}
		}
	}
}

func TestCommandLinesEndInCRLFOnly(t *testing.T) {
	long := strings.Repeat("x", 3000)
	br := bufio.NewReaderSize(strings.NewReader("EHLO a\r\nNOOP\nNO\rOP\r\nNO\x00OP\r\n"+long+"\r\nQUIT\r\n"), 1024)
	for i, want := range []error{nil, ErrBareLF, ErrBareCR, ErrNUL, ErrLongLine, nil, io.EOF} {
		if _, err := ReadCommandLine(br); !errors.Is(err, want) {
			t.Errorf("line %d: %v, want %v", i+1, err, want)
		}
	}
	if _, err := ReadCommandLine(bufio.NewReaderSize(neverEnds{}, 64)); err == nil || errors.Is(err,
		ErrLongLine) {
		t.Errorf("an endless line must end the session: %v", err)
	}
}

type neverEnds struct{}

func (neverEnds) Read(p []byte) (int, error) { return copy(p, "xxxxxxxxxxxxxxxx"), nil }

func TestMailAndRcptParameters(t *testing.T) {
	for _, c := range []struct{ arg, want string }{
		{"FROM:<>", ""},
		{"from: <ines.harrow@skerryline.example> SIZE=100 BODY=8BITMIME", ""},
		{"FROM:<@a.example,@b.example:x@c.example>", ""},
		{`FROM:<"a > b"@c.example>`, ""},
		{"FROM:<x@c.example> RET=HDRS ENVID=QQ+2B1", ""},
		{"FROM:<søren@bølgevik.example> SMTPUTF8", ""},
		{"FROM:<søren@bølgevik.example>", "550 5.6.7"},
		{"FROM:x@c.example", "501 5.5.4"},
		{"FROM:<x@c.example", "501 5.5.4"},
		{"FROM:<x@@c.example>", "501 5.1.7"},
		{"FROM:<x@c.example>SIZE=1", "501 5.5.4"},
		{"FROM:<x@c.example> SIZE=1 SIZE=2", "501 5.5.4"},
		{"FROM:<x@c.example> SIZE=-1", "501 5.5.4"},
		{"FROM:<x@c.example> BODY=BINARYMIME", "501 5.5.4"},
		{"FROM:<x@c.example> SPEED=9", "555 5.5.4"},
		{"TO:<x@c.example>", "501 5.5.4"},
	} {
		_, fault := ParseMail(c.arg, "")
		checkFault(t, "MAIL "+c.arg, fault, c.want)
	}
	for _, c := range []struct{ arg, want string }{
		{"TO:<Postmaster>", ""},
		{"TO:<x@c.example> NOTIFY=SUCCESS,FAILURE ORCPT=rfc822;x+40c.example", ""},
		{"TO:<x@[127.0.0.1]>", ""},
		{"TO:<x@[127.0.0]>", "501 5.1.3"},
		{"TO:<>", "501 5.1.3"},
		{"TO:<x@c.example> NOTIFY=NEVER,DELAY", "501 5.5.4"},
		{"TO:<x@c.example> ORCPT=rfc822", "501 5.5.4"},
		{"TO:<ø@c.example>", "553 5.6.7"},
	} {
		_, fault := ParseRcpt(c.arg, false)
		checkFault(t, "RCPT "+c.arg, fault, c.want)
	}
	m, _ := ParseMail("FROM:<x@c.example> ENVID=QQ+2B1", "")
	if m.EnvID != "QQ+1" || EncodeXtext("QQ+1") != "QQ+2B1" {
		t.Errorf("xtext: %q", m.EnvID)
	}
	r, _ := ParseRcpt("TO:<x@c.example> NOTIFY=DELAY,SUCCESS", false)
	if r.Notify.String() != "SUCCESS,DELAY" || r.Notify.WantsFailure() {
		t.Errorf("notify: %q", r.Notify)
	}
}

func checkFault(t *testing.T, what string, fault *Reply, want string) {
	t.Helper()
	got := ""
	if fault != nil {
		got = fault.String()
	}
	if !strings.HasPrefix(got, want) || (want == "") != (got == "") {
		t.Errorf("%s: %q, want %q", what, got, want)
	}
}

func TestRepliesAreReadAndBounded(t *testing.T) {
	read := func(s string) (Reply, error) { return ReadReply(bufio.NewReaderSize(strings.NewReader(s), 32)) }
	r, err := read("550-5.7.1 your address\r\n550 5.7.1 is on a list\r\n")
	if err != nil || r.Code != 550 || r.Enhanced != "5.7.1" || r.Text() != "your address is on a list" {
		t.Errorf("multi-line: %+v, %v", r, err)
	}
	if r, _ := read("550 4.2.2 full\r\n"); r.Enhanced != "" || r.Text() != "4.2.2 full" {
		t.Errorf("an enhanced code of another class is text: %+v", r)
	}
	for name, s := range map[string]string{
		"no code":       "hello there\r\n",
		"mixed codes":   "250-a\r\n251 b\r\n",
		"endless lines": strings.Repeat("250-x\r\n", maxReplySize/7+2),
		"endless line":  "250 " + strings.Repeat("x", maxReplySize),
		"out of range":  "999 x\r\n",
	} {
		if _, err := read(s); !errors.Is(err, ErrReply) {
			t.Errorf("%s: %v", name, err)
		}
	}
	r, err = read(strings.Repeat("550-5.7.1 listed\r\n", 300) + "550 5.7.1 " + strings.Repeat("x",
		9000) + "\r\n")
	if err != nil || r.Code != 550 || r.Enhanced != "5.7.1" || len(r.Lines) != maxReplyLines ||
		len(r.Lines[0]) > maxReplyLine {
		t.Errorf(
			"a reply beyond the bounds is read in part and judged by its code: %d lines, %d %s, %v",
			len(r.Lines),
			r.Code,
			r.Enhanced,
			err,
		)
	}
	out := Reply{Code: 250, Enhanced: "2.0.0", Lines: []string{"one", "two"}}.AppendTo(nil)
	if string(out) != "250-2.0.0 one\r\n250 2.0.0 two\r\n" {
		t.Errorf("written: %q", out)
	}
}
