package config

import (
	"net/netip"
	"strconv"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/retry"
)

// Names of the decisions that need no rule or route of the configuration.
const (
	RuleOurDomain = "our-domain"
	RuleNoRule    = "no-rule"
	RouteMailbox  = "mailbox"
	RouteNone     = "no-route"
)

var (
	builtinRules  = []string{RuleOurDomain, RuleNoRule}
	builtinRoutes = []string{RouteMailbox, RouteNone}
)

// maxAliasDepth bounds aliases of aliases.
const maxAliasDepth = 10

// Compiled is a configuration in force: the lookups that decisions are made on.
// It does not change; a new revision is a new Compiled.
type Compiled struct {
	*Config
	// Revision numbers the configurations that were in force, from 1.
	Revision int
	Schedule retry.Schedule

	domains   map[string]*Domain
	mailboxes map[string]*Mailbox
	aliases   map[string]*Alias
	routes    map[string]*Route
}

// Compile makes the lookups of a configuration that Parse has checked.
func Compile(c *Config, revision int) *Compiled {
	out := &Compiled{
		Config:    c,
		Revision:  revision,
		Schedule:  retry.Default(),
		domains:   map[string]*Domain{},
		mailboxes: map[string]*Mailbox{},
		aliases:   map[string]*Alias{},
		routes: map[string]*Route{
			RouteMailbox: {Name: RouteMailbox, NextHop: "mailbox", Connections: 2, LettersPerConnection: 1000},
			RouteNone:    {Name: RouteNone, NextHop: "none", Connections: 1, LettersPerConnection: 1},
		},
	}
	if len(c.Service.Retry.Intervals) > 0 {
		out.Schedule.Intervals = c.Service.Retry.Intervals
	}
	out.Schedule.GiveUp = c.Service.Retry.GiveUp
	for i := range c.Domains {
		out.domains[string(c.Domains[i].Name)] = &c.Domains[i]
	}
	for i := range c.Routes {
		out.routes[c.Routes[i].Name] = &c.Routes[i]
	}
	for i := range c.Mailboxes {
		m := &c.Mailboxes[i]
		out.mailboxes[m.Address.Key()] = m
		for _, a := range m.Addresses {
			out.mailboxes[a.Key()] = m
		}
	}
	for i := range c.Aliases {
		out.aliases[c.Aliases[i].Address.Key()] = &c.Aliases[i]
	}
	return out
}

// Domain is what we say of a domain, nil if it is not ours.
func (c *Compiled) Domain(name string) *Domain { return c.domains[name] }

// Mailbox is the mailbox reached under a, or nil.
func (c *Compiled) Mailbox(a address.Address) *Mailbox { return c.mailboxes[a.Key()] }

// Alias is the alias a, or nil.
func (c *Compiled) Alias(a address.Address) *Alias { return c.aliases[a.Key()] }

// Route is a route by name, built-in ones included, or nil.
func (c *Compiled) Route(name string) *Route { return c.routes[name] }

// Listener is a listener by name, or nil.
func (c *Compiled) Listener(name string) *Listener {
	for i := range c.Listeners {
		if c.Listeners[i].Name == name {
			return &c.Listeners[i]
		}
	}
	return nil
}

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
