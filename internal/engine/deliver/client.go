// Package deliver holds the SMTP and LMTP dialogue outwards: it finds the hosts
// of a next hop, connects, and hands letters over recipient by recipient.
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
	"strings"
	"syscall"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/resolve"
)

// Failure is why no host of a next hop could be used, or why one letter was not
// taken.
type Failure struct {
	Reply     mail.LastReply
	Cause     diagnose.Cause
	Permanent bool
}

// Error is the reply on one line.
func (f *Failure) Error() string { return string(f.Reply.Stage) + ": " + f.Reply.String() }

// Client opens connections for one configuration.
type Client struct {
	cfg      *config.Compiled
	resolver *resolve.Resolver
	roots    *x509.CertPool
}

// NewClient makes a client; roots nil means those of the system.
func NewClient(cfg *config.Compiled, roots *x509.CertPool) *Client {
	return &Client{cfg: cfg, resolver: resolve.New(cfg.Service.Resolvers, cfg.Service.AddressFamily), roots: roots}
}

// target is one host to try.
type target struct {
	host string
	port int
}

// maxTries bounds the addresses tried in one attempt.
const maxTries = 8

// Connect opens a connection to the first host of a next hop that answers, and
// says hello there. Hosts that failed before it are kept in the connection.
func (c *Client) Connect(ctx context.Context, r *config.Route, nextHop string) (*Conn, *Failure) {
	targets, failure := c.targets(ctx, r, nextHop)
	if failure != nil {
		return nil, failure
	}
	var tried []mail.LastReply
	for _, t := range targets {
		addrs, err := c.resolver.Addrs(ctx, t.host)
		if err != nil {
			failure = dnsFailure(t.host, err)
			tried = append(tried, failure.Reply)
			continue
		}
		for _, ip := range addrs {
			if len(tried) >= maxTries || ctx.Err() != nil {
				break
			}
			conn, fail := c.open(ctx, r, t, ip)
			if fail == nil {
				conn.tried = tried
				return conn, nil
			}
			failure = worse(failure, fail)
			tried = append(tried, fail.Reply)
		}
	}
	if failure == nil { // ctx ended before the first try
		failure = &Failure{Cause: diagnose.OurTrouble, Reply: mail.LastReply{Stage: diagnose.StageConnect, Enhanced: "4.3.2", Text: "the attempt was called off"}}
	}
	if n := len(tried); n > 1 {
		failure.Reply.Tried = tried[:n-1]
	}
	return nil, failure
}

// worse keeps a failure that may pass over one that will not: while one host of
// several may still take the letter, it waits.
func worse(old, latest *Failure) *Failure {
	if old != nil && !old.Permanent && latest.Permanent {
		return old
	}
	return latest
}

// targets lists the hosts of a next hop in order.
func (c *Client) targets(ctx context.Context, r *config.Route, nextHop string) ([]target, *Failure) {
	if r.NextHop == "mx" {
		return c.mxTargets(ctx, nextHop, c.cfg.Service.MXPort)
	}
	var targets []target
	for _, h := range strings.Split(nextHop, ",") {
		host, port := config.SplitHost(h, r.Port)
		if !r.MXLookup {
			targets = append(targets, target{host, port})
			continue
		}
		more, failure := c.mxTargets(ctx, host, port)
		if failure != nil {
			// A missing smart host is our own mistake: mended, the mail leaves.
			failure.Permanent = false
			return nil, failure
		}
		targets = append(targets, more...)
	}
	return targets, nil
}

func (c *Client) mxTargets(ctx context.Context, domain string, port int) ([]target, *Failure) {
	if address.IsLiteral(domain) {
		ip, err := address.LiteralAddr(domain)
		if err != nil {
			return nil, dnsFailure(domain, &resolve.Failure{Cause: diagnose.NoSuchDomain, Permanent: true, Enhanced: "5.1.2", Text: "no address literal"})
		}
		return []target{{ip.String(), port}}, nil
	}
	hosts, err := c.resolver.MX(ctx, domain)
	if err != nil {
		return nil, dnsFailure(domain, err)
	}
	if len(hosts) == 1 && hosts[0].Implicit {
		if _, err := c.resolver.Addrs(ctx, domain); err != nil {
			return nil, noMXNoAddress(domain, err)
		}
	}
	ours := string(c.cfg.Service.HostName)
	var targets []target
	for _, h := range hosts {
		if h.Name == ours { // RFC 5321 section 5.1: we and those after us are no way on
			break
		}
		targets = append(targets, target{h.Name, port})
	}
	if len(targets) == 0 {
		return nil, &Failure{Cause: diagnose.Loop, Permanent: true, Reply: mail.LastReply{Stage: diagnose.StageDNS, Host: domain, Enhanced: "5.4.6",
			Text: "the best MX of " + domain + " is this server, and no domain of ours has that name"}}
	}
	return targets, nil
}

func noMXNoAddress(domain string, err error) *Failure {
	f := dnsFailure(domain, err)
	if f.Cause == diagnose.NoAddress {
		f.Permanent, f.Reply.Enhanced = true, "5.4.4"
		f.Reply.Text = "the domain " + domain + " has neither an MX nor an address in DNS"
	}
	return f
}

func dnsFailure(host string, err error) *Failure {
	var f *resolve.Failure
	if !errors.As(err, &f) {
		f = &resolve.Failure{Cause: diagnose.DNSTrouble, Enhanced: "4.4.3", Text: err.Error()}
	}
	return &Failure{Cause: f.Cause, Permanent: f.Permanent,
		Reply: mail.LastReply{Stage: diagnose.StageDNS, Host: host, Enhanced: f.Enhanced, Text: f.Text}}
}

// open connects to one address and goes through the dialogue up to where
// letters can be sent. With TLS only offered, a failing handshake is followed by
// a second connection without.
func (c *Client) open(ctx context.Context, r *config.Route, t target, ip netip.Addr) (*Conn, *Failure) {
	conn, failure := c.openWith(ctx, r, t, ip, r.TLS != "off")
	if failure != nil && failure.Reply.Stage == diagnose.StageTLS && r.TLS == "offered" {
		return c.openWith(ctx, r, t, ip, false)
	}
	return conn, failure
}

func (c *Client) openWith(ctx context.Context, r *config.Route, t target, ip netip.Addr, useTLS bool) (*Conn, *Failure) {
	timeouts := c.cfg.Service.Timeouts
	dialer := net.Dialer{Timeout: timeouts.Connect}
	raw, err := dialer.DialContext(ctx, "tcp", netip.AddrPortFrom(ip, uint16(t.port)).String())
	if err != nil {
		return nil, connectFailure(t, ip, err)
	}
	conn := newConn(raw, t.host, ip.String(), timeouts)
	conn.lmtp = r.NextHop == "lmtp"
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()
	if failure := conn.hello(string(c.cfg.Service.HostName)); failure != nil {
		conn.Close()
		return nil, failure
	}
	if failure := c.secure(conn, r, useTLS); failure != nil {
		conn.Close()
		return nil, failure
	}
	return conn, nil
}

// secure does TLS and sign-in as the route asks.
func (c *Client) secure(conn *Conn, r *config.Route, useTLS bool) *Failure {
	_, offered := conn.extensions["STARTTLS"]
	demanded := r.TLS == "required" || r.TLS == "verified"
	if demanded && !offered {
		return conn.failure(diagnose.StageTLS, "4.7.5", diagnose.TLSTrouble, "the host offers no TLS, and route "+r.Name+" demands it")
	}
	if useTLS && offered {
		settings := &tls.Config{ServerName: conn.host, RootCAs: c.roots, MinVersion: tls.VersionTLS12}
		if failure := conn.startTLS(settings, r.TLS == "verified", string(c.cfg.Service.HostName)); failure != nil {
			return failure
		}
	}
	if r.SignIn == nil {
		return nil
	}
	password, err := os.ReadFile(r.SignIn.PasswordFile)
	if err != nil {
		return conn.failure(diagnose.StageSignIn, "4.7.0", diagnose.OurTrouble, "the password file of route "+r.Name+" cannot be read")
	}
	return conn.signIn(r.SignIn.Account, strings.TrimSpace(string(password)))
}

func connectFailure(t target, ip netip.Addr, err error) *Failure {
	f := &Failure{Cause: diagnose.ConnectTimeout, Reply: mail.LastReply{Stage: diagnose.StageConnect, Host: t.host, Address: ip.String(), Enhanced: "4.4.1"}}
	where := fmt.Sprintf("%s port %d", ip, t.port)
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		f.Cause, f.Reply.Text = diagnose.ConnectRefused, "connection refused by "+where
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.EADDRNOTAVAIL):
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
	return err.Error()
}
