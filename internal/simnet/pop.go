package simnet

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/textproto"
	"strings"
	"time"
)

// A provider may want its mailbox looked at by POP3 before it takes mail from an address.

// lookedAt reports whether somebody looked from an address within a time.
func (h *host) lookedAt(client string, within time.Duration) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	at, ok := h.looks[client]
	return ok && time.Since(at) < within
}

// servePOP opens the host's POP3 listener.
func (h *host) servePOP() error {
	settings, err := h.tls()
	if err != nil {
		return err
	}
	l, err := tls.Listen(
		"tcp",
		net.JoinHostPort(h.spec.Address, fmt.Sprint(h.spec.POPPort)),
		settings,
	)
	if err != nil {
		return err
	}
	h.pop = l
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go h.popTalk(conn)
		}
	}()
	return nil
}

// popTalk is one look at the mailbox.
func (h *host) popTalk(conn net.Conn) {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(time.Minute))
	c := textproto.NewConn(conn)
	say := func(line string) { _ = c.PrintfLine("%s", line) }
	say("+OK " + h.spec.Name)
	user, in := "", false
	for {
		line, err := c.ReadLine()
		if err != nil {
			return
		}
		word, rest, _ := strings.Cut(line, " ")
		b := h.behaviour()
		switch strings.ToUpper(word) {
		case "USER":
			user = rest
			say("+OK")
		case "PASS":
			if user != b.Account || rest != b.Password {
				say("-ERR [AUTH] that is not an account here")
				continue
			}
			in = true
			client, _, _ := net.SplitHostPort(conn.RemoteAddr().String())
			h.mu.Lock()
			if h.looks == nil {
				h.looks = map[string]time.Time{}
			}
			h.looks[client] = time.Now()
			h.mu.Unlock()
			say("+OK nothing new")
		case "STAT":
			if !in {
				say("-ERR sign in first")
				continue
			}
			say("+OK 0 0")
		case "QUIT":
			say("+OK")
			return
		default:
			say("-ERR not known")
		}
	}
}
