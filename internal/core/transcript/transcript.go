// Package transcript keeps what two servers said to each other, line by line, within
// a bound: the beginning and the end of a long transcript are kept, not its middle.
// Credentials and content are never given to it.
package transcript

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"time"

	"gullroute/internal/core/inert"
)

// Who says a line.
type Who byte

// The speakers; a note is ours, about what is not a line of the transcript.
const (
	Client Who = 'c'
	Server Who = 's'
	Note   Who = 'n'
)

// String is the speaker in a word.
func (w Who) String() string {
	switch w {
	case Client:
		return "client"
	case Server:
		return "server"
	}
	return "note"
}

// Bounds, in octets.
const (
	// Usual is how much of a transcript is kept, Watched how much of one that
	// somebody watches.
	Usual   = 64 << 10
	Watched = 1 << 20
	// maxLine is how much of one line is kept.
	maxLine = 2000
)

// Log is a transcript as it grows. A nil log keeps nothing. It is used by one
// goroutine at a time.
type Log struct {
	start time.Time
	limit int
	head  []byte
	// The end is kept in two halves: when last is full, it becomes before, and
	// what was before is forgotten.
	before, last           []byte
	beforeLines, lastLines int
	forgotten              int
}

// New begins a transcript of at most limit octets.
func New(start time.Time, limit int) *Log { return &Log{start: start, limit: limit} }

// Say adds one line without its end, or several with theirs between.
func (l *Log) Say(at time.Time, who Who, text []byte) {
	if l == nil {
		return
	}
	for len(text) > 0 {
		line := text
		if i := indexEnd(text); i >= 0 {
			line, text = text[:i], text[i+2:]
		} else {
			text = nil
		}
		l.add(at, who, line)
	}
}

func indexEnd(text []byte) int {
	for i := 0; i+1 < len(text); i++ {
		if text[i] == '\r' && text[i+1] == '\n' {
			return i
		}
	}
	return -1
}

// Note adds a sentence of ours.
func (l *Log) Note(at time.Time, format string, args ...any) {
	if l != nil {
		l.add(at, Note, fmt.Appendf(nil, format, args...))
	}
}

func (l *Log) add(at time.Time, who Who, line []byte) {
	if l.head == nil {
		l.head = make([]byte, 0, 1024)
	}
	if len(l.head) < l.limit/2 {
		l.head = appendLine(l.head, at.Sub(l.start), who, line)
		return
	}
	if len(l.last) >= l.limit/4 {
		l.forgotten += l.beforeLines
		l.before, l.last = l.last, l.before[:0]
		l.beforeLines, l.lastLines = l.lastLines, 0
	}
	l.last = appendLine(l.last, at.Sub(l.start), who, line)
	l.lastLines++
}

func appendLine(b []byte, at time.Duration, who Who, line []byte) []byte {
	cut := max(len(line)-maxLine, 0)
	return appendKept(b, at, who, cut, line[:len(line)-cut])
}

func appendKept(b []byte, at time.Duration, who Who, cut int, line []byte) []byte {
	b = binary.AppendUvarint(b, uint64(max(at.Microseconds(), 0)))
	b = append(b, byte(who))
	b = binary.AppendUvarint(b, uint64(cut))
	b = binary.AppendUvarint(b, uint64(len(line)))
	return append(b, line...)
}

// Bytes is the transcript in the form that Read reads.
func (l *Log) Bytes() []byte {
	if l == nil {
		return nil
	}
	out := append([]byte(nil), l.head...)
	if l.forgotten > 0 {
		at := time.Duration(0)
		if rest := l.before; len(rest) > 0 {
			us, _ := binary.Uvarint(rest)
			at = time.Duration(us) * time.Microsecond
		}
		out = appendLine(
			out,
			at,
			Note,
			fmt.Appendf(nil, "%d lines left out here: the transcript is longer than %d octets",
				l.forgotten, l.limit),
		)
	}
	return append(append(out, l.before...), l.last...)
}

// Line is one line of a transcript. A line that is no UTF-8 is written with \xNN
// for the octets that are none.
type Line struct {
	At   float64 `json:"at" doc:"Seconds since the session began"`
	Who  string  `json:"who" enum:"client,server,note"`
	Text string  `json:"text"`
	Cut  int     `json:"cut,omitempty" doc:"Octets of the line that were not kept"`
}

// ErrDamaged reports a transcript that cannot be read.
var ErrDamaged = errors.New("the transcript on record is damaged")

// Read reads what Bytes wrote.
func Read(b []byte) ([]Line, error) {
	lines := []Line{}
	for len(b) > 0 {
		us, n := binary.Uvarint(b)
		if n <= 0 || len(b) < n+3 {
			return lines, ErrDamaged
		}
		who := Who(b[n])
		b = b[n+1:]
		cut, n := binary.Uvarint(b)
		if n <= 0 {
			return lines, ErrDamaged
		}
		b = b[n:]
		size, n := binary.Uvarint(b)
		if n <= 0 || size > 4*maxLine || uint64(len(b)-n) < size {
			return lines, ErrDamaged
		}
		lines = append(lines, Line{
			At:   float64(us) / 1e6,
			Who:  who.String(),
			Text: Printable(b[n : n+int(size)]),
			Cut:  int(cut),
		})
		b = b[n+int(size):]
	}
	return lines, nil
}

// Printable writes what would act where it is shown as escapes.
func Printable(line []byte) string { return inert.Text(string(line)) }

// Again writes lines that were read in the form that Read reads, as far as that
// can be told from them.
func Again(lines []Line) []byte {
	var b []byte
	for _, l := range lines {
		who := Note
		switch l.Who {
		case "client":
			who = Client
		case "server":
			who = Server
		}
		b = appendKept(b, time.Duration(math.Round(l.At*1e6))*time.Microsecond, who, l.Cut,
			[]byte(l.Text[:min(len(l.Text), 4*maxLine)]))
	}
	return b
}
