// Package whose says whose the trouble is that mail is in: ours (which part of
// us), one destination's, one route's, several unlike ones', or that one cannot be
// sure. It goes by the causes that places share, by how unlike these places are, by
// what got through meanwhile, and by what our own checks say.
package whose

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
)

// Whose is who a trouble belongs to.
type Whose string

// The answers.
const (
	Nobody      Whose = "nobody"      // there is none
	Ours        Whose = "ours"        // Part says which part of us
	Destination Whose = "destination" // one next hop
	ByRoute     Whose = "route"       // what goes by one route, that of a provider say
	Several     Whose = "several"     // unlike troubles that have nothing to do with each other
	NotSure     Whose = "not-sure"
)

// Part is a part of our own side.
type Part string

// The parts.
const (
	Resolver   Part = "resolver"    // our name servers
	Network    Part = "network"     // our line, a firewall, a provider that closes the port
	IPv6       Part = "ipv6"        // our network by IPv6 alone
	Source     Part = "source"      // one of the addresses we connect from
	Reputation Part = "reputation"  // our address or name as others see it
	Clock      Part = "clock"       // our time
	Trust      Part = "authorities" // the authorities that we trust, or our TLS
	Account    Part = "account"     // the name and password of a route
	Inside     Part = "inside"      // our own side before anybody was asked
)

// Verdict is the answer, with what it rests on.
type Verdict struct {
	Whose Whose    `json:"whose" enum:"nobody,ours,destination,route,several,not-sure"`
	Part  Part     `json:"part,omitempty" enum:"resolver,network,ipv6,source,reputation,clock,authorities,account,inside"`
	Title string   `json:"title"`
	Next  string   `json:"next" doc:"What to do"`
	Why   []string `json:"why,omitempty" doc:"What it rests on, in numbers"`
}

// Trouble is one place at which mail does not get on.
type Trouble struct {
	NextHop, Route string
	Source         string // the address that the route connects from, "" if any
	Cause          diagnose.Cause
	Address        string // of the host, "" if none was reached
	Since          time.Time
	Waiting        int64
}

// Success is how much got through at a place of late.
type Success struct {
	NextHop, Route, Source string
	IPv6                   bool
	Messages               int64
}

// Checks are what our own checks say.
type Checks struct {
	// ResolverDown: our name servers did not answer the last time they were asked.
	ResolverDown bool
	// ClockOff is how far our clock is from the database's.
	ClockOff time.Duration
}

// Recent is how far back successes count.
const Recent = 30 * time.Minute

// Bounds of the judgement.
const (
	manyFrom   = 3                // as many unlike places are more than chance
	most       = 0.5              // of what was tried: more failing than that looks like ours
	some       = 0.2              // less failing than that does not
	clockBound = 90 * time.Second // certificates and signatures mind more
)

// Of are troubles to judge in a configuration's lanes: those that rest, and those of
// which every message is deferred.
func Of(lanes []mail.Lane, source func(route string) string) (list []Trouble) {
	for i := range lanes {
		l := &lanes[i]
		off := l.State == mail.LaneResting || l.Deferred > 0 && l.Waiting == 0 && l.Sending == 0
		if l.NextHop == "local" || l.State == mail.LaneStranded || l.State == mail.LanePaused ||
			!off {
			continue
		}
		t := Trouble{NextHop: l.NextHop, Route: l.Route, Cause: diagnose.Cause(l.Cause),
			Since: l.Since.Time, Waiting: l.Waiting + l.Deferred, Source: source(l.Route)}
		if l.Last != nil {
			t.Address = l.Last.Address
			if t.Cause == diagnose.NoCause {
				t.Cause = byStage(l.Last.Stage)
			}
		}
		list = append(list, t)
	}
	return list
}

// byStage is what a failure at a stage is most like, if its cause is not on record.
func byStage(s diagnose.Stage) diagnose.Cause {
	switch s {
	case diagnose.StageDNS:
		return diagnose.DNSTrouble
	case diagnose.StageConnect:
		return diagnose.ConnectTimeout
	case diagnose.StageGreeting:
		return diagnose.NoAnswer
	case diagnose.StageTLS:
		return diagnose.TLSTrouble
	case diagnose.StageSignIn:
		return diagnose.SignInRefused
	}
	return diagnose.Unknown
}

// kind is what causes have in common: troubles of one kind may have one reason.
type kind int

const (
	other kind = iota
	byName
	byReach
	byTLS
	byRepute
	byLogin
	byUs
)

// of says of n destinations what is wrong.
func (k kind) of(n int) string {
	words := [...][2]string{
		{"tells of another trouble", "tell of other troubles"},
		{"cannot be looked up in DNS", "cannot be looked up in DNS"},
		{"cannot be reached", "cannot be reached"},
		{"fails at TLS", "fail at TLS"},
		{"refuses us for our address or name", "refuse us for our address or name"},
		{"refuses our sign-in", "refuse our sign-in"},
		{"fails on our own side", "fail on our own side"},
	}[k]
	if n == 1 {
		return words[0]
	}
	return words[1]
}

func kindOf(c diagnose.Cause) kind {
	switch c {
	case diagnose.DNSTrouble:
		return byName
	case diagnose.ConnectRefused, diagnose.ConnectTimeout, diagnose.Unreachable:
		return byReach
	case diagnose.TLSTrouble, diagnose.CertificateBad, diagnose.PolicyNotKept:
		return byTLS
	case diagnose.BlockListed, diagnose.LowReputation, diagnose.ResidentialAddress,
		diagnose.NoReverseName, diagnose.BadHelloName:
		return byRepute
	case diagnose.SignInRefused, diagnose.SignInRequired, diagnose.ClientCertificate:
		return byLogin
	case diagnose.OurTrouble:
		return byUs
	}
	return other
}

// group is troubles of one kind.
type group struct {
	kind     kind
	troubles []Trouble
	unlike   int // places that have nothing to do with each other
	waiting  int64
}

// groups puts troubles together, the largest first.
func groups(list []Trouble) []group {
	by := map[kind]*group{}
	for _, t := range list {
		k := kindOf(t.Cause)
		if by[k] == nil {
			by[k] = &group{kind: k}
		}
		by[k].troubles = append(by[k].troubles, t)
		by[k].waiting += t.Waiting
	}
	out := make([]group, 0, len(by))
	for _, g := range by {
		g.unlike = unlike(g.troubles)
		out = append(out, *g)
	}
	slices.SortFunc(out, func(a, b group) int {
		return cmp.Or(cmp.Compare(b.unlike, a.unlike), cmp.Compare(b.waiting, a.waiting),
			cmp.Compare(a.kind, b.kind))
	})
	return out
}

// unlike counts places that differ in their host's network and in their domain:
// three domains at one provider are one place.
func unlike(list []Trouble) int {
	networks, domains := map[string]bool{}, map[string]bool{}
	n := 0
	for _, t := range list {
		domain := site(t.NextHop)
		network := networkOf(t.Address)
		if domains[domain] || network != "" && networks[network] {
			domains[domain] = true
			continue
		}
		domains[domain] = true
		if network != "" {
			networks[network] = true
		}
		n++
	}
	return n
}

// site is the part of a name that one organisation has, roughly: its last two labels.
func site(name string) string {
	name = strings.TrimSuffix(strings.ToLower(name), ".")
	i := strings.LastIndexByte(name, '.')
	if i < 0 {
		return name
	}
	return name[strings.LastIndexByte(name[:i], '.')+1:]
}

// networkOf is the network of a host: /24, or /48 by IPv6; "" if it has no address.
func networkOf(addr string) string {
	if ap, err := netip.ParseAddrPort(addr); err == nil {
		addr = ap.Addr().String()
	}
	a, err := netip.ParseAddr(addr)
	if err != nil || a.IsLoopback() {
		return ""
	}
	bits := 24
	if a.Is6() {
		bits = 48
	}
	p, _ := a.Prefix(bits)
	return p.String()
}

func isIPv6(addr string) bool {
	if ap, err := netip.ParseAddrPort(addr); err == nil {
		return ap.Addr().Is6() && !ap.Addr().Is4In6()
	}
	a, err := netip.ParseAddr(addr)
	return err == nil && a.Is6() && !a.Is4In6()
}
