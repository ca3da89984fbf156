// Package route decides where a recipient's mail goes next: aliases are
// expanded, then the routes are asked in order, then our domains' own.
package route

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
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
	// Via are the aliases and forwarding mailboxes passed through, the address
	// given first; empty without any.
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
func Plan(c *config.Compiled, e config.Envelope, recipient address.Address) ([]Leg, *smtp.Reply) {
	p := planner{c: c, e: e}
	if fault := p.expand(recipient, nil); fault != nil {
		return nil, fault
	}
	return p.legs, nil
}

type planner struct {
	c    *config.Compiled
	e    config.Envelope
	legs []Leg
}

// expand follows aliases and forwards. via is the way so far.
func (p *planner) expand(to address.Address, via []address.Address) *smtp.Reply {
	if isPostmaster(p.c, to) {
		to = p.c.Service.Postmaster
	}
	if p.passed(to, via) || len(via) > 2*directory.MaxDepth {
		return nil // a circle of forwards: its mail stays where it has been
	}
	if alias := p.c.Alias(to); alias != nil {
		way := append(slices.Clone(via), alias.Address)
		for _, target := range alias.To {
			if fault := p.expand(target, way); fault != nil {
				return fault
			}
		}
		return nil
	}
	box := p.c.Mailbox(to)
	if box == nil {
		if d := p.c.Domain(to.Domain); d != nil && d.CatchAll != nil &&
			d.CatchAll.Key() != to.Key() {
			return p.expand(*d.CatchAll, append(slices.Clone(via), to))
		}
		return p.add(to, via)
	}
	if len(box.ForwardTo) > 0 {
		return p.forward(box, to, via)
	}
	return p.add(to, via)
}

// passed reports that an address is on the way already.
func (p *planner) passed(to address.Address, via []address.Address) bool {
	return slices.ContainsFunc(via, func(a address.Address) bool { return a.Key() == to.Key() })
}

// forward passes a mailbox's mail on. It stays in the mailbox too if a copy is
// wanted, if it would come back here, or if none of its forwards may be used.
func (p *planner) forward(
	box *directory.Mailbox,
	to address.Address,
	via []address.Address,
) *smtp.Reply {
	way := append(slices.Clone(via), box.Address)
	before := len(p.legs)
	stays := box.KeepCopy
	for _, target := range box.ForwardTo {
		if peer := p.c.Peer(target.Domain); peer != nil && peer.NoForwards ||
			p.passed(target, way) {
			stays = true
			continue
		}
		if fault := p.expand(target, way); fault != nil {
			stays = true // a forward that leads nowhere must not cost the message
		}
	}
	if stays || len(p.legs) == before && !p.reached(box) {
		return p.add(to, via)
	}
	return nil
}

// reached reports that a forward's targets have the message by another way.
func (p *planner) reached(box *directory.Mailbox) bool {
	return slices.ContainsFunc(box.ForwardTo, func(a address.Address) bool {
		return slices.ContainsFunc(p.legs, func(l Leg) bool { return l.Recipient.Key() == a.Key() })
	})
}

func (p *planner) add(to address.Address, via []address.Address) *smtp.Reply {
	leg, fault := Find(p.c, p.e, to)
	if fault != nil {
		return fault
	}
	if slices.ContainsFunc(
		p.legs,
		func(l Leg) bool { return l.Recipient.Key() == leg.Recipient.Key() },
	) {
		return nil // reached by two ways, delivered once
	}
	leg.Via = via
	p.legs = append(p.legs, leg)
	return nil
}

// isPostmaster reports whether to is postmaster, bare or at a domain of ours
// that has nobody else of that name (RFC 5321 section 4.5.1).
func isPostmaster(c *config.Compiled, to address.Address) bool {
	if !strings.EqualFold(to.Local, "postmaster") || c.Mailbox(to) != nil || c.Alias(to) != nil {
		return false
	}
	d := c.Domain(to.Domain)
	return to.Domain == "" ||
		d != nil && d.Kind != config.Relay && to.Key() != c.Service.Postmaster.Key()
}

// Find asks the routes for an address that is no alias.
func Find(c *config.Compiled, e config.Envelope, to address.Address) (Leg, *smtp.Reply) {
	domain := c.Domain(to.Domain)
	box := c.Mailbox(to)
	if domain != nil && domain.Kind == config.Local && box == nil {
		return Leg{}, noMailbox(to)
	}
	var own *config.Route // of the sender's domain
	if d := c.Domain(e.Sender.Domain); domain == nil && d != nil && d.Outgoing != "" {
		own = c.Route(d.Outgoing)
	}
	var found *config.Route
	var by address.Pattern
	c.EachRoute(e, to, func(r *config.Route) bool {
		pattern, why := match(r, e, to, domain != nil)
		if why == "" {
			found, by = r, pattern
		}
		return found != nil
	})
	switch {
	case own != nil && (found == nil || !by.Exact() && len(found.Senders) == 0):
		return legBy(
			own,
			to,
			fmt.Sprintf("people of %s send by route %s", address.DisplayDomain(e.Sender.Domain),
				own.Name),
		)
	case found != nil && found.NextHop == config.HopMailbox && box == nil:
		return Leg{}, noMailbox(to)
	case found != nil:
		if found.NextHop == config.HopMailbox {
			to = box.Address
		}
		return legBy(found, to, fmt.Sprintf("route %s takes %s", found.Name, by))
	case box != nil:
		return legBy(c.Route(config.RouteMailbox), box.Address, "the address is a mailbox of ours")
	case domain != nil:
		r := c.Route(domain.Route)
		if r == nil {
			return legBy(
				c.Route(config.RouteNone),
				to,
				fmt.Sprintf("route %s of %s is off", domain.Route,
					address.DisplayDomain(to.Domain)),
			)
		}
		return legBy(
			r,
			to,
			fmt.Sprintf("%s is a %s domain with route %s", address.DisplayDomain(to.Domain),
				domain.Kind, domain.Route),
		)
	}
	return legBy(c.Route(config.RouteNone), to,
		"no route leads to "+address.DisplayDomain(to.Domain))
}

// Unmet is the first condition of a route that an envelope to an address does
// not meet, in words; "" if it meets all.
func Unmet(c *config.Compiled, r *config.Route, e config.Envelope, to address.Address) string {
	switch {
	case r.Off:
		return "it is off"
	case len(r.Recipients) == 0:
		return "it is used only by what names it"
	}
	_, why := match(r, e, to, c.Domain(to.Domain) != nil)
	return why
}

// match says by which pattern a route takes an address, or why it does not.
func match(
	r *config.Route,
	e config.Envelope,
	to address.Address,
	ours bool,
) (address.Pattern, string) {
	pattern, ok := r.Recipients.Match(to)
	switch {
	case !ok:
		return pattern, "the recipient is not among its recipients"
	case ours && !pattern.Exact():
		return pattern, "an asterisk stands for domains that are not ours"
	}
	if _, ok := r.Senders.Match(e.Sender); !ok {
		return pattern, "the sender is not among its senders"
	}
	if _, ok := r.Accounts.Match(e.Account); len(r.Accounts) > 0 && (!ok || e.Account.IsNull()) {
		return pattern, "the account is not among its accounts"
	}
	if len(r.Clients) > 0 &&
		!slices.ContainsFunc(r.Clients, func(n netip.Prefix) bool { return n.Contains(e.Client) }) {
		return pattern, "the client is in none of its networks"
	}
	switch {
	case r.SizeOver > 0 && e.Size <= int64(r.SizeOver):
		return pattern, "the message is not larger than " + r.SizeOver.String()
	case r.SizeUpTo > 0 && e.Size > int64(r.SizeUpTo):
		return pattern, "the message is larger than " + r.SizeUpTo.String()
	}
	return pattern, ""
}

func noMailbox(to address.Address) *smtp.Reply {
	r := smtp.NewReply(550, "5.1.1", "there is no mailbox %s here", to.Display())
	return &r
}

func legBy(r *config.Route, to address.Address, why string) (Leg, *smtp.Reply) {
	leg := Leg{Recipient: to, Route: r, Why: why}
	switch r.NextHop {
	case config.HopRefuse:
		say := r.Say
		if say == "" {
			say = "mail to " + to.Display() + " is refused by route " + r.Name
		}
		reply := smtp.NewReply(550, "5.7.1", "%s", say)
		return leg, &reply
	}
	leg.NextHop = NextHop(r, to)
	return leg, nil
}

// NextHop is where a route sends an address.
func NextHop(r *config.Route, to address.Address) string {
	switch r.NextHop {
	case config.HopSmartHost, config.HopLMTP:
		return SmartHosts(r)
	case config.HopMailbox:
		return "local"
	}
	return to.Domain
}

// SmartHosts are the hosts of a route as a next hop.
func SmartHosts(r *config.Route) string {
	hosts := make([]string, len(r.Hosts))
	for i, h := range r.Hosts {
		host, port := config.SplitHost(h, r.Port)
		hosts[i] = fmt.Sprintf("%s:%d", host, port)
	}
	return strings.Join(hosts, ",")
}
