// Package parts takes a message apart as it streams by (RFC 2045 to 2049): its parts with
// their places in the content, what files are by their octets, what is inside archives, and
// the text that people read. Every loop has a bound; what cannot be read is told.
package parts

import (
	"io"

	"gullroute/internal/core/list"
)

// Bounds of what is looked at. Beyond them a message is told to be unreadable.
const (
	MaxDepth      = 20       // parts within parts
	MaxParts      = 1000     // of a message
	maxPartHeader = 64 << 10 // octets of a part's header section
	maxText       = 256 << 10
	maxMembers    = 2000     // files within archives, in all
	maxNested     = 4        // archives within archives
	maxInflated   = 16 << 20 // octets that are unpacked of a message, in all
	maxRatio      = 100      // unpacked to packed, of what is larger than bombSize
	bombSize      = 1 << 20
	headSize      = 3072 // octets by which a file's kind is found
)

// Part is one part of a message. Start, Body and End are places in the content: where its
// own header section begins, where its body begins, and where the body ends.
type Part struct {
	Path             string // 1.2 is the second part of the first
	Level            int    // of how many parts it stands in
	Start, Body, End int64
	Type             string // as declared, in lower case
	Params           map[string]string
	Encoding         string
	Disposition      string
	Name             string // decoded; "" if it has none
	Locked           bool   // it stands in a signed or encrypted part
	Nested           bool   // it stands in a message that is attached
	Container        bool   // of other parts: it has no content of its own

	// Of a part with content of its own:
	Size   int64 // decoded
	SHA256 string
	File   list.File // what it is
	Inside []Member  // files in an archive
	// What stands against it:
	Encrypted bool   // an archive, or a file in it, that asks for a password
	Bomb      bool   // an archive that unpacks to far more than it is
	Broken    string // why it could not be decoded or looked into; "" if it could
}

// Member is a file inside an archive.
type Member struct {
	Path string // archives passed through and the name, with slashes
	Size int64  // unpacked, as the archive says
	File list.File
}

// Attached reports that a part is a file and not what people read in the first place.
func (p *Part) Attached() bool {
	if p.Container {
		return false
	}
	text := p.Type == "text/plain" || p.Type == "text/html"
	return !text || p.Disposition == "attachment" || p.Name != ""
}

// Readable reports a part that people read.
func (p *Part) Readable() bool { return !p.Container && !p.Attached() }

// Files are the part itself and what is inside it.
func (p *Part) Files(visit func(path string, f list.File) bool) {
	if !visit(p.Name, p.File) {
		return
	}
	for i := range p.Inside {
		if !visit(p.Inside[i].Path, p.Inside[i].File) {
			return
		}
	}
}

// Report is what was found in a message.
type Report struct {
	Parts []Part
	// Text is what people read, in the form in which words are compared.
	Text string
	// Links are where the text leads, each host once, if they were asked for.
	Links []Link
	// Wrong is what makes the message unreadable or ambiguous, in words.
	Wrong []string
}

// Shift moves all places: what stands before the content has another length now.
func (r *Report) Shift(by int64) {
	for i := range r.Parts {
		p := &r.Parts[i]
		if p.Start > 0 { // the message itself begins where it did
			p.Start += by
		}
		p.Body, p.End = p.Body+by, p.End+by
	}
}

// Scratch keeps the octets of one archive while it is looked into.
type Scratch interface {
	io.Writer
	io.ReaderAt
	io.Closer
}

// Options say what is looked for.
type Options struct {
	Text  bool // collect the text
	Links bool // and where it leads; only with Text
	// Files looks into attachments: by their octets, and into archives.
	Files bool
	// Scratch makes room for an archive; nil keeps it in memory.
	Scratch func() (Scratch, error)
}

// memory is a scratch in memory.
type memory struct{ b []byte }

func (m *memory) Write(p []byte) (int, error) {
	m.b = append(m.b, p...)
	return len(p), nil
}

func (m *memory) ReadAt(p []byte, off int64) (int, error) {
	if off >= int64(len(m.b)) {
		return 0, io.EOF
	}
	n := copy(p, m.b[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (m *memory) Close() error { return nil }

func (o Options) scratch() (Scratch, error) {
	if o.Scratch == nil {
		return &memory{}, nil
	}
	return o.Scratch()
}
