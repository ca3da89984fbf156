package smtp

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
)

// MaxTextLine is the longest line of content, CRLF included (RFC 5321 section
// 4.5.3.1.6).
const MaxTextLine = 1000

// ContentReader reads the content that follows DATA up to the line "." and
// takes the transparency dots off (RFC 5321 section 4.5.2). Only CRLF ends a
// line, and only CRLF "." CRLF ends the content: what a looser reader would take
// for an end is a fault. A fault does not stop the reading, so that the reply
// comes when the client waits for it; it is told by Fault after io.EOF.
type ContentReader struct {
	br    *bufio.Reader
	plain bool // without dots and without a closing line: it ends where br does
	// rest is what the last line still has to give; it points into br's buffer.
	rest      []byte
	atStart   bool // at the start of a line, after a true CRLF
	done      bool
	lineBytes int // of the line so far
	lines     int // complete ones
	fault     *Reply
	err       error
}

// NewContentReader reads the content that br holds next.
func NewContentReader(br *bufio.Reader) *ContentReader {
	return &ContentReader{br: br, atStart: true}
}

// NewPlainReader reads content that came without transparency (RFC 3030), all that br has. A
// CRLF that the last line lacks is added.
func NewPlainReader(br *bufio.Reader) *ContentReader {
	return &ContentReader{br: br, atStart: true, plain: true}
}

// Fault is the first thing wrong with the content's form, or nil.
func (c *ContentReader) Fault() *Reply { return c.fault }

// Read gives content with its CRLFs. It returns io.EOF after the closing line.
func (c *ContentReader) Read(p []byte) (int, error) {
	for len(c.rest) == 0 {
		if c.err != nil {
			return 0, c.err
		}
		if c.done {
			return 0, io.EOF
		}
		c.next()
	}
	n := copy(p, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

// next takes the next line, or the next part of an over-long one.
func (c *ContentReader) next() {
	part, err := c.br.ReadSlice('\n')
	if c.plain && errors.Is(err, io.EOF) {
		if c.done = true; len(part) > 0 || !c.atStart {
			c.lineBytes += len(part)
			c.check(part)
			c.rest = append(slices.Clone(part), '\r', '\n')
		}
		return
	}
	if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		c.err = err
		return
	}
	ended := err == nil
	wasStart := c.atStart
	c.lineBytes += len(part)
	body := part
	if ended {
		body = part[:len(part)-1]
		if c.atStart = len(body) > 0 && body[len(body)-1] == '\r'; c.atStart {
			body = body[:len(body)-1]
		} else {
			c.wrong("line %d ends in a bare LF; only CRLF ends a line", c.lines+1)
		}
	} else {
		c.atStart = false
		// A CR at the buffer's very end may belong to the CRLF: keep it for the
		// next part.
		if part[len(part)-1] == '\r' {
			if c.br.UnreadByte() == nil {
				part, body = part[:len(part)-1], part[:len(part)-1]
				c.lineBytes--
			}
		}
	}
	if !c.plain && wasStart && ended && c.atStart && len(body) == 1 && body[0] == '.' {
		c.done = true
		return
	}
	c.check(body)
	if ended {
		c.lines++
		c.lineBytes = 0
	}
	if !c.plain && wasStart && len(body) > 0 && body[0] == '.' {
		part = part[1:]
	}
	c.rest = part
}

func (c *ContentReader) check(body []byte) {
	if bytes.IndexByte(body, '\r') >= 0 {
		c.wrong("line %d holds a bare CR; only CRLF ends a line", c.lines+1)
	}
	if bytes.IndexByte(body, 0) >= 0 {
		c.wrong("line %d holds a NUL", c.lines+1)
	}
	if c.lineBytes > MaxTextLine+1 { // a transparency dot does not count
		c.wrong("line %d is longer than %d octets (RFC 5321 section 4.5.3.1.6)", c.lines+1,
			MaxTextLine-2)
	}
}

func (c *ContentReader) wrong(format string, args ...any) {
	if c.fault == nil {
		r := NewReply(554, "5.6.0", "%s", fmt.Sprintf(format, args...))
		c.fault = &r
	}
}

// ContentWriter writes content for DATA: it doubles leading dots and closes
// with the line ".". Content must come with CRLFs, as we store it.
type ContentWriter struct {
	bw      *bufio.Writer
	atStart bool
	lastCR  bool
}

// NewContentWriter writes to bw; Close flushes it.
func NewContentWriter(bw *bufio.Writer) *ContentWriter {
	return &ContentWriter{bw: bw, atStart: true}
}

// Write adds content.
func (w *ContentWriter) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		if w.atStart && p[0] == '.' {
			if err := w.bw.WriteByte('.'); err != nil {
				return 0, err
			}
		}
		line := p
		if i := bytes.IndexByte(p, '\n'); i >= 0 {
			line = p[:i+1]
		}
		last := len(line) - 1
		w.atStart = line[last] == '\n' &&
			(last > 0 && line[last-1] == '\r' || last == 0 && w.lastCR)
		w.lastCR = line[last] == '\r'
		if _, err := w.bw.Write(line); err != nil {
			return 0, err
		}
		p = p[len(line):]
	}
	return n, nil
}

// Close writes the closing line, after a CRLF if the content lacks its last.
func (w *ContentWriter) Close() error {
	end := ".\r\n"
	if !w.atStart {
		end = "\r\n.\r\n"
	}
	if _, err := w.bw.WriteString(end); err != nil {
		return err
	}
	return w.bw.Flush()
}
