package receive

import (
	"bufio"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"runtime/debug"
	"strings"
	"sync/atomic"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/live"
	"gullroute/internal/engine/tally"
)

// writeTimeout is how long a client may leave our replies unread.
const writeTimeout = time.Minute

// earlyPause is how long an edge listener listens for clients that talk before
// the greeting.
const earlyPause = 20 * time.Millisecond

// refusalsPerError is how many refused recipients weigh as much as one error of
// the dialogue.
const refusalsPerError = 10

// session is one connection. It is used by its own goroutine, but for wakeIdle.
type session struct {
	server *Server
	cfg    *config.Compiled // for the whole session
	conf   *config.Listener
	conn   net.Conn
	client netip.Addr
	br     *bufio.Reader
	bw     *bufio.Writer
	log    *slog.Logger
	id     ident.ID

	helo     string
	extended bool // by EHLO
	mail     *smtp.Mail
	rcpts    []recipient
	messages int
	buf      []byte // for content in passing
	errors   int    // in tenths
	idle     atomic.Bool
	closing  bool
}

// recipient is one that was taken.
type recipient struct {
	rcpt     smtp.Rcpt
	decision relay.Decision
	legs     []route.Leg
}

func newSession(s *Server, cfg *config.Compiled, conf *config.Listener, conn net.Conn, client netip.Addr) *session {
	id := s.IDs.Next()
	return &session{server: s, cfg: cfg, conf: conf, conn: conn, client: client, id: id,
		br: bufio.NewReaderSize(conn, 16<<10), bw: bufio.NewWriterSize(conn, 4<<10),
		log: s.Log.With("listener", conf.Name, "client", client.String(), "session", id.String())}
}

// wakeIdle ends a session that waits for its next command: the service stops.
func (se *session) wakeIdle() {
	if se.idle.Load() {
		_ = se.conn.SetReadDeadline(time.Now())
	}
}

// run is the dialogue from greeting to end.
func (se *session) run() {
	defer func() {
		if fault := recover(); fault != nil { // one session's fault must not end the others
			se.log.Error("session failed", "fault", fault, "stack", string(debug.Stack()))
		}
	}()
	if se.talksEarly() {
		se.reply(smtp.NewReply(554, "5.5.1", "you spoke before the greeting; this connection is closed (RFC 5321 section 4.3.1)"))
		se.flush()
		se.reject("talked before the greeting")
		return
	}
	se.reply(smtp.NewReply(220, "", "%s ESMTP ready", se.conf.GreetingName))
	for !se.closing {
		line, err := se.readLine()
		if err == nil {
			se.reply(se.command(smtp.ParseCommand(line)))
			continue
		}
		if reply := lineFault(err); reply != nil {
			se.reply(se.fault(*reply))
			continue
		}
		se.end(err)
		return
	}
	se.flush()
}

// talksEarly reports a client that did not wait for the greeting.
func (se *session) talksEarly() bool {
	if se.conf.Kind != "edge" {
		return false
	}
	_ = se.conn.SetReadDeadline(time.Now().Add(earlyPause))
	_, err := se.br.Peek(1)
	return err == nil
}

// readLine flushes our replies when the client has nothing more to say, and
// waits for its next line.
func (se *session) readLine() ([]byte, error) {
	if se.br.Buffered() == 0 {
		if err := se.flush(); err != nil {
			return nil, err
		}
		se.idle.Store(true)
		if se.server.isStopping() {
			return nil, os.ErrDeadlineExceeded
		}
		_ = se.conn.SetReadDeadline(time.Now().Add(se.conf.Limits.CommandTimeout))
		defer se.idle.Store(false)
	}
	return smtp.ReadCommandLine(se.br)
}

func lineFault(err error) *smtp.Reply {
	var r smtp.Reply
	switch {
	case errors.Is(err, smtp.ErrLongLine):
		r = smtp.NewReply(500, "5.5.6", "the command line is longer than %d octets", smtp.MaxCommandLine-2)
	case errors.Is(err, smtp.ErrBareLF), errors.Is(err, smtp.ErrBareCR), errors.Is(err, smtp.ErrNUL):
		r = smtp.NewReply(500, "5.5.2", "%v", err)
	default:
		return nil
	}
	return &r
}

// end closes a session whose client went away or waited too long.
func (se *session) end(err error) {
	switch {
	case se.server.isStopping():
		se.reply(smtp.NewReply(421, "4.3.2", "%s is going down; try again soon", se.conf.GreetingName))
	case os.IsTimeout(err):
		se.reply(smtp.NewReply(421, "4.4.2", "no command for %s; closing", se.conf.Limits.CommandTimeout))
	}
	se.flush()
}

func (se *session) reply(r smtp.Reply) {
	_, _ = se.bw.Write(r.AppendTo(se.bw.AvailableBuffer()))
}

func (se *session) flush() error {
	_ = se.conn.SetWriteDeadline(time.Now().Add(writeTimeout))
	return se.bw.Flush()
}

// fault counts an error of the dialogue; too many end the session.
func (se *session) fault(r smtp.Reply) smtp.Reply { return se.weigh(r, refusalsPerError) }

func (se *session) weigh(r smtp.Reply, weight int) smtp.Reply {
	se.errors += weight
	if se.errors < se.conf.Limits.Errors*refusalsPerError {
		return r
	}
	se.closing = true
	se.reject("too many errors")
	se.reply(r)
	return smtp.NewReply(421, "4.7.0", "too many errors; closing")
}

// reject counts and tells that something was refused.
func (se *session) reject(why string) {
	now := time.Now()
	se.server.Tally.Add(now, tally.Rejected, 0)
	se.log.Info("refused", "why", why)
	if se.server.Hub.Watched() {
		sender := ""
		if se.mail != nil {
			sender = se.mail.From.String()
		}
		se.server.Hub.Publish(live.Event{Event: mail.Event{At: now.UTC(), Kind: "rejected", Node: se.server.Node,
			Text: se.client.String() + " at " + se.conf.Name + ": " + why}, Sender: sender})
	}
}

// command answers one command.
func (se *session) command(c smtp.Command) smtp.Reply {
	switch c.Verb {
	case "EHLO", "HELO":
		return se.hello(c)
	case "MAIL":
		return se.mailFrom(c.Arg)
	case "RCPT":
		return se.rcptTo(c.Arg)
	case "DATA":
		return se.data(c.Arg)
	case "RSET":
		se.clear()
		return smtp.NewReply(250, "2.0.0", "forgotten")
	case "NOOP":
		return smtp.NewReply(250, "2.0.0", "ok")
	case "VRFY":
		return smtp.NewReply(252, "2.5.0", "addresses are not verified here; send the message and see")
	case "HELP":
		return smtp.NewReply(214, "2.0.0", "commands: EHLO HELO MAIL RCPT DATA RSET NOOP VRFY QUIT")
	case "QUIT":
		se.closing = true
		return smtp.NewReply(221, "2.0.0", "%s says goodbye", se.conf.GreetingName)
	case "EXPN", "STARTTLS", "AUTH", "BDAT", "TURN", "ETRN":
		return se.fault(smtp.NewReply(502, "5.5.1", "%s is not offered here", c.Verb))
	}
	return se.fault(smtp.NewReply(500, "5.5.2", "this command is not known"))
}

func (se *session) clear() { se.mail, se.rcpts = nil, nil }

func (se *session) hello(c smtp.Command) smtp.Reply {
	name, _, _ := strings.Cut(c.Arg, " ")
	if name == "" {
		return se.fault(smtp.NewReply(501, "5.5.4", "say who you are: %s your.host.name", c.Verb))
	}
	if se.br.Buffered() > 0 {
		return se.outOfTurn(c.Verb)
	}
	se.clear()
	se.helo, se.extended = name, c.Verb == "EHLO"
	if !se.extended {
		return smtp.NewReply(250, "", "%s greets %s", se.conf.GreetingName, se.client)
	}
	return smtp.Reply{Code: 250, Lines: []string{
		fmt.Sprintf("%s greets %s", se.conf.GreetingName, se.client),
		"PIPELINING",
		fmt.Sprintf("SIZE %d", se.conf.Limits.MessageSize),
		"8BITMIME",
		"SMTPUTF8",
		"DSN",
		"ENHANCEDSTATUSCODES",
	}}
}

// outOfTurn ends the session of a client that sent more before it could know
// the answer (RFC 2920 section 3.1).
func (se *session) outOfTurn(verb string) smtp.Reply {
	se.closing = true
	se.reject("sent ahead of the reply to " + verb)
	return smtp.NewReply(554, "5.5.1", "you sent more before the reply to %s; this connection is closed (RFC 2920 section 3.1)", verb)
}

func (se *session) mailFrom(arg string) smtp.Reply {
	limits := se.conf.Limits
	switch {
	case se.helo == "":
		return se.fault(smtp.NewReply(503, "5.5.1", "say EHLO first"))
	case se.mail != nil:
		return se.fault(smtp.NewReply(503, "5.5.1", "a message is under way; send DATA or RSET first"))
	case se.messages >= limits.MessagesPerConnection:
		se.closing = true
		return smtp.NewReply(421, "4.7.0", "%d messages came by this connection; open a new one", limits.MessagesPerConnection)
	}
	m, fault := smtp.ParseMail(arg)
	if fault != nil {
		return se.fault(*fault)
	}
	if m.Size > int64(limits.MessageSize) {
		return se.weigh(smtp.NewReply(552, "5.3.4", "the message has %d octets; %d are allowed here", m.Size, limits.MessageSize), 1)
	}
	se.mail = &m
	return smtp.NewReply(250, "2.1.0", "sender ok")
}

func (se *session) rcptTo(arg string) smtp.Reply {
	if se.mail == nil {
		return se.fault(smtp.NewReply(503, "5.5.1", "say MAIL first"))
	}
	if len(se.rcpts) >= se.conf.Limits.Recipients {
		return se.weigh(smtp.NewReply(452, "4.5.3", "too many recipients; at most %d a message here", se.conf.Limits.Recipients), 1)
	}
	rcpt, fault := smtp.ParseRcpt(arg, se.mail.UTF8)
	if fault != nil {
		return se.fault(*fault)
	}
	decision := relay.Decide(se.cfg, relay.Facts{Client: se.client, Listener: se.conf.Name, Sender: se.mail.From, Recipient: rcpt.To})
	if !decision.Allow {
		se.reject(fmt.Sprintf("<%s>: %s (revision %d)", rcpt.To, decision.Why, decision.Revision))
		return se.weigh(decision.Reply, 1)
	}
	legs, refusal := route.Plan(se.cfg, se.mail.From, rcpt.To)
	if refusal != nil {
		se.reject(fmt.Sprintf("<%s>: %s", rcpt.To, refusal))
		return se.weigh(*refusal, 1)
	}
	se.rcpts = append(se.rcpts, recipient{rcpt, decision, legs})
	return smtp.NewReply(250, "2.1.5", "recipient ok")
}

// protocol is the word for the trace field (RFC 3848, RFC 6531).
func (se *session) protocol() string {
	switch {
	case se.mail.UTF8:
		return "UTF8SMTP"
	case se.extended:
		return "ESMTP"
	}
	return "SMTP"
}

// only is the recipient if there is but one.
func (se *session) only() address.Address {
	if len(se.rcpts) == 1 {
		return se.rcpts[0].rcpt.To
	}
	return address.Address{}
}
