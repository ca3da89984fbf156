// Package smtp is the grammar of the SMTP conversation (RFC 5321): commands with
// their parameters, replies with enhanced codes (RFC 2034, 3463), strict lines
// and the transparent content of DATA. It moves no bytes by itself: it works on
// the readers and writers it is given.
package smtp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Reply is one SMTP reply.
type Reply struct {
	Code int
	// Enhanced is the status code of RFC 3463, such as "5.7.1", or "".
	Enhanced string
	// Lines is the text without codes; at least one line when sent.
	Lines []string
}

// NewReply makes a reply of one line.
func NewReply(code int, enhanced, format string, args ...any) Reply {
	text := format
	if len(args) > 0 {
		text = fmt.Sprintf(format, args...)
	}
	return Reply{Code: code, Enhanced: enhanced, Lines: []string{text}}
}

// Positive reports a completion or intermediate reply (2yz, 3yz).
func (r Reply) Positive() bool { return r.Code >= 200 && r.Code < 400 }

// Done reports a completion reply: RFC 5321 section 4.2.1 has the first digit say
// so, whatever follows it.
func (r Reply) Done() bool { return r.Code >= 200 && r.Code < 300 }

// Transient reports a 4yz reply.
func (r Reply) Transient() bool { return r.Code >= 400 && r.Code < 500 }

// Permanent reports a 5yz reply.
func (r Reply) Permanent() bool { return r.Code >= 500 && r.Code < 600 }

// Text is the reply's text on one line, without codes.
func (r Reply) Text() string { return strings.Join(r.Lines, " ") }

// String is the reply on one line, as people quote it.
func (r Reply) String() string {
	if r.Enhanced == "" {
		return strings.TrimSpace(fmt.Sprintf("%03d %s", r.Code, r.Text()))
	}
	return strings.TrimSpace(fmt.Sprintf("%03d %s %s", r.Code, r.Enhanced, r.Text()))
}

// AppendTo appends the reply's wire form to b.
func (r Reply) AppendTo(b []byte) []byte {
	lines := r.Lines
	if len(lines) == 0 {
		lines = []string{"ok"}
	}
	for i, line := range lines {
		b = strconv.AppendInt(b, int64(r.Code), 10)
		if i < len(lines)-1 {
			b = append(b, '-')
		} else {
			b = append(b, ' ')
		}
		if r.Enhanced != "" {
			b = append(append(b, r.Enhanced...), ' ')
		}
		b = append(append(b, line...), '\r', '\n')
	}
	return b
}

// Bounds on what of one reply is kept, and on what is read to its end at all.
const (
	maxReplyLines = 100
	maxReplyLine  = 2048
	maxReplySize  = 1 << 20
)

// ErrReply reports a reply that is not one, or has no end within a megabyte.
var ErrReply = errors.New("what was received is not an SMTP reply")

// ReadReply reads one reply. Of it at most 100 lines of 2048 octets are kept; it is
// judged by its code all the same. Replies that end their lines with a bare LF are
// read, since a client cannot be smuggled.
func ReadReply(br *bufio.Reader) (Reply, error) { return HearReply(br, func(string) {}) }

// HearReply is ReadReply that also gives each line as it came, without its end.
func HearReply(br *bufio.Reader, heard func(line string)) (Reply, error) {
	var r Reply
	size := 0
	for n := 0; ; n++ {
		line, octets, err := readReplyLine(br)
		if err != nil {
			return r, err
		}
		if size += octets; size > maxReplySize {
			return r, fmt.Errorf("%w: more than %d octets", ErrReply, maxReplySize)
		}
		if n <= maxReplyLines {
			heard(line)
		}
		code, more, text, err := splitReplyLine(line)
		if err != nil {
			return r, err
		}
		if n > 0 && code != r.Code {
			return r, fmt.Errorf("%w: its lines carry the codes %d and %d", ErrReply, r.Code, code)
		}
		r.Code = code
		enhanced, rest := SplitEnhanced(code, text)
		if n == 0 {
			r.Enhanced = enhanced
		}
		if enhanced != "" && enhanced == r.Enhanced {
			text = rest
		}
		if len(r.Lines) < maxReplyLines {
			r.Lines = append(r.Lines, text)
		}
		if !more {
			return r, nil
		}
	}
}

// readReplyLine reads one line, keeps its beginning, and says how long it was.
func readReplyLine(br *bufio.Reader) (line string, octets int, err error) {
	var kept []byte
	for {
		part, err := br.ReadSlice('\n')
		octets += len(part)
		kept = append(kept, part[:min(len(part), maxReplyLine-len(kept))]...)
		switch {
		case err == nil:
			return strings.TrimRight(string(kept), "\r\n"), octets, nil
		case octets > maxReplySize:
			return "", octets, fmt.Errorf("%w: a line is longer than %d octets", ErrReply,
				maxReplySize)
		case !errors.Is(err, bufio.ErrBufferFull):
			if errors.Is(err, io.EOF) && octets > 0 {
				err = io.ErrUnexpectedEOF
			}
			return "", octets, err
		}
	}
}

func splitReplyLine(line string) (code int, more bool, text string, err error) {
	if len(line) < 3 {
		return 0, false, "", fmt.Errorf("%w: %q", ErrReply, line)
	}
	code, convErr := strconv.Atoi(line[:3])
	if convErr != nil || code < 200 || code > 599 {
		return 0, false, "", fmt.Errorf("%w: %q", ErrReply, line)
	}
	if len(line) == 3 {
		return code, false, "", nil
	}
	if line[3] != ' ' && line[3] != '-' {
		return 0, false, "", fmt.Errorf("%w: %q", ErrReply, line)
	}
	return code, line[3] == '-', line[4:], nil
}

// SplitEnhanced takes an enhanced code off the head of a reply's text, if there
// is one whose class agrees with the reply code (RFC 2034 section 4).
func SplitEnhanced(code int, text string) (enhanced, rest string) {
	word, rest, _ := strings.Cut(text, " ")
	if !IsEnhanced(word) || int(word[0]-'0') != code/100 {
		return "", text
	}
	return word, rest
}

// IsEnhanced reports whether s has the form of an enhanced status code.
func IsEnhanced(s string) bool {
	parts := strings.Split(s, ".")
	if len(parts) != 3 || len(parts[0]) != 1 || !strings.Contains("245", parts[0]) {
		return false
	}
	for _, p := range parts[1:] {
		if n, err := strconv.Atoi(p); err != nil || n < 0 || len(p) > 3 || p[0] == '+' ||
			p[0] == '-' {
			return false
		}
	}
	return true
}
