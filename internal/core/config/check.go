package config

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"gullroute/internal/core/address"
)

// check finds what is wrong between the parts of a configuration.
func check(c *Config) Problems {
	k := checker{c: c}
	k.listeners()
	k.routes()
	k.domains()
	k.rules()
	k.mailboxes()
	k.aliases()
	k.postmaster()
	slices.SortStableFunc(k.problems, func(a, b Problem) int { return a.Line - b.Line })
	return k.problems
}

type checker struct {
	c        *Config
	problems Problems
}

func (k *checker) wrong(line int, field, format string, args ...any) {
	k.problems = append(k.problems, Problem{line, field, fmt.Sprintf(format, args...)})
}

// unique reports names that stand twice.
func (k *checker) unique(seen map[string]int, line int, field, name string) {
	if first, ok := seen[name]; ok {
		k.wrong(line, field, "%q stands already at line %d", name, first)
		return
	}
	seen[name] = line
}

func (k *checker) listeners() {
	names, addresses := map[string]int{}, map[string]int{}
	for i, l := range k.c.Listeners {
		field := fmt.Sprintf("listeners[%d]", i)
		k.unique(names, l.Line, field+".name", l.Name)
		if l.Address.Port() != 0 {
			k.unique(addresses, l.Line, field+".address", l.Address.String())
		}
	}
}

func (k *checker) routes() {
	names := map[string]int{}
	for i, r := range k.c.Routes {
		field := fmt.Sprintf("routes[%d]", i)
		k.unique(names, r.Line, field+".name", r.Name)
		if slices.Contains(builtinRoutes, r.Name) {
			k.wrong(r.Line, field+".name", "%q is the name of a built-in route; choose another", r.Name)
		}
		needsHosts := r.NextHop == "smarthost" || r.NextHop == "lmtp"
		if needsHosts && len(r.Hosts) == 0 {
			k.wrong(r.Line, field+".hosts", "next hop %s needs at least one host", r.NextHop)
		}
		if !needsHosts && len(r.Hosts) > 0 {
			k.wrong(r.Line, field+".hosts", "next hop %s takes no hosts; only smarthost and lmtp do", r.NextHop)
		}
		if r.MXLookup && r.NextHop != "smarthost" {
			k.wrong(r.Line, field+".mx_lookup", "only next hop smarthost has it")
		}
		if r.SignIn != nil && (r.NextHop != "smarthost" || r.TLS != "required" && r.TLS != "verified") {
			k.wrong(r.Line, field+".sign_in", "a password is sent only to a smarthost with tls: required or verified")
		}
		for j, h := range r.Hosts {
			if err := checkHost(h); err != nil {
				k.wrong(r.Line, fmt.Sprintf("%s.hosts[%d]", field, j), "%v", err)
			}
		}
	}
}

func checkHost(h string) error {
	host, port := SplitHost(h, 25)
	if port < 1 || port > 65535 {
		return fmt.Errorf("%q has no port between 1 and 65535", h)
	}
	if _, err := netip.ParseAddr(host); err == nil {
		return nil
	}
	_, err := address.ParseDomain(host)
	return err
}

func (k *checker) domains() {
	names := map[string]int{}
	for i, d := range k.c.Domains {
		field := fmt.Sprintf("domains[%d]", i)
		k.unique(names, d.Line, field+".name", string(d.Name))
		switch {
		case d.Kind == "local" && d.Route != "":
			k.wrong(d.Line, field+".route", "a local domain has no route; its mail goes to its mailboxes")
		case d.Kind != "local" && d.Route == "":
			k.wrong(d.Line, field+".route", "a %s domain needs the name of the route by which its mail goes on", d.Kind)
		case d.Route != "" && !k.hasRoute(d.Route):
			k.wrong(d.Line, field+".route", "there is no route %q; there are: %s", d.Route, k.routeNames())
		}
	}
}

func (k *checker) hasRoute(name string) bool {
	return slices.ContainsFunc(k.c.Routes, func(r Route) bool { return r.Name == name })
}

func (k *checker) routeNames() string {
	var names []string
	for _, r := range k.c.Routes {
		names = append(names, r.Name)
	}
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

func (k *checker) rules() {
	names := map[string]int{}
	for i, r := range k.c.RelayRules {
		field := fmt.Sprintf("relay_rules[%d]", i)
		k.unique(names, r.Line, field+".name", r.Name)
		if slices.Contains(builtinRules, r.Name) {
			k.wrong(r.Line, field+".name", "%q is the name of a built-in rule; choose another", r.Name)
		}
		for j, name := range r.Listeners {
			if !slices.ContainsFunc(k.c.Listeners, func(l Listener) bool { return l.Name == name }) {
				k.wrong(r.Line, fmt.Sprintf("%s.listeners[%d]", field, j), "there is no listener %q", name)
			}
		}
		if strings.ContainsAny(r.Say, "\r\n") || len(r.Say) > 400 {
			k.wrong(r.Line, field+".say", "write one line of at most 400 octets")
		}
		if r.Action == "allow" && k.opens(r) {
			k.wrong(r.Line, field, "this rule lets anyone send anywhere (an open relay); name networks narrower than /8 (IPv4) or /16 (IPv6), a sender alone does not prove anything")
		}
	}
}

// opens reports whether a rule that allows would let the world relay.
func (k *checker) opens(r RelayRule) bool {
	if len(r.Recipients) > 0 && !slices.ContainsFunc(r.Recipients, address.Pattern.Any) {
		return false
	}
	if len(r.Networks) == 0 {
		return true
	}
	return slices.ContainsFunc(r.Networks, func(n netip.Prefix) bool {
		return n.Addr().Is4() && n.Bits() < 8 || n.Addr().Is6() && n.Bits() < 16
	})
}

func (k *checker) mailboxes() {
	seen := map[string]int{}
	for i, m := range k.c.Mailboxes {
		field := fmt.Sprintf("mailboxes[%d]", i)
		k.ours(m.Line, field+".address", m.Address)
		k.unique(seen, m.Line, field+".address", m.Address.Key())
		for j, a := range m.Addresses {
			field := fmt.Sprintf("%s.addresses[%d]", field, j)
			k.ours(m.Line, field, a)
			k.unique(seen, m.Line, field, a.Key())
		}
	}
	for i, a := range k.c.Aliases {
		field := fmt.Sprintf("aliases[%d].address", i)
		k.ours(a.Line, field, a.Address)
		k.unique(seen, a.Line, field, a.Address.Key())
	}
}

// ours reports addresses at domains that are not local or shared.
func (k *checker) ours(line int, field string, a address.Address) {
	for _, d := range k.c.Domains {
		if string(d.Name) == a.Domain {
			if d.Kind == "relay" {
				k.wrong(line, field, "%s is a relay domain; it has no addresses here", a.Domain)
			}
			return
		}
	}
	k.wrong(line, field, "%s is not among our domains", a.Domain)
}

// aliases refuses those that lead back to themselves.
func (k *checker) aliases() {
	targets := map[string][]address.Address{}
	for _, a := range k.c.Aliases {
		targets[a.Address.Key()] = a.To
	}
	for i, a := range k.c.Aliases {
		if way := findLoop(targets, a.Address.Key(), []string{a.Address.Key()}); way != nil {
			k.wrong(a.Line, fmt.Sprintf("aliases[%d].to", i), "this alias leads back to itself: %s", strings.Join(way, " → "))
		}
	}
}

func findLoop(targets map[string][]address.Address, key string, way []string) []string {
	if len(way) > maxAliasDepth {
		return append(way, "… (deeper than "+strconv.Itoa(maxAliasDepth)+")")
	}
	for _, to := range targets[key] {
		next := to.Key()
		if next == way[0] {
			return append(way, next)
		}
		if slices.Contains(way, next) {
			continue // another alias's loop, reported there
		}
		if found := findLoop(targets, next, append(slices.Clone(way), next)); found != nil {
			return found
		}
	}
	return nil
}

func (k *checker) postmaster() {
	pm := k.c.Service.Postmaster
	for _, d := range k.c.Domains {
		if string(d.Name) != pm.Domain || d.Kind == "relay" {
			continue
		}
		for _, m := range k.c.Mailboxes {
			if m.Address.Key() == pm.Key() || slices.ContainsFunc(m.Addresses, func(a address.Address) bool { return a.Key() == pm.Key() }) {
				return
			}
		}
		for _, a := range k.c.Aliases {
			if a.Address.Key() == pm.Key() {
				return
			}
		}
		k.wrong(k.c.Service.Line, "service.postmaster", "%s is neither a mailbox nor an alias of ours", pm.Display())
	}
}
