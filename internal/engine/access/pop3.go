package access

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/textproto"
	"os"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/folder"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/transcript"
	"gullroute/internal/store"
)

// fetcher is somebody who fetches by POP3 (RFC 1939): the inbox as it was at sign-in.
// Messages are marked as deleted until QUIT, and removed then. Another session may be open on
// the same mailbox: numbers of messages never come to mean others, so no lock is needed.
type fetcher struct {
	popEntry
	popDrop
}

// popEntry is what is said before somebody has signed in, popDrop what is said after; they
// share one counter.
type (
	popEntry struct{ *counter }
	popDrop  struct{ *counter }
)

// counter is what the parts of a fetcher share.
type counter struct {
	*talk
	br      *bufio.Reader
	bw      *bufio.Writer
	errors  int
	closing bool
	utf8    bool   // RFC 6856
	name    string // that USER gave
	folders store.Folders
	filed   store.Filed
	drop    *drop // after sign-in
}

// drop is the inbox of who has signed in.
type drop struct {
	folder folder.Folder
	items  []folder.Item
	gone   map[int]bool // places that are marked as deleted
}

// Bounds of POP3. RFC 1939 section 3 asks for ten minutes at least.
const (
	popLine    = 255 // octets of a command (RFC 2449 section 4), but for answers to AUTH
	popSASL    = 16 << 10
	popTimeout = 10 * time.Minute
	maxDrop    = 200_000 // messages that one session sees; the oldest first
)

func newFetcher(t *talk) *fetcher {
	c := &counter{
		talk:    t,
		folders: store.Folders{DB: t.server.DB},
		filed:   store.Filed{DB: t.server.DB},
	}
	c.reset()
	return &fetcher{popEntry{c}, popDrop{c}}
}

func (f *counter) reset() {
	f.br = bufio.NewReaderSize(f.conn, popSASL)
	f.bw = bufio.NewWriterSize(f.conn, 16<<10)
}

// run is the conversation from greeting to end.
func (both *fetcher) run() {
	f := both.popEntry.counter
	why, broken := "the client closed the connection", true
	defer func() { f.end(why, broken) }()
	f.say("+OK %s POP3 ready", f.conf.GreetingName)
	for !f.closing {
		line, err := f.line()
		if err != nil {
			switch {
			case os.IsTimeout(err):
				why = "the client was silent for too long"
				f.say("-ERR [SYS/TEMP] no command for %s; closing", f.patience())
			case errors.Is(err, bufio.ErrBufferFull):
				why = "a line was too long"
				f.say("-ERR the line is too long; closing")
			}
			_ = f.flush() // the connection is over all the same
			return
		}
		if err := both.command(line); err != nil {
			return
		}
	}
	why, broken = "the client said good-bye", false
	_ = f.flush() // the connection is over all the same
}

// patience is how long the next command may take.
func (f *counter) patience() time.Duration {
	if f.drop == nil {
		return min(f.conf.Limits.CommandTimeout, popTimeout)
	}
	return popTimeout
}

func (f *counter) flush() error {
	_ = f.conn.SetWriteDeadline(time.Now().Add(sendTimeout))
	return f.bw.Flush()
}

// line reads the next line, after our answers were sent.
func (f *counter) line() (string, error) {
	if f.br.Buffered() == 0 {
		if err := f.flush(); err != nil {
			return "", err
		}
	}
	_ = f.conn.SetReadDeadline(time.Now().Add(f.patience()))
	line, err := f.br.ReadSlice('\n')
	return strings.TrimRight(string(line), "\r\n"), err
}

func (f *counter) say(format string, args ...any) {
	line := fmt.Sprintf(format, args...)
	f.record.Say(transcript.Server, []byte(line))
	_, _ = f.bw.WriteString(line + "\r\n")
}

// fault says what is wrong; too many faults end the session.
func (f *counter) fault(format string, args ...any) {
	f.say("-ERR "+format, args...)
	if f.errors++; f.errors >= f.conf.Limits.Errors {
		f.because("the client made too many errors")
		f.say("-ERR too many errors; closing")
		f.closing = true
	}
}

// many are lines that end with a dot.
func (f *counter) many(lines []string) {
	for i, l := range lines {
		if i < maxUntagged {
			f.record.Say(transcript.Server, []byte(l))
		}
		_, _ = f.bw.WriteString(l + "\r\n")
	}
	if len(lines) > maxUntagged {
		f.record.Note("%d more lines of this answer are left out here", len(lines)-maxUntagged)
	}
	_, _ = f.bw.WriteString(".\r\n")
}

// popCommands are the commands, and whether each is for who has signed in (1), has not (-1),
// or anybody (0).
var popCommands = map[string]struct {
	when int
	do   func(f *fetcher, args []string) error
}{
	"CAPA": {0, (*fetcher).capa}, "QUIT": {0, (*fetcher).quit}, "NOOP": {1, (*fetcher).rest},
	"USER": {-1, (*fetcher).user}, "PASS": {-1, (*fetcher).pass}, "AUTH": {-1, (*fetcher).auth},
	"STLS": {-1, (*fetcher).stls}, "UTF8": {-1, (*fetcher).useUTF8}, "STAT": {1, (*fetcher).stat},
	"LIST": {1, (*fetcher).list}, "UIDL": {1, (*fetcher).uidl}, "RETR": {1, (*fetcher).retr},
	"TOP": {1, (*fetcher).top}, "DELE": {1, (*fetcher).dele}, "RSET": {1, (*fetcher).rset},
}

// command answers one command. The error ends the connection.
func (both *fetcher) command(line string) error {
	f := both.popEntry.counter
	word, rest, _ := strings.Cut(line, " ")
	word = strings.ToUpper(word)
	shown := line
	if _, known := popCommands[word]; !known && f.drop == nil {
		shown = leftOut(line)
	}
	if word == "PASS" || word == "AUTH" {
		mechanism, _, _ := strings.Cut(rest, " ")
		if word == "PASS" {
			mechanism = ""
		}
		shown = strings.TrimSpace(word+" "+mechanism) + " (credentials left out)"
	}
	f.record.Say(transcript.Client, []byte(clip(shown)))
	if len(line) > popLine-2 && word != "AUTH" {
		f.fault("a command has at most %d octets (RFC 2449)", popLine)
		return nil
	}
	c, known := popCommands[word]
	switch {
	case !known:
		f.fault("there is no such command")
		return nil
	case c.when > 0 && f.drop == nil:
		f.fault("sign in first")
		return nil
	case c.when < 0 && f.drop != nil:
		f.fault("you are signed in already")
		return nil
	}
	var args []string
	if word == "PASS" { // a password may hold spaces
		args = []string{rest}
	} else {
		args = strings.Fields(rest)
	}
	return c.do(both, args)
}

// capa is CAPA (RFC 2449).
func (f *popEntry) capa([]string) error {
	f.say("+OK")
	lines := []string{"TOP", "UIDL", "RESP-CODES", "AUTH-RESP-CODE", "PIPELINING", "UTF8"}
	if f.drop == nil {
		switch {
		case !f.inClear():
			lines = append(lines, "USER", "SASL "+strings.Join(f.mechanisms(), " "))
		case f.conf.TLS != config.TLSOff:
			lines = append(lines, "STLS")
		}
	}
	f.many(lines)
	return nil
}

func (f *popDrop) rest([]string) error {
	f.say("+OK")
	return nil
}

// stls is STLS (RFC 2595). What stands behind it was sent in the clear, by whomever.
func (f *popEntry) stls([]string) error {
	switch {
	case f.secured != nil:
		f.fault("TLS has begun already")
		return nil
	case f.conf.TLS == config.TLSOff:
		f.fault("there is no TLS here")
		return nil
	case f.br.Buffered() > 0:
		f.because("something was sent behind STLS in the clear")
		f.say("-ERR something was sent behind STLS in the clear; closing")
		f.closing = true
		return nil
	}
	f.say("+OK begin TLS now")
	if err := f.flush(); err != nil {
		return err
	}
	if err := f.secure(); err != nil {
		f.because("the TLS handshake failed: " + err.Error())
		return err
	}
	f.name = ""
	f.reset()
	return nil
}

// useUTF8 is UTF8 (RFC 6856): header fields come as they are.
func (f *popEntry) useUTF8([]string) error {
	f.utf8 = true
	f.say("+OK")
	return nil
}

// open reads the inbox.
func (f *counter) open() error {
	ctx, cancel := asking()
	defer cancel()
	box := f.account.Load().address.String()
	inbox, err := f.folders.Folder(ctx, box, folder.Inbox)
	if err != nil {
		return err
	}
	items, err := f.filed.Oldest(ctx, inbox.ID, maxDrop)
	if err != nil {
		return err
	}
	f.drop = &drop{folder: inbox, items: items, gone: map[int]bool{}}
	return nil
}

// octets are those of messages that are not marked as deleted.
func (d *drop) octets() (n int64) {
	for i := range d.items {
		if !d.gone[i] {
			n += d.items[i].Size
		}
	}
	return n
}

// at finds the message that an argument names; -1 after saying what is wrong.
func (f *popDrop) at(args []string, most int) int {
	if len(args) == 0 || len(args) > most {
		f.fault("write the number of a message")
		return -1
	}
	n, err := strconv.Atoi(args[0])
	switch {
	case err != nil || n < 1 || n > len(f.drop.items):
		f.say("-ERR there is no message %s; there are %d", clip(args[0]), len(f.drop.items))
		return -1
	case f.drop.gone[n-1]:
		f.say("-ERR message %d is marked as deleted", n)
		return -1
	}
	return n - 1
}

func (f *popDrop) stat([]string) error {
	f.say("+OK %d %d", len(f.drop.items)-len(f.drop.gone), f.drop.octets())
	return nil
}

// each says something of one message or of all.
func (f *popDrop) each(args []string, line func(i int) string) error {
	if len(args) > 0 {
		if i := f.at(args, 1); i >= 0 {
			f.say("+OK %s", line(i))
		}
		return nil
	}
	f.say("+OK")
	var lines []string
	for i := range f.drop.items {
		if !f.drop.gone[i] {
			lines = append(lines, line(i))
		}
	}
	f.many(lines)
	return nil
}

func (f *popDrop) list(args []string) error {
	return f.each(
		args,
		func(i int) string { return fmt.Sprintf("%d %d", i+1, f.drop.items[i].Size) },
	)
}

// uidl is UIDL: a number that no other message of the mailbox ever has.
func (f *popDrop) uidl(args []string) error {
	return f.each(args, func(i int) string {
		return fmt.Sprintf("%d %d.%d", i+1, f.drop.folder.ID, f.drop.items[i].UID)
	})
}

func (f *popDrop) dele(args []string) error {
	if i := f.at(args, 1); i >= 0 {
		f.drop.gone[i] = true
		f.say("+OK it goes with QUIT")
	}
	return nil
}

func (f *popDrop) rset([]string) error {
	clear(f.drop.gone)
	f.say("+OK nothing is marked as deleted")
	return nil
}

func (f *popDrop) retr(args []string) error {
	if i := f.at(args, 1); i >= 0 {
		return f.send(i, -1)
	}
	return nil
}

func (f *popDrop) top(args []string) error {
	if len(args) != 2 {
		f.fault("write the number of a message and how many lines of its text")
		return nil
	}
	n, err := strconv.Atoi(args[1])
	if err != nil || n < 0 {
		f.fault("%s is no number of lines", clip(args[1]))
		return nil
	}
	if i := f.at(args, 2); i >= 0 {
		return f.send(i, n)
	}
	return nil
}

// send sends a message, or its header section and so many lines of its text.
func (f *popDrop) send(i, lines int) error {
	item := &f.drop.items[i]
	c := openContent(f.filed, item, nil)
	header, err := c.header()
	if err == nil && int64(len(header)) < c.size {
		_, err = c.ReadAt(make([]byte, 1), int64(len(header))) // it is there still
	}
	if err != nil {
		f.say("-ERR [SYS/TEMP] message %d cannot be read; another program may have deleted it", i+1)
		return nil
	}
	from := int64(len(header))
	if !f.utf8 {
		header = asciiHeader(header)
	}
	f.say("+OK %d octets", item.Size)
	_ = f.conn.SetWriteDeadline(time.Now().Add(popTimeout)) // of the whole message
	dots := textproto.NewWriter(f.bw).DotWriter()
	_, err = dots.Write(header)
	if err == nil {
		err = copyLines(dots, c.section(from, c.size), lines)
	}
	if err != nil {
		return err // in the middle of a message: the connection must end
	}
	f.record.Content(item.Size)
	if err := dots.Close(); err != nil {
		return err
	}
	if lines < 0 {
		f.server.fetched.Add(1)
		f.record.Change(func(s *mail.Session) { s.MessageCount++ })
		f.seen(item)
	}
	return nil
}

// seen marks a message as read, for those who read the mailbox in other ways too.
func (f *popDrop) seen(item *folder.Item) {
	if item.Flags&folder.Seen != 0 {
		return
	}
	ctx, cancel := asking()
	defer cancel()
	_, err := f.filed.Mark(
		ctx,
		f.drop.folder.ID,
		folder.RangesOf([]uint32{item.UID}),
		folder.Add,
		folder.Seen,
		nil,
	)
	if err != nil {
		f.log.Warn("a message could not be marked as read", "error", err)
		return
	}
	item.Flags |= folder.Seen
	f.server.Changes.Changed(f.drop.folder.Mailbox)
}

// copyLines copies so many lines; all if lines is below zero.
func copyLines(to io.Writer, from io.Reader, lines int) error {
	if lines < 0 {
		_, err := io.Copy(to, from)
		return err
	}
	in := bufio.NewReader(from)
	for lines > 0 {
		piece, err := in.ReadSlice('\n')
		if _, err := to.Write(piece); err != nil {
			return err
		}
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case errors.Is(err, bufio.ErrBufferFull): // the line goes on
		case err != nil:
			return err
		default:
			lines--
		}
	}
	return nil
}

// quit is QUIT: what was marked as deleted goes now (RFC 1939 section 6).
func (f *popDrop) quit([]string) error {
	f.closing = true
	if f.drop == nil || len(f.drop.gone) == 0 {
		f.say("+OK good-bye")
		return nil
	}
	var uids []uint32
	for i := range f.drop.items {
		if f.drop.gone[i] {
			uids = append(uids, f.drop.items[i].UID)
		}
	}
	ctx, cancel := asking()
	defer cancel()
	if err := f.filed.Expunge(ctx, f.drop.folder.ID, folder.RangesOf(uids), false); err != nil {
		f.log.Error("messages could not be removed", "error", err)
		f.say("-ERR [SYS/TEMP] what was marked as deleted could not be removed; it is still there")
		return nil
	}
	f.server.Changes.Changed(f.drop.folder.Mailbox)
	f.say("+OK good-bye, %d messages removed", len(uids))
	return nil
}
