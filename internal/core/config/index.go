package config

import (
	"net/netip"
	"slices"
	"strings"

	"gullroute/internal/core/address"
)

// firstMatch finds, among ordered entries with conditions, those that can match
// an envelope at all, without asking each: every entry stands under one of its
// conditions, the most telling one.
type firstMatch struct {
	recipients, senders, accounts map[string][]int // by domain, or by "*." and a parent domain
	networks                      map[netip.Prefix][]int
	bits                          []int // lengths of the prefixes in networks, IPv6's with v6 added
	rest                          []int // under none
}

// v6 tells lengths of IPv6 prefixes from those of IPv4.
const v6 = 1000

// conditions are what an entry asks of an envelope.
type conditions struct {
	recipients, senders, accounts address.Patterns
	networks                      []netip.Prefix
}

func newFirstMatch() *firstMatch {
	return &firstMatch{
		recipients: map[string][]int{},
		senders:    map[string][]int{},
		accounts:   map[string][]int{},
		networks:   map[netip.Prefix][]int{},
	}
}

// add puts entry number i under one of its conditions. Numbers must grow.
func (f *firstMatch) add(i int, c conditions) {
	switch {
	case addPatterns(f.recipients, c.recipients, i):
	case addPatterns(f.senders, c.senders, i):
	case addPatterns(f.accounts, c.accounts, i):
	case len(c.networks) > 0:
		for _, n := range c.networks {
			list := f.networks[n]
			if len(list) == 0 || list[len(list)-1] != i {
				f.networks[n] = append(list, i)
			}
			bits := n.Bits()
			if n.Addr().Is6() {
				bits += v6
			}
			if !slices.Contains(f.bits, bits) {
				f.bits = append(f.bits, bits)
			}
		}
	default:
		f.rest = append(f.rest, i)
	}
}

// addPatterns reports false if a pattern names no domain.
func addPatterns(m map[string][]int, ps address.Patterns, i int) bool {
	if len(ps) == 0 ||
		slices.ContainsFunc(ps, func(p address.Pattern) bool { return p.Domain() == "" }) {
		return false
	}
	for _, p := range ps {
		key := p.Domain()
		if !p.Exact() {
			key = "*." + key
		}
		if list := m[key]; len(list) == 0 || list[len(list)-1] != i {
			m[key] = append(list, i)
		}
	}
	return true
}

// each calls try with the numbers of entries that can match, in order, until it
// returns true.
func (f *firstMatch) each(
	recipient, sender, account address.Address,
	client netip.Addr,
	try func(i int) bool,
) {
	var room [12][]int
	lists := append(room[:0], f.rest)
	lists = byDomain(lists, f.recipients, recipient.Domain)
	lists = byDomain(lists, f.senders, sender.Domain)
	lists = byDomain(lists, f.accounts, account.Domain)
	for _, bits := range f.bits {
		length := bits
		if (bits >= v6) != client.Is6() {
			continue
		}
		if bits >= v6 {
			length -= v6
		}
		if p, err := client.Prefix(length); err == nil {
			if list := f.networks[p]; len(list) > 0 {
				lists = append(lists, list)
			}
		}
	}
	for {
		next := -1
		for _, list := range lists {
			if len(list) > 0 && (next < 0 || list[0] < next) {
				next = list[0]
			}
		}
		if next < 0 || try(next) {
			return
		}
		for i, list := range lists {
			if len(list) > 0 && list[0] == next {
				lists[i] = list[1:]
			}
		}
	}
}

func byDomain(lists [][]int, m map[string][]int, domain string) [][]int {
	if len(m) == 0 || domain == "" {
		return lists
	}
	if list := m[domain]; len(list) > 0 {
		lists = append(lists, list)
	}
	for rest := domain; ; {
		_, parent, ok := strings.Cut(rest, ".")
		if !ok {
			return lists
		}
		if list := m["*."+parent]; len(list) > 0 {
			lists = append(lists, list)
		}
		rest = parent
	}
}
