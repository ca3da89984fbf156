// Package outside looks at a server from where it runs, as strangers see it: which ports answer,
// what they say, whether TLS holds, and that it relays for nobody. It needs no service and no
// database.
package outside

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/textproto"
	"strings"
	"time"

	"gullroute/internal/core/machine"
)

// Protocol is what is spoken at a port.
type Protocol struct {
	Name     string
	Port     string
	Direct   bool // TLS from the first octet
	Needed   bool // without it mail from the world does not come
	Greeting string
	look     func(*talk) machine.Examined
}

// Protocols are those that are looked at by themselves.
var Protocols = []Protocol{
	{Name: "smtp", Port: "25", Needed: true, Greeting: "220", look: (*talk).smtp},
	{Name: "submission", Port: "587", Greeting: "220", look: (*talk).submission},
	{Name: "submissions", Port: "465", Direct: true, Greeting: "220"},
	{Name: "imap", Port: "143", Greeting: "* OK", look: (*talk).imap},
	{Name: "imaps", Port: "993", Direct: true, Greeting: "* OK"},
	{Name: "pop3", Port: "110", Greeting: "+OK", look: (*talk).pop3},
	{Name: "pop3s", Port: "995", Direct: true, Greeting: "+OK"},
}

const (
	connectLimit = 8 * time.Second
	talkLimit    = 40 * time.Second // greetings may be held back from strangers
	endsSoon     = 14 * 24 * time.Hour
	// nobody is at a name that never is anybody's (RFC 2606): no server of the world takes it.
	nobody = "nobody@relay-test.example"
)

// Look looks at one port of a host. The certificate must have the name, and is verified by roots;
// nil are the system's.
func Look(
	ctx context.Context,
	host, name string,
	p Protocol,
	roots *x509.CertPool,
) machine.Examined {
	at := net.JoinHostPort(host, p.Port)
	c := machine.Examined{Area: "ports", What: p.Name + " at " + at}
	conn, err := (&net.Dialer{Timeout: connectLimit}).DialContext(ctx, "tcp", at)
	if err != nil {
		var op *net.OpError
		var dns *net.DNSError
		if errors.As(err, &op) && op.Err != nil {
			err = op.Err
		}
		c.State, c.Found = machine.Look, err.Error()
		if errors.As(err, &dns) {
			c.State, c.Fix = machine.Bad, "publish the host's address in DNS: gull readiness DOMAIN"
			return c
		}
		c.Fix = "if it is to be offered: open it in the firewall, and see that a listener has it"
		if p.Needed {
			c.State = machine.Bad
			c.Fix = "mail from the world comes by it: open it in the firewall and at the " +
				"provider, and see that a " +
				"listener has it"
		}
		return c
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(talkLimit))
	t := &talk{host: name, roots: roots, check: c}
	if p.Direct {
		if conn, err = t.secure(conn); err != nil {
			return t.bad("TLS: "+err.Error(), "give the listener a certificate for "+name)
		}
	}
	t.take(conn)
	line, err := t.r.ReadLine()
	if err != nil || !strings.HasPrefix(line, p.Greeting) {
		return t.bad(fmt.Sprintf("it does not greet as %s does (%q, %v)", p.Name, line, err),
			"what listens there is something else, or turns strangers away")
	}
	if p.look != nil {
		return p.look(t)
	}
	return t.well("greets, over TLS")
}

// talk is a conversation with a server.
type talk struct {
	host  string
	roots *x509.CertPool
	check machine.Examined
	conn  net.Conn
	r     *textproto.Reader
	until time.Time // the certificate's end
}

func (t *talk) take(conn net.Conn) {
	t.conn, t.r = conn, textproto.NewReader(bufio.NewReader(conn))
}

func (t *talk) bad(found, fix string) machine.Examined {
	t.check.State, t.check.Found, t.check.Fix = machine.Bad, found, fix
	return t.check
}

func (t *talk) well(found string) machine.Examined {
	t.check.State, t.check.Found = machine.Well, found
	if !t.until.IsZero() {
		t.check.Found += ", certificate until " + t.until.UTC().Format(time.DateOnly)
		if time.Until(t.until) < endsSoon {
			t.check.State, t.check.Fix = machine.Look, "renew the certificate: gull "+
				"certificate renew NAME"
		}
	}
	return t.check
}

// secure begins TLS and verifies the certificate.
func (t *talk) secure(conn net.Conn) (net.Conn, error) {
	secured := tls.Client(
		conn,
		&tls.Config{ServerName: t.host, RootCAs: t.roots, MinVersion: tls.VersionTLS12},
	)
	if err := secured.Handshake(); err != nil {
		return nil, err
	}
	t.until = secured.ConnectionState().PeerCertificates[0].NotAfter
	return secured, nil
}

// say sends a line and reads an SMTP reply of several lines.
func (t *talk) say(line string) (code int, text string, err error) {
	if _, err := fmt.Fprintf(t.conn, "%s\r\n", line); err != nil {
		return 0, "", err
	}
	code, text, err = t.r.ReadResponse(0)
	var refused *textproto.Error
	if errors.As(err, &refused) {
		code, text, err = refused.Code, refused.Msg, nil
	}
	return code, text, err
}

// hello says EHLO and begins TLS; it reports whether signing in was offered in clear.
func (t *talk) hello() (clearAuth bool, err error) {
	code, text, err := t.say("EHLO relay-test.example")
	if err != nil || code != 250 {
		return false, fmt.Errorf("EHLO is answered with %d %s %w", code, text, errors.Join(err))
	}
	clearAuth = strings.Contains(text, "AUTH ")
	if !strings.Contains(text, "STARTTLS") {
		return clearAuth, errors.New("STARTTLS is not offered")
	}
	if code, text, err = t.say("STARTTLS"); err != nil || code != 220 {
		return clearAuth, fmt.Errorf("STARTTLS is answered with %d %s", code, text)
	}
	secured, err := t.secure(t.conn)
	if err != nil {
		return clearAuth, fmt.Errorf("TLS: %w", err)
	}
	t.take(secured)
	if code, text, err = t.say("EHLO relay-test.example"); err != nil || code != 250 {
		return clearAuth, fmt.Errorf("EHLO over TLS is answered with %d %s", code, text)
	}
	return clearAuth, nil
}

func (t *talk) smtp() machine.Examined {
	if _, err := t.hello(); err != nil {
		return t.bad(err.Error(), "give the listener a certificate for "+t.host)
	}
	code, text, err := t.say("MAIL FROM:<" + nobody + ">")
	if err == nil && code == 250 {
		code, text, err = t.say("RCPT TO:<" + nobody + ">")
	}
	if err == nil && code/100 == 2 {
		return t.bad(
			"it relays for strangers: "+nobody+" was taken as recipient",
			"at once: gull review says which "+
				"relay rule allows it",
		)
	}
	_, _, _ = t.say("QUIT")
	if err != nil {
		return t.bad("it hung up: "+err.Error(), "gull session list on the server says why")
	}
	return t.well(fmt.Sprintf("greets, TLS, relays for no stranger (%d %s)", code, firstLine(text)))
}

func (t *talk) submission() machine.Examined {
	clearAuth, err := t.hello()
	if err != nil {
		return t.bad(err.Error(), "give the listener a certificate for "+t.host)
	}
	_, _, _ = t.say("QUIT")
	if clearAuth {
		return t.bad(
			"it takes passwords in clear",
			"let the listener offer signing in over TLS only",
		)
	}
	return t.well("greets, TLS, passwords over TLS only")
}

func (t *talk) imap() machine.Examined {
	return t.upgraded("a1 STARTTLS", "a1 OK", "a2 LOGOUT")
}

func (t *talk) pop3() machine.Examined { return t.upgraded("STLS", "+OK", "QUIT") }

func (t *talk) upgraded(ask, good, bye string) machine.Examined {
	if _, err := fmt.Fprintf(t.conn, "%s\r\n", ask); err != nil {
		return t.bad(err.Error(), "")
	}
	line, err := t.r.ReadLine()
	if err != nil || !strings.HasPrefix(line, good) {
		return t.bad("TLS is not begun: "+line, "give the listener a certificate for "+t.host)
	}
	secured, err := t.secure(t.conn)
	if err != nil {
		return t.bad("TLS: "+err.Error(), "give the listener a certificate for "+t.host)
	}
	_, _ = fmt.Fprintf(secured, "%s\r\n", bye)
	return t.well("greets, TLS")
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}
