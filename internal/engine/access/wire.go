package access

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/transcript"
)

// wire stands between IMAP's protocol library and the connection. It keeps the transcript,
// without credentials and content; it answers the few commands that the library does not
// know; and it sends what the library writes line by line in larger pieces. The library's
// goroutine reads; it or the one that idles writes.
type wire struct {
	net.Conn
	t    *talk
	br   *bufio.Reader
	own  func(tag, name, rest string) (reply string, known bool) // commands that the library does not know
	more string                                                  // capabilities that it does not know
	done func()

	hearing
	asked  atomic.Bool // the library asked for a literal
	secret atomic.Bool // credentials are under way
	idle   atomic.Bool

	mu sync.Mutex
	saying
}

// hearing is where the client's side stands.
type hearing struct {
	pending  []byte // to be given to the library
	literal  int64  // octets of a literal that come next, as they are
	expected int64  // octets of one that come if the library asks for them
	within   bool   // the next line goes on with a command
	long     bool   // the next piece goes on with a line
	first    []byte // a command that was read before the library began
	hidden   bool   // the command that is under way holds credentials
}

// saying is where our side stands.
type saying struct {
	waiting bool // for the client: what is written is sent at once
	out     []byte
	err     error
	said    said
	mute    bool // the library's greeting is left out: there was one before
}

// Bounds of the wire.
const (
	maxLine     = 8 << 10  // octets of a line that is looked at; longer ones pass as they are
	maxOut      = 32 << 10 // octets that wait to be sent
	maxInline   = 4096     // of a literal that nobody was asked for (LITERAL-, RFC 7888)
	sendTimeout = time.Minute
)

var literalEnd = regexp.MustCompile(`~?\{(\d{1,19})(\+?)\}$`)

// errLiteral ends a session whose client sends more than it may without asking.
var errLiteral = errors.New("a literal that was not asked for is larger than 4096 octets")

// SetWriteDeadline does nothing: send sets its own.
func (w *wire) SetWriteDeadline(time.Time) error { return nil }

// Close ends the session.
func (w *wire) Close() error {
	w.mu.Lock()
	_ = w.send()
	w.mu.Unlock()
	err := w.Conn.Close()
	w.done()
	return err
}

// Read gives the library what the client says.
func (w *wire) Read(p []byte) (int, error) {
	for {
		switch {
		case len(w.pending) > 0:
			n := copy(p, w.pending)
			w.pending = w.pending[n:]
			return n, nil
		case w.literal > 0:
			w.await(true)
			n, err := w.br.Read(p[:min(int64(len(p)), w.literal)])
			w.await(false)
			w.literal -= int64(n)
			return n, err
		}
		if w.expected > 0 {
			if w.asked.Swap(false) {
				w.literal, w.expected, w.within = w.expected, 0, true
				continue
			}
			w.expected, w.within = 0, false // it was refused: the next line is a command
		}
		if err := w.nextLine(); err != nil {
			return 0, err
		}
	}
}

// nextLine reads a line and takes it, or leaves it to the library.
func (w *wire) nextLine() error {
	line := w.first
	if w.first = nil; line == nil {
		w.await(w.br.Buffered() == 0)
		piece, err := w.br.ReadSlice('\n')
		w.await(false)
		if len(piece) == 0 ||
			err != nil && !errors.Is(err, bufio.ErrBufferFull) && !errors.Is(err, io.EOF) {
			return err
		}
		line = bytes.Clone(piece)
	}
	goesOn := w.long
	w.long = line[len(line)-1] != '\n'
	if goesOn || w.long && len(line) < maxLine { // the rest of a long line, or of the connection
		w.pending = line
		return nil
	}
	text := strings.TrimRight(string(line), "\r\n")
	if w.heard(text) {
		return nil
	}
	w.pending = line
	if w.long {
		return nil
	}
	m := literalEnd.FindStringSubmatch(text)
	if m == nil || w.idle.Load() || w.secret.Load() {
		w.within = false
		return nil
	}
	size, err := strconv.ParseInt(m[1], 10, 64)
	if err != nil {
		return nil // the library says what is wrong
	}
	if m[2] == "" {
		w.asked.Store(false)
		w.expected = size
		if size == 0 { // nothing comes, and then the rest of the line
			w.within = true
		}
		return nil
	}
	if size > maxInline {
		w.tell("* BYE " + errLiteral.Error() + "\r\n")
		w.t.because(errLiteral.Error())
		return errLiteral
	}
	w.literal, w.within = size, true
	return nil
}

// heard puts a line of the client's on record, and reports whether it was answered here.
func (w *wire) heard(text string) bool {
	switch {
	case w.secret.Load():
		w.t.record.Say(transcript.Client, []byte("(credentials left out)"))
		return false
	case w.within:
		if w.hidden {
			text = "(credentials left out)"
		}
		w.t.record.Say(transcript.Client, []byte("(literal) "+clip(text)))
		return false
	case w.idle.Load():
		w.t.record.Say(transcript.Client, []byte(clip(text)))
		return false
	}
	tag, rest, _ := strings.Cut(text, " ")
	name, rest, _ := strings.Cut(rest, " ")
	w.mu.Lock()
	w.said.untagged = 0
	w.mu.Unlock()
	w.hidden = false
	switch name = strings.ToUpper(name); name {
	case "LOGIN":
		w.hidden = true
		w.t.record.Say(transcript.Client, []byte(tag+" LOGIN (credentials left out)"))
		return false
	case "AUTHENTICATE":
		mechanism, _, _ := strings.Cut(rest, " ")
		w.t.record.Say(transcript.Client, []byte(tag+" AUTHENTICATE "+clip(mechanism)))
		w.secret.Store(true) // until the library answers
		return false
	}
	w.t.record.Say(transcript.Client, []byte(w.shown(name, text)))
	if w.own == nil || w.long || literalEnd.MatchString(text) {
		return false
	}
	reply, known := w.own(tag, name, rest)
	if known {
		w.tell(reply)
	}
	return known
}

// harmless are the commands before sign-in that hold no credentials.
var harmless = []string{"CAPABILITY", "NOOP", "ID", "LOGOUT", "STARTTLS", "ENABLE"}

// shown is a line as it goes on record. Before sign-in a line that is no command may be a
// password in the wrong place.
func (w *wire) shown(name, text string) string {
	if w.t.account.Load() == nil && !slices.Contains(harmless, name) {
		return leftOut(text)
	}
	return clip(text)
}

func leftOut(text string) string {
	return fmt.Sprintf("(a line of %d octets that is no command here, left out)", len(text))
}

// clip cuts a line to what a transcript needs of it.
func clip(text string) string {
	const most = 400
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most], "") + " …"
}

// await says whether the client is waited for: then what was written is sent.
func (w *wire) await(on bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.waiting = on; on {
		_ = w.send()
	}
}

// Write takes what the library says.
func (w *wire) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err != nil {
		return 0, w.err
	}
	n := len(p)
	if w.mute {
		if end := bytes.IndexByte(p, '\n'); end >= 0 {
			p, w.mute = p[end+1:], false
		} else {
			p = nil
		}
	}
	w.out = append(w.out, w.said.hear(w, p)...)
	if w.waiting || len(w.out) >= maxOut {
		return n, w.send()
	}
	return n, nil
}

// tell says something of our own.
func (w *wire) tell(text string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.said.hear(w, []byte(text))
	w.out = append(w.out, text...)
}

// send sends what waits. mu is held.
func (w *wire) send() error {
	if len(w.out) == 0 || w.err != nil {
		return w.err
	}
	_ = w.Conn.SetWriteDeadline(time.Now().Add(sendTimeout))
	_, w.err = w.Conn.Write(w.out)
	if w.out = w.out[:0]; cap(w.out) > maxOut {
		w.out = nil
	}
	return w.err
}

// said follows what is written: lines, and literals between them.
type said struct {
	line     []byte // so far
	literal  int64  // octets that come next
	untagged int    // lines that answer the command under way
}

// maxUntagged is how many lines of an answer are put on record.
const maxUntagged = 40

// hear puts what is written on record, and gives it back with the capabilities added that
// the library does not know. mu of the wire is held.
func (s *said) hear(w *wire, p []byte) []byte {
	var out []byte
	begin := 0
	for i := 0; i < len(p); {
		if s.literal > 0 {
			n := min(s.literal, int64(len(p)-i))
			s.literal -= n
			i += int(n)
			continue
		}
		end := bytes.IndexByte(p[i:], '\n')
		if end < 0 {
			s.line = appendUpTo(s.line, p[i:])
			break
		}
		whole := len(s.line) == 0
		s.line = appendUpTo(s.line, bytes.TrimRight(p[i:i+end+1], "\r\n"))
		text := string(s.line)
		if whole && w.more != "" && lists(text) {
			out = append(out, p[begin:i]...)
			out = append(out, addCapabilities(text, w.more)...)
			out = append(out, "\r\n"...)
			begin = i + end + 1
		}
		i += end + 1
		s.line = s.line[:0]
		s.note(w, text)
	}
	if begin == 0 {
		return p
	}
	return append(out, p[begin:]...)
}

func appendUpTo(line, piece []byte) []byte {
	if room := maxLine - len(line); len(piece) > room {
		// The end of a line says whether a literal follows.
		keep := min(len(piece), 64)
		return append(
			append(line[:min(len(line), maxLine-64)], "… "...),
			piece[len(piece)-keep:]...)
	}
	return append(line, piece...)
}

// lists reports a line that lists capabilities.
func lists(text string) bool {
	return strings.HasPrefix(text, "* CAPABILITY ") || strings.Contains(text, " OK [CAPABILITY ")
}

func addCapabilities(text, more string) string {
	if at := strings.Index(text, "[CAPABILITY "); at >= 0 {
		if end := strings.IndexByte(text[at:], ']'); end > 0 {
			return text[:at+end] + more + text[at+end:]
		}
	}
	return text + more
}

// note puts a line of ours on record.
func (s *said) note(w *wire, text string) {
	if strings.HasPrefix(text, "+") {
		w.asked.Store(true)
		if w.secret.Load() {
			w.t.record.Say(transcript.Server, []byte("+ (challenge left out)"))
			return
		}
	} else if !strings.HasPrefix(text, "* ") && w.secret.Load() {
		w.secret.Store(false) // sign-in came to its end
	}
	if m := literalEnd.FindStringSubmatch(text); m != nil {
		if size, err := strconv.ParseInt(m[1], 10, 64); err == nil {
			s.literal = size
		}
	}
	if strings.HasPrefix(text, "* ") {
		if s.untagged++; s.untagged > maxUntagged {
			return
		}
	} else if s.untagged > maxUntagged {
		w.t.record.Note("%d more lines of this answer are left out here", s.untagged-maxUntagged)
	}
	w.t.record.Say(transcript.Server, []byte(clip(text)))
	if s.literal > 0 {
		w.t.record.Content(s.literal)
	}
}
