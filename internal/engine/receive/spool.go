package receive

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"slices"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/message"
	"gullroute/internal/store"
)

// spool takes content: in memory as long as it is small, then in a file that
// has no name, so that nothing is left behind.
type spool struct {
	dir      string
	memory   []byte // all of it, or its head once there is a file
	file     *os.File
	size     int64
	eightBit bool
	// newHead stands in place of the file's first cut octets.
	newHead []byte
	cut     int64
}

// newSpool expects about so many octets.
func newSpool(dir string, expected int) *spool {
	const slack = 512 // for our trace field
	return &spool{
		dir:    dir,
		memory: make([]byte, 0, min(max(expected, 2<<10)+slack, store.PieceSize)),
	}
}

// Write adds content.
func (s *spool) Write(p []byte) (int, error) {
	s.size += int64(len(p))
	if !s.eightBit && !ascii(p) {
		s.eightBit = true
	}
	if s.file == nil && len(s.memory)+len(p) <= store.PieceSize {
		s.memory = append(s.memory, p...)
		return len(p), nil
	}
	if s.file == nil {
		if err := s.toFile(); err != nil {
			return 0, err
		}
	}
	return s.file.Write(p)
}

func (s *spool) toFile() error {
	f, err := os.CreateTemp(s.dir, "content-*")
	if err != nil {
		return err
	}
	_ = os.Remove(f.Name())
	s.file = f
	_, err = f.Write(s.memory)
	return err
}

// head is the first octets, enough for the largest header section we take.
func (s *spool) head() []byte {
	if s.file == nil {
		return s.memory
	}
	head := make([]byte, message.MaxHeader)
	n := copy(head, s.newHead)
	more, _ := s.file.ReadAt(head[n:], s.cut)
	return head[:n+more]
}

// open reads all of it from the start. There is one reader at a time.
func (s *spool) open() io.Reader {
	if s.file == nil {
		return bytes.NewReader(s.memory)
	}
	return io.MultiReader(bytes.NewReader(s.newHead), io.NewSectionReader(s.file, s.cut, 1<<62))
}

// Stretch reads the octets in [from, to).
func (s *spool) Stretch(from, to int64) io.Reader {
	if s.file == nil {
		size := int64(len(s.memory))
		return bytes.NewReader(s.memory[min(from, size):min(to, size)])
	}
	head := int64(len(s.newHead))
	if to <= head {
		return bytes.NewReader(s.newHead[from:to])
	}
	at := max(from, head)
	rest := io.NewSectionReader(s.file, s.cut+at-head, to-at)
	if from >= head {
		return rest
	}
	return io.MultiReader(bytes.NewReader(s.newHead[from:]), rest)
}

// store puts the file's content into the database ahead of its message.
func (s *spool) store(ctx context.Context, contents ContentStore, id ident.ID) error {
	if _, err := s.file.Seek(s.cut, io.SeekStart); err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	return contents.StoreContent(ctx, id, io.MultiReader(bytes.NewReader(s.newHead), s.file))
}

// replaceHead puts a new head in place of the first n octets.
func (s *spool) replaceHead(n int, head []byte) {
	s.size += int64(len(head) - n)
	if s.file != nil {
		s.newHead, s.cut = head, int64(n)
		return
	}
	s.memory = append(slices.Clip(head), s.memory[n:]...)
}

// Close forgets the content.
func (s *spool) Close() {
	if s.file != nil {
		_ = s.file.Close()
	}
}
