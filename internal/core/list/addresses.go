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
	whole   map[string]address.Pattern // address.Key
	domains map[string]address.Pattern
	below   map[string]address.Pattern // the domain above
	locals  map[string]address.Pattern // local part at any domain
	null    *address.Pattern
	any     *address.Pattern
}

func newAddresses(n int) *addresses {
	return &addresses{
		whole:   make(map[string]address.Pattern, n),
		domains: map[string]address.Pattern{},
		below:   map[string]address.Pattern{},
		locals:  map[string]address.Pattern{},
	}
}

func (s *addresses) add(entry string) error {
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
		s.locals[p.Local()] = p
	case p.Local() != "":
		s.whole[p.Local()+"@"+p.Domain()] = p
	case p.Below():
		s.below[p.Domain()] = p
	default:
		s.domains[p.Domain()] = p
	}
	return nil
}

func (s *addresses) match(a address.Address) (address.Pattern, bool) {
	if a.IsNull() {
		if s.null != nil {
			return *s.null, true
		}
		return s.anyOf()
	}
	if p, ok := s.whole[a.Key()]; ok {
		return p, true
	}
	if p, ok := s.domains[a.Domain]; ok {
		return p, true
	}
	if len(s.below) > 0 {
		for rest := a.Domain; ; {
			_, parent, ok := strings.Cut(rest, ".")
			if !ok {
				break
			}
			if p, ok := s.below[parent]; ok {
				return p, true
			}
			rest = parent
		}
	}
	if len(s.locals) > 0 {
		if p, ok := s.locals[strings.ToLower(a.Local)]; ok {
			return p, true
		}
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
	all  map[netip.Prefix]struct{}
	bits [2][]int // lengths, of IPv4 and of IPv6, the longest first
}

func newNetworks(n int) *networks { return &networks{all: make(map[netip.Prefix]struct{}, n)} }

func (s *networks) add(entry string) error {
	p, err := form.ParseNetwork(entry)
	if err != nil {
		return err
	}
	p = netip.PrefixFrom(p.Addr().Unmap(), p.Bits())
	s.all[p] = struct{}{}
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
			if _, ok := s.all[p]; ok {
				return p, true
			}
		}
	}
	return netip.Prefix{}, false
}
