package config

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/list"
	"gullroute/internal/core/retry"
)

// Names of the decisions that need no rule or route of the configuration.
const (
	RuleOurDomain = "our-domain"
	RuleNoRule    = "no-rule"
	RouteMailbox  = "mailbox"
	RouteNone     = "no-route"
	// RouteDetour takes messages to hosts that a person named for them.
	RouteDetour = "detour"
)

var (
	builtinRules  = []string{RuleOurDomain, RuleNoRule}
	builtinRoutes = []string{RouteMailbox, RouteNone, RouteDetour}
)

// Compiled is a configuration in force: the lookups that decisions are made on.
// It does not change but for the directory, whose changes take effect immediately; a new
// revision is a new Compiled.
type Compiled struct {
	*Config
	// Revision numbers the configurations that were in force, from 1.
	Revision  int
	Schedule  retry.Schedule
	Directory *directory.Directory

	// Lists are in force by name. What comes from a source is replaced in place.
	Lists map[string]*list.Set
	Gates *gate.Chain

	domains   map[string]*Domain
	routes    map[string]*Route
	ruleIndex *firstMatch
	routeIdx  *firstMatch
	peerIdx   *firstMatch
	rewrites  []rewrite
	sized     bool // a route asks for the size
}

// rewrite says that senders a pattern selects are written as domain.
type rewrite struct {
	from   address.Patterns
	domain string
}

// Envelope is what decisions are made on.
type Envelope struct {
	Client   netip.Addr
	Listener string
	// Account is who signed in; its zero value is nobody.
	Account address.Address
	// Certificates are the names of a client certificate that verified.
	Certificates []string
	Sender       address.Address
	Size         int64 // 0 if it is not known
}

// Compile makes the lookups of a configuration that Parse has checked.
func Compile(c *Config, revision int, dir *directory.Directory) *Compiled {
	lists := make(map[string]*list.Set, len(c.Lists))
	for _, l := range c.Lists {
		lists[l.Name] = list.New(l)
	}
	c = bound(c, lists)
	out := &Compiled{
		Config:    c,
		Lists:     lists,
		Gates:     gate.Compile(c.Gates, func(name string) *list.Set { return lists[name] }),
		Revision:  revision,
		Schedule:  retry.Default(),
		Directory: dir,
		domains:   make(map[string]*Domain, len(c.Domains)),
		routes: map[string]*Route{
			RouteMailbox: {
				Name:                  RouteMailbox,
				NextHop:               HopMailbox,
				Connections:           2,
				MessagesPerConnection: 1000,
			},
			RouteNone: {
				Name:                  RouteNone,
				NextHop:               HopNone,
				Connections:           1,
				MessagesPerConnection: 1,
			},
			RouteDetour: {
				Name:                  RouteDetour,
				NextHop:               HopSmartHost,
				TLS:                   "offered",
				Port:                  25,
				Connections:           10,
				MessagesPerConnection: 100,
			},
		},
		ruleIndex: newFirstMatch(), routeIdx: newFirstMatch(), peerIdx: newFirstMatch(),
	}
	out.Schedule = c.Service.Retry.schedule()
	for i := range c.Domains {
		d := &c.Domains[i]
		out.domains[string(d.Name)] = d
		if len(d.RewriteSenders) > 0 {
			out.rewrites = append(out.rewrites, rewrite{d.RewriteSenders, string(d.Name)})
		}
	}
	for i := range c.RelayRules {
		r := &c.RelayRules[i]
		out.ruleIndex.add(i, conditions{r.Recipients, r.Senders, r.Accounts, r.Networks})
	}
	for i := range c.Routes {
		r := &c.Routes[i]
		out.routes[r.Name] = r
		out.sized = out.sized || r.SizeOver > 0 || r.SizeUpTo > 0
		if len(r.Recipients) > 0 && !r.Off {
			out.routeIdx.add(i, conditions{r.Recipients, r.Senders, r.Accounts, r.Clients})
		}
	}
	for i := range c.Peers {
		out.peerIdx.add(i, conditions{recipients: c.Peers[i].Domains})
	}
	return out
}

// Domain is what we say of a domain, nil if it is not ours.
func (c *Compiled) Domain(name string) *Domain { return c.domains[name] }

// Kind is a domain's kind, "" if it is not ours.
func (c *Compiled) Kind(domain string) string {
	if d := c.domains[domain]; d != nil {
		return d.Kind
	}
	return ""
}

// Mailbox is the mailbox reached under a, or nil: under one of its addresses, or
// where the domain has plus-addressing under one with an addition.
func (c *Compiled) Mailbox(a address.Address) *directory.Mailbox {
	if m := c.Directory.Mailbox(a); m != nil {
		return m
	}
	if plain, ok := c.withoutAddition(a); ok {
		return c.Directory.Mailbox(plain)
	}
	return nil
}

// Alias is the alias a, or nil.
func (c *Compiled) Alias(a address.Address) *directory.Alias {
	if alias := c.Directory.Alias(a); alias != nil {
		return alias
	}
	if plain, ok := c.withoutAddition(a); ok && c.Directory.Mailbox(a) == nil {
		return c.Directory.Alias(plain)
	}
	return nil
}

func (c *Compiled) withoutAddition(a address.Address) (address.Address, bool) {
	local, _, ok := strings.Cut(a.Local, "+")
	if d := c.domains[a.Domain]; !ok || local == "" || d == nil || !d.PlusAddressing {
		return a, false
	}
	return address.Address{Local: local, Domain: a.Domain}, true
}

// Route is a route by name, built-in ones included, or nil. One that is off is
// none.
func (c *Compiled) Route(name string) *Route {
	if r := c.routes[name]; r != nil && !r.Off {
		return r
	}
	return nil
}

// EachRule calls try with the relay rules that can match, in order, until it
// returns true.
func (c *Compiled) EachRule(e Envelope, recipient address.Address, try func(*RelayRule) bool) {
	c.ruleIndex.each(recipient, e.Sender, e.Account, e.Client,
		func(i int) bool { return try(&c.RelayRules[i]) })
}

// EachRoute calls try with the routes that can match, in order, until it returns
// true.
func (c *Compiled) EachRoute(e Envelope, recipient address.Address, try func(*Route) bool) {
	c.routeIdx.each(recipient, e.Sender, e.Account, e.Client,
		func(i int) bool { return try(&c.Routes[i]) })
}

// SmartHost is the first route to a smart host that signs in, one that takes mail
// for anywhere; nil if there is none but the one to leave out.
func (c *Compiled) SmartHost(leaveOut string) *Route {
	for i := range c.Routes {
		r := &c.Routes[i]
		forAll := len(r.Senders)+len(r.Accounts)+len(r.Clients)+len(r.Nodes) == 0 &&
			r.SizeOver == 0 && r.SizeUpTo == 0
		if !r.Off && forAll && r.NextHop == HopSmartHost && r.SignIn != nil && r.Name != leaveOut {
			return r
		}
	}
	return nil
}

// Peer is what was agreed with a domain, or nil.
func (c *Compiled) Peer(domain string) *Peer {
	var found *Peer
	at := address.Address{Local: "x", Domain: domain}
	c.peerIdx.each(at, address.Address{}, address.Address{}, netip.Addr{}, func(i int) bool {
		if _, ok := c.Peers[i].Domains.Match(at); ok {
			found = &c.Peers[i]
		}
		return found != nil
	})
	return found
}

// LimitsBounces reports a rule that limits the share of bounces.
func (c *Config) LimitsBounces() bool {
	return slices.ContainsFunc(c.RelayRules,
		func(r RelayRule) bool { return r.Limits.BouncesPercent > 0 })
}

// Form is how messages are written for the peer, in words; "" is as they came.
func (p *Peer) Form() string {
	var words []string
	if p.PlainText {
		words = append(words, "as text without HTML")
	}
	if p.Charset != "" {
		words = append(words, "in "+p.Charset)
	}
	if words == nil {
		return ""
	}
	return strings.Join(words, ", ") + ", 7-bit, as agreed with " + p.Name
}

// RewriteSender is the sender as it is written from here on.
func (c *Compiled) RewriteSender(a address.Address) address.Address {
	if a.IsNull() || len(c.rewrites) == 0 {
		return a
	}
	for _, r := range c.rewrites {
		if _, ok := r.from.Match(a); ok {
			a.Domain = r.domain
			return a
		}
	}
	return a
}

// Sized reports whether any route asks for a message's size.
func (c *Compiled) Sized() bool { return c.sized }

// Rewrites reports whether any sender is rewritten.
func (c *Compiled) Rewrites() bool { return len(c.rewrites) > 0 }

// Listener is a listener by name, or nil.
func (c *Compiled) Listener(name string) *Listener {
	for i := range c.Listeners {
		if c.Listeners[i].Name == name {
			return &c.Listeners[i]
		}
	}
	return nil
}

// On reports whether something that names nodes belongs to a node.
func On(nodes []string, node string) bool { return len(nodes) == 0 || slices.Contains(nodes, node) }

// SplitHost takes "host", "host:port", "192.0.2.1" or "[2001:db8::1]:port" apart;
// a port that is not a number is 0.
func SplitHost(s string, defaultPort int) (host string, port int) {
	if _, err := netip.ParseAddr(s); err == nil {
		return s, defaultPort
	}
	i := strings.LastIndexByte(s, ':')
	if i < 0 {
		return s, defaultPort
	}
	port, err := strconv.Atoi(s[i+1:])
	if err != nil {
		port = 0
	}
	return strings.Trim(s[:i], "[]"), port
}

// Lists reports whether a relay domain's list of recipients has an address. Its
// postmaster always is (RFC 5321 section 4.5.1).
func (d *Domain) Lists(a address.Address) bool {
	for _, r := range d.Recipients {
		if r.Key() == a.Key() {
			return true
		}
	}
	return strings.EqualFold(a.Local, "postmaster")
}

// Sources are our addresses that the route connects from, in turn; none is any.
func (r *Route) Sources() []netip.Addr {
	if r.SourceAddress.IsValid() {
		return append([]netip.Addr{r.SourceAddress}, r.SourceAddresses...)
	}
	return r.SourceAddresses
}

// Kept is how long mail of the route waits for its site to ask for it.
func (r *Route) Kept() time.Duration {
	if r.Asks == nil {
		return 0
	}
	return r.Asks.Kept
}

// Unserved reports a route for nodes of which none runs: its mail would wait for ever.
func (r *Route) Unserved(running []string) bool {
	return len(r.Nodes) > 0 &&
		!slices.ContainsFunc(running, func(name string) bool { return On(r.Nodes, name) })
}

// UnservedText says so.
func (r *Route) UnservedText() string {
	return "route " + r.Name + " is for " + strings.Join(r.Nodes,
		", ") + ", and no node of that name runs: start one, or change the route's nodes"
}
