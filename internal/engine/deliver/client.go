// Package deliver holds the SMTP and LMTP conversation outwards: it finds the hosts
// of a next hop, connects, and hands messages over recipient by recipient.
package deliver

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"

	"github.com/xdg-go/scram"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/core/tlsterms"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/engine/sessions"
)

// Failure is why no host of a next hop could be used, or why one message was not
// taken.
type Failure struct {
	Reply     mail.LastReply
	Cause     diagnose.Cause
	Permanent bool
	// Tampered says that somebody meddled with the conversation: the host is not to be
	// used without TLS in its place.
	Tampered bool
	// NoTLS says that the host offers none.
	NoTLS bool
	// Unverified is what is wrong with the host's certificate, whether that was demanded or not.
	Unverified error
}

// Error is the reply on one line.
func (f *Failure) Error() string { return string(f.Reply.Stage) + ": " + f.Reply.String() }

// Secrets opens the passwords kept for smart hosts.
type Secrets interface {
	Secret(ctx context.Context, name string) (string, error)
}

// Resolver answers questions of DNS; *resolve.Resolver is one.
type Resolver interface {
	MX(ctx context.Context, domain string) ([]resolve.Host, error)
	Addrs(ctx context.Context, host string) ([]netip.Addr, error)
}

// Policies tell what domains say of TLS for mail to them; *policies.Keeper is one.
type Policies interface {
	STS(ctx context.Context, domain string) *tlsterms.Policy
	DANE(ctx context.Context, domain, host string, port int) tlsterms.DANE
}

// Dial opens a connection from an address of ours, if that is valid.
type Dial func(ctx context.Context, from netip.Addr, to netip.AddrPort,
	timeout time.Duration) (net.Conn, error)

// Options are what connections are made with. Zero fields are the network's.
type Options struct {
	Roots    *x509.CertPool // to verify remote hosts by; nil is the system's
	Secrets  Secrets
	Resolver Resolver // in place of the configured servers
	Dial     Dial
	Policies Policies           // what domains say of TLS; nil asks nobody
	Record   *sessions.Recorder // of sessions; nil keeps none
	IDs      *ident.Maker       // of sessions, with Record
	// TLSSeen hears how TLS towards a host of a domain went; nil if nobody is to be told.
	TLSSeen func(domain, host string, terms tlsterms.Terms, seen Failure)
	// Certificate finds one of ours by its file and key, or kept:NAME: some hosts know us by it.
	Certificate func(certificate, key string) (*tls.Certificate, error)
}

// Client opens connections for one configuration.
type Client struct {
	Options
	cfg *config.Compiled

	popLooks looks
	reach    reach
	mu       sync.Mutex
	scrams   map[[2]string]*scram.Client // by account and password
}

// NewClient makes a client.
func NewClient(cfg *config.Compiled, o Options) *Client {
	if o.Resolver == nil {
		o.Resolver = resolve.New(cfg.Service.Resolvers, cfg.Service.AddressFamily)
	}
	if o.Dial == nil {
		o.Dial = dial
	}
	return &Client{Options: o, cfg: cfg}
}

// dial connects by TCP.
func dial(
	ctx context.Context,
	from netip.Addr,
	to netip.AddrPort,
	timeout time.Duration,
) (net.Conn, error) {
	dialer := net.Dialer{Timeout: timeout}
	if from.IsValid() && from.Is4() == to.Addr().Is4() {
		dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
	}
	return dialer.DialContext(ctx, "tcp", to.String())
}

// maxTries bounds the hosts looked up and the addresses tried in one attempt.
const maxTries = 8

// Connect opens a connection to the first host of a next hop that answers, and
// says hello there. Hosts that failed before it are kept in the connection. Next
// hop direct goes on to the smart hosts when no MX host can be used. message is what
// the connection is opened for, for the record; 0 if for none.
func (c *Client) Connect(
	ctx context.Context,
	r *config.Route,
	nextHop string,
	message ident.ID,
) (*Conn, *Failure) {
	ctx = context.WithValue(ctx, messageKey{}, message)
	if r.NextHop != config.HopDirect {
		return c.connect(ctx, r, nextHop)
	}
	conn, failure := c.connect(ctx, plainMX(r), nextHop)
	if failure == nil {
		conn.direct = true
		return conn, nil
	}
	if !SmartHostMayHelp(failure.Cause) {
		return nil, failure
	}
	conn, second := c.ConnectSmartHost(ctx, r, message)
	if second != nil {
		second.Reply.Tried = append(
			append(failure.Reply.Tried, failure.Reply),
			second.Reply.Tried...)
		return nil, second
	}
	conn.tried = append(append(conn.tried, failure.Reply.Tried...), failure.Reply)
	return conn, nil
}

type messageKey struct{}

// ConnectSmartHost opens a connection to the smart hosts of a route with next
// hop direct.
func (c *Client) ConnectSmartHost(
	ctx context.Context,
	r *config.Route,
	message ident.ID,
) (*Conn, *Failure) {
	ctx = context.WithValue(ctx, messageKey{}, message)
	smart := *r
	smart.NextHop = config.HopSmartHost
	return c.connect(ctx, &smart, route.SmartHosts(r))
}

// SmartHostMayHelp reports whether a failure on the direct way is one that a
// smart host would not have.
func SmartHostMayHelp(cause diagnose.Cause) bool {
	switch cause {
	case diagnose.Greylisted:
		return false
	case diagnose.Unknown:
		return true
	}
	switch diagnose.Explain(cause).Family {
	case diagnose.Address,
		diagnose.Mailbox,
		diagnose.Size,
		diagnose.Content,
		diagnose.Looping,
		diagnose.Ours:
		return false
	}
	return true
}

func (c *Client) connect(ctx context.Context, r *config.Route, nextHop string) (*Conn, *Failure) {
	targets, failure := c.targets(ctx, r, nextHop)
	if failure == nil && r.NextHop == config.HopSmartHost {
		failure = c.lookFirst(ctx, r)
	}
	if failure != nil {
		return nil, failure
	}
	return c.connectTo(ctx, r, nextHop, targets)
}

// Next opens a connection to the hosts behind the one that a connection leads to, for
// what that one refused; nil, nil if there are none, or if the route ends there.
func (c *Client) Next(ctx context.Context, conn *Conn, message ident.ID) (*Conn, *Failure) {
	if len(conn.behind) == 0 || conn.route.OnRefusal != "next" {
		return nil, nil
	}
	return c.connectTo(context.WithValue(ctx, messageKey{}, message), conn.route, conn.nextHop,
		conn.behind)
}

// endsAt reports whether a refusal for good ends the search for a host: the domain
// has spoken. A greeting of 5yz says only that this host takes no mail (RFC 5321
// section 3.1), so the next one is tried unless the route says otherwise.
func endsAt(r *config.Route, f *Failure) bool {
	if !f.Permanent || f.Reply.Code == 0 || r.OnRefusal == "next" {
		return false
	}
	return r.OnRefusal == "end" ||
		r.NextHop == config.HopMX && f.Reply.Stage != diagnose.StageGreeting
}

// connectTo tries hosts in order.
func (c *Client) connectTo(
	ctx context.Context,
	r *config.Route,
	nextHop string,
	targets []target,
) (*Conn, *Failure) {
	var failure *Failure
	var tried []mail.LastReply
	for i, t := range targets {
		if len(tried) >= maxTries || ctx.Err() != nil {
			break // look-ups are bounded too, not only connections
		}
		addrs, err := c.Resolver.Addrs(ctx, t.host)
		if err != nil {
			failure = dnsFailure(t.host, err)
			tried = append(tried, failure.Reply)
			continue
		}
		for _, ip := range c.reach.order(addrs, time.Now()) {
			if len(tried) >= maxTries || ctx.Err() != nil {
				break
			}
			conn, fail := c.open(ctx, r, nextHop, t, ip)
			if fail == nil {
				conn.tried, conn.route, conn.nextHop, conn.behind = tried, r, nextHop, targets[i+1:]
				return conn, nil
			}
			if endsAt(r, fail) {
				fail.Reply.Tried = tried
				return nil, fail
			}
			failure = worse(failure, fail)
			tried = append(tried, fail.Reply)
		}
	}
	if failure == nil { // ctx ended before the first attempt
		failure = &Failure{
			Cause: diagnose.OurTrouble,
			Reply: mail.LastReply{
				Stage:    diagnose.StageConnect,
				Enhanced: "4.3.2",
				Text:     "the attempt was called off",
			},
		}
	}
	if n := len(tried); n > 1 {
		failure.Reply.Tried = tried[:n-1]
	}
	return nil, failure
}

// worse keeps a failure that may pass over one that will not: while one host of
// several may still take the message, it waits.
func worse(old, latest *Failure) *Failure {
	if old != nil && !old.Permanent && latest.Permanent {
		return old
	}
	return latest
}

// open connects to one address and goes through the conversation up to where
// messages can be sent. With TLS only offered, a failing handshake is followed by
// a second connection without.
func (c *Client) open(
	ctx context.Context,
	r *config.Route,
	nextHop string,
	t target,
	ip netip.Addr,
) (*Conn, *Failure) {
	terms := route.TermsOf(c.cfg, r, nextHop)
	secured := c.secured(ctx, r, terms, nextHop, t)
	tell := func(f Failure) {
		if c.TLSSeen != nil && r.NextHop == config.HopMX {
			c.TLSSeen(nextHop, t.host, secured, f)
		}
	}
	if secured.Unfit != "" {
		f := unfitHost(t, ip, secured)
		tell(*f)
		return nil, f
	}
	conn, failure := c.openWith(ctx, r, terms, secured, nextHop, t, ip, secured.TLS != tlsterms.Off)
	switch {
	case failure != nil && failure.Reply.Stage == diagnose.StageTLS:
		tell(*failure)
	case failure == nil && conn.tls == nil:
		tell(Failure{Cause: diagnose.TLSNotOffered, NoTLS: true})
	case failure == nil:
		tell(Failure{Unverified: conn.unverified})
	}
	if failure != nil && failure.Reply.Stage == diagnose.StageTLS &&
		secured.TLS == tlsterms.Offered &&
		!failure.Tampered {
		return c.openWith(ctx, r, terms, secured, nextHop, t, ip, false)
	}
	return conn, failure
}

func (c *Client) openWith(
	ctx context.Context,
	r *config.Route,
	terms route.Terms,
	secured tlsterms.Terms,
	nextHop string,
	t target,
	ip netip.Addr,
	useTLS bool,
) (*Conn, *Failure) {
	timeouts := c.cfg.Service.Timeouts
	session, recording := c.begin(ctx, r, terms, nextHop, t, ip)
	raw, err := c.reachOut(ctx, r, netip.AddrPortFrom(ip, uint16(t.port)), timeouts.Connect)
	if err != nil {
		failure := connectFailure(t, ip, err)
		failure.Reply.SessionID = session
		recording.Note("%s", failure.Reply.Text)
		recording.End(failure.Reply.Text, true)
		return nil, failure
	}
	conn := newConn(raw, t.host, ip.String(), timeouts)
	conn.session, conn.record, conn.scram = session, recording, c.scram
	conn.lmtp = r.NextHop == config.HopLMTP
	conn.terms = secured
	conn.ourName = string(c.cfg.Service.HostName)
	if r.EHLOName != "" {
		conn.ourName = string(r.EHLOName)
	}
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()
	if failure := c.conversation(ctx, conn, r, secured, useTLS); failure != nil {
		conn.refused(1)
		conn.endsFor(string(failure.Reply.Stage) + ": " + failure.Reply.String())
		conn.Close()
		return nil, failure
	}
	return conn, nil
}

// scram is our side of SCRAM for an account. It is kept: deriving keys from a
// password takes long, and smart hosts are signed in to often.
func (c *Client) scram(account, password string) (*scram.Client, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	key := [2]string{account, password}
	if known := c.scrams[key]; known != nil {
		return known, nil
	}
	fresh, err := scram.SHA256.NewClient(account, password, "")
	if err != nil {
		return nil, err
	}
	if c.scrams == nil || len(c.scrams) > maxScrams {
		c.scrams = map[[2]string]*scram.Client{}
	}
	c.scrams[key] = fresh
	return fresh, nil
}

// maxScrams bounds the accounts that are kept.
const maxScrams = 1000

// begin opens the recording of a session.
func (c *Client) begin(
	ctx context.Context,
	r *config.Route,
	terms route.Terms,
	nextHop string,
	t target,
	ip netip.Addr,
) (ident.ID, *sessions.Recording) {
	if c.Record == nil {
		return 0, nil
	}
	protocol := "SMTP"
	if r.NextHop == config.HopLMTP {
		protocol = "LMTP"
	}
	id := c.IDs.Next()
	recording := c.Record.Begin(
		mail.Session{
			ID:        id,
			Direction: mail.Out,
			Protocol:  protocol,
			Route:     r.Name,
			Address:   ip.String(),
			Port:      t.port,
			Name:      t.host,
			StartedAt: time.Now().UTC(),
		},
		terms.Transcript,
	)
	recording.Touch(nextHop)
	if message, _ := ctx.Value(messageKey{}).(ident.ID); message != 0 {
		recording.Change(func(s *mail.Session) { s.AddMessage(message) })
	}
	return id, recording
}

// tlsSettings are those towards a host, with our own certificate where the route has one.
func (c *Client) tlsSettings(r *config.Route, secured tlsterms.Terms) (*tls.Config, error) {
	s := &tls.Config{ServerName: secured.Names[0], RootCAs: c.Roots, MinVersion: tls.VersionTLS12}
	if r.Certificate == "" || c.Certificate == nil {
		return s, nil
	}
	ours, err := c.Certificate(r.Certificate, r.Key)
	if err != nil {
		return nil, fmt.Errorf("our certificate for route %s cannot be used: %w", r.Name, err)
	}
	s.Certificates = []tls.Certificate{*ours}
	return s, nil
}

// conversation goes from greeting to sign-in.
func (c *Client) conversation(
	ctx context.Context,
	conn *Conn,
	r *config.Route,
	secured tlsterms.Terms,
	useTLS bool,
) *Failure {
	settings, err := c.tlsSettings(r, secured)
	if err != nil {
		return conn.failure(diagnose.StageTLS, "4.7.0", diagnose.OurTrouble, err.Error())
	}
	if r.TLSFromStart {
		if failure := conn.handshake(settings, secured); failure != nil {
			return failure
		}
	}
	if failure := conn.hello(); failure != nil {
		return failure
	}
	if conn.tls == nil {
		offered := conn.has("STARTTLS")
		if secured.Demanded() && !offered {
			f := conn.failure(
				diagnose.StageTLS,
				"4.7.5",
				causeOf(secured, diagnose.TLSNotOffered),
				"the host offers no TLS, and "+secured.Who+" demands it",
			)
			f.NoTLS = true
			return f
		}
		if useTLS && offered {
			if failure := conn.startTLS(settings, secured); failure != nil {
				return failure
			}
		}
	}
	if r.SignIn == nil {
		return nil
	}
	if conn.tls == nil {
		return conn.failure(diagnose.StageSignIn, "4.7.0", diagnose.TLSNotOffered,
			"a password is not sent without TLS")
	}
	password, err := c.Secrets.Secret(ctx, r.SignIn.Secret)
	if err != nil {
		return conn.failure(diagnose.StageSignIn, "4.7.0", diagnose.OurTrouble,
			"secret "+r.SignIn.Secret+" of route "+r.Name+" cannot be used: "+err.Error())
	}
	return signInTalk{conn}.signIn(r.SignIn.Account, password)
}

// Verify asks a next hop whether it would take a recipient, without sending
// anything.
func (c *Client) Verify(
	ctx context.Context,
	r *config.Route,
	nextHop string,
	to address.Address,
) Result {
	conn, failure := c.Connect(ctx, r, nextHop, 0)
	if failure != nil {
		return Result{Reply: failure.Reply, Failure: failure}
	}
	defer conn.Quit()
	return transfer{conn}.verify(to)
}

func connectFailure(t target, ip netip.Addr, err error) *Failure {
	f := &Failure{
		Cause: diagnose.ConnectTimeout,
		Reply: mail.LastReply{
			Stage:    diagnose.StageConnect,
			Host:     t.host,
			Address:  ip.String(),
			Enhanced: "4.4.1",
		},
	}
	where := fmt.Sprintf("%s port %d", ip, t.port)
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		f.Cause, f.Reply.Text = diagnose.ConnectRefused, "connection refused by "+where
	case errors.Is(err, syscall.ENETUNREACH),
		errors.Is(err, syscall.EHOSTUNREACH),
		errors.Is(err, syscall.EADDRNOTAVAIL):
		f.Cause, f.Reply.Text = diagnose.Unreachable, "no network path to "+where
	default:
		f.Reply.Text = "no connection to " + where + ": " + plain(err)
	}
	return f
}

// plain is an error without the address that the operation names anyway.
func plain(err error) string {
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	if os.IsTimeout(err) {
		return "timed out"
	}
	return inert.Line(err.Error(), maxErrorText)
}

// maxErrorText bounds what is kept of an error's text: a certificate's names are in
// some.
const maxErrorText = 500
