package parts

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"strings"
	"sync"

	"gullroute/internal/core/inert"
	"gullroute/internal/core/message"
)

// Scan takes the content of a message apart: its header section, then its parts.
func Scan(content io.Reader, o Options) (*Report, error) {
	br := readers.Get().(*bufio.Reader)
	br.Reset(content)
	defer func() {
		br.Reset(nil)
		readers.Put(br)
	}()
	s := &scanner{br: br, options: o, report: &Report{}, inflated: maxInflated}
	if err := s.run(); err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}
	s.report.Text = s.text.String()
	return s.report, nil
}

var readers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, 32<<10) }}

// errEnough ends a scan at one of its bounds.
var errEnough = errors.New("a bound is reached")

// scanner reads a message line by line.
type scanner struct {
	br      *bufio.Reader
	off     int64 // of what is read next
	inLine  bool  // the last piece was no whole line
	eol     int64 // octets at the end of the last line
	closed  []int // containers that ended, up to whose end text of their own may stand
	options Options
	report  *Report
	stack   []container
	text    strings.Builder
	// What is left of the bounds on archives.
	inflated int64
	members  int
}

// container is a part that holds others.
type container struct {
	boundary []byte // with its two hyphens; nil of a message within
	part     int    // its place in the report
	path     string
	n        int // parts so far
	locked   bool
	nested   bool
}

func (s *scanner) wrong(format string, args ...any) {
	const maxWrong = 20
	if len(s.report.Wrong) < maxWrong {
		s.report.Wrong = append(s.report.Wrong, inert.Clip(fmt.Sprintf(format, args...), 300))
	}
}

// run reads parts until the content is at its end.
func (s *scanner) run() error {
	err := s.part(0)
	for err == nil {
		var level int
		var closing bool
		var at int64
		// What stands before a first part, after a last one or in a container's own text
		// belongs to nobody.
		if level, closing, at, err = s.skip(); err != nil {
			break
		}
		s.end(level+1, at)
		if closing {
			s.closed = append(s.closed, s.stack[level].part)
			s.stack = s.stack[:level]
			continue
		}
		s.stack[level].n++
		err = s.part(s.off)
	}
	if errors.Is(err, io.EOF) {
		s.end(0, s.off)
		return nil
	}
	return err
}

// end ends the containers from a level on, and those that were closed before.
func (s *scanner) end(level int, at int64) {
	for _, c := range s.stack[level:] {
		s.closed = append(s.closed, c.part)
	}
	for _, i := range s.closed {
		s.report.Parts[i].End = max(at, s.report.Parts[i].Body)
	}
	s.closed, s.stack = s.closed[:0], s.stack[:level]
}

// line reads the next line, or a piece of a long one; whole says whether it begins a line.
func (s *scanner) line() (piece []byte, whole bool, err error) {
	piece, err = s.br.ReadSlice('\n')
	if len(piece) > 0 && (errors.Is(err, io.EOF) || errors.Is(err, bufio.ErrBufferFull)) {
		err = nil
	}
	whole = !s.inLine
	s.inLine = err == nil && piece[len(piece)-1] != '\n'
	s.off += int64(len(piece))
	s.eol = int64(len(piece) - len(bytes.TrimRight(piece, "\r\n")))
	return piece, whole, err
}

// boundary says which container a line separates the parts of; -1 if it is no boundary.
func (s *scanner) boundary(line []byte) (level int, closing bool) {
	if len(line) < 2 || line[0] != '-' || line[1] != '-' {
		return -1, false
	}
	line = bytes.TrimRight(line, " \t\r\n")
	for i := len(s.stack) - 1; i >= 0; i-- {
		b := s.stack[i].boundary
		if b == nil || !bytes.HasPrefix(line, b) {
			continue
		}
		switch rest := line[len(b):]; {
		case len(rest) == 0:
			return i, false
		case string(rest) == "--":
			return i, true
		}
	}
	return -1, false
}

// skip reads up to the next boundary; at is where the line before it ends.
func (s *scanner) skip() (level int, closing bool, at int64, err error) {
	for {
		at = s.off - min(s.eol, 2)
		piece, whole, err := s.line()
		if err != nil {
			return -1, false, at, err
		}
		if level, closing := s.boundary(piece); whole && level >= 0 {
			return level, closing, at, nil
		}
	}
}

// path is where the part that begins now stands.
func (s *scanner) path() string {
	if len(s.stack) == 0 {
		return "1"
	}
	top := s.stack[len(s.stack)-1]
	n := fmt.Sprint(max(top.n, 1))
	if top.path == "" {
		return n
	}
	return top.path + "." + n
}

// lockedTypes are content that is signed or encrypted as a whole.
var lockedTypes = map[string]bool{
	"application/pkcs7-mime": true, "application/x-pkcs7-mime": true,
	"application/pgp-encrypted": true,
}

// part reads one part that begins at start, up to and without the boundary that ends it.
func (s *scanner) part(start int64) error {
	for {
		if len(s.report.Parts) >= MaxParts {
			s.wrong("it has more than %d parts; the rest was not looked at", MaxParts)
			return errEnough
		}
		header, err := s.header()
		if err != nil {
			return err
		}
		p := s.describe(header)
		p.Path, p.Start, p.Body, p.Level = s.path(), start, s.off, len(s.stack)
		if n := len(s.stack); n > 0 {
			p.Locked, p.Nested = s.stack[n-1].locked, s.stack[n-1].nested
		}
		p.Locked = p.Locked || lockedTypes[p.Type]
		inner, ok := s.enter(&p)
		if !ok {
			return s.leaf(p)
		}
		p.Container, p.End, inner.part = true, -1, len(s.report.Parts)
		s.report.Parts = append(s.report.Parts, p)
		s.stack = append(s.stack, inner)
		if inner.boundary != nil {
			return nil // its parts come with its boundaries
		}
		start = s.off // a message within: its header section is next
	}
}

// enter says what a part holds if it holds others.
func (s *scanner) enter(p *Part) (container, bool) {
	c := container{path: p.Path, locked: p.Locked, nested: p.Nested}
	if len(s.stack) == 0 && strings.HasPrefix(p.Type, "multipart/") {
		c.path = ""
	}
	plain := p.Encoding == "" || p.Encoding == "7bit" || p.Encoding == "8bit" ||
		p.Encoding == "binary"
	switch {
	case p.Type == "multipart/signed" || p.Type == "multipart/encrypted":
		c.locked = true
	case strings.HasPrefix(p.Type, "multipart/"):
	case (p.Type == "message/rfc822" || p.Type == "message/global") && plain:
		c.nested = true
	default:
		return c, false
	}
	if len(s.stack) >= MaxDepth {
		s.wrong("part %s: parts stand within parts more than %d deep; this one was not opened",
			p.Path, MaxDepth)
		return c, false
	}
	if strings.HasPrefix(p.Type, "multipart/") {
		b := p.Params["boundary"]
		if b == "" || len(b) > 200 {
			s.wrong("part %s: %s has no boundary", p.Path, p.Type)
			return c, false
		}
		if !plain {
			s.wrong(
				"part %s: %s is encoded as %s, which is not allowed",
				p.Path,
				p.Type,
				p.Encoding,
			)
		}
		c.boundary = []byte("--" + b)
	}
	return c, true
}

// header reads a part's header section. A boundary within it, or a line that is no field,
// ends it.
func (s *scanner) header() (message.Header, error) {
	var section []byte
	for {
		// What ends the section is looked at before it is taken.
		next, err := s.br.Peek(2)
		if len(next) == 0 {
			if errors.Is(err, io.EOF) && len(section) > 0 {
				break
			}
			return nil, err
		}
		if next[0] == '-' && len(next) > 1 && next[1] == '-' {
			if ahead, _ := s.br.Peek(256); s.atBoundary(ahead) {
				break
			}
		}
		piece, _, err := s.line()
		if err != nil {
			return nil, err
		}
		if len(bytes.TrimRight(piece, "\r\n")) == 0 && !s.inLine {
			break
		}
		limit := maxPartHeader
		if len(s.stack) == 0 {
			limit = 2 * message.MaxHeader
		}
		if len(section)+len(piece) > limit {
			s.wrong("the header section of part %s is larger than %d octets", s.path(), limit)
			return nil, errEnough
		}
		section = append(section, piece...)
	}
	return message.ParseHeader(section), nil
}

func (s *scanner) atBoundary(ahead []byte) bool {
	line, _, _ := bytes.Cut(ahead, []byte("\n"))
	level, _ := s.boundary(line)
	return level >= 0
}

// describe reads what a part says of itself.
func (s *scanner) describe(h message.Header) Part {
	for _, name := range []string{"Content-Type", "Content-Transfer-Encoding"} {
		n := 0
		for _, f := range h {
			if strings.EqualFold(f.Name, name) {
				n++
			}
		}
		if n > 1 {
			s.wrong("part %s has the field %s %d times: programs read it in different ways",
				s.path(), name, n)
		}
	}
	p := Part{Encoding: strings.ToLower(strings.TrimSpace(h.First("Content-Transfer-Encoding")))}
	p.Type, p.Params = mediaType(h.First("Content-Type"))
	if p.Type == "" {
		p.Type = "text/plain"
	}
	var attributes map[string]string
	p.Disposition, attributes = mediaType(h.First("Content-Disposition"))
	if p.Name = attributes["filename"]; p.Name == "" {
		p.Name = p.Params["name"]
	}
	p.Name = inert.Clip(message.Decode(p.Name), 255)
	switch p.Encoding {
	case "", "7bit", "8bit", "binary", "base64", "quoted-printable":
	default:
		s.wrong("part %s is encoded as %q, which nobody can read", s.path(), p.Encoding)
	}
	return p
}

// mediaType reads a media type or a disposition with its parameters (RFC 2045, 2183,
// 2231). What the library refuses is read as mail programs do: loosely.
func mediaType(value string) (string, map[string]string) {
	kind, params, err := mime.ParseMediaType(value)
	if err == nil {
		return kind, params
	}
	head, rest, _ := strings.Cut(value, ";")
	params = map[string]string{}
	for part := range strings.SplitSeq(rest, ";") {
		name, v, ok := strings.Cut(part, "=")
		if name = strings.ToLower(strings.TrimSpace(name)); ok && params[name] == "" {
			params[name] = strings.Trim(strings.TrimSpace(v), `"`)
		}
	}
	return strings.ToLower(strings.TrimSpace(head)), params
}

// leafBody reads the body of a part, up to and without the boundary that ends it and the
// end of line before that. The boundary is left for skip.
type leafBody struct {
	s    *scanner
	rest []byte // to give
	held []byte // an end of line that may belong to the boundary
	done bool
	err  error
	buf  []byte
}

func (l *leafBody) Read(p []byte) (int, error) {
	for len(l.rest) == 0 {
		if l.err != nil {
			return 0, l.err
		}
		if l.done {
			return 0, io.EOF
		}
		l.next()
	}
	n := copy(p, l.rest)
	l.rest = l.rest[n:]
	return n, nil
}

func (l *leafBody) next() {
	s := l.s
	if !s.inLine {
		if next, _ := s.br.Peek(2); len(next) == 2 && next[0] == '-' && next[1] == '-' {
			if ahead, _ := s.br.Peek(256); s.atBoundary(ahead) {
				l.done = true
				return
			}
		}
	}
	piece, _, err := s.line()
	if err != nil {
		if errors.Is(err, io.EOF) {
			l.done = true
			l.rest, l.held = l.held, nil
			return
		}
		l.err = err
		return
	}
	body := bytes.TrimRight(piece, "\n")
	if len(body) < len(piece) {
		body = bytes.TrimSuffix(body, []byte("\r"))
	}
	l.buf = append(append(l.buf[:0], l.held...), body...)
	l.held = append(l.held[:0], piece[len(body):]...)
	l.rest = l.buf
}
