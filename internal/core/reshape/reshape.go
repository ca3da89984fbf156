// Package reshape carries out what gates change in a message: it says which octets stand in
// place of which others, so that all that is not meant stays as it is, octet by octet.
package reshape

import (
	"bytes"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"slices"
	"strings"

	"gullroute/internal/core/gate"
	"gullroute/internal/core/harmless"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
)

// Edit puts octets in place of those in [From, To).
type Edit struct {
	From, To int64
	New      []byte
	Made     func() io.Reader // in place of New, where it may be much
}

// Content is a message's content, of which any stretch can be read.
type Content interface {
	Stretch(from, to int64) io.Reader
}

// Plan says how to carry out changes in a content that was taken apart; header is its header
// section. Told is what was done and what could not be done, in words.
func Plan(
	c Content,
	header []byte,
	r *parts.Report,
	ch *gate.Changes,
) (edits []Edit, told []string, err error) {
	p := planner{content: c, report: r}
	p.fields(header, ch)
	gone := map[string]bool{}
	for i := range r.Parts {
		part := &r.Parts[i]
		for _, removal := range ch.Remove {
			if _, ok := removal.Meant(part); ok && !gone[part.Path] {
				gone[part.Path] = true
				if err := p.remove(part, removal.By()); err != nil {
					return nil, nil, err
				}
			}
		}
	}
	added := strings.Join(ch.AddText, "\n\n")
	texts := p.toAddTo(added, gone)
	for i := range r.Parts {
		part := &r.Parts[i]
		if part.Container || gone[part.Path] {
			continue
		}
		html := part.Type == "text/html" && ch.Harmless != ""
		if !html && !texts[part.Path] {
			continue
		}
		add := ""
		if texts[part.Path] {
			add = added
		}
		if err := p.rewrite(part, add, ch.Harmless); err != nil {
			return nil, nil, err
		}
	}
	slices.SortStableFunc(p.edits, func(a, b Edit) int { return int(a.From - b.From) })
	return p.edits, p.told, nil
}

type planner struct {
	content Content
	report  *parts.Report
	edits   []Edit
	told    []string
}

func (p *planner) tell(format string, args ...any) {
	p.told = append(p.told, fmt.Sprintf(format, args...))
}

// fields marks the subject and writes fields of the header section.
func (p *planner) fields(header []byte, ch *gate.Changes) {
	end := int64(len(header))
	var added []string
	for _, f := range ch.Fields {
		name, value, _ := strings.Cut(f, ":")
		p.dropFields(header, 0, name)
		added = append(added, name+": "+message.EncodeText(strings.TrimSpace(value))+"\r\n")
	}
	subject := message.Decode(message.ParseHeader(header).First("Subject"))
	mark := ""
	for _, m := range slices.Backward(ch.Mark) {
		if !strings.Contains(subject, m) {
			mark = m + " " + mark
		}
	}
	if mark != "" {
		p.dropFields(header, 0, "Subject")
		added = append(added, "Subject: "+message.EncodeText(mark+subject)+"\r\n")
	}
	if len(added) > 0 {
		p.edits = append(p.edits, Edit{From: end, To: end, New: []byte(strings.Join(added, ""))})
	}
}

// dropFields takes fields of a name out of a header section that begins at start.
func (p *planner) dropFields(section []byte, start int64, name string) {
	at := 0
	for at < len(section) {
		end := at
		for { // a field with its folded lines
			i := bytes.IndexByte(section[end:], '\n')
			if i < 0 {
				end = len(section)
				break
			}
			if end += i + 1; end >= len(section) || section[end] != ' ' && section[end] != '\t' {
				break
			}
		}
		field, _, ok := bytes.Cut(section[at:end], []byte(":"))
		if ok && strings.EqualFold(strings.TrimSpace(string(field)), name) {
			p.edits = append(p.edits, Edit{From: start + int64(at), To: start + int64(end)})
		}
		at = end
	}
}

// remove puts a note in place of a file.
func (p *planner) remove(part *parts.Part, by string) error {
	name := part.Name
	if name == "" {
		name = "without a name (" + part.Type + ")"
	}
	p.tell("attachment %s (%d octets, SHA-256 %s) was taken out", name, part.Size, part.SHA256)
	note := fmt.Sprintf(
		"The attachment %s was taken out by %s.\nSize: %d octets\nSHA-256: %s\n",
		name,
		by,
		part.Size,
		part.SHA256,
	)
	return p.replace(part, "text/plain", nil, note)
}

// toAddTo are the parts at whose end a text is written: the first plain text and the first
// HTML of the message itself.
func (p *planner) toAddTo(text string, gone map[string]bool) map[string]bool {
	out := map[string]bool{}
	if text == "" {
		return out
	}
	plain, html, locked := "", "", false
	for i := range p.report.Parts {
		part := &p.report.Parts[i]
		locked = locked || part.Locked
		if !part.Readable() || part.Locked || part.Nested || gone[part.Path] ||
			part.Size > harmless.MaxHTML {
			continue
		}
		if part.Type == "text/plain" && plain == "" {
			plain = part.Path
		}
		if part.Type == "text/html" && html == "" {
			html = part.Path
		}
	}
	if plain != "" {
		out[plain] = true
	}
	if html != "" {
		out[html] = true
	}
	switch {
	case len(out) > 0:
		p.tell("a text was added at the end")
	case locked:
		p.tell("no text was added: the message is signed or encrypted")
	default:
		p.tell("no text was added: the message has no text")
	}
	return out
}

// rewrite writes a text part anew: harmless, with a text at its end, or both.
func (p *planner) rewrite(part *parts.Part, add, how string) error {
	if part.Size > harmless.MaxHTML {
		p.tell("HTML of %d octets in part %s is too large to be made harmless and was taken out",
			part.Size, part.Path)
		return p.replace(part, "text/plain", nil, "HTML stood here that was too large to be made "+
			"harmless.\n")
	}
	decoded, err := io.ReadAll(io.LimitReader(message.DecodeTransfer(part.Encoding,
		p.content.Stretch(part.Body, part.End)), harmless.MaxHTML))
	if err != nil && part.Broken == "" {
		return err
	}
	kind, params := part.Type, part.Params
	html := kind == "text/html"
	whole := &parts.Part{Type: "text/plain", Params: part.Params}
	text := parts.Text(whole, decoded)
	switch {
	case html && how == "text":
		text, kind, params, html = harmless.Plain(text), "text/plain", nil, false
		p.tell("HTML in part %s was made plain text", part.Path)
	case html && how == "html":
		text, params = harmless.Clean(text), nil
		p.tell("HTML in part %s was cleaned", part.Path)
	}
	if add != "" {
		text = withText(text, add, html)
	}
	return p.replace(part, kind, params, text)
}

// withText is a text with another at its end.
func withText(text, add string, html bool) string {
	if !html {
		return strings.TrimRight(text, "\r\n") + "\n\n" + add + "\n"
	}
	block := "<p>" + strings.ReplaceAll(escape(add), "\n", "<br>\n") + "</p>\n"
	if at := strings.LastIndex(strings.ToLower(text), "</body"); at >= 0 {
		return text[:at] + block + text[at:]
	}
	return text + block
}

func escape(s string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(s)
}

// replace writes a part's content anew as text, with the fields that say so.
func (p *planner) replace(
	part *parts.Part,
	kind string,
	params map[string]string,
	text string,
) error {
	section, err := io.ReadAll(p.content.Stretch(part.Start, part.Body))
	if err != nil {
		return err
	}
	fields, _ := message.SplitHeader(section)
	for _, name := range []string{"Content-Type", "Content-Transfer-Encoding", "Content-MD5"} {
		p.dropFields(fields, part.Start, name)
	}
	if part.Attached() || kind != part.Type {
		p.dropFields(fields, part.Start, "Content-Disposition")
	}
	with := map[string]string{"charset": "utf-8"}
	for _, keep := range []string{"format", "delsp"} {
		if params[keep] != "" {
			with[keep] = params[keep]
		}
	}
	at := part.Start + int64(len(fields))
	head := "Content-Type: " + mime.FormatMediaType(kind, with) +
		"\r\nContent-Transfer-Encoding: quoted-printable\r\n"
	if len(fields) == len(section) { // no empty line stands behind them
		head += "\r\n"
	}
	p.edits = append(p.edits, Edit{From: at, To: at, New: []byte(head)})
	var b bytes.Buffer
	w := quotedprintable.NewWriter(&b)
	text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\n", "\r\n")
	if _, err := io.WriteString(w, text); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	p.edits = append(p.edits, Edit{From: part.Body, To: part.End, New: b.Bytes()})
	return nil
}

// Apply reads a content with its edits made. They are in order and do not overlap.
func Apply(c Content, size int64, edits []Edit) io.Reader {
	var all []io.Reader
	at := int64(0)
	for _, e := range edits {
		if e.From > at {
			all = append(all, c.Stretch(at, e.From))
		}
		switch {
		case e.Made != nil:
			all = append(all, e.Made())
		case len(e.New) > 0:
			all = append(all, bytes.NewReader(e.New))
		}
		at = max(at, e.To)
	}
	if at < size {
		all = append(all, c.Stretch(at, size))
	}
	return io.MultiReader(all...)
}
