package control

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/probe"
	"gullroute/internal/core/rehearse"
	"gullroute/internal/core/route"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/receive"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/engine/senderauth"
	"gullroute/internal/inforce"
)

// probeTime bounds a whole probe.
const probeTime = 90 * time.Second

// ProbeOrder is what is probed and how.
type ProbeOrder struct {
	Target  string   // a host, host:port, a domain or an address
	Routes  []string // by whose terms; the one that a message would take if none is named
	Sources []string // our addresses to connect from
	From    string   // the sender that is asked about; the postmaster if empty
	Message bool     // send a small real message to the address
	// Inwards is a listener of ours to be probed in place of a target, as from a
	// client's address; "*" is all of them.
	Inwards, Client string
	// Heard is told of each step when it is over; nil is not.
	Heard func(host string, step probe.ProbeStep)
}

// Prober converses with hosts to see what they say.
type Prober struct {
	InForce *inforce.State
	Receive *receive.Server
	Outward deliver.Options // without a resolver: each probe has one that asks anew
	Signer  *senderauth.Signer
}

// Probe converses live with a host, a domain's hosts, or our own listeners.
func (s *Prober) Probe(ctx context.Context, w ProbeOrder) (probe.Probe, error) {
	ctx, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	x := &probing{on: s, cfg: s.InForce.Config(), order: w, began: time.Now()}
	x.out = probe.Probe{
		Target:    w.Target,
		StartedAt: x.began.UTC(),
		Steps:     []probe.ProbeStep{},
		Attempts:  []probe.Conversation{},
	}
	var err error
	if x.sender, err = x.parseSender(); err != nil {
		return x.out, err
	}
	if w.Inwards != "" {
		err = x.inwards(ctx)
	} else {
		err = x.outwards(ctx)
	}
	if err != nil {
		return x.out, err
	}
	x.out.Took = time.Since(x.began).Seconds()
	x.out.Judge()
	return x.out, nil
}

// probing is a probe under way.
type probing struct {
	on     *Prober
	cfg    *config.Compiled
	order  ProbeOrder
	began  time.Time
	sender address.Address
	out    probe.Probe
}

func (x *probing) parseSender() (address.Address, error) {
	switch x.order.From {
	case "":
		return x.cfg.Service.Postmaster, nil
	case "<>":
		return address.Address{}, nil
	}
	a, err := address.Parse(x.order.From)
	if err != nil {
		return a, fault.Input("from: %w", err)
	}
	return a, nil
}

// note adds a step that needs no connection.
func (x *probing) note(name, result, says string, cause diagnose.Cause, began time.Time) {
	step := probe.ProbeStep{
		Name:   name,
		Result: result,
		Says:   says,
		Cause:  cause,
		Took:   time.Since(began).Seconds(),
	}
	x.out.Steps = append(x.out.Steps, step)
	if x.order.Heard != nil {
		x.order.Heard("", step)
	}
}

func (x *probing) outwards(ctx context.Context) error {
	to, host, port, err := x.target()
	if err != nil {
		return err
	}
	if x.order.Message && to == nil {
		return fault.Input("message: a message needs an address to go to, not %s", x.order.Target)
	}
	ways, err := x.ways(to, host, port)
	if err != nil {
		return err
	}
	order := deliver.ProbeOrder{
		Sender:    x.sender,
		Recipient: to,
		Began:     x.began,
		Dialled:   x.on.Receive.Dialled,
		Heard:     x.order.Heard,
	}
	if x.order.Message {
		order.Message = x.message(*to)
		x.out.Sent = order.Message.ID
	}
	client := deliver.NewClient(x.cfg, x.on.outward())
	for _, w := range ways {
		x.converse(ctx, client, w, order)
	}
	return nil
}

// way is one next hop by one route's terms.
type way struct {
	route   *config.Route
	nextHop string
}

// target reads what is to be probed: an address has a recipient, a host may have a
// port.
func (x *probing) target() (to *address.Address, host string, port int, err error) {
	text := strings.TrimSpace(x.order.Target)
	if strings.Contains(text, "@") {
		a, err := address.Parse(text)
		if err != nil {
			return nil, "", 0, fault.Input("target: %w", err)
		}
		return &a, a.Domain, 0, nil
	}
	host, port = config.SplitHost(text, -1)
	if port == 0 || port > 65535 {
		return nil, "", 0, fault.Input("target: %q has no port that is a number; write host:port",
			text)
	}
	if ip, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		return nil, ip.String(), max(port, 0), nil
	}
	if host, err = address.ParseDomain(host); err != nil {
		return nil, "", 0, fault.Input("target: write a host, a domain or an address: %w", err)
	}
	return nil, host, max(port, 0), nil
}

// ways are the ways by which the target is probed.
func (x *probing) ways(to *address.Address, host string, port int) ([]way, error) {
	var out []way
	began := time.Now()
	for _, name := range x.order.Routes {
		r := x.cfg.Route(name)
		if r == nil {
			return nil, fault.Input("route: there is none named %q", name)
		}
		switch r.NextHop {
		case config.HopMX, config.HopDirect, config.HopSmartHost, config.HopLMTP:
		default:
			return nil, fault.Input("route: %s leads to no host (next_hop: %s)", name, r.NextHop)
		}
		out = append(out, x.byRoute(r, host))
	}
	if len(out) == 0 {
		out = append(out, x.usual(to, host, port, began))
	}
	if len(x.order.Sources) == 0 {
		return out, nil
	}
	var all []way
	for _, text := range x.order.Sources {
		source, err := netip.ParseAddr(text)
		if err != nil {
			return nil, fault.Input("source: %q is no address", text)
		}
		for _, w := range out {
			r := *w.route
			r.SourceAddress = source
			all = append(all, way{&r, w.nextHop})
		}
	}
	return all, nil
}

func (x *probing) byRoute(r *config.Route, host string) way {
	if r.NextHop == config.HopSmartHost || r.NextHop == config.HopLMTP {
		return way{r, route.SmartHosts(r)}
	}
	return way{r, host}
}

// usual is the way that a message from us would take; a host with a port, or one
// that no route leads to, is probed directly.
func (x *probing) usual(to *address.Address, host string, port int, began time.Time) way {
	direct := &config.Route{Name: "", NextHop: config.HopMX, TLS: "offered"}
	if _, err := netip.ParseAddr(host); err == nil || port > 0 {
		direct.NextHop, direct.Hosts, direct.Port = config.HopSmartHost, []string{host}, port
		if port == 0 {
			direct.Port = x.cfg.Service.MXPort
		}
		return way{direct, route.SmartHosts(direct)}
	}
	ask := address.Address{Local: "postmaster", Domain: host}
	if to != nil {
		ask = *to
	}
	leg, fault := route.Find(x.cfg, config.Envelope{Sender: x.sender}, ask)
	switch {
	case fault != nil:
		x.note(
			"route",
			probe.Warning,
			"a message there is sent back by our own rules: "+fault.String()+
				"; probed directly all the same",
			diagnose.NoCause,
			began,
		)
	case leg.Route.NextHop == config.HopMX || leg.Route.NextHop == config.HopDirect ||
		leg.Route.NextHop == config.HopSmartHost:
		x.note("route", probe.Pass, "a message there takes route "+leg.Route.Name+": "+leg.Why,
			diagnose.NoCause, began)
		return way{leg.Route, leg.NextHop}
	case leg.Route.NextHop == config.HopNone:
		x.note(
			"route",
			probe.Fail,
			"no route leads to "+address.DisplayDomain(
				host,
			)+": messages there wait; probed directly all the same",
			diagnose.NoRoute,
			began,
		)
	default:
		x.note("route", probe.Warning,
			"messages there stay here ("+leg.Route.Name+"); probed directly as the world would",
			diagnose.NoCause, began)
	}
	return way{direct, host}
}

// converse probes every address of a way, within a bound.
func (x *probing) converse(
	ctx context.Context,
	client *deliver.Client,
	w way,
	order deliver.ProbeOrder,
) {
	began := time.Now()
	targets, failure := client.Targets(ctx, w.route, w.nextHop)
	if failure != nil {
		x.note("dns", probe.Fail, failure.Reply.Text, failure.Cause, began)
		return
	}
	var words []string
	for _, t := range targets {
		words = append(words, fmt.Sprintf("%d %s", t.Preference, t.Host))
	}
	what := "its hosts in order: "
	if w.route.NextHop == config.HopSmartHost || w.route.NextHop == config.HopLMTP {
		what = "the route's hosts: "
	}
	x.note("dns", probe.Pass, what+strings.Join(words, ", "), diagnose.NoCause, began)
	for _, t := range targets {
		began := time.Now()
		addrs, err := client.Resolver.Addrs(ctx, t.Host)
		if err != nil {
			cause := diagnose.DNSTrouble
			if f, ok := err.(*resolve.Failure); ok {
				cause = f.Cause
			}
			x.note("address", probe.Warning, err.Error(), cause, began)
			continue
		}
		if _, literal := netip.ParseAddr(t.Host); literal != nil {
			x.note("address", probe.Pass, fmt.Sprintf("%s is %s", t.Host, joinAddrs(addrs)),
				diagnose.NoCause, began)
		}
		for _, ip := range addrs {
			if len(x.out.Attempts) >= deliver.MaxProbes || ctx.Err() != nil {
				return
			}
			one := client.Probe(ctx, w.route, w.nextHop, t, ip, order)
			x.out.Attempts = append(x.out.Attempts, one)
			if order.Message != nil && one.Failed() == nil {
				return // one message is enough
			}
		}
	}
}

func joinAddrs(addrs []netip.Addr) string {
	var words []string
	for _, a := range addrs {
		words = append(words, a.String())
	}
	return strings.Join(words, ", ")
}

// outward is what connections of a probe are made with.
func (s *Prober) outward() deliver.Options {
	o := s.Outward
	o.Resolver = s.InForce.FreshResolver()
	return o
}

// message is a small real one.
func (x *probing) message(to address.Address) *deliver.Message {
	id := x.on.Outward.IDs.Next()
	now := time.Now()
	content := fmt.Sprintf(
		"From: <%s>\r\nTo: <%s>\r\nSubject: A probe of the path to you\r\nDate: %s\r\nMessage-ID: "+
			"<%s@%s>\r\nAuto-Submitted: auto-generated\r\n\r\n"+
			"This message was sent by hand to see whether mail from %s arrives.\r\nNothing needs "+
			"to be done.\r\n",
		x.sender,
		to,
		now.Format("Mon, 02 Jan 2006 15:04:05 -0700"),
		id,
		x.cfg.Service.HostName,
		x.cfg.Service.HostName,
	)
	l := &deliver.Message{ID: id, Sender: x.sender, UTF8: x.sender.NeedsUTF8() || to.NeedsUTF8()}
	l.EightBit = l.UTF8
	text := []byte(content)
	if fields, err := x.on.Signer.Sign(
		context.Background(),
		nil,
		func() (io.Reader, error) { return bytes.NewReader(text), nil },
	); err == nil {
		text = append(fields, text...)
	}
	l.Size = int64(len(text))
	l.Content = func() (io.Reader, error) { return bytes.NewReader(text), nil }
	return l
}

// inwards probes our own listeners as from a client: what strangers may, and that
// they cannot relay.
func (x *probing) inwards(ctx context.Context) error {
	client := netip.MustParseAddr("127.0.0.1")
	if x.order.Client != "" {
		var err error
		if client, err = netip.ParseAddr(x.order.Client); err != nil {
			return fault.Input("client: %q is no address", x.order.Client)
		}
	}
	open := x.on.Receive.Addresses()
	seen := false
	for i := range x.cfg.Listeners {
		l := &x.cfg.Listeners[i]
		if x.order.Inwards != "*" && x.order.Inwards != l.Name || l.Kind == config.LMTP ||
			l.Reads() {
			continue
		}
		seen = true
		at, err := netip.ParseAddrPort(open[l.Name])
		if err != nil {
			x.note("connect", probe.Fail, "listener "+l.Name+" is not open on this node",
				diagnose.NoCause, time.Now())
			continue
		}
		x.out.Attempts = append(x.out.Attempts, x.listener(ctx, l, at, client))
	}
	if !seen {
		return fault.Input("listener: there is none named %q that speaks SMTP", x.order.Inwards)
	}
	x.out.Target = "our listeners, as from " + client.String()
	return nil
}

func (x *probing) listener(
	ctx context.Context,
	l *config.Listener,
	at netip.AddrPort,
	client netip.Addr,
) probe.Conversation {
	ip := at.Addr()
	if ip.IsUnspecified() {
		ip = client // an address of this machine, since we connect from it
	}
	r := &config.Route{
		Name:          "",
		NextHop:       config.HopSmartHost,
		TLS:           "offered",
		SourceAddress: client,
		TLSFromStart:  l.TLS == config.TLSImplicit,
	}
	own := deliver.NewClient(x.cfg,
		deliver.Options{Roots: x.on.Outward.Roots, Resolver: x.on.InForce.FreshResolver()})
	order := deliver.ProbeOrder{
		Sender:  address.Address{Local: "stranger", Domain: "driftnet.example"},
		Began:   x.began,
		Name:    "probe.driftnet.example",
		Dialled: x.on.Receive.Dialled,
		Heard:   x.order.Heard,
	}
	if x.order.From != "" {
		order.Sender = x.sender
	}
	if l.Kind == config.Edge && l.TLS != config.TLSRequired {
		postmaster := x.cfg.Service.Postmaster
		order.Recipient = &postmaster
	}
	ours := string(x.cfg.Service.HostName)
	if len(x.cfg.Domains) > 0 {
		ours = string(x.cfg.Domains[0].Name)
	}
	for _, f := range rehearse.Forms(ours) {
		order.Relay = append(order.Relay, deliver.RelayForm{Name: f[0], Path: f[1]})
	}
	env := config.Envelope{Client: client, Listener: l.Name, Sender: order.Sender}
	order.Relays = func(path string) bool { return rehearse.Through(x.cfg, env, path) }
	out := own.Probe(ctx, r, "", deliver.Target{Host: string(l.GreetingName), Port: int(at.Port())},
		ip, order)
	out.Host = "listener " + l.Name
	x.expected(l, client, &out)
	return out
}

// expected turns what a listener refuses as it should into what it should do.
func (x *probing) expected(l *config.Listener, client netip.Addr, out *probe.Conversation) {
	for i := range out.Steps {
		s := &out.Steps[i]
		switch {
		case l.Kind == config.Submission && s.Name == "sender" && s.Result == probe.Fail &&
			s.Code == 530:
			s.Result, s.Cause, s.Says = probe.Pass, diagnose.NoCause, "nobody sends here without "+
				"sign-in: "+s.Says
			out.Steps = append(out.Steps[:i+1], probe.ProbeStep{
				Name:   "relay",
				Result: probe.Pass,
				Says:   "nobody relays here without sign-in",
			})
			return
		case s.Name == "certificate" && s.Result == probe.Warning:
			s.Says = strings.Replace(s.Says, "with TLS only offered, messages go all the same",
				"senders that verify will not send", 1)
		case s.Name == "connect" && s.Result == probe.Fail || s.Name == "greeting" && s.Code == 554:
			if !rehearse.Admits(l, client) {
				s.Result, s.Cause, s.Says = probe.Pass, diagnose.NoCause,
					client.String()+" may not connect here, and cannot: "+s.Says
			}
		case s.Name == "relay" && s.Result == probe.Fail && l.Kind == config.Inside:
			s.Result = probe.Warning
			s.Says = client.String() + " may relay here by our rules, as machines inside may: " +
				s.Says
		case s.Name == "relay" && s.Result == probe.Fail:
			s.Says += ": this is an open relay; narrow the rule immediately (gull explain names it)"
		}
	}
}
