package config

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"gullroute/internal/core/address"
)

// Hazard is something a configuration says that is allowed and dangerous. Those
// that block are applied only by force, and shown until they are fixed.
type Hazard struct {
	Kind   string `json:"kind" enum:"open_relay,discards,clear_sign_in,no_way_out,no_postmaster,lost_mailboxes,never_used,listener_trouble,locked_key,former_primary"`
	Blocks bool   `json:"blocks" doc:"Applied only by force, with a reason"`
	Where  string `json:"where" doc:"Like relay rule visitors"`
	Text   string `json:"text"`
	Fix    string `json:"fix"`
}

// Hazards finds what is dangerous in a configuration, the worst first.
func (c *Compiled) Hazards() []Hazard {
	out := []Hazard{}
	for i := range c.RelayRules {
		if r := &c.RelayRules[i]; r.Action == "allow" && Opens(r) && !c.shadowed(i) {
			out = append(out, Hazard{
				"open_relay",
				true,
				"relay rule " + r.Name,
				fmt.Sprintf("relay rule %s lets anyone send anywhere (an open relay): %s", r.Name,
					opening(r)),
				"name the networks of your own machines, or accounts that sign in",
			})
		}
	}
	for i := range c.Config.Gates {
		if g := &c.Config.Gates[i]; g.Then.Discard && g.Decides() {
			out = append(out, Hazard{"discards", true, "gate " + g.Name,
				fmt.Sprintf("gate %s throws messages away, and nobody is told", g.Name),
				"let it refuse or hold them, or watch first"})
		}
	}
	for i := range c.Listeners {
		l := &c.Listeners[i]
		if l.SignInWithoutTLS && l.TLS != TLSRequired && l.TLS != TLSImplicit &&
			!l.Address.Addr().IsLoopback() {
			out = append(out, Hazard{"clear_sign_in", true, "listener " + l.Name,
				fmt.Sprintf("listener %s takes passwords in the clear from the network", l.Name),
				"set tls: required and take sign_in_without_tls out"})
		}
	}
	if c.Directory != nil {
		out = append(out, c.directoryHazards()...)
	}
	if len(c.Domains) > 0 && !c.hasWayOut() {
		out = append(out, Hazard{
			"no_way_out",
			false,
			"routes",
			"no route leads to the outside: messages to others' domains will wait as stranded",
			`add a route, such as: gull route add "to the world" --recipients "*" --next-hop mx`,
		})
	}
	return out
}

// Opens reports whether a rule that allows would let the world relay.
func Opens(r *RelayRule) bool {
	if len(r.Recipients) > 0 && !slices.ContainsFunc(r.Recipients, address.Pattern.Any) ||
		len(r.Accounts) > 0 ||
		len(r.Certificates) > 0 {
		return false
	}
	return len(r.Networks) == 0 || slices.ContainsFunc(r.Networks, wide)
}

// wide networks hold more machines than anybody's own.
func wide(n netip.Prefix) bool {
	return n.Addr().Is4() && n.Bits() < 8 || n.Addr().Is6() && n.Bits() < 16
}

func opening(r *RelayRule) string {
	switch {
	case len(r.Networks) > 0:
		i := slices.IndexFunc(r.Networks, wide)
		return r.Networks[i].String() + " is the whole world"
	case len(r.Senders) > 0:
		return "a sender's address proves nothing, and it names neither networks nor accounts"
	}
	return "it names neither networks nor accounts"
}

// shadowed reports that an earlier rule refuses everything.
func (c *Compiled) shadowed(i int) bool {
	return slices.ContainsFunc(c.RelayRules[:i], func(r RelayRule) bool {
		return r.Action == "refuse" &&
			len(
				r.Networks,
			)+len(
				r.Accounts,
			)+len(r.Listeners)+len(r.Certificates)+len(r.Senders)+len(r.Recipients) == 0
	})
}

func (c *Compiled) hasWayOut() bool {
	return slices.ContainsFunc(c.Routes, func(r Route) bool {
		return !r.Off &&
			slices.ContainsFunc(r.Recipients, func(p address.Pattern) bool { return !p.Exact() })
	})
}

func (c *Compiled) directoryHazards() []Hazard {
	var out []Hazard
	pm := c.Service.Postmaster
	if kind := c.Kind(pm.Domain); (kind == Local || kind == Shared) && c.Mailbox(pm) == nil &&
		c.Alias(pm) == nil {
		out = append(out, Hazard{
			"no_postmaster",
			false,
			"service",
			fmt.Sprintf(
				"the postmaster %s is neither a mailbox nor an alias: mail to postmaster is "+
					"refused",
				pm.Display(),
			),
			"add the mailbox, or name another postmaster",
		})
	}
	lost := c.Directory.Domains()
	var domains []string
	for d := range lost {
		if kind := c.Kind(d); kind != Local && kind != Shared {
			domains = append(domains, d)
		}
	}
	slices.Sort(domains)
	for _, d := range domains {
		out = append(out, Hazard{
			"lost_mailboxes",
			true,
			"domain " + address.DisplayDomain(d),
			fmt.Sprintf("%s is no local or shared domain any more: its %d mailboxes get no mail",
				address.DisplayDomain(d), lost[d]),
			"keep the domain, or remove the mailboxes first",
		})
	}
	return out
}

// NeverUsed finds rules and routes that nothing can reach because an earlier one
// takes all they would match.
func (c *Compiled) NeverUsed() []Hazard {
	out := []Hazard{}
	rules := make([]sets, min(len(c.RelayRules), maxCompared))
	for i := range rules {
		rules[i] = ruleSets(&c.RelayRules[i])
		if j := slices.IndexFunc(
			rules[:i],
			func(earlier sets) bool { return covers(earlier, rules[i]) },
		); j >= 0 {
			out = append(out, Hazard{
				Kind:  "never_used",
				Where: "relay rule " + c.RelayRules[i].Name,
				Text: fmt.Sprintf(
					"relay rule %s is never reached: %s, before it, decides all it would",
					c.RelayRules[i].Name,
					c.RelayRules[j].Name,
				),
				Fix: "move it up or take it out",
			})
		}
	}
	var routes []sets
	var names []string
	for i := range min(len(c.Routes), maxCompared) {
		r := &c.Routes[i]
		if r.Off || len(r.Recipients) == 0 {
			continue
		}
		this := routeSets(r)
		j := slices.IndexFunc(routes, func(earlier sets) bool { return covers(earlier, this) })
		if j >= 0 && !c.takesOurs(r) {
			out = append(out, Hazard{
				Kind:  "never_used",
				Where: "route " + r.Name,
				Text: fmt.Sprintf("route %s is never used: %s, before it, takes all it would",
					r.Name, names[j]),
				Fix: "move it up or take it out",
			})
		}
		if r.SizeOver == 0 && r.SizeUpTo == 0 {
			routes, names = append(routes, this), append(names, r.Name)
		}
	}
	return out
}

// maxCompared bounds how many rules and routes are compared with each other.
const maxCompared = 500

// takesOurs reports that a route names an address or domain of ours, which the
// asterisk of an earlier one does not take.
func (c *Compiled) takesOurs(r *Route) bool {
	return slices.ContainsFunc(r.Recipients,
		func(p address.Pattern) bool { return p.Exact() && c.Domain(p.Domain()) != nil })
}

// sets are a rule's conditions as texts; an empty one asks nothing.
type sets struct {
	networks []netip.Prefix
	texts    [][]string
}

func ruleSets(r *RelayRule) sets {
	return sets{
		r.Networks,
		[][]string{
			texts(r.Accounts),
			r.Listeners,
			r.Certificates,
			texts(r.Senders),
			texts(r.Recipients),
		},
	}
}

func routeSets(r *Route) sets {
	return sets{r.Clients, [][]string{texts(r.Accounts), texts(r.Senders), texts(r.Recipients)}}
}

func texts(ps address.Patterns) []string {
	out := make([]string, len(ps))
	for i, p := range ps {
		if out[i] = strings.ToLower(p.String()); p.Any() {
			return nil
		}
	}
	return out
}

// covers reports whether whatever meets b meets a.
func covers(a, b sets) bool {
	if len(a.networks) > 0 &&
		(len(b.networks) == 0 || slices.ContainsFunc(b.networks, func(n netip.Prefix) bool {
			return !slices.ContainsFunc(a.networks,
				func(m netip.Prefix) bool { return m.Bits() <= n.Bits() && m.Contains(n.Addr()) })
		})) {
		return false
	}
	for i, wide := range a.texts {
		if len(wide) > 0 &&
			(len(b.texts[i]) == 0 || slices.ContainsFunc(b.texts[i],
				func(t string) bool { return !slices.Contains(wide, t) })) {
			return false
		}
	}
	return true
}
