package config

import (
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/list"
	"gullroute/internal/core/repute"
)

// bound is a configuration whose patterns know the lists they refer to; c stays as it is.
func bound(c *Config, lists map[string]*list.Set) *Config {
	out := *c
	bind := func(ps *address.Patterns) {
		*ps = ps.Bind(func(name string) address.Set {
			if s := lists[name]; s != nil {
				return s
			}
			return list.New(list.List{Kind: list.Addresses})
		})
	}
	out.RelayRules = slices.Clone(c.RelayRules)
	for i := range out.RelayRules {
		r := &out.RelayRules[i]
		bind(&r.Senders)
		bind(&r.Accounts)
		bind(&r.Recipients)
	}
	out.Routes = slices.Clone(c.Routes)
	for i := range out.Routes {
		r := &out.Routes[i]
		bind(&r.Recipients)
		bind(&r.Senders)
		bind(&r.Accounts)
	}
	out.Peers = slices.Clone(c.Peers)
	for i := range out.Peers {
		bind(&out.Peers[i].Domains)
	}
	bind(&out.Service.Held.Digest.To)
	return &out
}

// CarryLists takes over what lists of the same source have read.
func (c *Compiled) CarryLists(from *Compiled) {
	for name, l := range c.Lists {
		if old := from.Lists[name]; old != nil && l.Source != "" && old.Source == l.Source &&
			old.Kind == l.Kind {
			l.Carry(old)
		}
	}
}

func (k *checker) lists() {
	names := map[string]int{}
	for i := range k.c.Lists {
		l := &k.c.Lists[i]
		field := fmt.Sprintf("lists[%d]", i)
		k.unique(names, l.Line, field+".name", l.Name)
		if strings.ContainsAny(l.Name, ",:\r\n") || strings.TrimSpace(l.Name) != l.Name ||
			len(l.Name) > 80 {
			k.wrong(
				l.Line,
				field+".name",
				"write a name of at most 80 octets without comma and colon",
			)
		}
		if len(l.Entries) > list.MaxEntries {
			k.wrong(
				l.Line,
				field+".entries",
				"there are %d; a list holds at most %d",
				len(l.Entries),
				list.MaxEntries,
			)
		}
		if _, err := time.LoadLocation(l.Zone); err != nil {
			k.wrong(l.Line, field+".zone", "%q is no time zone; write one like Europe/Oslo or UTC",
				l.Zone)
		}
		for n, e := range list.Check(*l) {
			if n == maxFaults {
				k.wrong(l.Line, field+".entries", "and more")
				break
			}
			k.wrong(l.Line, fmt.Sprintf("%s.entries[%d]", field, e.N), "%s", e.Text)
		}
		if fault := sourceFault(l.Source); fault != "" {
			k.wrong(l.Line, field+".source", "%s", fault)
		}
	}
}

// maxFaults bounds how many entries of a list are told of.
const maxFaults = 20

// sourceFault says what is wrong with where a list's entries come from.
func sourceFault(source string) string {
	if source == "" || filepath.IsAbs(source) {
		return ""
	}
	u, err := url.Parse(source)
	switch {
	case err != nil || u.Host == "":
		return "write the path of a file, from the root, or a URL like " +
			"https://lists.skerryline.example/partners.txt"
	case u.User != nil:
		return "a name and password do not belong into a URL: it is shown to everyone"
	case u.Scheme == "http" && !loopback(u):
		return "what is read in the clear could be changed on its way: write https (http only on " +
			"loopback)"
	case u.Scheme != "https" && u.Scheme != "http":
		return "write a URL that begins with https"
	}
	return ""
}

// listOf checks the name of a list of a kind; "" is none.
func (k *checker) listOf(line int, field, kind, name string) {
	if name == "" {
		return
	}
	have, ok := k.listKinds()[name]
	switch {
	case !ok:
		k.wrong(line, field, "there is no list %q", name)
	case have != kind:
		k.wrong(line, field, "list %q holds %s; here one of %s is needed", name, have, kind)
	}
}

func (k *checker) listKinds() map[string]string {
	out := map[string]string{}
	for _, l := range k.c.Lists {
		out[l.Name] = l.Kind
	}
	return out
}

func (k *checker) gates() {
	names := gate.Names{
		Lists:     k.listKinds(),
		Listeners: map[string]bool{},
		Routes:    map[string]bool{},
		Scanner:   len(k.c.Scanners) > 0,
		Score:     k.c.ScoreMade(),
	}
	for name := range k.listenerAt {
		names.Listeners[name] = true
	}
	for name := range k.routeAt {
		names.Routes[name] = true
	}
	seen := map[string]int{}
	for i := range k.c.Gates {
		g := &k.c.Gates[i]
		field := fmt.Sprintf("gates[%d]", i)
		k.unique(seen, g.Line, field+".name", g.Name)
		for _, f := range gate.Check(g, names) {
			k.wrong(g.Line, field+"."+f.Field, "%s", f.Text)
		}
	}
}

// ListUse is one thing that refers to a list.
type ListUse struct {
	Section string `json:"section"`
	Name    string `json:"name"`
}

// ListUses says who refers to each list.
func (c *Config) ListUses() map[string][]ListUse {
	out := map[string][]ListUse{}
	add := func(section, name string, lists ...string) {
		for _, l := range lists {
			use := ListUse{section, name}
			if l != "" && !slices.Contains(out[l], use) {
				out[l] = append(out[l], use)
			}
		}
	}
	of := func(section, name string, all ...address.Patterns) {
		for _, ps := range all {
			for _, p := range ps {
				add(section, name, p.List())
			}
		}
	}
	for _, r := range c.RelayRules {
		of("relay_rules", r.Name, r.Accounts, r.Senders, r.Recipients)
	}
	for _, r := range c.Routes {
		of("routes", r.Name, r.Recipients, r.Senders, r.Accounts)
	}
	for _, p := range c.Peers {
		of("peers", p.Name, p.Domains)
	}
	of("service", "held", c.Service.Held.Digest.To)
	for _, e := range []*repute.Exceptions{&c.Service.Reputation.Allow, &c.Service.Reputation.Deny} {
		of("service", "reputation", e.Senders, e.Recipients)
		for _, n := range e.Networks {
			if name, ok := strings.CutPrefix(n, address.ListPrefix); ok {
				add("service", "reputation", strings.TrimSpace(name))
			}
		}
	}
	for i := range c.Gates {
		add("gates", c.Gates[i].Name, c.Gates[i].Uses()...)
	}
	return out
}
