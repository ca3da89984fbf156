package access

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/transcript"
)

// clearly is the part of an IMAP conversation before TLS begins: nobody signs in there, so
// five commands are all there is (RFC 9051 sections 6.1 and 6.2.1).
type clearly struct {
	t      *talk
	br     *bufio.Reader
	errors int
}

// errOver ends a conversation in the clear.
var errOver = errors.New("the client left before TLS began")

const clearCapabilities = "CAPABILITY IMAP4rev1 IMAP4rev2 ID SASL-IR LITERAL- ENABLE"

// capabilities are those of a connection in the clear.
func (c *clearly) capabilities() string {
	text := clearCapabilities
	if c.t.conf.TLS != config.TLSOff {
		text += " STARTTLS"
	}
	return text + " LOGINDISABLED"
}

func (c *clearly) say(format string, args ...any) error {
	line := fmt.Sprintf(format, args...)
	c.t.record.Say(transcript.Server, []byte(line))
	_ = c.t.conn.SetWriteDeadline(time.Now().Add(sendTimeout))
	_, err := io.WriteString(c.t.conn, line+"\r\n")
	return err
}

// run speaks until TLS begins. The error says why it did not.
func (c *clearly) run() error {
	if err := c.say("* OK [%s] %s ready", c.capabilities(), c.t.conf.GreetingName); err != nil {
		return err
	}
	for {
		_ = c.t.conn.SetReadDeadline(time.Now().Add(c.t.conf.Limits.CommandTimeout))
		line, err := c.br.ReadSlice('\n')
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			_ = c.say("* BYE the line is too long")
			return errors.New("a line was too long")
		case os.IsTimeout(err):
			_ = c.say("* BYE no command for %s; closing", c.t.conf.Limits.CommandTimeout)
			return errors.New("the client was silent for too long")
		case err != nil:
			return errOver
		}
		secured, err := c.command(strings.TrimRight(string(line), "\r\n"))
		if err != nil || secured {
			return err
		}
	}
}

// command answers one command, and reports whether TLS has begun.
func (c *clearly) command(text string) (secured bool, err error) {
	tag, rest, _ := strings.Cut(text, " ")
	name, rest, _ := strings.Cut(rest, " ")
	name = strings.ToUpper(name)
	shown := clip(text)
	if name == "LOGIN" || name == "AUTHENTICATE" {
		shown = clip(tag) + " " + name + " (credentials left out)"
	} else if !slices.Contains(harmless, name) {
		shown = leftOut(text)
	}
	c.t.record.Say(transcript.Client, []byte(shown))
	if tag == "" || strings.ContainsAny(tag, "+*(){%\\\"") || name == "" {
		return false, c.fault(
			"* BAD a command is a tag, a space and a name (RFC 9051 section 2.2.1)",
		)
	}
	switch name {
	case "CAPABILITY":
		if err := c.say("* %s", c.capabilities()); err != nil {
			return false, err
		}
		return false, c.say("%s OK that is all, before TLS", tag)
	case "NOOP":
		return false, c.say("%s OK nothing done", tag)
	case "ID":
		if err := c.say("* %s", ownID); err != nil {
			return false, err
		}
		return false, c.say("%s OK that is us", tag)
	case "LOGOUT":
		if err := c.say("* BYE until next time"); err != nil {
			return false, err
		}
		_ = c.say("%s OK good-bye", tag)
		return false, errOver
	case "LOGIN", "AUTHENTICATE":
		return false, c.fault(
			"%s NO [PRIVACYREQUIRED] sign-in is offered under TLS only; say STARTTLS first",
			tag,
		)
	case "STARTTLS":
		return c.startTLS(tag, rest)
	}
	return false, c.fault(
		"%s BAD this command is not known here before TLS; say STARTTLS first",
		tag,
	)
}

// startTLS goes over to TLS. What stands behind the command was sent in the clear, by
// whomever: it ends the connection.
func (c *clearly) startTLS(tag, rest string) (secured bool, err error) {
	switch {
	case c.t.conf.TLS == config.TLSOff:
		return false, c.fault("%s BAD there is no TLS here", tag)
	case rest != "":
		return false, c.fault("%s BAD STARTTLS stands alone", tag)
	case c.br.Buffered() > 0:
		_ = c.say("* BYE something was sent behind STARTTLS in the clear; closing")
		return false, errors.New("something was sent behind STARTTLS in the clear")
	}
	if err := c.say("%s OK begin TLS now", tag); err != nil {
		return false, err
	}
	if err := c.t.secure(); err != nil {
		return false, fmt.Errorf("the TLS handshake failed: %w", err)
	}
	return true, nil
}

func (c *clearly) fault(format string, args ...any) error {
	if err := c.say(format, args...); err != nil {
		return err
	}
	if c.errors++; c.errors < c.t.conf.Limits.Errors {
		return nil
	}
	_ = c.say("* BYE too many errors; closing")
	return errors.New("the client made too many errors")
}
