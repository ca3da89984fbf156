package access

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"strings"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-message/textproto"

	"gullroute/internal/core/directory"
	"gullroute/internal/core/folder"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/message"
)

// Fetch is FETCH (RFC 9051 section 6.4.5). Content streams: of a message one piece is in
// memory at a time.
func (r *reading) Fetch(w *imapserver.FetchWriter, set imap.NumSet, o *imap.FetchOptions) error {
	which, err := r.ranges(set)
	if err != nil {
		return err
	}
	reads := o.Envelope || o.BodyStructure != nil ||
		len(o.BodySection)+len(o.BinarySection)+len(o.BinarySectionSize) > 0
	if err := r.markSeen(which, o); err != nil {
		return err
	}
	for len(which) > 0 {
		limit := itemsAtOnce
		if reads {
			limit = readAtOnce
		}
		var some folder.Ranges
		some, which = which.Take(limit)
		ctx, cancel := asking()
		items, err := r.filed.Items(ctx, r.at.folder.ID, some)
		first := map[ident.ID][]byte{}
		if err == nil && reads {
			first, err = r.firstPieces(items)
		}
		cancel()
		if err != nil {
			return r.answered(err)
		}
		for i := range items {
			if err := r.fetchOne(w, &items[i], first[items[i].Content], o); err != nil {
				return err
			}
		}
	}
	return nil
}

// Contents are read in groups: of so many messages, with so many octets in all.
const (
	readAtOnce   = 64
	octetsAtOnce = 4 << 20
)

// firstPieces reads the first pieces of small messages together.
func (r *reading) firstPieces(items []folder.Item) (map[ident.ID][]byte, error) {
	var ids []ident.ID
	var octets int64
	for i := range items {
		if octets += items[i].Size; octets > octetsAtOnce {
			break
		}
		ids = append(ids, items[i].Content)
	}
	if len(ids) < 2 {
		return nil, nil
	}
	ctx, cancel := asking()
	defer cancel()
	return r.filed.FirstPieces(ctx, ids)
}

// markSeen marks messages as read whose text is asked for without PEEK.
func (r *reading) markSeen(which folder.Ranges, o *imap.FetchOptions) error {
	peeks := true
	for _, s := range o.BodySection {
		peeks = peeks && s.Peek
	}
	for _, s := range o.BinarySection {
		peeks = peeks && s.Peek
	}
	if peeks || len(which) == 0 || r.may(directory.MayAdd) != nil {
		return nil
	}
	ctx, cancel := asking()
	defer cancel()
	changed, err := r.filed.Mark(ctx, r.at.folder.ID, which, folder.Add, folder.Seen, nil)
	if err != nil {
		return r.answered(err)
	}
	if len(changed) > 0 {
		o.Flags = true // they are told with the text
		r.changedHere(r.at.place.mailbox())
	}
	return nil
}

// fetchOne answers for one message.
func (r *reading) fetchOne(
	w *imapserver.FetchWriter,
	i *folder.Item,
	first []byte,
	o *imap.FetchOptions,
) error {
	seq := r.at.view.Seq(i.UID)
	if seq == 0 {
		return nil
	}
	c := openContent(r.filed, i, first)
	if r.last.uid == i.UID && r.last.content.id == i.Content && first == nil {
		c = r.last.content
	}
	// What may fail is made before the line begins, which then must come to its end.
	made, err := r.make(c, o)
	if err != nil {
		r.log.Error("a message could not be read", "uid", i.UID, "message", i.Content, "error", err)
		return no(imap.ResponseCodeUnavailable, "message %d cannot be read just now", seq)
	}
	m := w.CreateMessage(seq)
	if o.UID {
		m.WriteUID(imap.UID(i.UID))
	}
	if o.Flags {
		m.WriteFlags(flagsOf(i))
	}
	if o.InternalDate {
		m.WriteInternalDate(i.Received)
	}
	if o.RFC822Size {
		m.WriteRFC822Size(i.Size)
	}
	if made.envelope != nil {
		m.WriteEnvelope(made.envelope)
	}
	if made.structure != nil {
		m.WriteBodyStructure(made.structure)
	}
	for n, s := range o.BinarySectionSize {
		m.WriteBinarySectionSize(s, uint32(made.sizes[n]))
	}
	for _, b := range made.bodies {
		var to io.WriteCloser
		if b.section != nil {
			to = m.WriteBodySection(b.section, b.size)
		} else {
			to = m.WriteBinarySection(b.binary, b.size)
		}
		if err := b.write(to); err != nil {
			r.log.Error("a message broke off while it was sent", "uid", i.UID, "error", err)
			return err // in the middle of a literal: the connection must end
		}
	}
	if len(made.bodies) > 0 {
		r.last = lastRead{i.UID, c}
		r.server.fetched.Add(1)
	}
	return m.Close()
}

// made is what is to be written of a message.
type made struct {
	envelope  *imap.Envelope
	structure imap.BodyStructure
	sizes     []int64
	bodies    []body
}

// body is a section that is to be written, with its size.
type body struct {
	section *imap.FetchItemBodySection
	binary  *imap.FetchItemBinarySection
	size    int64
	open    func() (io.Reader, error)
	from    int64 // where a partial section begins
}

func (b *body) write(to io.WriteCloser) error {
	in, err := b.open()
	if err != nil {
		return err
	}
	if b.from > 0 {
		if at, ok := in.(io.Seeker); ok {
			_, err = at.Seek(b.from, io.SeekStart)
		} else {
			_, err = io.CopyN(io.Discard, in, b.from)
		}
		if err != nil {
			return err
		}
	}
	if _, err := io.CopyN(to, in, b.size); err != nil {
		return err
	}
	return to.Close()
}

// cut makes a body a part of itself.
func (b *body) cut(p *imap.SectionPartial) {
	if p == nil {
		return
	}
	b.from = min(p.Offset, b.size)
	b.size = min(p.Size, b.size-b.from)
}

// make makes what is asked of a message.
func (r *reading) make(c *content, o *imap.FetchOptions) (m made, err error) {
	if o.Envelope {
		section, err := c.header()
		if err != nil {
			return m, err
		}
		m.envelope = envelope(section)
	}
	if o.BodyStructure != nil {
		tree, err := c.sections()
		if err != nil {
			return m, err
		}
		if m.structure, err = c.shape(tree, 0); err != nil {
			return m, err
		}
	}
	for _, s := range o.BodySection {
		b, err := c.body(s)
		if err != nil {
			return m, err
		}
		m.bodies = append(m.bodies, b)
	}
	for _, s := range o.BinarySection {
		b, err := c.binary(s.Part)
		if err != nil {
			return m, err
		}
		b.binary = s
		b.cut(s.Partial)
		m.bodies = append(m.bodies, b)
	}
	for _, s := range o.BinarySectionSize {
		b, err := c.binary(s.Part)
		if err != nil {
			return m, err
		}
		m.sizes = append(m.sizes, b.size)
	}
	return m, nil
}

// maxSection bounds a header section that is read into memory, in octets.
const maxSection = 1 << 20

// header is the message's header section, with the empty line behind it.
func (c *content) header() ([]byte, error) {
	var buf []byte
	piece := make([]byte, 8<<10)
	for off := int64(0); off < c.size && off < maxSection; {
		n, err := c.ReadAt(piece[:min(int64(len(piece)), c.size-off)], off)
		buf = append(buf, piece[:n]...)
		off += int64(n)
		if section, complete := message.SplitHeader(buf); complete {
			if bytes.HasPrefix(buf[len(section):], []byte("\r\n")) {
				return buf[:len(section)+2], nil
			}
			return section, nil // its body begins without an empty line
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
	}
	return buf, nil
}

// readSection reads a header section between two places.
func (c *content) readSection(from, to int64) ([]byte, error) {
	return io.ReadAll(c.section(from, min(to, from+maxSection)))
}

// body finds a section of the message.
func (c *content) body(s *imap.FetchItemBodySection) (body, error) {
	b := body{section: s}
	named := len(s.HeaderFields)+len(s.HeaderFieldsNot) > 0
	var from, to int64
	switch {
	case len(s.Part) == 0 && s.Specifier == imap.PartSpecifierNone: // the message needs no taking apart
		to = c.size
	case len(s.Part) == 0 && (s.Specifier == imap.PartSpecifierHeader || s.Specifier == imap.PartSpecifierText):
		section, err := c.header()
		if err != nil {
			return b, err
		}
		if to = int64(len(section)); s.Specifier == imap.PartSpecifierText {
			from, to = to, c.size
		}
	default:
		tree, err := c.sections()
		if err != nil {
			return b, err
		}
		var ok bool
		if from, to, ok = tree.Place(s.Part, string(s.Specifier)); !ok {
			from, to = 0, 0 // RFC 9051 section 6.4.5.1: what is not there is empty
		}
	}
	b.size = max(to-from, 0)
	b.open = func() (io.Reader, error) { return c.section(from, to), nil }
	if named {
		section, err := c.readSection(from, to)
		if err != nil {
			return b, err
		}
		chosen := chooseFields(section, lower(s.HeaderFields), lower(s.HeaderFieldsNot))
		b.size = int64(len(chosen))
		b.open = func() (io.Reader, error) { return bytes.NewReader(chosen), nil }
	}
	b.cut(s.Partial)
	return b, nil
}

// chooseFields are the fields of a header section that are named, or that are not, as they
// were written, and the empty line.
func chooseFields(section []byte, named, others []string) []byte {
	var out []byte
	keep := false
	for len(section) > 0 {
		end := bytes.IndexByte(section, '\n') + 1
		if end == 0 {
			end = len(section)
		}
		line := section[:end]
		section = section[end:]
		if len(bytes.TrimRight(line, "\r\n")) == 0 {
			break
		}
		if line[0] != ' ' && line[0] != '\t' {
			name, _, _ := bytes.Cut(line, []byte(":"))
			field := strings.ToLower(strings.TrimSpace(string(name)))
			keep = slices.Contains(named, field) ||
				len(others) > 0 && !slices.Contains(others, field)
		}
		if keep {
			out = append(out, line...)
		}
	}
	return append(out, "\r\n"...)
}

// binary is a part without its transfer encoding (RFC 3516).
func (c *content) binary(path []int) (body, error) {
	tree, err := c.sections()
	if err != nil {
		return body{}, err
	}
	from, to, ok := tree.Place(path, folder.Whole)
	part := tree.At(path)
	if !ok || part == nil {
		return body{open: func() (io.Reader, error) { return bytes.NewReader(nil), nil }}, nil
	}
	encoding := part.Encoding
	if len(path) == 0 || part.Container {
		encoding = ""
	}
	open := func() (io.Reader, error) { return decoded(encoding, c.section(from, to)) }
	in, err := open()
	if err != nil {
		return body{}, err
	}
	size, err := io.Copy(io.Discard, in)
	if err != nil {
		return body{}, no(imap.ResponseCodeUnknownCTE, "a part cannot be decoded: %v", err)
	}
	return body{size: size, open: open}, nil
}

func decoded(encoding string, in io.Reader) (io.Reader, error) {
	switch encoding {
	case "base64", "quoted-printable":
		return message.DecodeTransfer(encoding, in), nil
	case "", "7bit", "8bit", "binary":
		return in, nil
	}
	return nil, no(
		imap.ResponseCodeUnknownCTE,
		"a part is encoded as %q, which nobody can read",
		encoding,
	)
}

// fields reads a header section as the library wants it.
func fields(section []byte) textproto.Header {
	h := textproto.Header{}
	list := message.ParseHeader(section)
	for i := len(list) - 1; i >= 0; i-- { // Add puts before
		h.Add(list[i].Name, list[i].Value)
	}
	return h
}
