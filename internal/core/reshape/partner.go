package reshape

import (
	"bytes"
	"encoding/base64"
	"io"
	"mime"
	"mime/quotedprintable"
	"slices"
	"strings"

	"gullroute/internal/core/charset"
	"gullroute/internal/core/harmless"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
)

// Terms are what a partner's programs can read.
type Terms struct {
	Plain   bool   // text only: no HTML
	Charset string // of text; "" leaves it as it is
}

// Any reports that something is to be done.
func (t Terms) Any() bool { return t != Terms{} }

// Partner says how to write a content for a partner's programs, all of it in 7-bit. What is
// signed or encrypted stays as it is.
func Partner(c Content, header []byte, r *parts.Report, t Terms) ([]Edit, []string, error) {
	p := &partner{planner: planner{content: c, report: r}, terms: t,
		dropped: map[int]bool{}, only: -1}
	switch {
	case len(r.Wrong) > 0:
		p.tell("it could not be taken apart (%s) and is sent as it is", r.Wrong[0])
		return nil, p.told, nil
	case len(r.Parts) > 0 && r.Parts[0].Type == "multipart/signed",
		len(r.Parts) > 0 && r.Parts[0].Locked:
		p.tell("it is signed or encrypted and is sent as it is")
		return nil, p.told, nil
	}
	if t.Charset != "" {
		p.text = charset.New(t.Charset)
		p.encodedWords(header)
	}
	if t.Plain {
		p.alternatives()
	}
	for i := range r.Parts {
		if err := p.part(i); err != nil {
			return nil, nil, err
		}
	}
	if p.lost > 0 {
		p.tell("%d characters that %s lacks are written with others", p.lost, p.text.Name())
	}
	slices.SortStableFunc(p.edits, func(a, b Edit) int { return int(a.From - b.From) })
	return p.edits, p.told, nil
}

type partner struct {
	planner
	terms   Terms
	text    *charset.Text // nil leaves charsets
	lost    int
	dropped map[int]bool // parts that are left out
	only    int          // the text that is all of the message from now on; -1 is none
}

// children are the parts that stand directly in a part.
func (p *partner) children(of int) (list []int) {
	for i := of + 1; i < len(p.report.Parts) && p.report.Parts[i].Level > p.report.Parts[of].Level; i++ {
		if p.report.Parts[i].Level == p.report.Parts[of].Level+1 {
			list = append(list, i)
		}
	}
	return list
}

// within visits a part and all that stands in it.
func (p *partner) within(of int, visit func(i int)) {
	visit(of)
	for i := of + 1; i < len(p.report.Parts) && p.report.Parts[i].Level > p.report.Parts[of].Level; i++ {
		visit(i)
	}
}

// alternatives leaves out, where a text stands beside it, what says the same in HTML.
func (p *partner) alternatives() {
	for i := range p.report.Parts {
		if c := &p.report.Parts[i]; c.Type != "multipart/alternative" || !c.Container || c.Locked ||
			p.dropped[i] {
			continue
		}
		children := p.children(i)
		text := slices.IndexFunc(children, func(k int) bool {
			return p.report.Parts[k].Type == "text/plain" && p.report.Parts[k].Readable()
		})
		if text < 0 {
			continue
		}
		if i == 0 && p.report.Parts[children[text]].Size <= harmless.MaxHTML &&
			!slices.ContainsFunc(children, func(k int) bool {
				return k != children[text] && !p.onlyHTML(k)
			}) {
			p.becomes(children[text])
			return
		}
		kept := 0
		for n, k := range children {
			if n == text || !p.onlyHTML(k) {
				kept++
				continue
			}
			from, to := p.report.Parts[k].Start, p.report.Parts[k].End
			if kept > 0 {
				from = p.report.Parts[children[n-1]].End // with the boundary before it
			} else {
				to = p.report.Parts[children[n+1]].Start // with the boundary behind it
			}
			p.edits = append(p.edits, Edit{From: from, To: to})
			p.within(k, func(i int) { p.dropped[i] = true })
			p.tell("HTML in part %s was left out: the same stands there as text",
				p.report.Parts[k].Path)
		}
	}
}

// becomes makes a text the whole message, in place of the alternatives that it stands among.
func (p *partner) becomes(text int) {
	p.only = text
	for i := range p.report.Parts {
		if i != text {
			p.dropped[i] = true
		}
	}
	root, part := &p.report.Parts[0], &p.report.Parts[text]
	p.edits = append(p.edits, Edit{From: root.Body, To: part.Body},
		Edit{From: part.End, To: root.End})
	p.tell("HTML was left out: the same stands in the message as text")
}

// onlyHTML reports a part that is nothing but HTML and the pictures in it.
func (p *partner) onlyHTML(part int) bool {
	only := true
	p.within(part, func(i int) {
		one := &p.report.Parts[i]
		switch {
		case one.Container:
			only = only && (one.Type == "multipart/related" || one.Type == "multipart/alternative")
		case one.Type == "text/html", one.Type == "text/enriched", one.Type == "text/x-amp-html":
			only = only && one.Disposition != "attachment"
		case strings.HasPrefix(one.Type, "image/") && i != part:
			only = only && one.Disposition != "attachment"
		default:
			only = false
		}
	})
	return only
}

// part writes one part as the partner can read it.
func (p *partner) part(i int) error {
	part := &p.report.Parts[i]
	switch {
	case p.dropped[i] || part.Locked || part.Type == "multipart/signed":
		return nil
	case part.Container:
		return p.container(part)
	case part.Readable() && part.Size <= harmless.MaxHTML:
		return p.readable(i)
	}
	return p.file(part)
}

// container takes away that it is 8-bit, and that it belongs to HTML.
func (p *partner) container(part *parts.Part) error {
	related := p.terms.Plain && part.Type == "multipart/related" &&
		strings.EqualFold(part.Params["type"], "text/html")
	if part.Encoding != "8bit" && part.Encoding != "binary" && !related {
		return nil
	}
	var fields []string
	if related {
		fields = append(fields, "Content-Type: "+mime.FormatMediaType("multipart/mixed",
			map[string]string{"boundary": part.Params["boundary"]}))
	}
	gone := []string{"Content-Transfer-Encoding"}
	if related {
		gone = append(gone, "Content-Type")
	}
	return p.head(part, gone, fields)
}

// readable writes a text.
func (p *partner) readable(i int) error {
	part := &p.report.Parts[i]
	raw, err := io.ReadAll(p.content.Stretch(part.Body, part.End))
	if err != nil {
		return err
	}
	decoded, err := io.ReadAll(message.DecodeTransfer(part.Encoding, bytes.NewReader(raw)))
	if err != nil {
		return nil // nobody can read it: it stays
	}
	label := strings.ToLower(part.Params["charset"])
	html := part.Type == "text/html" && p.terms.Plain
	known := label == "" || label == charset.ASCII || p.text != nil && label == p.text.Name()
	if i != p.only && !html && message.IsASCII(raw) && (p.text == nil || known) {
		return nil
	}
	kind, params := part.Type, map[string]string{}
	for _, keep := range []string{"format", "delsp"} {
		if part.Params[keep] != "" {
			params[keep] = part.Params[keep]
		}
	}
	whole := &parts.Part{Type: "text/plain", Params: part.Params}
	text := parts.Text(whole, decoded)
	if html {
		kind, params, text = "text/plain", map[string]string{}, harmless.Plain(text)
		p.tell("HTML in part %s was made plain text", part.Path)
	}
	body := decoded
	switch {
	case p.text != nil:
		lost := 0
		body, lost = p.text.Encode(text)
		p.lost += lost
		label = p.text.Name()
		if label != strings.ToLower(part.Params["charset"]) {
			p.tell("the text of part %s was written in %s", part.Path, label)
		}
	case html:
		body, label = []byte(text), "utf-8"
	}
	if label == "" {
		label = charset.ASCII
	}
	if message.IsASCII(body) && p.text == nil && html {
		label = charset.ASCII
	}
	params["charset"] = label
	encoded, encoding := transfer(body)
	gone := []string{"Content-Type", "Content-Transfer-Encoding", "Content-MD5"}
	at := part
	if i == p.only {
		at, encoded = &p.report.Parts[0], append(bytes.TrimRight(encoded, "\r\n"), "\r\n"...)
	}
	if err := p.head(at, gone, []string{"Content-Type: " + mime.FormatMediaType(kind, params),
		"Content-Transfer-Encoding: " + encoding}); err != nil {
		return err
	}
	p.edits = append(p.edits, Edit{From: part.Body, To: part.End, New: encoded})
	return nil
}

// transfer writes a text for 7-bit: as it is if it may stand so, or quoted-printable.
func transfer(body []byte) (encoded []byte, encoding string) {
	const maxLine = 78 // octets without the end of line, as RFC 5322 recommends
	body = bytes.ReplaceAll(bytes.ReplaceAll(body, []byte("\r\n"), []byte("\n")), []byte("\n"),
		[]byte("\r\n"))
	plain := message.IsASCII(body)
	for line := range bytes.SplitSeq(body, []byte("\r\n")) {
		plain = plain && len(line) <= maxLine && !bytes.ContainsAny(line, "\r\x00")
	}
	if plain {
		return body, "7bit"
	}
	var b bytes.Buffer
	w := quotedprintable.NewWriter(&b)
	_, _ = w.Write(body)
	_ = w.Close()
	return b.Bytes(), "quoted-printable"
}

// file writes in base64 what is 8-bit.
func (p *partner) file(part *parts.Part) error {
	switch part.Encoding {
	case "", "7bit", "8bit", "binary":
	default:
		return nil
	}
	if part.Encoding != "binary" {
		all, err := ascii(p.content.Stretch(part.Body, part.End))
		if err != nil || all && part.Encoding != "8bit" {
			return err
		}
		if all {
			return p.head(part, []string{"Content-Transfer-Encoding"}, nil)
		}
	}
	if strings.HasPrefix(part.Type, "message/") {
		return nil // it may not be encoded (RFC 2046 section 5.2.1)
	}
	if err := p.head(part, []string{"Content-Transfer-Encoding"},
		[]string{"Content-Transfer-Encoding: base64"}); err != nil {
		return err
	}
	p.edits = append(p.edits, Edit{From: part.Body, To: part.End, Made: func() io.Reader {
		return &base64Lines{from: p.content.Stretch(part.Body, part.End)}
	}})
	return nil
}

// head writes fields of a part's header section anew.
func (p *partner) head(part *parts.Part, gone, fields []string) error {
	section, err := io.ReadAll(p.content.Stretch(part.Start, part.Body))
	if err != nil {
		return err
	}
	lines, _ := message.SplitHeader(section)
	for _, name := range gone {
		p.dropFields(lines, part.Start, name)
	}
	if len(fields) == 0 {
		return nil
	}
	if part.Start == 0 && message.ParseHeader(lines).First("MIME-Version") == "" {
		fields = append([]string{"MIME-Version: 1.0"}, fields...)
	}
	head := strings.Join(fields, "\r\n") + "\r\n"
	if len(lines) == len(section) { // no empty line stands behind them
		head += "\r\n"
	}
	at := part.Start + int64(len(lines))
	p.edits = append(p.edits, Edit{From: at, To: at, New: []byte(head)})
	return nil
}

func ascii(r io.Reader) (bool, error) {
	buf := make([]byte, 32<<10)
	for {
		n, err := r.Read(buf)
		if !message.IsASCII(buf[:n]) {
			return false, nil
		}
		if err == io.EOF {
			return true, nil
		}
		if err != nil {
			return false, err
		}
	}
}

// base64Lines reads octets as lines of base64.
type base64Lines struct {
	from io.Reader
	rest []byte
	err  error
}

// Read gives the next octets.
func (b *base64Lines) Read(p []byte) (int, error) {
	for len(b.rest) == 0 {
		if b.err != nil {
			return 0, b.err
		}
		var raw [57]byte // octets that fill a line of 76 characters
		n, err := io.ReadFull(b.from, raw[:])
		if b.err = err; err == io.ErrUnexpectedEOF {
			b.err = io.EOF
		}
		if n > 0 {
			b.rest = append(base64.StdEncoding.AppendEncode(nil, raw[:n]), '\r', '\n')
		}
	}
	n := copy(p, b.rest)
	b.rest = b.rest[n:]
	return n, nil
}
