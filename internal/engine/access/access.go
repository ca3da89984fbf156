// Package access is how people read their mail: IMAP (RFC 9051, 3501) and POP3 (RFC 1939).
// A protocol library reads IMAP's grammar; what lies in folders, who may see it, sign-in,
// limits and records are ours. A session sees the state that it was told of, and asks for
// what changed since by one number; word of changes comes from this node and from others.
package access

import (
	"context"
	"crypto/tls"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/door"
	"gullroute/internal/engine/sessions"
	"gullroute/internal/engine/signin"
	"gullroute/internal/store"

	"golang.org/x/sync/singleflight"
)

// Options are what a server is made of.
type Options struct {
	DB           *store.DB
	IDs          *ident.Maker
	SignIn       *signin.Checker
	Record       *sessions.Recorder
	Certificates *door.Certificates
	Bind         map[string]netip.AddrPort // in place of listeners' addresses
	Node         string
	Log          *slog.Logger
	// Tell tells the other nodes that something changed in mailboxes.
	Tell func(ctx context.Context, mailboxes []string)
}

// Server is all listeners of a node by which people read.
type Server struct {
	Options
	Changes *Changes // word of changes, by mailbox
	cfg     atomic.Pointer[config.Compiled]
	doors   *door.Doors
	views   views
	reading singleflight.Group // of words, by folder
	signIns atomic.Int64
	fetched atomic.Int64 // messages whose content was read

	mu       sync.Mutex
	open     map[*talk]struct{}
	sessions sync.WaitGroup
	stopping bool
	paused   pauses
}

// pauses are what people have stopped.
type pauses struct {
	listeners map[string]bool
	node      bool
}

// New makes a server without listeners.
func New(o Options) *Server {
	s := &Server{Options: o, open: map[*talk]struct{}{}}
	s.Changes = newChanges(o.Tell)
	s.doors = door.New(door.Options{
		Node: o.Node, Bind: o.Bind, Certificates: o.Certificates, Log: o.Log,
		Ours:  (*config.Listener).Reads,
		Begin: s.begin,
	})
	return s
}

// Apply opens the listeners of a configuration and closes those it no longer has.
func (s *Server) Apply(c *config.Compiled) error {
	s.cfg.Store(c)
	return s.doors.Apply(c)
}

// Addresses are the addresses that are open, by listener.
func (s *Server) Addresses() map[string]string { return s.doors.Addresses() }

// Sessions is how many are open, by listener.
func (s *Server) Sessions() map[string]int { return s.doors.Sessions() }

// SetPauses puts in force what people have stopped: listeners by name, or this node as a
// whole. Sessions there end.
func (s *Server) SetPauses(listeners map[string]bool, node bool) {
	s.mu.Lock()
	s.paused = pauses{listeners, node}
	var over []*talk
	for t := range s.open {
		if node || listeners[t.conf.Name] {
			over = append(over, t)
		}
	}
	s.mu.Unlock()
	for _, t := range over {
		go t.leave("this listener was paused")
	}
}

// SignOut ends the sessions of accounts, by their keys: passwords were changed, or the
// mailbox is gone. signin.AppKey stands for the sessions of one app password.
func (s *Server) SignOut(accounts ...string) {
	s.endThose("sign in again: this account was changed", func(a *account) bool {
		return slices.Contains(accounts, a.key) || slices.Contains(accounts, signin.AppKey(a.app))
	})
}

// Counts are how many have signed in and how many messages were fetched since the start.
func (s *Server) Counts() (signIns, fetched int64) { return s.signIns.Load(), s.fetched.Load() }

// Accounts are the keys of those that are signed in.
func (s *Server) Accounts() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []string
	for t := range s.open {
		if a := t.account.Load(); a != nil && !slices.Contains(out, a.key) {
			out = append(out, a.key)
		}
	}
	return out
}

// Recheck ends the sessions of mailboxes that may not be read any more.
func (s *Server) Recheck() {
	dir := s.cfg.Load().Directory
	s.endThose("this mailbox may not be read here any more", func(a *account) bool {
		box := dir.Mailbox(a.address)
		return box == nil || !box.Reading.Allows(string(a.use))
	})
}

func (s *Server) endThose(why string, which func(*account) bool) {
	s.mu.Lock()
	var over []*talk
	for t := range s.open {
		if a := t.account.Load(); a != nil && which(a) {
			over = append(over, t)
		}
	}
	s.mu.Unlock()
	for _, t := range over {
		go t.leave(why)
	}
}

// Stop closes the listeners and ends all sessions.
func (s *Server) Stop(grace time.Duration) {
	s.doors.Close()
	s.mu.Lock()
	s.stopping = true
	for t := range s.open {
		go t.leave("this server is going down; try again soon")
	}
	s.mu.Unlock()
	door.Drain(&s.sessions, grace, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		for t := range s.open {
			t.conn.Close()
		}
	})
}

// begin starts a session, or turns the client away.
func (s *Server) begin(d *door.Door, conn net.Conn) {
	cfg := s.cfg.Load()
	conf := cfg.Listener(d.Name)
	client := door.Client(conn)
	if conf == nil {
		conn.Close()
		return
	}
	refusal := s.pausedAt(conf.Name)
	if refusal == nil {
		refusal = d.Enter(client, conf, time.Now())
	}
	if refusal != nil {
		s.turnAway(cfg, conf, client, conn, *refusal)
		return
	}
	t := newTalk(s, cfg, conf, conn, client)
	s.mu.Lock()
	if s.stopping {
		s.mu.Unlock()
		conn.Close()
		d.Leave(client)
		return
	}
	s.open[t] = struct{}{}
	s.sessions.Add(1)
	s.mu.Unlock()
	t.over = func() {
		d.Leave(client)
		s.mu.Lock()
		delete(s.open, t)
		s.mu.Unlock()
		s.sessions.Done()
	}
	go t.run()
}

func (s *Server) pausedAt(listener string) *smtp.Reply {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.paused.node && !s.paused.listeners[listener] {
		return nil
	}
	r := smtp.NewReply(421, "4.3.2", "mail cannot be read here just now; try again later")
	return &r
}

// turnAway tells a client at the door that it cannot come in, and puts that on record.
func (s *Server) turnAway(
	cfg *config.Compiled,
	conf *config.Listener,
	client netip.Addr,
	conn net.Conn,
	r smtp.Reply,
) {
	defer conn.Close()
	_ = conn.SetWriteDeadline(time.Now().Add(time.Second))
	if conf.TLS != config.TLSImplicit { // there the client would take it for a broken handshake
		line := "* BYE " + r.Text() + "\r\n"
		if conf.Kind == config.POP3 {
			line = "-ERR [SYS/TEMP] " + r.Text() + "\r\n"
		}
		_, _ = conn.Write([]byte(line))
	}
	if s.Record == nil {
		return
	}
	cause := diagnose.CrowdHere
	switch {
	case r.Code == 554:
		cause = diagnose.MayNotConnect
	case s.pausedAt(conf.Name) != nil:
		cause = diagnose.PausedHere
	}
	s.Record.Refuse(
		mail.Refusal{At: time.Now().UTC(), Listener: conf.Name, ClientAddress: client.String(),
			Stage: diagnose.StageConnect, Code: r.Code, Enhanced: r.Enhanced, Text: r.Text(), Cause: cause,
			Revision: cfg.Revision},
	)
}

// tlsSettings are the TLS settings of a listener.
func (s *Server) tlsSettings(conf *config.Listener) (*tls.Config, error) {
	return s.Certificates.Settings(conf)
}
