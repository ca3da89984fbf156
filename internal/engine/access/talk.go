package access

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/door"
	"gullroute/internal/engine/sessions"
	"gullroute/internal/engine/signin"
)

// account is who has signed in.
type account struct {
	address address.Address
	key     string
	app     int64 // the app password that was used, or 0
	use     signin.Use
}

// talk is one connection, whichever protocol is spoken on it.
type talk struct {
	server  *Server
	conf    *config.Listener
	client  netip.Addr
	log     *slog.Logger
	record  *sessions.Recording
	account atomic.Pointer[account]
	over    func() // the connection ended
	bye     func(why string)

	mu       sync.Mutex
	conn     net.Conn // with TLS on it, if there is
	secured  *tls.Conn
	why      string // it ends, in words; the first one counts
	broken   bool
	failures int // sign-ins that failed
	ended    bool
}

// mechanisms are those of SASL that are offered here.
func (t *talk) mechanisms() []string {
	var out []string
	for _, m := range t.conf.Mechanisms() {
		switch m {
		case "scram":
			out = append(out, "SCRAM-SHA-256")
		case "plain":
			out = append(out, "PLAIN")
		}
	}
	return out
}

func newTalk(
	s *Server,
	cfg *config.Compiled,
	conf *config.Listener,
	conn net.Conn,
	client netip.Addr,
) *talk {
	id := s.IDs.Next()
	protocol := "IMAP"
	if conf.Kind == config.POP3 {
		protocol = "POP3"
	}
	port, _ := netip.ParseAddrPort(conn.RemoteAddr().String())
	return &talk{
		server: s, conf: conf, client: client, conn: conn,
		log: s.Log.With("listener", conf.Name, "client", client.String(), "session", id.String()),
		record: s.Record.Begin(
			mail.Session{ID: id, Direction: mail.In, Protocol: protocol, Listener: conf.Name,
				Address: client.String(), Port: int(port.Port()), StartedAt: time.Now().UTC()},
			conf.Transcript,
		),
	}
}

// run is the conversation from its begin to its end; IMAP's goes on after it returns.
func (t *talk) run() {
	defer func() {
		if fault := recover(); fault != nil { // one session's fault must not end the others
			t.log.Error("session failed", "fault", fault, "stack", string(debug.Stack()))
			t.end("a fault of ours", true)
		}
	}()
	if t.conf.TLS == config.TLSImplicit {
		if err := t.secure(); err != nil {
			t.end("the TLS handshake failed: "+err.Error(), true)
			return
		}
	}
	if t.conf.Kind == config.POP3 {
		newFetcher(t).run()
		return
	}
	newReader(t).run()
}

// secure goes over to TLS.
func (t *talk) secure() error {
	settings, err := t.server.tlsSettings(t.conf)
	if err != nil {
		t.log.Error("no TLS: the certificate cannot be used", "error", err)
		return err
	}
	conn := tls.Server(t.conn, settings)
	_ = t.conn.SetDeadline(time.Now().Add(door.HandshakeTimeout))
	if err := conn.Handshake(); err != nil {
		t.log.Info("TLS handshake failed", "error", err)
		t.record.Note("the TLS handshake failed: %v", err)
		return err
	}
	_ = t.conn.SetDeadline(time.Time{})
	state := conn.ConnectionState()
	t.mu.Lock()
	t.conn, t.secured = conn, conn
	t.mu.Unlock()
	about := tls.VersionName(state.Version) + " " + tls.CipherSuiteName(state.CipherSuite)
	t.record.Change(func(s *mail.Session) { s.TLS = about })
	t.record.Note("TLS begins: %s", about)
	return nil
}

// inClear reports a connection on which nobody signs in before TLS begins.
func (t *talk) inClear() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.secured == nil && !t.conf.SignInWithoutTLS
}

// end closes the connection for good.
func (t *talk) end(why string, broken bool) {
	t.mu.Lock()
	if t.ended {
		t.mu.Unlock()
		return
	}
	t.ended = true
	if t.why == "" {
		t.why, t.broken = why, broken
	}
	why, broken = t.why, t.broken
	conn := t.conn
	t.mu.Unlock()
	conn.Close()
	t.record.End(why, broken)
	t.over()
}

// because says why the session is about to end.
func (t *talk) because(why string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.why == "" {
		t.why = why
	}
}

// leave says good-bye from outside the session's own goroutine.
func (t *talk) leave(why string) {
	t.because(why)
	t.mu.Lock()
	bye := t.bye
	conn := t.conn
	t.mu.Unlock()
	_ = conn.SetWriteDeadline(time.Now().Add(byeTimeout))
	if bye != nil {
		bye(why)
	}
	conn.Close()
}

const byeTimeout = 2 * time.Second

// Pauses before a refusal slow down clients that guess.
const (
	signInTimeout = 20 * time.Second
	failurePause  = 500 * time.Millisecond
	busyPause     = 2 * time.Second
)

// errTooMany ends a session whose client guesses.
var errTooMany = errors.New("too many failed sign-ins; closing")

// plain signs in by name and password.
func (t *talk) plain(use signin.Use, name, password string) error {
	ctx, cancel := context.WithTimeout(context.Background(), signInTimeout)
	defer cancel()
	who, err := t.server.SignIn.Plain(
		ctx,
		t.server.cfg.Load().Directory,
		use,
		name,
		password,
		t.client.String(),
	)
	return t.signedIn(use, who, err)
}

// signedIn takes the outcome of a sign-in. The error is what the client is told.
func (t *talk) signedIn(use signin.Use, who signin.Passed, err error) error {
	switch {
	case err == nil:
		t.account.Store(&account{who.Account, who.Account.Key(), who.App, use})
		t.record.Change(func(s *mail.Session) { s.Account = who.Account.String() })
		t.log = t.log.With("account", who.Account.String())
		t.server.signIns.Add(1)
		return nil
	case errors.Is(err, signin.ErrWrong):
		time.Sleep(failurePause)
		t.refuse(diagnose.WrongPassword, 535, "5.7.8", err)
	case errors.Is(err, signin.ErrSlow):
		time.Sleep(busyPause)
		t.refuse(diagnose.TooManySignIns, 454, "4.7.0", err)
	default:
		time.Sleep(busyPause)
	}
	if t.failures++; t.failures >= t.conf.Limits.Errors {
		t.because("the client failed to sign in too often")
		return errTooMany
	}
	return err
}

// refuse puts on record that a sign-in was refused.
func (t *talk) refuse(cause diagnose.Cause, code int, enhanced string, err error) {
	t.record.Change(func(s *mail.Session) { s.Refused++ })
	if t.server.Record == nil {
		return
	}
	x := mail.Refusal{At: time.Now().UTC(), Listener: t.conf.Name, ClientAddress: t.client.String(),
		Stage: diagnose.StageSignIn, Code: code, Enhanced: enhanced, Text: err.Error(), Cause: cause,
		Revision: t.server.cfg.Load().Revision}
	t.record.Change(func(s *mail.Session) { x.SessionID = s.ID })
	t.server.Record.Refuse(x)
}
