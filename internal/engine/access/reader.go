package access

import (
	"bufio"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"log"
	"log/slog"
	"net"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-sasl"
	"github.com/xdg-go/scram"

	"gullroute/internal/core/directory"
	"gullroute/internal/engine/signin"
	"gullroute/internal/store"
)

// reader is somebody who reads by IMAP: what the protocol library calls a session. Its parts
// share one seat.
type reader struct {
	entry
	reading
}

// entry is signing in; shelves are the folders by their names; desk is the folder that is
// open, and reading what is asked of its messages.
type (
	entry   struct{ *seat }
	shelves struct{ *seat }
	desk    struct{ shelves }
	reading struct{ desk }
)

// seat is what the parts of a reader share.
type seat struct {
	*talk
	wire    *wire
	conn    *imapserver.Conn
	folders store.Folders
	filed   store.Filed
	seeking store.Seeking
	at      *selected // the folder that is open, or nil
	last    lastRead
}

// capabilities are what the library knows and we do.
var capabilities = imap.CapSet{
	imap.CapIMAP4rev1: {}, imap.CapIMAP4rev2: {}, imap.CapNamespace: {}, imap.CapUIDPlus: {}, imap.CapESearch: {},
	imap.CapSearchRes: {}, imap.CapListExtended: {}, imap.CapListStatus: {}, imap.CapMove: {}, imap.CapStatusSize: {},
	imap.CapBinary: {}, imap.CapChildren: {}, imap.CapSpecialUse: {}, imap.CapCreateSpecialUse: {},
}

// moreCapabilities are what we do besides.
const moreCapabilities = " ID QUOTA QUOTA=RES-STORAGE QUOTA=RES-MESSAGE"

// ownID is what we say of ourselves (RFC 2971).
const ownID = `ID ("name" "Gull Route")`

// dbTimeout bounds one question to the database.
const dbTimeout = 20 * time.Second

func newReader(t *talk) *reader {
	db := t.server.DB
	s := &seat{
		talk:    t,
		folders: store.Folders{DB: db},
		filed:   store.Filed{DB: db},
		seeking: store.Seeking{DB: db},
	}
	return &reader{entry{s}, reading{desk{shelves{s}}}}
}

// run speaks in the clear as far as that goes, and then lets the library speak; it returns
// at once, and the session ends with the connection.
func (r *reader) run() {
	br, greeted := bufio.NewReaderSize(r.talk.conn, maxLine), false
	if r.inClear() {
		if err := (&clearly{t: r.talk, br: br}).run(); err != nil {
			r.end(err.Error(), err != errOver)
			return
		}
		br.Reset(r.talk.conn)
		greeted = true
	}
	r.wire = &wire{
		Conn:   r.talk.conn,
		t:      r.talk,
		br:     br,
		own:    r.command,
		more:   moreCapabilities,
		saying: saying{mute: greeted},
		done:   func() { r.end("the client closed the connection", false) },
	}
	server := imapserver.New(&imapserver.Options{
		NewSession: func(c *imapserver.Conn) (imapserver.Session, *imapserver.GreetingData, error) {
			r.conn = c
			r.talk.mu.Lock()
			r.bye = func(why string) { _ = c.Bye(why) }
			r.talk.mu.Unlock()
			return r, nil, nil
		},
		Caps:         capabilities,
		Logger:       log.New(grumble{r.log}, "", 0),
		InsecureAuth: true, // we have seen to it
	})
	one := make(once, 1)
	one <- r.wire
	_ = server.Serve(one)
}

// once is a listener with one connection.
type once chan net.Conn

// Accept gives the connection, and then says that there is none.
func (o once) Accept() (net.Conn, error) {
	select {
	case c := <-o:
		return c, nil
	default:
		return nil, net.ErrClosed
	}
}

// Close does nothing.
func (o once) Close() error { return nil }

// Addr is nothing that anybody asks for.
func (o once) Addr() net.Addr { return &net.TCPAddr{} }

// grumble takes what the library logs: most often that a client went away.
type grumble struct{ log *slog.Logger }

func (g grumble) Write(p []byte) (int, error) {
	text := strings.TrimSpace(string(p))
	if strings.HasPrefix(text, "panic") {
		g.log.Error("IMAP session failed", "fault", text)
	} else {
		g.log.Debug("IMAP", "text", text)
	}
	return len(p), nil
}

// Close ends the session; the library calls it before the connection is closed.
func (r *reader) Close() error {
	r.unselect()
	return nil
}

func no(code imap.ResponseCode, format string, args ...any) error {
	return &imap.Error{
		Type: imap.StatusResponseTypeNo,
		Code: code,
		Text: fmt.Sprintf(format, args...),
	}
}

// Login is LOGIN.
func (r *entry) Login(name, password string) error {
	return r.told(r.plain(signin.IMAP, name, password))
}

// told is what the client hears of a sign-in that failed.
func (r *entry) told(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, errTooMany):
		r.wire.tell("* BYE " + err.Error() + "\r\n")
		_ = r.wire.Close() // the session is over all the same
		return no(imap.ResponseCodeAuthenticationFailed, "%v", err)
	case errors.Is(err, signin.ErrWrong):
		return no(imap.ResponseCodeAuthenticationFailed, "%v", err)
	case errors.Is(err, signin.ErrSlow):
		return no(imap.ResponseCodeLimit, "%v", err)
	}
	return no(imap.ResponseCodeUnavailable, "%v; try again soon", err)
}

// AuthenticateMechanisms are those that are offered.
func (r *entry) AuthenticateMechanisms() []string { return r.mechanisms() }

// Authenticate begins a sign-in by SASL (RFC 4422).
func (r *entry) Authenticate(mechanism string) (sasl.Server, error) {
	offered := r.AuthenticateMechanisms()
	for _, m := range offered {
		switch {
		case m != mechanism:
		case m == "PLAIN":
			return sasl.NewPlainServer(func(identity, name, password string) error {
				if identity != "" && !strings.EqualFold(identity, name) {
					return r.told(signin.ErrWrong)
				}
				return r.Login(name, password)
			}), nil
		default:
			return &scramServer{r: r}, nil
		}
	}
	return nil, no(imap.ResponseCodeCannot, "this mechanism is not offered here; there are: %s",
		strings.Join(offered, " "))
}

// scramServer is SCRAM-SHA-256 (RFC 7677) as the library wants it.
type scramServer struct {
	r     *entry
	conv  *signin.Scram
	asked bool
	who   signin.Passed
	done  bool
}

// Next answers a message of the client's.
func (s *scramServer) Next(response []byte) (challenge []byte, done bool, err error) {
	if s.done { // the client has seen our proof
		s.conv.Close()
		return nil, true, s.r.told(s.r.signedIn(signin.IMAP, s.who, nil))
	}
	if response == nil && !s.asked {
		s.asked = true
		return []byte{}, false, nil
	}
	if s.conv == nil {
		ctx, cancel := context.WithTimeout(context.Background(), signInTimeout)
		_ = cancel // the conversation outlives this call; its time ends it
		s.conv = s.r.server.SignIn.Scram(
			ctx,
			s.r.server.cfg.Load().Directory,
			signin.IMAP,
			s.r.client.String(),
			scram.ChannelBinding{},
			false,
			false,
		)
	}
	answer, who, done, err := s.conv.Step(string(response))
	if err != nil {
		s.conv.Close()
		return nil, false, s.r.told(s.r.signedIn(signin.IMAP, signin.Passed{}, err))
	}
	s.done, s.who = done, signin.Passed{Account: who}
	return []byte(answer), false, nil
}

// box is the mailbox of who has signed in.
func (r *seat) box() (*directory.Mailbox, error) {
	a := r.account.Load()
	if a == nil {
		return nil, no(imap.ResponseCodeAuthorizationFailed, "sign in first")
	}
	box := r.server.cfg.Load().Directory.Mailbox(a.address)
	if box == nil {
		return nil, no(
			imap.ResponseCodeAuthorizationFailed,
			"there is no mailbox %s any more",
			a.address.Display(),
		)
	}
	return box, nil
}

// asking is the time for one question to the database.
func asking() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), dbTimeout)
}

// answered is what the client hears of a fault in the store.
func (r *seat) answered(err error) error {
	var told *imap.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &told):
		return err
	case errors.Is(err, store.ErrNotFound):
		return no(imap.ResponseCodeNonExistent, "there is no such folder")
	case errors.Is(err, store.ErrThere):
		return no(imap.ResponseCodeAlreadyExists, "%v", err)
	case errors.Is(err, store.ErrMany):
		return no(imap.ResponseCodeLimit, "%v; delete some first", err)
	}
	r.log.Error("a mailbox could not be read", "error", err)
	return no(imap.ResponseCodeUnavailable, "the mailbox cannot be read just now; try again soon")
}

// command answers what the library does not know: ID (RFC 2971) and QUOTA (RFC 9208).
func (r *reader) command(tag, name, rest string) (reply string, known bool) {
	switch name {
	case "ID":
		return "* " + ownID + "\r\n" + tag + " OK that is us\r\n", true
	case "GETQUOTA", "GETQUOTAROOT", "SETQUOTA":
	default:
		return "", false
	}
	if r.account.Load() == nil {
		return tag + " BAD [CLIENTBUG] sign in first\r\n", true
	}
	if name == "SETQUOTA" {
		return tag + " NO [NOPERM] quotas are set by your administrator\r\n", true
	}
	argument, ok := oneArgument(rest)
	if !ok {
		return tag + " BAD [CLIENTBUG] write one name\r\n", true
	}
	text, err := r.quota(name, argument)
	var told *imap.Error
	if errors.As(r.answered(err), &told) {
		return fmt.Sprintf("%s NO [%s] %s\r\n", tag, told.Code, told.Text), true
	}
	return text + tag + " OK that is the quota\r\n", true
}

// oneArgument reads an atom or a quoted string.
func oneArgument(text string) (string, bool) {
	if !strings.HasPrefix(text, `"`) {
		return text, text != "" && !strings.ContainsAny(text, " (){\"\\")
	}
	if len(text) < 2 || !strings.HasSuffix(text, `"`) {
		return "", false
	}
	inner := text[1 : len(text)-1]
	plain := strings.NewReplacer(`\\`, `\`, `\"`, `"`).Replace(inner)
	return plain, !strings.Contains(strings.NewReplacer(`\\`, ``, `\"`, ``).Replace(inner), `"`)
}

// quota is the answer to GETQUOTA and GETQUOTAROOT. Each mailbox has one root, its address.
func (r *reader) quota(name, argument string) (string, error) {
	own, err := r.box()
	if err != nil {
		return "", err
	}
	box, text := own, ""
	if name == "GETQUOTAROOT" {
		decoded, err := decodeName(argument)
		if err != nil {
			return "", no(imap.ResponseCodeCannot, "the name is not modified UTF-7")
		}
		place, err := r.place(decoded)
		if err != nil {
			return "", err
		}
		box = place.box
		text = fmt.Sprintf("* QUOTAROOT %s %s\r\n", quoted(argument), quoted(box.Address.String()))
	} else if argument != own.Address.String() {
		return "", no(imap.ResponseCodeNonExistent, "there is no such quota root")
	}
	octets, messages, err := r.used(box)
	if err != nil {
		return "", err
	}
	var limits []string
	if box.Quota > 0 { // in units of 1,024 octets
		limits = append(
			limits,
			fmt.Sprintf("STORAGE %d %d", (octets+1023)/1024, int64(box.Quota)/1024),
		)
	}
	if box.Reading.Messages > 0 {
		limits = append(limits, fmt.Sprintf("MESSAGE %d %d", messages, box.Reading.Messages))
	}
	return text + fmt.Sprintf(
		"* QUOTA %s (%s)\r\n",
		quoted(box.Address.String()),
		strings.Join(limits, " "),
	), nil
}

func quoted(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

// decodeName reads modified UTF-7 (RFC 3501 section 5.1.3).
func decodeName(name string) (string, error) {
	var out strings.Builder
	for {
		before, rest, found := strings.Cut(name, "&")
		out.WriteString(before)
		if !found {
			return out.String(), nil
		}
		coded, after, closed := strings.Cut(rest, "-")
		if !closed {
			return "", errors.New("no end")
		}
		if name = after; coded == "" {
			out.WriteByte('&')
			continue
		}
		raw, err := base64.RawStdEncoding.DecodeString(strings.ReplaceAll(coded, ",", "/"))
		if err != nil || len(raw)%2 != 0 {
			return "", errors.New("no base64")
		}
		out.WriteString(fromUTF16(raw))
	}
}

// used is how much lies in a mailbox.
func (r *seat) used(box *directory.Mailbox) (octets, messages int64, err error) {
	ctx, cancel := asking()
	defer cancel()
	messages, octets, err = store.Mailboxes{DB: r.server.DB}.MailboxUse(ctx, box.Address.String())
	return octets, messages, err
}

// room reports whether so much more may lie in a mailbox.
func (r *seat) room(box *directory.Mailbox, octets int64, messages int) error {
	if box.Quota == 0 && box.Reading.Messages == 0 {
		return nil
	}
	used, n, err := r.used(box)
	switch {
	case err != nil:
		return r.answered(err)
	case box.Quota > 0 && used+octets > int64(box.Quota):
		return no(
			imap.ResponseCodeOverQuota,
			"%s is full: %d of %s are used",
			box.Address.Display(),
			used,
			box.Quota,
		)
	case box.Reading.Messages > 0 && n+int64(messages) > int64(box.Reading.Messages):
		return no(
			imap.ResponseCodeOverQuota,
			"%s is full: it holds %d of %d messages",
			box.Address.Display(),
			n,
			box.Reading.Messages,
		)
	}
	return nil
}
