package deliver

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/xdg-go/scram"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
	"gullroute/internal/core/tlsterms"
	"gullroute/internal/core/transcript"
	"gullroute/internal/engine/sessions"
)

// Conn is an open connection to a mail host, past its greeting. It is used by
// one goroutine.
type Conn struct {
	wire
	found
	journal
	timeouts   config.Timeouts
	lmtp       bool
	extensions map[string]string
	ourName    string
	about      diagnose.About // the message and recipient that replies are about
	tried      []mail.LastReply
	scram      func(account, password string) (*scram.Client, error)
}

// wire is what a connection reads from and writes to.
type wire struct {
	raw     net.Conn
	br      *bufio.Reader
	bw      *bufio.Writer
	tls     *tls.Conn
	tlsNote string
	// what is wrong with the host's certificate, where nobody demands that it verifies
	unverified error
	terms      tlsterms.Terms // by which TLS is used here
	broken     bool
	polite     bool // we have said goodbye
	release    func() bool
}

// found is how a host was found, and the hosts of the next hop behind it.
type found struct {
	host    string
	address string
	direct  bool // by a route that has smart hosts behind
	route   *config.Route
	nextHop string
	behind  []target
	mails   int // that were begun
}

// journal is what is kept of a connection.
type journal struct {
	session ident.ID
	record  *sessions.Recording
	heard   func(transcript.Who, string) // a probe listens; nil if nobody does
	why     string                       // the session ends, in words
}

func newConn(raw net.Conn, host, ip string, t config.Timeouts) *Conn {
	return &Conn{
		wire: wire{
			raw: raw,
			br:  bufio.NewReaderSize(raw, 4096),
			bw:  bufio.NewWriterSize(raw, 16<<10),
		},
		found:    found{host: host, address: ip},
		timeouts: t,
	}
}

// Broken reports that nothing more can be sent here.
func (c *Conn) Broken() bool {
	most := limitOf(c, "MAILMAX")
	return c.broken || most > 0 && c.mails >= most
}

// Direct reports that this is the first half of a route with next hop direct.
func (c *Conn) Direct() bool { return c.direct }

// Quit ends the conversation politely, without waiting long.
func (c *Conn) Quit() {
	if !c.broken {
		_ = c.raw.SetDeadline(time.Now().Add(2 * time.Second))
		if c.say("QUIT") == nil && c.bw.Flush() == nil {
			_, _ = c.hear()
		}
		c.polite = true
		c.endsFor("we said goodbye")
	}
	c.Close()
}

// Close ends the connection.
func (c *Conn) Close() {
	c.broken = true
	if c.release != nil {
		c.release()
	}
	_ = c.raw.Close()
	c.endsFor("we closed the connection")
	c.record.End(c.why, !c.polite)
}

// endsFor notes why the session ends; the first word counts.
func (c *Conn) endsFor(why string) {
	if c.why == "" {
		c.why = why
	}
}

// refused counts what the host refused.
func (c *Conn) refused(n int) {
	if n > 0 {
		c.record.Change(func(s *mail.Session) { s.Refused += n })
	}
}

// CloseWith lets the connection break when ctx ends.
func (c *Conn) CloseWith(ctx context.Context) {
	raw := c.raw
	c.release = context.AfterFunc(ctx, func() { raw.Close() })
}

// failure is one that happened on this connection without a reply.
func (c *Conn) failure(
	stage diagnose.Stage,
	enhanced string,
	cause diagnose.Cause,
	text string,
) *Failure {
	return &Failure{
		Cause:     cause,
		Permanent: strings.HasPrefix(enhanced, "5"),
		Reply: mail.LastReply{
			Stage:     stage,
			Host:      c.host,
			Address:   c.address,
			Enhanced:  enhanced,
			Text:      text,
			TLS:       c.tlsNote,
			SessionID: c.session,
			Tried:     c.tried,
		},
	}
}

// refusal is a reply that is not what was hoped for.
func (c *Conn) refusal(stage diagnose.Stage, r smtp.Reply) *Failure {
	return &Failure{
		Cause:     diagnose.OfReply(stage, r, c.about),
		Permanent: r.Permanent(),
		Reply:     c.lastReply(stage, r),
	}
}

func (c *Conn) lastReply(stage diagnose.Stage, r smtp.Reply) mail.LastReply {
	return mail.LastReply{
		Stage:     stage,
		Host:      c.host,
		Address:   c.address,
		Code:      r.Code,
		Enhanced:  r.Enhanced,
		Text:      inert.Text(r.Text()),
		TLS:       c.tlsNote,
		SessionID: c.session,
		Tried:     c.tried,
	}
}

// ioFailure is an error of the connection at a stage.
func (c *Conn) ioFailure(stage diagnose.Stage, err error) *Failure {
	c.broken = true
	enhanced, cause, text := "4.4.2", diagnose.Dropped, "the connection broke: "+plain(err)
	switch {
	case errors.Is(err, smtp.ErrReply):
		enhanced, cause, text = "4.5.0", diagnose.NotSMTP, inert.Line(err.Error(), maxErrorText)
	case os.IsTimeout(err):
		cause, text = diagnose.NoAnswer, "the host did not answer in time"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		text = "the host closed the connection"
	}
	c.record.Note("%s", text)
	c.endsFor(text)
	return c.failure(stage, enhanced, cause, text)
}

// say writes one line of the conversation.
func (c *Conn) say(line string) error {
	c.note(transcript.Client, line)
	return c.write(line)
}

// write writes a line that is not for the record.
func (c *Conn) write(line string) error {
	_, err := c.bw.WriteString(line + "\r\n")
	return err
}

// hear reads one reply.
func (c *Conn) hear() (smtp.Reply, error) {
	return smtp.HearReply(c.br, func(line string) {
		if strings.HasPrefix(line, "334") {
			line = "334 (challenge left out)"
		}
		c.note(transcript.Server, line)
	})
}

// note puts a line of the conversation on record.
func (c *Conn) note(who transcript.Who, line string) {
	c.record.Say(who, []byte(line))
	if c.heard != nil {
		c.heard(who, line)
	}
}

func (c *Conn) deadline(d time.Duration) { _ = c.raw.SetDeadline(time.Now().Add(d)) }

// command sends one line and reads its reply.
func (c *Conn) command(
	stage diagnose.Stage,
	line string,
	wait time.Duration,
) (smtp.Reply, *Failure) {
	c.deadline(wait)
	err := c.say(line)
	if err == nil {
		err = c.bw.Flush()
	}
	if err != nil {
		return smtp.Reply{}, c.ioFailure(stage, err)
	}
	return c.reply(stage)
}

func (c *Conn) reply(stage diagnose.Stage) (smtp.Reply, *Failure) {
	r, err := c.hear()
	if err != nil {
		return r, c.ioFailure(stage, err)
	}
	if r.Code == 421 { // RFC 5321 section 3.8: the host is about to close
		c.broken = true
		c.endsFor("the host said that it closes: " + r.Text())
	}
	return r, nil
}

// hello reads the greeting and says who we are.
func (c *Conn) hello() *Failure {
	c.deadline(c.timeouts.Greeting)
	r, failure := c.reply(diagnose.StageGreeting)
	if failure != nil {
		return failure
	}
	if r.Code != 220 {
		return c.refusal(diagnose.StageGreeting, r)
	}
	return c.ehlo()
}

func (c *Conn) ehlo() *Failure {
	verb := "EHLO "
	if c.lmtp {
		verb = "LHLO " // RFC 2033
	}
	r, failure := c.command(diagnose.StageHello, verb+c.ourName, c.timeouts.Command)
	if failure != nil {
		return failure
	}
	c.extensions = map[string]string{}
	if r.Permanent() && !c.lmtp && !c.broken {
		if r, failure = c.command(
			diagnose.StageHello,
			"HELO "+c.ourName,
			c.timeouts.Command,
		); failure != nil {
			return failure
		}
	} else if r.Code == 250 {
		for _, line := range r.Lines[1:] {
			word, rest, _ := strings.Cut(line, " ")
			c.extensions[strings.ToUpper(word)] = strings.ToUpper(rest)
		}
	}
	if r.Code != 250 {
		return c.refusal(diagnose.StageHello, r)
	}
	return nil
}

// startTLS goes over to TLS (RFC 3207). Where the certificate is not demanded to
// verify, what is wrong with it is noted only.
func (c *Conn) startTLS(settings *tls.Config, secured tlsterms.Terms) *Failure {
	r, failure := c.command(diagnose.StageTLS, "STARTTLS", c.timeouts.Command)
	if failure != nil {
		return failure
	}
	if r.Code != 220 {
		return c.refusal(diagnose.StageTLS, r)
	}
	if c.br.Buffered() > 0 { // plaintext slipped in behind the reply
		f := c.failure(
			diagnose.StageTLS,
			"4.7.0",
			diagnose.TLSTrouble,
			"more came behind the reply to STARTTLS before TLS began: somebody meddles with this "+
				"connection",
		)
		f.Tampered = true
		return f
	}
	if failure := c.handshake(settings, secured); failure != nil {
		return failure
	}
	return c.ehlo()
}

// handshake puts TLS under the conversation.
func (c *Conn) handshake(settings *tls.Config, secured tlsterms.Terms) *Failure {
	var fault error
	settings.InsecureSkipVerify = true // verified below, so that the fault can be told
	settings.VerifyConnection = func(state tls.ConnectionState) error {
		fault = verifyPeer(state, settings, secured)
		if secured.TLS == tlsterms.Verified || secured.TLS == tlsterms.Pinned {
			return fault
		}
		return nil
	}
	c.deadline(c.timeouts.Command)
	over := tls.Client(c.raw, settings)
	if err := over.Handshake(); err != nil {
		c.broken = true
		c.record.Note("the TLS handshake failed: %s", plain(err))
		cause := diagnose.TLSTrouble
		if fault != nil {
			cause = causeOf(secured, diagnose.CertificateBad)
		}
		text := "the TLS handshake failed: " + plain(err)
		if cause == diagnose.PolicyNotKept {
			text += "; " + secured.Who + " demands that"
		}
		f := c.failure(diagnose.StageTLS, "4.7.5", cause, text)
		f.Unverified = fault
		return f
	}
	c.unverified = fault
	state := over.ConnectionState()
	defer func() {
		c.record.Note("TLS begins: %s", c.tlsNote)
		c.record.Change(func(s *mail.Session) { s.TLS = c.tlsNote })
	}()
	c.tlsNote = tls.VersionName(
		state.Version,
	) + " " + tls.CipherSuiteName(state.CipherSuite) + ", verified" + bySecured(secured)
	if fault != nil {
		c.tlsNote = tls.VersionName(
			state.Version,
		) + " " + tls.CipherSuiteName(
			state.CipherSuite,
		) + ", not verified: " + inert.Line(fault.Error(), maxErrorText)
	}
	c.raw, c.tls = over, over
	c.br.Reset(over)
	c.bw.Reset(over)
	return nil
}

// bySecured says by what a certificate was verified, where that is not the usual.
func bySecured(s tlsterms.Terms) string {
	if s.By == tlsterms.ByDANE || s.By == tlsterms.BySTS {
		return " by " + s.By
	}
	return ""
}

// causeOf is the cause of a failure under terms: what a domain itself demands is its policy's.
func causeOf(s tlsterms.Terms, c diagnose.Cause) diagnose.Cause {
	if s.By == tlsterms.ByDANE || s.By == tlsterms.BySTS {
		return diagnose.PolicyNotKept
	}
	return c
}

func verifyPeer(state tls.ConnectionState, settings *tls.Config, secured tlsterms.Terms) error {
	if secured.TLS == tlsterms.Pinned {
		return tlsterms.VerifyPinned(secured.Records, state.PeerCertificates, secured.Names)
	}
	if len(state.PeerCertificates) == 0 {
		return errors.New("the host showed no certificate")
	}
	options := x509.VerifyOptions{
		Roots:         settings.RootCAs,
		Intermediates: x509.NewCertPool(),
	}
	for _, cert := range state.PeerCertificates[1:] {
		options.Intermediates.AddCert(cert)
	}
	var err error
	for _, name := range secured.Names {
		options.DNSName = name
		if _, err = state.PeerCertificates[0].Verify(options); err == nil {
			return nil
		}
	}
	return err
}

func (c *Conn) has(extension string) bool {
	_, ok := c.extensions[extension]
	return ok
}

// limitOf is one of those that a host says it has (RFC 9422), 0 if it does not say or says
// something that is none.
func limitOf(c *Conn, name string) int {
	for _, word := range strings.Fields(c.extensions["LIMITS"]) {
		if key, value, ok := strings.Cut(word, "="); ok && strings.EqualFold(key, name) {
			if n, err := strconv.Atoi(value); err == nil && n > 0 {
				return n
			}
		}
	}
	return 0
}

// sizeLimit is what the host says it takes (RFC 1870), 0 if it does not say.
func (c *Conn) sizeLimit() int64 {
	n, _ := strconv.ParseInt(c.extensions["SIZE"], 10, 64)
	return n
}
