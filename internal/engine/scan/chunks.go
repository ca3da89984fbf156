package scan

import (
	"bufio"
	"io"
	"strconv"
	"strings"
)

// chunks reads a body in chunks (RFC 9112 section 7.1) and leaves what follows it alone.
type chunks struct {
	br   *bufio.Reader
	left int64
	end  bool
}

func newChunks(br *bufio.Reader) *chunks { return &chunks{br: br} }

// Read gives the content.
func (c *chunks) Read(p []byte) (int, error) {
	if c.end {
		return 0, io.EOF
	}
	if c.left == 0 {
		line, err := c.br.ReadSlice('\n')
		if err != nil {
			return 0, err
		}
		size, _, _ := strings.Cut(strings.TrimSpace(string(line)), ";")
		if c.left, err = strconv.ParseInt(strings.TrimSpace(size), 16, 32); err != nil || c.left < 0 {
			return 0, errReply
		}
		if c.left == 0 {
			c.end = true
			return 0, c.trailer()
		}
	}
	n, err := c.br.Read(p[:min(int64(len(p)), c.left)])
	if c.left -= int64(n); c.left == 0 && err == nil {
		_, err = c.br.Discard(2)
	}
	return n, err
}

// trailer reads up to the empty line.
func (c *chunks) trailer() error {
	for {
		line, err := c.br.ReadSlice('\n')
		if err != nil {
			return err
		}
		if strings.TrimSpace(string(line)) == "" {
			return io.EOF
		}
	}
}
