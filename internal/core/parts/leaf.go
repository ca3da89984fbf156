package parts

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"regexp"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"

	"gullroute/internal/core/list"
	"gullroute/internal/core/message"
)

// leaf reads a part that has content of its own.
func (s *scanner) leaf(p Part) error {
	body := &leafBody{s: s}
	if s.options.Files || s.options.Text && p.Readable() {
		if err := s.decode(&p, body); err != nil {
			return err
		}
	}
	_, err := io.Copy(io.Discard, struct{ io.Reader }{body})
	p.End = s.off - int64(len(body.held))
	s.report.Parts = append(s.report.Parts, p)
	return err
}

// decode reads a part's content: what kind of file it is, and its text.
func (s *scanner) decode(p *Part, body *leafBody) error {
	in := message.DecodeTransfer(p.Encoding, body)
	head := make([]byte, headSize)
	n, err := io.ReadFull(in, head)
	head = head[:n]
	ended := err == io.EOF || err == io.ErrUnexpectedEOF
	if err != nil && !ended {
		return s.broken(p, body, err)
	}
	p.File = fileOf(p.Name, p.Type, head)
	sum := sha256.New()
	to := []io.Writer{sum}
	var text *limitedBuffer
	if s.options.Text && p.Readable() && s.text.Len() < maxText {
		text = &limitedBuffer{left: maxText}
		to = append(to, text)
	}
	var keep Scratch
	if s.options.Files && unpackable(p.File) {
		if keep, err = s.options.scratch(); err != nil {
			return err
		}
		defer func() { _ = keep.Close() }()
		to = append(to, keep)
	}
	var macros *finder
	if s.options.Files && isOLE(p.File) {
		macros = &finder{}
		to = append(to, macros)
	}
	w := io.MultiWriter(to...)
	if _, err := w.Write(head); err != nil {
		return err
	}
	p.Size = int64(n)
	if !ended {
		more, err := io.Copy(w, in)
		p.Size += more
		if err != nil {
			if fault := s.broken(p, body, err); fault != nil {
				return fault
			}
		}
	}
	p.SHA256 = hex.EncodeToString(sum.Sum(nil))
	if macros != nil && macros.found {
		p.File.Groups = append(p.File.Groups, list.OfficeMacros)
	}
	if keep != nil {
		s.unpack(p, keep)
	}
	if text != nil {
		s.addText(p, text.Bytes())
	}
	return nil
}

// broken tells of a part that cannot be decoded. A fault of reading itself is returned.
func (s *scanner) broken(p *Part, body *leafBody, err error) error {
	if body.err != nil {
		return body.err
	}
	p.Broken = "its " + p.Encoding + " cannot be decoded: " + err.Error()
	s.wrong("part %s: %s", p.Path, p.Broken)
	return nil
}

// limitedBuffer keeps the first octets of what is written to it.
type limitedBuffer struct {
	bytes.Buffer
	left int
}

func (b *limitedBuffer) Write(p []byte) (int, error) {
	n := min(len(p), b.left)
	b.left -= n
	_, _ = b.Buffer.Write(p[:n])
	return len(p), nil
}

// Text is the text of a readable part as people see it, from its decoded octets.
func Text(p *Part, decoded []byte) string {
	text := inUTF8(p, decoded)
	if p.Type == "text/html" {
		return textOfHTML(text)
	}
	return text
}

// inUTF8 is a part's text, whatever its charset. What is no text in its charset is replaced.
func inUTF8(p *Part, decoded []byte) string {
	label := strings.ToLower(p.Params["charset"])
	if label == "" || label == "us-ascii" || label == "utf-8" {
		return strings.ToValidUTF8(string(decoded), "\uFFFD")
	}
	r, err := charset.NewReaderLabel(label, bytes.NewReader(decoded))
	if err != nil {
		return strings.ToValidUTF8(string(decoded), "\uFFFD")
	}
	out, _ := io.ReadAll(r)
	return strings.ToValidUTF8(string(out), "\uFFFD")
}

func (s *scanner) addText(p *Part, decoded []byte) {
	source := inUTF8(p, decoded)
	raw := source
	if p.Type == "text/html" {
		raw = textOfHTML(source)
	}
	if s.options.Links {
		s.addLinks(p, source)
	}
	if p.Type == "text/plain" && s.options.Files {
		s.encodedInText(p, raw)
	}
	folded := list.Fold(raw)
	if room := maxText - s.text.Len(); len(folded) > room {
		folded = strings.ToValidUTF8(folded[:room], "")
	}
	if s.text.Len() > 0 {
		s.text.WriteByte(' ')
	}
	s.text.WriteString(folded)
}

var beginLine = regexp.MustCompile(`(?m)^begin [0-7]{3,4} (\S[^\r\n]*)`)

// encodedInText finds files that stand in a text in an old form (begin … end).
func (s *scanner) encodedInText(p *Part, text string) {
	for _, m := range beginLine.FindAllStringSubmatch(text, 20) {
		if s.members++; s.members > maxMembers {
			return
		}
		name := strings.TrimSpace(m[1])
		p.Inside = append(p.Inside, Member{Path: name, File: fileOf(name, "", nil)})
	}
}

// textOfHTML is what a reader of HTML sees: no scripts, styles or comments, and what is
// hidden as well, since a word may hide there.
func textOfHTML(source string) string {
	var b strings.Builder
	z := html.NewTokenizer(strings.NewReader(source))
	skip := 0
	for {
		switch z.Next() {
		case html.ErrorToken:
			return b.String()
		case html.TextToken:
			if skip == 0 {
				b.Write(z.Text())
			}
		case html.StartTagToken:
			name, _ := z.TagName()
			switch string(name) {
			case "script", "style":
				skip++
			case "b", "i", "em", "strong", "span", "a", "font", "u":
			default:
				b.WriteByte(' ')
			}
		case html.EndTagToken:
			name, _ := z.TagName()
			switch string(name) {
			case "script", "style":
				skip = max(0, skip-1)
			case "b", "i", "em", "strong", "span", "a", "font", "u":
			default:
				b.WriteByte('\n')
			}
		case html.SelfClosingTagToken:
			b.WriteByte(' ')
		}
	}
}
