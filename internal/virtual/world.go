package virtual

import (
	"bytes"
	"context"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync/atomic"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/dsn"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/plan"
	"gullroute/internal/core/route"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/feed"
	"gullroute/internal/engine/limits"
	"gullroute/internal/engine/queue"
	"gullroute/internal/engine/receive"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/engine/sessions"
	"gullroute/internal/engine/signin"
	"gullroute/internal/simnet"
	"gullroute/internal/store"
)

// Names answers for DNS from a world.
type Names struct {
	Net *simnet.Inside
	// Broken lets all questions fail: our resolver is down.
	Broken func() bool
}

// MX are the mail hosts of a domain.
func (n Names) MX(_ context.Context, domain string) ([]resolve.Host, error) {
	if n.Broken != nil && n.Broken() || n.Net.Broken(domain) {
		return nil, &resolve.Failure{
			Cause:    diagnose.DNSTrouble,
			Enhanced: "4.4.3",
			Text:     "DNS gives no answer for " + domain,
		}
	}
	if n.Net.NullMX(domain) {
		return nil, &resolve.Failure{
			Cause:     diagnose.NoMail,
			Permanent: true,
			Enhanced:  "5.1.10",
			Text:      domain + " says that it takes no mail (RFC 7505)",
		}
	}
	var out []resolve.Host
	for i, h := range n.Net.Hosts(domain) {
		out = append(out, resolve.Host{Name: h, Preference: uint16(i)})
	}
	if _, ok := n.Net.Addr(domain); len(out) == 0 && ok {
		return []resolve.Host{{Name: domain, Implicit: true}}, nil
	}
	if len(out) == 0 {
		return nil, &resolve.Failure{
			Cause:     diagnose.NoSuchDomain,
			Permanent: true,
			Enhanced:  "5.1.2",
			Text:      "the domain " + domain + " does not exist in DNS",
		}
	}
	return out, nil
}

// Addrs are the addresses of a host.
func (n Names) Addrs(_ context.Context, host string) ([]netip.Addr, error) {
	if a, ok := n.Net.Addr(host); ok {
		return []netip.Addr{a}, nil
	}
	return nil, &resolve.Failure{Cause: diagnose.NoAddress, Enhanced: "4.4.4", Text: "no address"}
}

// World is a service over the simulated internet. It must be used in a bubble of
// testing/synctest, where time is virtual.
type World struct {
	Rows    *Rows
	Net     *simnet.Inside
	Queue   *queue.Queue
	Receive *receive.Server
	Config  *config.Compiled
	IDs     *ident.Maker
	// DNSDown lets our resolver fail.
	DNSDown atomic.Bool

	cancel context.CancelFunc
	done   chan struct{}
}

// Start begins a service with a configuration, and lets it move mail. Stop ends
// it.
func Start(settings string, world *simnet.World, node string) (*World, error) {
	c, err := config.Parse([]byte(settings))
	if err != nil {
		return nil, err
	}
	n, err := simnet.NewInside(world)
	if err != nil {
		return nil, err
	}
	w := &World{
		Rows:   NewRows(),
		Net:    n,
		Config: config.Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases)),
		IDs:    ident.NewMaker(1, time.Now),
		done:   make(chan struct{}),
	}
	log, hub, counts := slog.New(slog.DiscardHandler), feed.NewHub(), counters.New()
	rec := sessions.New(
		sessions.Options{Store: w.Rows, Node: node, IDs: w.IDs, Hub: hub, Tally: counts, Log: log},
	)
	outward := deliver.Options{
		Dial:     n.Dial,
		Resolver: Names{n, w.DNSDown.Load},
		Roots:    n.Roots(),
		Record:   rec,
		IDs:      w.IDs,
		Secrets:  passwords(n.Password),
	}
	w.Queue = queue.New(queue.Options{
		Store:   w.Rows,
		Node:    1,
		Name:    node,
		IDs:     w.IDs,
		Hub:     hub,
		Tally:   counts,
		Log:     log,
		Outward: outward,
	})
	w.Queue.Apply(w.Config)
	w.Receive = receive.New(receive.Options{
		Intake:    w.Queue,
		Contents:  w.Rows,
		IDs:       w.IDs,
		Record:    rec,
		Log:       log,
		Node:      node,
		SignIn:    signin.NewChecker(w.Rows, []byte("virtual")),
		Allowance: limits.New(w.Rows),
		Mailboxes: w.Rows,
		Originals: original{},
	})
	w.Receive.Force(w.Config)
	n.SendBackBy(func(from netip.Addr) (net.Conn, error) { return w.Dial("edge", from) })
	ctx, cancel := context.WithCancel(context.Background())
	w.cancel = cancel
	recorded := make(chan struct{})
	go func() { rec.Run(ctx); close(recorded) }()
	go func() { w.Queue.Run(ctx); <-recorded; close(w.done) }()
	return w, nil
}

// Stop ends the service, and sessions that hosts hold open.
func (w *World) Stop() {
	w.cancel()
	<-w.done
	time.Sleep(time.Hour)
}

// passwords knows the password of each name.
type passwords func(name string) string

func (p passwords) Secret(_ context.Context, name string) (string, error) { return p(name), nil }

// original ties a notice from elsewhere to its message by our id in it.
type original struct{}

func (original) Original(
	_ context.Context,
	_ string,
	r dsn.Report,
	_ ident.ID,
) (ident.ID, []mail.Event) {
	for _, text := range append([]string{r.EnvID}, r.OurIDs...) {
		if id, err := ident.Parse(text); err == nil {
			return id, nil
		}
	}
	return 0, nil
}

// conn is a pipe with addresses.
type conn struct {
	net.Conn
	local, remote net.Addr
}

// LocalAddr is our end's address.
func (c conn) LocalAddr() net.Addr { return c.local }

// RemoteAddr is the other end's.
func (c conn) RemoteAddr() net.Addr { return c.remote }

// Dial connects to a listener as a client from an address.
func (w *World) Dial(listener string, from netip.Addr) (net.Conn, error) {
	theirs, ours := net.Pipe()
	l := w.Config.Listener(listener)
	w.Receive.Take(listener, conn{
		ours,
		net.TCPAddrFromAddrPort(l.Address),
		net.TCPAddrFromAddrPort(netip.AddrPortFrom(from, 40000)),
	})
	return theirs, nil
}

// Client hands messages in at a listener: our own conversation, from an address.
type Client struct {
	world *World
	out   *deliver.Client
	route *config.Route
	hop   string
}

// NewClient makes a client of a listener. account may be empty.
func (w *World) NewClient(
	listener string,
	from netip.Addr,
	name, account, password string,
) (*Client, error) {
	host, err := address.ParseDomain(name)
	if err != nil {
		return nil, err
	}
	r := &config.Route{
		Name:     "client",
		NextHop:  config.HopSmartHost,
		TLS:      "off",
		EHLOName: config.DomainName(host),
		Hosts:    []string{"127.0.0.1:25"},
	}
	if account != "" {
		r.TLS, r.SignIn = "required", &config.SignIn{Account: account, Secret: "x"}
	}
	o := deliver.Options{
		Resolver: here{},
		Secrets:  passwords(func(string) string { return password }),
		Dial: func(context.Context, netip.Addr, netip.AddrPort, time.Duration) (net.Conn, error) {
			return w.Dial(listener, from)
		},
	}
	return &Client{w, deliver.NewClient(w.Config, o), r, "127.0.0.1:25"}, nil
}

// here resolves a client's only host.
type here struct{}

func (here) MX(context.Context, string) ([]resolve.Host, error) { return nil, nil }
func (here) Addrs(context.Context, string) ([]netip.Addr, error) {
	return []netip.Addr{netip.MustParseAddr("127.0.0.1")}, nil
}

// Send hands a message in; what is refused is part of the traffic.
func (c *Client) Send(from string, to []string, content []byte) {
	sender, _ := address.Parse(from)
	var rcpts []deliver.Recipient
	for _, a := range to {
		parsed, err := address.Parse(a)
		if err != nil {
			continue
		}
		rcpts = append(rcpts, deliver.Recipient{To: parsed})
	}
	conn, failure := c.out.Connect(context.Background(), c.route, c.hop, 0)
	if failure != nil {
		return
	}
	utf8 := strings.ContainsFunc(string(content[:min(len(content), 400)]),
		func(r rune) bool { return r >= 0x80 })
	message := &deliver.Message{
		Sender:   sender,
		Size:     int64(len(content)),
		UTF8:     utf8,
		EightBit: utf8,
		Content:  reader(content),
	}
	conn.Send(message, rcpts)
	conn.Quit()
}

// Message makes a message and enters it as if a listener had taken it.
func (w *World) Message(from, to string, content []byte) *store.Entry {
	sender, _ := address.Parse(from)
	recipient, _ := address.Parse(to)
	m := &mail.Message{
		ID:         w.IDs.Next(),
		ReceivedAt: time.Now(),
		Sender:     from,
		Size:       int64(len(content)),
		Revision:   1,
	}
	e := &store.Entry{Message: m, Content: content}
	legs, _ := route.Plan(w.Config, config.Envelope{Sender: sender}, recipient)
	for i, leg := range legs {
		e.Deliveries = append(e.Deliveries,
			plan.NewDelivery(w.Config, m, i+1, leg, recipient, "rule"))
	}
	return e
}

func reader(content []byte) func() (io.Reader, error) {
	return func() (io.Reader, error) { return bytes.NewReader(content), nil }
}
