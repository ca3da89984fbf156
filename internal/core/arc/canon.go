package arc

import (
	"bufio"
	"bytes"
	"io"
	"strings"
)

// relaxedField is a field in relaxed form with its CRLF (RFC 6376 section 3.4.2).
func relaxedField(raw []byte) []byte {
	name, value, _ := bytes.Cut(raw, []byte(":"))
	var b bytes.Buffer
	b.Write(bytes.ToLower(bytes.TrimRight(name, " \t")))
	b.WriteByte(':')
	b.Write(bytes.Join(bytes.FieldsFunc(value, isSpace), []byte(" ")))
	b.WriteString("\r\n")
	return b.Bytes()
}

func isSpace(r rune) bool { return r == ' ' || r == '\t' || r == '\r' || r == '\n' }

// withoutProof is a field whose b= is empty: so it stands in what it signs itself.
func withoutProof(raw []byte) []byte {
	name, value, _ := bytes.Cut(raw, []byte(":"))
	tags := strings.Split(string(value), ";")
	for i, tag := range tags {
		if head, _, ok := strings.Cut(tag, "="); ok && strings.TrimSpace(head) == "b" {
			tags[i] = head + "="
		}
	}
	return append(append(bytes.Clone(name), ':'), strings.Join(tags, ";")...)
}

// bodyForm writes a body in the simple or the relaxed form of RFC 6376 section 3.4.
type bodyForm struct {
	out     *bufio.Writer
	relaxed bool
	cr      bool // one that may begin a line end
	space   bool // white space that counts if something follows on its line
	ends    int  // line ends that count if something follows
	any     bool
}

func newBodyForm(w io.Writer, relaxed bool) *bodyForm {
	return &bodyForm{out: bufio.NewWriter(w), relaxed: relaxed}
}

// Write takes a stretch of the body.
func (f *bodyForm) Write(p []byte) (int, error) {
	for _, c := range p {
		if f.cr {
			f.cr = false
			if c == '\n' {
				f.space = false
				f.ends++
				continue
			}
			f.put('\r')
		}
		switch {
		case c == '\r':
			f.cr = true
		case f.relaxed && (c == ' ' || c == '\t'):
			f.space = true
		default:
			f.put(c)
		}
	}
	return len(p), nil
}

func (f *bodyForm) put(c byte) {
	for ; f.ends > 0; f.ends-- {
		_, _ = f.out.WriteString("\r\n")
	}
	if f.space {
		_ = f.out.WriteByte(' ')
		f.space = false
	}
	_ = f.out.WriteByte(c)
	f.any = true
}

// Close ends the body; a hash takes everything without fault.
func (f *bodyForm) Close() error {
	if f.cr {
		f.put('\r')
	}
	if f.any || !f.relaxed {
		_, _ = f.out.WriteString("\r\n")
	}
	return f.out.Flush()
}
