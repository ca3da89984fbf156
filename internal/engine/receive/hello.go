package receive

import (
	"fmt"
	"strings"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
)

// helloTalk is the part of a session in which the client introduces itself.
type helloTalk struct{ *session }

// hello is EHLO, HELO and LHLO (RFC 5321 section 4.1.1.1, RFC 2033).
func (se helloTalk) hello(c smtp.Command) smtp.Reply {
	name, wrong := c.Arg, smtp.CheckHello(c.Arg)
	switch isLMTP := se.conf.Kind == config.LMTP; {
	case isLMTP != (c.Verb == "LHLO") && isLMTP:
		return se.fault(smtp.NewReply(500, "5.5.1", "this is LMTP; say LHLO"))
	case isLMTP != (c.Verb == "LHLO"):
		return se.fault(smtp.NewReply(500, "5.5.1", "this is SMTP; say EHLO"))
	case wrong != nil:
		return se.fault(*wrong)
	case se.br.Buffered() > 0:
		return se.outOfTurn(c.Verb)
	}
	se.clear()
	se.helo, se.extended = name, c.Verb != "HELO"
	se.record.Change(func(s *mail.Session) { s.Name = clip(name) })
	if !se.extended {
		return smtp.NewReply(250, "", "%s greets %s", se.conf.GreetingName, se.client)
	}
	lines := []string{
		fmt.Sprintf("%s greets %s", se.conf.GreetingName, se.client),
		"PIPELINING",
		fmt.Sprintf("SIZE %d", se.conf.Limits.MessageSize),
		"8BITMIME",
		"SMTPUTF8",
		"DSN",
		"CHUNKING",    // RFC 3030
		"MT-PRIORITY", // RFC 6710
		"DELIVERBY",   // RFC 2852
		fmt.Sprintf("LIMITS MAILMAX=%d RCPTMAX=%d", se.conf.Limits.MessagesPerConnection,
			se.conf.Limits.Recipients), // RFC 9422
	}
	if se.tls == nil && (se.conf.TLS == config.TLSStart || se.conf.TLS == config.TLSRequired) {
		lines = append(lines, "STARTTLS")
	}
	if m := (signInTalk(se)).mechanisms(); len(m) > 0 {
		lines = append(lines, "AUTH "+strings.Join(m, " "))
	}
	if se.tls != nil {
		lines = append(lines, "REQUIRETLS") // RFC 8689
	}
	if se.trusted() { // RFC 4865: how many seconds ahead, and until when
		lines = append(lines, fmt.Sprintf("FUTURERELEASE %d %s", smtp.LongestHold/time.Second,
			time.Now().Add(smtp.LongestHold).UTC().Format("2006-01-02T15:04:05Z")))
	}
	if (askTalk(se)).offered() {
		lines = append(lines, "ETRN")
	}
	return smtp.Reply{Code: 250, Lines: append(lines, "ENHANCEDSTATUSCODES")}
}

// startTLS is STARTTLS (RFC 3207).
func (se helloTalk) startTLS(arg string) smtp.Reply {
	switch {
	case se.conf.TLS != config.TLSStart && se.conf.TLS != config.TLSRequired:
		return se.fault(smtp.NewReply(502, "5.5.1", "STARTTLS is not offered here"))
	case se.tls != nil:
		return se.fault(smtp.NewReply(503, "5.5.1", "TLS is on already"))
	case arg != "":
		return se.fault(smtp.NewReply(501, "5.5.4", "STARTTLS takes no parameter"))
	case se.br.Buffered() > 0:
		return se.outOfTurn("STARTTLS")
	}
	if err := se.server.certs.Check(se.conf); err != nil {
		se.log.Error("no TLS: the certificate cannot be used", "error", err)
		return smtp.NewReply(454, "4.7.0", "TLS is not available just now")
	}
	se.reply(smtp.NewReply(220, "2.0.0", "begin TLS"))
	if se.flush() != nil || se.secure() != nil {
		se.closing = true
	}
	return smtp.Reply{}
}

// outOfTurn ends the session of a client that sent more before it could know
// the answer (RFC 2920 section 3.1).
func (se helloTalk) outOfTurn(verb string) smtp.Reply {
	r := smtp.NewReply(554, "5.5.1",
		"you sent more before the reply to %s; this connection is closed (RFC 2920 section 3.1)",
		verb)
	se.refuse(refused{stage: diagnose.StageHello, cause: diagnose.SentAhead, reply: r})
	se.closeFor("the client sent ahead of the reply to " + verb)
	return r
}
