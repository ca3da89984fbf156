package receive

import (
	"bufio"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"runtime/debug"
	"sync/atomic"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/smtp"
	"gullroute/internal/core/transcript"
	"gullroute/internal/engine/sessions"
)

// writeTimeout is how long a client may leave our replies unread.
const writeTimeout = time.Minute

// earlyPause is how long an edge listener listens for clients that talk before
// the greeting.
const earlyPause = 20 * time.Millisecond

// refusalsPerError is how many refused recipients weigh as much as one error of
// the conversation.
const refusalsPerError = 10

// session is one connection. It is used by its own goroutine, but for wakeIdle and
// signOut.
type session struct {
	server *Server
	name   string           // of the listener
	cfg    *config.Compiled // for one transaction
	conf   *config.Listener
	client netip.Addr
	wire
	journal
	introduced
	transaction
	stranger
	idle      atomic.Bool
	who       atomic.Pointer[address.Address] // account, for others to see
	app       atomic.Int64                    // the app password that it signed in with, or 0
	signedOut atomic.Bool                     // it may not go on
	closing   bool
}

// wire is what a session reads from and writes to.
type wire struct {
	raw    net.Conn // as it was accepted
	conn   net.Conn // with TLS on it, if there is
	tls    *tls.Conn
	br     *bufio.Reader
	bw     *bufio.Writer
	buf    []byte // for content in passing
	octets int64  // of all messages
}

// journal is what is kept of a session.
type journal struct {
	log    *slog.Logger
	id     ident.ID
	record *sessions.Recording
	why    string // it ends, in words
	broken bool
	errors int // in tenths
}

// introduced is who the client says, and has shown, that it is.
type introduced struct {
	helo         string
	extended     bool            // by EHLO or LHLO
	account      address.Address // who signed in
	certificates []string        // names in the client's certificate, verified
}

// transaction is the message that is being received.
type transaction struct {
	mail      *smtp.Mail
	rcpts     []recipient
	reserved  []reserved
	messages  int     // accepted so far
	overLimit string  // why it is held: its sender is over a limit
	chunks    *chunks // that have come of its content; nil by DATA
}

func newSession(
	s *Server,
	cfg *config.Compiled,
	conf *config.Listener,
	conn net.Conn,
	client netip.Addr,
) *session {
	id := s.IDs.Next()
	protocol := "SMTP"
	if conf.Kind == config.LMTP {
		protocol = "LMTP"
	}
	recording := s.Record.Begin(
		mail.Session{
			ID:        id,
			Direction: mail.In,
			Protocol:  protocol,
			Listener:  conf.Name,
			Address:   client.String(),
			Port:      clientPort(conn),
			StartedAt: time.Now().UTC(),
		},
		conf.Transcript,
	)
	return &session{
		server: s,
		name:   conf.Name,
		cfg:    cfg,
		conf:   conf,
		client: client,
		wire: wire{
			raw:  conn,
			conn: conn,
			br:   bufio.NewReaderSize(conn, 16<<10),
			bw:   bufio.NewWriterSize(conn, 4<<10),
		},
		journal: journal{
			id:     id,
			record: recording,
			why:    "the client closed the connection",
			broken: true,
			log: s.Log.With("listener", conf.Name, "client", client.String(), "session",
				id.String()),
		},
	}
}

// wakeIdle ends a session that waits for its next command: the service stops, or
// something is paused. readLine says how it cannot be missed.
func (se *session) wakeIdle() {
	if se.idle.Load() {
		_ = se.raw.SetReadDeadline(time.Now())
	}
}

// run is the conversation from greeting to end.
func (se *session) run() {
	defer func() { se.record.End(se.why, se.broken) }()
	defer se.clear()
	defer func() {
		if fault := recover(); fault != nil { // one session's fault must not end the others
			se.log.Error("session failed", "fault", fault, "stack", string(debug.Stack()))
		}
	}()
	if se.conf.TLS == config.TLSImplicit && se.secure() != nil {
		return
	}
	if se.talksEarly() {
		r := smtp.NewReply(554, "5.5.1",
			"you spoke before the greeting; this connection is closed (RFC 5321 section 4.3.1)")
		se.reply(r)
		_ = se.flush() // the connection is over all the same
		se.refuse(refused{stage: diagnose.StageGreeting, cause: diagnose.SpokeEarly, reply: r})
		se.closeFor("it spoke before the greeting")
		return
	}
	protocol := "ESMTP"
	if se.conf.Kind == config.LMTP {
		protocol = "LMTP"
	}
	se.reply(smtp.NewReply(220, "", "%s %s ready", se.conf.GreetingName, protocol))
	for !se.closing {
		line, err := se.readLine(smtp.ReadCommandLine)
		if err == nil {
			c := smtp.ParseCommand(line)
			se.hear(c, len(line))
			se.reply(se.command(c))
			continue
		}
		if reply := lineFault(err); reply != nil {
			se.record.Note("a line of %d octets, left out here: %v", len(line), err)
			se.reply(se.fault(*reply))
			continue
		}
		se.end(err)
		return
	}
	_ = se.flush() // the connection is over all the same
}

// talksEarly reports a client that did not wait for the greeting.
func (se *session) talksEarly() bool {
	if se.conf.Kind != config.Edge {
		return false
	}
	_ = se.conn.SetReadDeadline(time.Now().Add(earlyPause))
	_, err := se.br.Peek(1)
	return err == nil
}

// readLine flushes our replies when the client has nothing more to say, and
// waits for its next line. The deadline is set before the session counts as idle, and
// whether to go on is asked after: who wakes it either is seen, or moves the deadline.
func (se *session) readLine(read func(*bufio.Reader) ([]byte, error)) ([]byte, error) {
	if se.br.Buffered() == 0 {
		if err := se.flush(); err != nil {
			return nil, err
		}
		_ = se.conn.SetReadDeadline(time.Now().Add(se.conf.Limits.CommandTimeout))
		se.idle.Store(true)
		defer se.idle.Store(false)
		if se.ends() {
			return nil, os.ErrDeadlineExceeded
		}
	}
	return read(se.br)
}

// ends reports that the session is not to wait for another command.
func (se *session) ends() bool { return se.signedOut.Load() || se.server.isStopping(se.name) }

// signOut ends the session of an account that may not go on.
func (se *session) signOut() {
	se.signedOut.Store(true)
	se.wakeIdle()
}

func lineFault(err error) *smtp.Reply {
	var r smtp.Reply
	switch {
	case errors.Is(err, smtp.ErrLongLine):
		r = smtp.NewReply(500, "5.5.6",
			"the line is too long: a command has at most %d octets, one of AUTH %d",
			smtp.MaxCommandLine-2, smtp.MaxAuthLine-2)
	case errors.Is(err, smtp.ErrBareLF),
		errors.Is(err, smtp.ErrBareCR),
		errors.Is(err, smtp.ErrNUL):
		r = smtp.NewReply(500, "5.5.2", "%v", err)
	default:
		return nil
	}
	return &r
}

// end closes a session whose client went away or waited too long.
func (se *session) end(err error) {
	switch {
	case se.signedOut.Load():
		se.closeFor(whySignedOut)
		se.reply(signedOutReply)
	case se.server.isStopping(se.name):
		se.closeFor("this server was going down, or the listener was paused")
		se.reply(
			smtp.NewReply(421, "4.3.2", "%s is going down; try again soon", se.conf.GreetingName),
		)
	case os.IsTimeout(err):
		se.why = "the client was silent for too long"
		se.reply(
			smtp.NewReply(421, "4.4.2", "no command for %s; closing",
				se.conf.Limits.CommandTimeout),
		)
	}
	_ = se.flush() // the connection is over all the same
}

// reply gives a reply; one without a code says that nothing is to be said.
func (se *session) reply(r smtp.Reply) {
	if r.Code == 0 {
		return
	}
	text := r.AppendTo(se.bw.AvailableBuffer())
	if r.Code == 334 {
		se.record.Say(transcript.Server, []byte("334 (challenge left out)"))
	} else {
		se.record.Say(transcript.Server, text[:len(text)-2])
	}
	_, _ = se.bw.Write(text)
}

func (se *session) flush() error {
	_ = se.conn.SetWriteDeadline(time.Now().Add(writeTimeout))
	return se.bw.Flush()
}

// fault counts an error of the conversation; too many end the session.
func (se *session) fault(r smtp.Reply) smtp.Reply { return se.weigh(r, refusalsPerError) }

func (se *session) weigh(r smtp.Reply, weight int) smtp.Reply {
	se.errors += weight
	if se.errors < se.conf.Limits.Errors*refusalsPerError {
		return r
	}
	se.closeFor("the client made too many errors")
	se.reply(r)
	return smtp.NewReply(421, "4.7.0", "too many errors; closing")
}

// closeFor ends the session with its next reply.
func (se *session) closeFor(why string) { se.closing, se.why, se.broken = true, why, false }

// hear puts a client's line on record, as far as it is a command.
func (se *session) hear(c smtp.Command, size int) {
	shape, ok := smtp.Shape(c, size)
	if !ok {
		se.record.Note("%s", shape)
		return
	}
	se.record.Say(transcript.Client, []byte(shape))
}

// The end of a session whose account may not go on: its password was changed, or it
// may not submit any more.
const whySignedOut = "the account's password was changed, or it may not submit any more"

var signedOutReply = smtp.NewReply(421, "4.7.0", "sign in again: this account was changed")

// refused is what was refused, where and why.
type refused struct {
	stage diagnose.Stage
	cause diagnose.Cause
	reply smtp.Reply
	to    address.Address
	rule  string
	// The gate that refuses, and how bad it thinks that is.
	gate     string
	severity mail.Severity
	// Of a message whose content was refused:
	summary message.Summary
	size    int64
}

// refuse puts a refusal on record.
func (se *session) refuse(r refused) {
	now := time.Now().UTC()
	se.record.Change(func(s *mail.Session) { s.Refused++ })
	se.log.Info("refused", "stage", r.stage, "cause", r.cause, "code", r.reply.Code,
		"enhanced", r.reply.Enhanced)
	if se.server.Record == nil {
		return
	}
	x := mail.Refusal{
		At:            now,
		SessionID:     se.id,
		Listener:      se.conf.Name,
		ClientAddress: se.client.String(),
		Helo:          clip(se.helo),
		Account:       se.account.String(),
		Stage:         r.stage,
		Code:          r.reply.Code,
		Enhanced:      r.reply.Enhanced,
		Text:          r.reply.Text(),
		Cause:         r.cause,
		Rule:          r.rule,
		Gate:          r.gate,
		Severity:      r.severity,
		Revision:      se.cfg.Revision,
		Probe:         se.server.isOurs(se.raw),
		Recipient:     r.to.String(),
		Size:          r.size,
		Subject:       r.summary.Subject,
		HeaderFrom:    r.summary.From,
		MessageID:     r.summary.MessageID,
	}
	if se.mail != nil {
		x.Sender = sentFirst(se.server.Returns, se.cfg, se.mail.From).String()
		if r.stage != diagnose.StageContent { // what the client declared, and never sent
			x.Size = se.mail.Size
		}
	}
	se.server.Record.Refuse(x)
}

// refuseMessage puts on record that a message's content was refused, for each of
// its recipients.
func (se *session) refuseMessage(r refused) {
	r.stage = diagnose.StageContent
	for _, to := range se.rcpts {
		if r.to, r.rule = to.rcpt.To, to.decision.Rule; to.refusal != nil {
			r.reply = *to.refusal
		}
		se.refuse(r)
	}
}

// command answers one command.
func (se *session) command(c smtp.Command) smtp.Reply {
	if se.signedOut.Load() {
		se.closeFor(whySignedOut)
		return signedOutReply
	}
	switch c.Verb {
	case "EHLO", "HELO", "LHLO":
		return helloTalk{se}.hello(c)
	case "STARTTLS":
		return helloTalk{se}.startTLS(c.Arg)
	case "AUTH":
		return signInTalk{se}.auth(c.Arg)
	case "MAIL":
		return recipientTalk{se}.mailFrom(c.Arg)
	case "RCPT":
		return recipientTalk{se}.rcptTo(c.Arg)
	case "DATA":
		return contentTalk{se}.data(c.Arg)
	case "BDAT":
		return chunkTalk{se}.bdat(c.Arg)
	case "RSET":
		if c.Arg != "" {
			return se.fault(smtp.NewReply(501, "5.5.4", "RSET takes no parameter"))
		}
		se.clear()
		return smtp.NewReply(250, "2.0.0", "forgotten")
	case "NOOP":
		return smtp.NewReply(250, "2.0.0", "ok")
	case "VRFY":
		if c.Arg == "" {
			return se.fault(smtp.NewReply(501, "5.5.4", "say whom: VRFY address"))
		}
		return smtp.NewReply(252, "2.5.0",
			"addresses are not verified here; send the message and see")
	case "HELP":
		return smtp.NewReply(214, "2.0.0",
			"commands: EHLO HELO STARTTLS AUTH MAIL RCPT DATA BDAT RSET NOOP VRFY QUIT")
	case "QUIT":
		if c.Arg != "" {
			return se.fault(smtp.NewReply(501, "5.5.4", "QUIT takes no parameter"))
		}
		se.closeFor("the client said goodbye")
		return smtp.NewReply(221, "2.0.0", "%s says goodbye", se.conf.GreetingName)
	case "ETRN":
		return askTalk{se}.etrn(c.Arg)
	case "EXPN", "TURN":
		return se.fault(smtp.NewReply(502, "5.5.1", "%s is not offered here", c.Verb))
	}
	return se.fault(smtp.NewReply(500, "5.5.2", "this command is not known"))
}

func (se *session) clear() {
	se.giveBack()
	if se.chunks != nil && se.chunks.spool != nil {
		se.chunks.spool.Close()
	}
	se.chunks = nil
	se.mail, se.rcpts, se.stranger, se.overLimit = nil, nil, stranger{}, ""
}

// refresh takes the configuration in force for the next transaction. It reports
// false if the listener is gone.
func (se *session) refresh() bool {
	cfg := se.server.cfg.Load()
	if cfg == se.cfg {
		return true
	}
	conf := cfg.Listener(se.conf.Name)
	if conf == nil {
		return false
	}
	se.cfg, se.conf = cfg, conf
	return true
}

// trusted reports a listener whose clients are our own people and machines.
func (se *session) trusted() bool {
	return se.conf.Kind == config.Submission || se.conf.Kind == config.Inside
}

// maySubmit reports whether who signed in may still send: the directory's
// changes count in running sessions too.
func (se *session) maySubmit() bool {
	box := se.cfg.Directory.Mailbox(se.account)
	return box != nil && box.MaySubmit
}

// envelope is what decisions on the message under way are made on.
func (se *session) envelope() config.Envelope {
	return config.Envelope{
		Client:       se.client,
		Listener:     se.conf.Name,
		Account:      se.account,
		Certificates: se.certificates,
		Sender:       se.mail.From,
		Size:         se.mail.Size,
	}
}

// protocol is the word for the trace field (RFC 3848, RFC 6531).
func (se *session) protocol() string {
	word := "SMTP"
	switch {
	case se.conf.Kind == config.LMTP && se.mail.UTF8:
		word = "UTF8LMTP"
	case se.conf.Kind == config.LMTP:
		word = "LMTP"
	case se.mail.UTF8:
		word = "UTF8SMTP"
	case se.extended:
		word = "ESMTP"
	}
	if se.tls != nil {
		word += "S"
	}
	if !se.account.IsNull() {
		word += "A"
	}
	return word
}

// only is the recipient if there is but one.
func (se *session) only() address.Address {
	if len(se.rcpts) == 1 {
		return se.rcpts[0].rcpt.To
	}
	return address.Address{}
}
