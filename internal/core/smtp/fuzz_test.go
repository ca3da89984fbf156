package smtp

import (
	"bufio"
	"bytes"
	"io"
	"strings"
	"testing"
	"unicode/utf8"

	"gullroute/internal/core/inert"
)

// FuzzCommand gives strangers' lines to all that reads commands: what is taken holds
// nothing that acts, and what is answered and kept stays on its line.
func FuzzCommand(f *testing.F) {
	for _, line := range []string{"EHLO [127.0.0.1", "MAIL FROM:<a@b.example> SIZE=1 ENVID=a+FFb RET=HDRS",
		"RCPT TO:<\"a>\"@b.example> ORCPT=rfc822;a+0D+0Ab NOTIFY=NEVER,SUCCESS", "AUTH\tPLAIN x", "MAIL FROM:<søren@bølgevik.example> SMTPUTF8 AUTH=<>",
		"RCPT TO:<@a,@b:c@d.example>", "mail from: <>", "\x00\xff", "RCPT TO:<postmaster>"} {
		f.Add([]byte(line))
	}
	f.Fuzz(func(t *testing.T, line []byte) {
		if bytes.ContainsAny(line, "\r\n") {
			return // no line
		}
		c := ParseCommand(line)
		shape, _ := Shape(c, len(line))
		if strings.ContainsAny(shape, "\r\n") || len(shape) > len(line)+200 {
			t.Errorf("shape %q", shape)
		}
		m, fault := ParseMail(c.Arg, "skerryline.example")
		checkParsed(t, fault, m.EnvID, m.From.String(), m.Ret)
		r, fault := ParseRcpt(c.Arg, m.UTF8)
		checkParsed(t, fault, r.Orig, r.OrigType, r.To.String())
		if fault == nil {
			again, fault := ParseRcpt("TO:<"+r.To.String()+">", true)
			if r.To.Domain != "" && (fault != nil || again.To != r.To) {
				t.Errorf("%q is read as %q, and that as %q: %v", line, r.To, again.To, fault)
			}
		}
	})
}

func checkParsed(t *testing.T, fault *Reply, texts ...string) {
	if fault != nil {
		if text := string(fault.AppendTo(nil)); strings.Count(text, "\n") != 1 || !strings.HasPrefix(text,
			"5") {
			t.Errorf("reply %q", text)
		}
		return
	}
	for _, s := range texts {
		if !utf8.ValidString(s) || strings.ContainsFunc(s, inert.Acts) {
			t.Errorf("%q was taken", s)
		}
	}
}

// FuzzContent gives any octets to the reader of content: without a fault only CRLF
// ends lines, and what our writer makes of it is read back the same.
func FuzzContent(f *testing.F) {
	for _, text := range []string{"hi\r\n.\r\n", "a\n.\r\nb\r\n.\r\n", "..\r\n.\r\n", "a\r\r\n.\r\n",
		".\r\n", "\x00\r\n.\r\n", strings.Repeat("x", 2000) + "\r\n.\r\n", "a\r\n.\n.\r\n"} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, wire []byte) {
		r := NewContentReader(bufio.NewReaderSize(bytes.NewReader(wire), 16<<10))
		got, err := io.ReadAll(r)
		if err != nil || r.Fault() != nil {
			return
		}
		if rest := bytes.ReplaceAll(got, []byte("\r\n"), nil); bytes.ContainsAny(rest, "\r\n\x00") {
			t.Fatalf("%q gives %q", wire, got)
		}
		var out bytes.Buffer
		bw := bufio.NewWriter(&out)
		w := NewContentWriter(bw)
		_, _ = w.Write(got)
		_ = w.Close()
		_ = bw.Flush()
		again, err := io.ReadAll(NewContentReader(bufio.NewReaderSize(&out, 16<<10)))
		if err != nil || !bytes.Equal(again, got) {
			t.Errorf("%q comes back as %q: %v", got, again, err)
		}
	})
}

// FuzzReply gives any octets to the reader of replies: it ends, within its bounds.
func FuzzReply(f *testing.F) {
	for _, text := range []string{"250 ok\r\n", "550-5.7.1 a\n550 5.7.1 b\n", "250-a\r\n251 b\r\n", "25",
		"250\r\n", "299-\xff\r\n299 \x1b[2J\r\n"} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, wire []byte) {
		r, err := ReadReply(bufio.NewReaderSize(bytes.NewReader(wire), 64))
		if err != nil {
			return
		}
		if r.Code < 200 || r.Code > 599 || len(r.Lines) == 0 || len(r.Lines) > maxReplyLines ||
			r.Enhanced != "" && !IsEnhanced(r.Enhanced) {
			t.Errorf("%q is read as %+v", wire, r)
		}
	})
}
