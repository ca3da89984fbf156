// Package spool keeps content while it is looked at: in memory as long as it is small, then in
// a file that has no name, so that nothing is left behind.
package spool

import (
	"bytes"
	"io"
	"os"
	"slices"

	"gullroute/internal/core/message"
)

// Spool takes content.
type Spool struct {
	Size     int64
	EightBit bool

	dir    string
	small  int    // so many octets stay in memory
	memory []byte // all of it, or its head once there is a file
	file   *os.File
	// newHead stands in place of the file's first cut octets.
	newHead []byte
	cut     int64
}

// New expects about so many octets; up to small octets stay in memory.
func New(dir string, expected, small int) *Spool {
	const slack = 512 // for a trace field
	return &Spool{
		dir:    dir,
		small:  small,
		memory: make([]byte, 0, min(max(expected, 2<<10)+slack, small)),
	}
}

// Write adds content.
func (s *Spool) Write(p []byte) (int, error) {
	s.Size += int64(len(p))
	if !s.EightBit && !message.IsASCII(p) {
		s.EightBit = true
	}
	if s.file == nil && len(s.memory)+len(p) <= s.small {
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

func (s *Spool) toFile() error {
	f, err := os.CreateTemp(s.dir, "content-*")
	if err != nil {
		return err
	}
	_ = os.Remove(f.Name())
	s.file = f
	_, err = f.Write(s.memory)
	return err
}

// Head is the first octets, enough for the largest header section we take.
func (s *Spool) Head() []byte {
	if s.file == nil {
		return s.memory
	}
	head := make([]byte, message.MaxHeader)
	n := copy(head, s.newHead)
	more, _ := s.file.ReadAt(head[n:], s.cut)
	return head[:n+more]
}

// Open reads all of it from the start. There is one reader at a time.
func (s *Spool) Open() io.Reader {
	if s.file == nil {
		return bytes.NewReader(s.memory)
	}
	return io.MultiReader(bytes.NewReader(s.newHead), io.NewSectionReader(s.file, s.cut, 1<<62))
}

// Stretch reads the octets in [from, to).
func (s *Spool) Stretch(from, to int64) io.Reader {
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

// Memory is all of it while it is small; ok is false once it is in a file.
func (s *Spool) Memory() (content []byte, ok bool) { return s.memory, s.file == nil }

// ReplaceHead puts a new head in place of the first n octets.
func (s *Spool) ReplaceHead(n int, head []byte) {
	s.Size += int64(len(head) - n)
	if s.file != nil {
		s.newHead, s.cut = head, int64(n)
		return
	}
	s.memory = append(slices.Clip(head), s.memory[n:]...)
}

// Close forgets the content.
func (s *Spool) Close() {
	if s.file != nil {
		_ = s.file.Close()
	}
}
