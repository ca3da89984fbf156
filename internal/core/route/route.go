// Package route decides where a recipient's mail goes next: aliases are
// expanded, then the routes are asked in order, then our domains' own.
package route

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/smtp"
)

// LaneID numbers a lane: the same route and next hop have the same number on
// every node and in every revision.
type LaneID int64

// Lane is the number of the lane of a route and next hop.
func Lane(route, nextHop string) LaneID {
	sum := sha256.Sum256([]byte(route + "\x00" + nextHop))
	return LaneID(binary.BigEndian.Uint64(sum[:8]) >> 1)
}

// Leg is one delivery that a recipient leads to.
type Leg struct {
	Recipient address.Address
	// Via are the aliases passed through, the address given first; empty
	// without any.
	Via     []address.Address
	Route   *config.Route
	NextHop string
	// Why is one sentence on how the route was found.
	Why string
}

// Lane is the number of the leg's lane.
func (l Leg) Lane() LaneID { return Lane(l.Route.Name, l.NextHop) }

// Stranded reports that no route leads on.
func (l Leg) Stranded() bool { return l.Route.Name == config.RouteNone }

// Plan finds the legs of a recipient. If one cannot be taken at all, the reply
// to give is returned instead.
func Plan(c *config.Compiled, sender, recipient address.Address) ([]Leg, *smtp.Reply) {
	var legs []Leg
	if fault := expand(c, sender, recipient, nil, &legs); fault != nil {
		return nil, fault
	}
	return legs, nil
}

func expand(c *config.Compiled, sender, to address.Address, via []address.Address, legs *[]Leg) *smtp.Reply {
	if isPostmaster(c, to) {
		to = c.Service.Postmaster
	}
	if alias := c.Alias(to); alias != nil {
		way := append(slices.Clone(via), to)
		for _, target := range alias.To {
			if fault := expand(c, sender, target, way, legs); fault != nil {
				return fault
			}
		}
		return nil
	}
	if slices.ContainsFunc(*legs, func(l Leg) bool { return l.Recipient.Key() == to.Key() }) {
		return nil // reached by two ways, delivered once
	}
	leg, fault := Find(c, sender, to)
	if fault != nil {
		return fault
	}
	leg.Via = via
	*legs = append(*legs, leg)
	return nil
}

// isPostmaster reports whether to is postmaster, bare or at a domain of ours
// that has nobody else of that name (RFC 5321 section 4.5.1).
func isPostmaster(c *config.Compiled, to address.Address) bool {
	if !strings.EqualFold(to.Local, "postmaster") || c.Mailbox(to) != nil || c.Alias(to) != nil {
		return false
	}
	d := c.Domain(to.Domain)
	return to.Domain == "" || d != nil && d.Kind != "relay"
}

// Find asks the routes for an address that is no alias.
func Find(c *config.Compiled, sender, to address.Address) (Leg, *smtp.Reply) {
	domain := c.Domain(to.Domain)
	box := c.Mailbox(to)
	if domain != nil && domain.Kind == "local" && box == nil {
		return Leg{}, noMailbox(to)
	}
	for i := range c.Routes {
		r := &c.Routes[i]
		if len(r.Recipients) == 0 {
			continue
		}
		pattern, ok := r.Recipients.Match(to)
		if _, fromOK := r.Senders.Match(sender); !ok || !fromOK {
			continue
		}
		if domain != nil && !pattern.Exact() {
			continue // an asterisk stands for domains that are not ours
		}
		if r.NextHop == "mailbox" {
			if box == nil {
				return Leg{}, noMailbox(to)
			}
			to = box.Address
		}
		return legBy(r, to, fmt.Sprintf("route %s takes %s", r.Name, pattern))
	}
	switch {
	case box != nil:
		return legBy(c.Route(config.RouteMailbox), box.Address, "the address is a mailbox of ours")
	case domain != nil:
		why := fmt.Sprintf("%s is a %s domain with route %s", address.DisplayDomain(to.Domain), domain.Kind, domain.Route)
		return legBy(c.Route(domain.Route), to, why)
	}
	return legBy(c.Route(config.RouteNone), to, "no route leads to "+address.DisplayDomain(to.Domain))
}

func noMailbox(to address.Address) *smtp.Reply {
	r := smtp.NewReply(550, "5.1.1", "there is no mailbox %s here", to.Display())
	return &r
}

func legBy(r *config.Route, to address.Address, why string) (Leg, *smtp.Reply) {
	leg := Leg{Recipient: to, Route: r, Why: why}
	switch r.NextHop {
	case "refuse":
		say := r.Say
		if say == "" {
			say = "mail to " + to.Display() + " is refused by route " + r.Name
		}
		reply := smtp.NewReply(550, "5.7.1", "%s", say)
		return leg, &reply
	case "smarthost", "lmtp":
		hosts := make([]string, len(r.Hosts))
		for i, h := range r.Hosts {
			host, port := config.SplitHost(h, r.Port)
			hosts[i] = fmt.Sprintf("%s:%d", host, port)
		}
		leg.NextHop = strings.Join(hosts, ",")
	case "mailbox":
		leg.NextHop = "local"
	default:
		leg.NextHop = to.Domain
	}
	return leg, nil
}
