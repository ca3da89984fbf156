package receive

import (
	"context"
	"fmt"
	"io"
	"os"

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
}

// newSpool expects about so many octets.
func newSpool(dir string, expected int) *spool {
	const slack = 512 // for our trace field
	return &spool{dir: dir, memory: make([]byte, 0, min(max(expected, 2<<10)+slack, store.PieceSize))}
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
	n, _ := s.file.ReadAt(head, 0)
	return head[:n]
}

// store puts the file's content into the database ahead of its message.
func (s *spool) store(ctx context.Context, contents ContentStore, id ident.ID) error {
	if _, err := s.file.Seek(0, io.SeekStart); err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	return contents.StoreContent(ctx, id, s.file)
}

// Close forgets the content.
func (s *spool) Close() {
	if s.file != nil {
		_ = s.file.Close()
	}
}
