package smtp

import (
	"bufio"
	"bytes"
	"errors"
)

// MaxCommandLine is the longest command line we read, CRLF included: RFC 5321
// asks for 512 octets, and the parameters of its extensions add to that.
// MaxAuthLine is the same for AUTH and the answers that follow it (RFC 4954 section 4).
const (
	MaxCommandLine = 2048
	MaxAuthLine    = 12288
)

// Faults of a command line. The line is consumed, so the conversation can go on.
var (
	ErrBareLF   = errors.New("the line ends in a bare LF; lines end in CRLF")
	ErrBareCR   = errors.New("the line holds a bare CR")
	ErrNUL      = errors.New("the line holds a NUL")
	ErrLongLine = errors.New("the line is too long")
)

// ReadCommandLine reads one line that ends in CRLF, without its end. A fault of
// the line's form is one of the errors above, with what was read of the line; any
// other error is the reader's. The slice is valid until the next read.
func ReadCommandLine(br *bufio.Reader) ([]byte, error) {
	return readLine(br, func(line []byte) int {
		if len(line) >= 5 && bytes.EqualFold(line[:5], []byte("AUTH ")) {
			return MaxAuthLine
		}
		return MaxCommandLine
	})
}

// ReadAuthLine reads a client's answer to a challenge of AUTH in the same way.
func ReadAuthLine(br *bufio.Reader) ([]byte, error) {
	return readLine(br, func([]byte) int { return MaxAuthLine })
}

func readLine(br *bufio.Reader, limitOf func(line []byte) int) ([]byte, error) {
	line, err := br.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) || err == nil && len(line) > limitOf(line) {
		beginning := bytes.Clone(line[:min(len(line), MaxCommandLine)])
		return beginning, skipLine(br, err)
	}
	if err != nil {
		return nil, err
	}
	if len(line) < 2 || line[len(line)-2] != '\r' {
		return line, ErrBareLF
	}
	line = line[:len(line)-2]
	if bytes.IndexByte(line, '\r') >= 0 {
		return line, ErrBareCR
	}
	if bytes.IndexByte(line, 0) >= 0 {
		return line, ErrNUL
	}
	return line, nil
}

// skipLine reads to the end of an over-long line, but not for ever: a line
// without an end of 64 buffers is the reader's own fault.
func skipLine(br *bufio.Reader, err error) error {
	for n := 0; errors.Is(err, bufio.ErrBufferFull); n++ {
		if n == 64 {
			return errors.New("a command line without an end")
		}
		_, err = br.ReadSlice('\n')
	}
	if err != nil {
		return err
	}
	return ErrLongLine
}
