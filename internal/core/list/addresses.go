package list

import (
	"net/netip"
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
)

// addresses finds an address by looking up its parts.
type addresses struct {
	entries []string
	whole   index // address.Key
	domains index
	below   index // the domain above
	locals  index // local part at any domain
	null    *address.Pattern
	any     *address.Pattern
}

func newAddresses(entries []string) *addresses {
	return &addresses{
		entries: entries,
		whole:   newIndex(),
		domains: newIndex(),
		below:   newIndex(),
		locals:  newIndex(),
	}
}

func (s *addresses) add(n int, entry string) error {
	p, err := address.ParsePattern(entry)
	if err != nil {
		return err
	}
	if p.List() != "" {
		return errListInList
	}
	if err := p.Never(); err != nil {
		return err
	}
	switch {
	case p.Null():
		s.null = &p
	case p.Any():
		s.any = &p
	case p.Local() != "" && p.Domain() == "":
		s.locals.add(p.Local(), n)
	case p.Local() != "":
		s.whole.add(p.Local()+"@"+p.Domain(), n)
	case p.Below():
		s.below.add(p.Domain(), n)
	default:
		s.domains.add(p.Domain(), n)
	}
	return nil
}

func (s *addresses) match(a address.Address) (found address.Pattern, ok bool) {
	if a.IsNull() {
		if s.null != nil {
			return *s.null, true
		}
		return s.anyOf()
	}
	fits := func(n int) bool {
		p, err := address.ParsePattern(strings.TrimSpace(s.entries[n]))
		if err == nil && p.Match(a) {
			found = p
			return true
		}
		return false
	}
	if s.whole.find(a.Key(), fits) >= 0 || s.domains.find(a.Domain, fits) >= 0 {
		return found, true
	}
	if len(s.below.links) > 0 {
		for rest := a.Domain; ; {
			_, parent, more := strings.Cut(rest, ".")
			if !more {
				break
			}
			if s.below.find(parent, fits) >= 0 {
				return found, true
			}
			rest = parent
		}
	}
	if len(s.locals.links) > 0 && s.locals.find(strings.ToLower(a.Local), fits) >= 0 {
		return found, true
	}
	return s.anyOf()
}

func (s *addresses) anyOf() (address.Pattern, bool) {
	if s.any != nil {
		return *s.any, true
	}
	return address.Pattern{}, false
}

// networks finds an address by the networks of each length that occurs.
type networks struct {
	all  map[networkKey]struct{}
	bits [2][]int // lengths, of IPv4 and of IPv6, the longest first
}

// networkKey is a network without a pointer in it: the address and the length.
type networkKey [17]byte

func keyOf(p netip.Prefix) (k networkKey) {
	a := p.Addr().As16()
	copy(k[:], a[:])
	k[16] = byte(p.Bits())
	if p.Addr().Is4() {
		k[16] += 96
	}
	return k
}

func newNetworks(n int) *networks { return &networks{all: make(map[networkKey]struct{}, n)} }

func (s *networks) add(_ int, entry string) error {
	p, err := form.ParseNetwork(entry)
	if err != nil {
		return err
	}
	p = netip.PrefixFrom(p.Addr().Unmap(), p.Bits())
	s.all[keyOf(p)] = struct{}{}
	lengths := &s.bits[family(p.Addr())]
	if at, there := slices.BinarySearchFunc(*lengths, p.Bits(),
		func(a, b int) int { return b - a }); !there {
		*lengths = slices.Insert(*lengths, at, p.Bits())
	}
	return nil
}

func family(ip netip.Addr) int {
	if ip.Is4() {
		return 0
	}
	return 1
}

func (s *networks) match(ip netip.Addr) (netip.Prefix, bool) {
	ip = ip.Unmap()
	if !ip.IsValid() {
		return netip.Prefix{}, false
	}
	for _, bits := range s.bits[family(ip)] {
		if p, err := ip.Prefix(bits); err == nil {
			if _, ok := s.all[keyOf(p)]; ok {
				return p, true
			}
		}
	}
	return netip.Prefix{}, false
}
