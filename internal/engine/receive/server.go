// Package receive holds the SMTP conversation inwards (RFC 5321): listeners, their
// limits, sessions and the content they take.
package receive

import (
	"context"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/dsn"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/repute"
	core "gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/door"
	"gullroute/internal/engine/feed"
	"gullroute/internal/engine/scan"
	"gullroute/internal/engine/senderauth"
	"gullroute/internal/engine/sessions"
	"gullroute/internal/engine/signin"
	"gullroute/internal/store"
)

// Intake is where accepted messages go. When Enter returns nil, the message is
// safe.
type Intake interface {
	// Several go together or not at all.
	Enter(ctx context.Context, entries ...*store.Entry) error
	// Taking is nil, or why nothing can be taken now.
	Taking() error
	// Expansion makes the notice that a message was passed on to all behind an alias.
	Expansion(c *config.Compiled, m *mail.Message, section []byte,
		expanded []smtp.Rcpt) *store.Entry
	// Refused makes the notices about recipients of a message that was entered and is
	// refused for them.
	Refused(c *config.Compiled, m *mail.Message, about []*mail.Delivery) []*store.Entry
}

// Verifier asks the next hop of a relay domain about a recipient.
type Verifier interface {
	Verify(ctx context.Context, c *config.Compiled, to address.Address) *smtp.Reply
}

// Mailboxes knows how full a mailbox is.
type Mailboxes interface {
	MailboxesUse(ctx context.Context, mailboxes []string) (octets map[string]int64, err error)
}

// Originals finds the message of ours that a notification from elsewhere is about, and
// what to put on record there.
type Originals interface {
	Original(ctx context.Context, hostName string, r dsn.Report,
		notice ident.ID) (ident.ID, []mail.Event)
}

// Returns finds to whom what comes to a return path of ours goes back.
type Returns interface {
	Sender(ctx context.Context, c *config.Compiled, a address.Address) (address.Address, error)
}

// SenderChecker finds who a message is from.
type SenderChecker interface {
	Check(ctx context.Context, f senderauth.Facts) core.Assessment
}

// Scanner shows a message to a scanner.
type Scanner interface {
	Scan(ctx context.Context, content scan.Content) gate.Verdict
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
	Hub      *feed.Hub
	Tally    *counters.Counters
	Log      *slog.Logger
	Node     string
	SpoolDir string // for content that is too large for memory
	Record   *sessions.Recorder
	// Bind overrides the addresses of listeners, by name.
	Bind map[string]netip.AddrPort
	// Certificates are shared with others who have listeners; nil makes some.
	Certificates *door.Certificates
	// SignIn checks people's passwords.
	SignIn *signin.Checker
	// Allowance counts what accounts and clients send under rules with limits.
	Allowance Allowance
	// Each of these may be nil; then nothing is asked.
	Verifier      Verifier
	Mailboxes     Mailboxes
	Originals     Originals
	Returns       Returns
	SenderChecker SenderChecker
	Contacts      Contacts
	Scanner       Scanner
	Weigher       Weigher
	Greylist      Greylist
	// Door says who is spared and who is refused.
	Door func() *repute.Door
	// Asked sets the mail of a route moving, of one domain if that is not "", because
	// somebody asked for it; it reports how many deliveries. Nil offers nobody to ask.
	Asked func(ctx context.Context, who, route, domain string) (int64, error)
	// Over hears of who is over a limit whose rule holds or stops; nil if nobody does.
	Over func(ctx context.Context, o Over)
	// Judged hears who a stranger's message was found to be from; nil if nobody is to be told.
	Judged func(client netip.Addr, found *core.Assessment)
	// HeldFull reports that no more may be held.
	HeldFull func() bool
}

// Over is somebody over the limit of a relay rule.
type Over struct {
	Rule, Holder string
	Account      address.Address
	Why          string
	Stop         bool // the account is to send nothing more
}

// Allowance counts messages and recipients against a rule's limits.
type Allowance interface {
	// Take counts one more recipient, the first of a message together with it, or
	// says what forbids it.
	Take(ctx context.Context, rule, holder string, l config.RuleLimits, m relay.More) string
	// GiveBack takes off again what was not sent.
	GiveBack(rule, holder string, messages, recipients, fresh int)
	// Forget begins anew with a holder.
	Forget(holder string)
}

// Server is all listeners of a node.
type Server struct {
	Options
	cfg     atomic.Pointer[config.Compiled]
	certs   *door.Certificates
	doors   *door.Doors
	refused refusals
	ours    sync.Map // addresses from which we ask ourselves

	mu       sync.Mutex
	sessions sync.WaitGroup
	open     map[*session]struct{}
	stopping bool
	// What people have stopped.
	pausedListeners map[string]bool
	pausedNode      bool
	stopped         map[string]address.Address // by their keys
}

// New makes a server without listeners.
func New(o Options) *Server {
	s := &Server{Options: o, certs: o.Certificates, open: map[*session]struct{}{}}
	if s.certs == nil {
		s.certs = &door.Certificates{}
	}
	s.doors = door.New(door.Options{
		Node: o.Node, Bind: o.Bind, Certificates: s.certs, Log: o.Log,
		Ours:  func(l *config.Listener) bool { return !l.Reads() },
		Begin: s.begin,
	})
	return s
}

// Apply opens the listeners of a configuration and closes those it no longer
// has. Sessions under way take it with their next transaction. An address that
// cannot be opened is an error; the others are open all the same.
func (s *Server) Apply(c *config.Compiled) error {
	s.cfg.Store(c)
	return s.doors.Apply(c)
}

// Addresses are the addresses that are open, by listener.
func (s *Server) Addresses() map[string]string { return s.doors.Addresses() }

// knownOurs is how long it is known that a connection was a probe's: longer than one.
const knownOurs = 5 * time.Minute

// Dialled tells that we ourselves probe from an address: it may lead to a listener of
// ours, and what is refused there was no client's doing.
func (s *Server) Dialled(local string) {
	s.ours.Store(local, true)
	time.AfterFunc(knownOurs, func() { s.ours.Delete(local) })
}

func (s *Server) isOurs(conn net.Conn) bool {
	_, ours := s.ours.Load(conn.RemoteAddr().String())
	return ours
}

// Sessions is how many are open, by listener.
func (s *Server) Sessions() map[string]int { return s.doors.Sessions() }

// Stop closes the listeners, lets messages that are being taken come to their
// end for at most the given time, and closes the rest.
func (s *Server) Stop(grace time.Duration) {
	s.doors.Close()
	s.mu.Lock()
	s.stopping = true
	for se := range s.open {
		se.wakeIdle()
	}
	s.mu.Unlock()
	door.Drain(&s.sessions, grace, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		for se := range s.open {
			se.raw.Close()
		}
	})
}

// isStopping reports whether sessions at a listener end with their next command.
func (s *Server) isStopping(listener string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.stopping || s.pausedNode || s.pausedListeners[listener]
}

// Force makes a configuration the one in force without opening its listeners:
// connections come by Take.
func (s *Server) Force(c *config.Compiled) { s.cfg.Store(c) }

// Take begins a session on a connection that was made elsewhere, as if a listener
// had accepted it.
func (s *Server) Take(name string, conn net.Conn) { s.begin(s.doors.Named(name), conn) }

// begin starts a session, or turns the client away.
func (s *Server) begin(l *door.Door, conn net.Conn) {
	cfg := s.cfg.Load()
	conf := cfg.Listener(l.Name)
	client := door.Client(conn)
	if conf == nil {
		conn.Close()
		return
	}
	refusal := s.pausedAt(l.Name)
	if refusal == nil {
		refusal = l.Enter(client, conf, time.Now())
	}
	if refusal != nil {
		_ = conn.SetWriteDeadline(time.Now().Add(time.Second))
		_, _ = conn.Write(refusal.AppendTo(nil))
		s.turnAway(cfg, conf, client, *refusal)
		conn.Close()
		return
	}
	se := newSession(s, cfg, conf, conn, client)
	s.mu.Lock()
	if s.stopping {
		s.mu.Unlock()
		conn.Close()
		l.Leave(client)
		return
	}
	s.open[se] = struct{}{}
	s.sessions.Add(1)
	s.mu.Unlock()
	go func() {
		defer s.sessions.Done()
		defer func() {
			conn.Close()
			l.Leave(client)
			s.mu.Lock()
			delete(s.open, se)
			s.mu.Unlock()
		}()
		se.run()
	}()
}

// turnAway puts on record that a client was refused at the door. It has no
// session: there was no conversation.
func (s *Server) turnAway(
	cfg *config.Compiled,
	conf *config.Listener,
	client netip.Addr,
	r smtp.Reply,
) {
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
	s.Record.Refuse(mail.Refusal{
		At:            time.Now().UTC(),
		Listener:      conf.Name,
		ClientAddress: client.String(),
		Stage:         diagnose.StageConnect,
		Code:          r.Code,
		Enhanced:      r.Enhanced,
		Text:          r.Text(),
		Cause:         cause,
		Revision:      cfg.Revision,
	})
}

func clientPort(conn net.Conn) int {
	ap, _ := netip.ParseAddrPort(conn.RemoteAddr().String())
	return int(ap.Port())
}

// SetPauses puts in force what people have stopped: listeners by name, or this
// node as a whole. Sessions that wait for a command are ended; messages that are
// being taken come to their end.
func (s *Server) SetPauses(listeners map[string]bool, node bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pausedListeners, s.pausedNode = listeners, node
	for se := range s.open {
		if node || listeners[se.name] {
			se.wakeIdle()
		}
	}
}

// SetStopped puts in force which accounts send nothing, by their keys. Their sessions end; who
// is let go on begins anew with its limits.
func (s *Server) SetStopped(accounts map[string]address.Address) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for key, a := range s.stopped {
		if _, still := accounts[key]; !still && s.Allowance != nil {
			s.Allowance.Forget(a.Display())
		}
	}
	s.stopped = accounts
	for se := range s.open {
		if who := se.who.Load(); who != nil {
			if _, stopped := accounts[who.Key()]; stopped {
				se.signOut()
			}
		}
	}
}

// isStopped reports an account that sends nothing.
func (s *Server) isStopped(account address.Address) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, is := s.stopped[account.Key()]
	return is
}

// SignOut ends the sessions of accounts, by their keys: passwords were changed, or they
// may not submit any more. signin.AppKey stands for the sessions of one app password.
func (s *Server) SignOut(accounts ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for se := range s.open {
		if who := se.who.Load(); who != nil && (slices.Contains(accounts, who.Key()) ||
			slices.Contains(accounts, signin.AppKey(se.app.Load()))) {
			se.signOut()
		}
	}
}

// Accounts are those that are signed in.
func (s *Server) Accounts() []address.Address {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []address.Address
	for se := range s.open {
		if who := se.who.Load(); who != nil && !slices.Contains(out, *who) {
			out = append(out, *who)
		}
	}
	return out
}

// pausedAt is what a client hears where nothing is taken now.
func (s *Server) pausedAt(listener string) *smtp.Reply {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.pausedNode && !s.pausedListeners[listener] {
		return nil
	}
	r := smtp.NewReply(421, "4.3.2", "this server takes no mail here just now; try again later")
	return &r
}
