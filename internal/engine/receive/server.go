// Package receive holds the SMTP dialogue inwards (RFC 5321): listeners, their
// limits, sessions and the content they take.
package receive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/live"
	"gullroute/internal/engine/tally"
	"gullroute/internal/store"
)

// Intake is where accepted messages go. When Enter returns nil, the message is
// safe.
type Intake interface {
	Enter(ctx context.Context, e *store.Entry) error
}

// ContentStore keeps content that is too large for memory ahead of its message.
type ContentStore interface {
	StoreContent(ctx context.Context, id ident.ID, content io.Reader) error
	DropContent(ctx context.Context, id ident.ID) error
}

// Options are what a server is made of.
type Options struct {
	Intake   Intake
	Contents ContentStore
	IDs      *ident.Maker
	Hub      *live.Hub
	Tally    *tally.Tally
	Log      *slog.Logger
	Node     string
	SpoolDir string // for content that is too large for memory
	// Bind overrides the addresses of listeners, by name.
	Bind map[string]netip.AddrPort
}

// Server is all listeners of a node.
type Server struct {
	Options
	cfg atomic.Pointer[config.Compiled]

	mu        sync.Mutex
	listeners map[string]*listener
	sessions  sync.WaitGroup
	open      map[*session]struct{}
	stopping  bool
}

// listener is one open address.
type listener struct {
	net.Listener
	name string
	mu   sync.Mutex
	per  map[netip.Addr]int // connections by client
	all  int
}

// New makes a server without listeners.
func New(o Options) *Server {
	return &Server{Options: o, listeners: map[string]*listener{}, open: map[*session]struct{}{}}
}

// Apply opens the listeners of a configuration and closes those it no longer
// has. Sessions under way go on under the configuration they began with. An
// address that cannot be opened is an error; the others are open all the same.
func (s *Server) Apply(c *config.Compiled) error {
	s.cfg.Store(c)
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, l := range s.listeners {
		conf := c.Listener(name)
		if conf == nil || s.address(conf).String() != l.Addr().String() && s.address(conf).Port() != 0 {
			l.Close()
			delete(s.listeners, name)
		}
	}
	var errs []error
	for i := range c.Listeners {
		conf := &c.Listeners[i]
		if s.listeners[conf.Name] != nil {
			continue
		}
		nl, err := net.Listen("tcp", s.address(conf).String())
		if err != nil {
			errs = append(errs, fmt.Errorf("listener %s: %w", conf.Name, err))
			continue
		}
		l := &listener{Listener: nl, name: conf.Name, per: map[netip.Addr]int{}}
		s.listeners[conf.Name] = l
		go s.accept(l)
	}
	return errors.Join(errs...)
}

func (s *Server) address(l *config.Listener) netip.AddrPort {
	if bound, ok := s.Bind[l.Name]; ok {
		return bound
	}
	return l.Address
}

// Addresses are the addresses that are open, by listener.
func (s *Server) Addresses() map[string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]string{}
	for name, l := range s.listeners {
		out[name] = l.Addr().String()
	}
	return out
}

// Sessions is how many are open, by listener.
func (s *Server) Sessions() map[string]int {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]int{}
	for name, l := range s.listeners {
		l.mu.Lock()
		out[name] = l.all
		l.mu.Unlock()
	}
	return out
}

// Stop closes the listeners, lets messages that are being taken come to their
// end for at most the given time, and closes the rest.
func (s *Server) Stop(grace time.Duration) {
	s.mu.Lock()
	s.stopping = true
	for _, l := range s.listeners {
		l.Close()
	}
	for se := range s.open {
		se.wakeIdle()
	}
	s.mu.Unlock()
	done := make(chan struct{})
	go func() { s.sessions.Wait(); close(done) }()
	select {
	case <-done:
		return
	case <-time.After(grace):
	}
	s.mu.Lock()
	for se := range s.open {
		se.conn.Close()
	}
	s.mu.Unlock()
	<-done
}

func (s *Server) isStopping() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.stopping
}

func (s *Server) accept(l *listener) {
	for {
		conn, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // out of file descriptors and the like: they come back
			s.Log.Error("connection could not be accepted", "listener", l.name, "error", err)
			time.Sleep(50 * time.Millisecond)
			continue
		}
		s.begin(l, conn)
	}
}

// begin starts a session, or turns the client away.
func (s *Server) begin(l *listener, conn net.Conn) {
	cfg := s.cfg.Load()
	conf := cfg.Listener(l.name)
	client := clientAddr(conn)
	if conf == nil {
		conn.Close()
		return
	}
	if refusal := l.enter(client, conf.Limits); refusal != nil {
		s.Tally.Add(time.Now(), tally.Rejected, 0)
		_ = conn.SetWriteDeadline(time.Now().Add(time.Second))
		_, _ = conn.Write(refusal.AppendTo(nil))
		conn.Close()
		return
	}
	se := newSession(s, cfg, conf, conn, client)
	s.mu.Lock()
	if s.stopping {
		s.mu.Unlock()
		conn.Close()
		l.leave(client)
		return
	}
	s.open[se] = struct{}{}
	s.sessions.Add(1)
	s.mu.Unlock()
	go func() {
		defer s.sessions.Done()
		defer func() {
			conn.Close()
			l.leave(client)
			s.mu.Lock()
			delete(s.open, se)
			s.mu.Unlock()
		}()
		se.run()
	}()
}

func clientAddr(conn net.Conn) netip.Addr {
	ap, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil {
		return netip.Addr{}
	}
	return ap.Addr().Unmap()
}

// enter counts a connection, or says why it is one too many.
func (l *listener) enter(client netip.Addr, limits config.Limits) *smtp.Reply {
	l.mu.Lock()
	defer l.mu.Unlock()
	var r smtp.Reply
	switch {
	case l.all >= limits.Connections:
		r = smtp.NewReply(421, "4.3.2", "too many connections here; try again later")
	case l.per[client] >= limits.ConnectionsPerAddress:
		r = smtp.NewReply(421, "4.7.0", "too many connections from %s; at most %d at once", client, limits.ConnectionsPerAddress)
	default:
		l.all++
		l.per[client]++
		return nil
	}
	return &r
}

func (l *listener) leave(client netip.Addr) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all--
	if l.per[client]--; l.per[client] == 0 {
		delete(l.per, client)
	}
}
