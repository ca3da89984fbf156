package access

import (
	"context"
	"errors"
	"io"

	"gullroute/internal/core/folder"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/parts"
	"gullroute/internal/store"
)

// content is the octets of a message in a folder, at any place: what stands before it, and
// then its pieces, of which one is kept at a time.
type content struct {
	filed store.Filed
	id    ident.ID
	head  []byte
	size  int64 // with the head
	piece []byte
	seq   int
	tree  *folder.Section // once it was asked for
}

// lastRead is the message that was read last: programs read a large one in many steps.
type lastRead struct {
	uid     uint32
	content *content
}

// open makes the content of an item; first is its first piece, if it was read already.
func openContent(filed store.Filed, i *folder.Item, first []byte) *content {
	return &content{
		filed: filed,
		id:    i.Content,
		head:  store.Head(i),
		size:  i.Size,
		piece: first,
		seq:   0,
	}
}

// errMissing reports content that is not there.
var errMissing = errors.New("the content of the message is not there")

// ReadAt reads at a place.
func (c *content) ReadAt(p []byte, off int64) (n int, err error) {
	for n < len(p) {
		at := off + int64(n)
		if at >= c.size {
			return n, io.EOF
		}
		if at < int64(len(c.head)) {
			n += copy(p[n:], c.head[at:])
			continue
		}
		at -= int64(len(c.head))
		seq := int(at / store.PieceSize)
		if c.piece == nil || c.seq != seq {
			ctx, cancel := context.WithTimeout(context.Background(), dbTimeout)
			c.piece, err = c.filed.Piece(ctx, c.id, seq)
			cancel()
			if err != nil {
				c.piece = nil
				if errors.Is(err, store.ErrNotFound) {
					err = errMissing
				}
				return n, err
			}
			c.seq = seq
		}
		within := int(at % store.PieceSize)
		if within >= len(c.piece) {
			return n, errMissing
		}
		n += copy(p[n:], c.piece[within:])
	}
	return n, nil
}

// section reads from one place to another.
func (c *content) section(from, to int64) *io.SectionReader {
	return io.NewSectionReader(c, from, max(to-from, 0))
}

// sections are the parts of the message.
func (c *content) sections() (*folder.Section, error) {
	if c.tree != nil {
		return c.tree, nil
	}
	report, err := parts.Scan(c.section(0, c.size), parts.Options{})
	if err != nil {
		return nil, err
	}
	c.tree = folder.Sections(report.Parts, c.size)
	return c.tree, nil
}
