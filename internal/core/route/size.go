package route

import (
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
)

// GoesOn reports an address at a domain of ours that another server has: any of a relay domain,
// and those of a shared one that are not ours.
func GoesOn(d *config.Domain, to address.Address, legs []Leg) bool {
	switch {
	case d == nil || d.Kind == config.Local:
		return false
	case d.Kind == config.Relay:
		return true
	}
	return len(legs) == 1 && legs[0].Route.Name == d.Route && legs[0].Recipient.Key() == to.Key()
}

// Largest is the largest message that goes on by a route to a domain, by the route or by what was
// agreed with the domain; 0 is no bound that is known. who says it, in words.
func Largest(c *config.Compiled, r *config.Route, domain string) (size config.Size, who string) {
	if r.MessageSize > 0 {
		size, who = r.MessageSize, "route "+r.Name
	}
	if p := c.Peer(domain); p != nil && p.MessageSize > 0 && (size == 0 || p.MessageSize < size) {
		size, who = p.MessageSize, "the agreement "+p.Name
	}
	return size, who
}
