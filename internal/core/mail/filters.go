package mail

import (
	"gullroute/internal/core/ident"
	"net/netip"
	"strings"
	"time"
)

// MailboxList is how mailboxes are listed.
type MailboxList struct {
	Search string // a part of an address or a name
	Domain string
	// Sort is address, name, used or quota: the largest first for the last two.
	Sort string
	// UnusedSince selects mailboxes that nobody used since then: zero selects all.
	UnusedSince time.Time
	Within      []string // domains; none is no bound
	After       string   // an address; for other sorts how many were shown
	Limit       int
}

// SessionFilter selects sessions; zero fields select all.
type SessionFilter struct {
	Direction, Protocol, Listener, Route, Address, Name, Account, Outcome string
	Since, Until                                                          time.Time
	Longer                                                                time.Duration
	Sort                                                                  string // "", duration, bytes, messages
	Before                                                                ident.ID
	Limit                                                                 int
}

// Matches reports whether a session is one that is asked for.
func (f SessionFilter) Matches(x Session) bool {
	if f.Address != "" {
		network, err := netip.ParsePrefix(f.Address)
		if a, single := netip.ParseAddr(f.Address); single == nil {
			network, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if a, bad := netip.ParseAddr(x.Address); err != nil || bad != nil || !network.Contains(a) {
			return false
		}
	}
	fits := func(want, is string) bool { return want == "" || want == is }
	return fits(f.Direction, x.Direction) && fits(f.Protocol, x.Protocol) && fits(f.Listener,
		x.Listener) && fits(f.Route, x.Route) &&
		(fits(f.Outcome, x.Outcome) || f.Outcome == "trouble" && x.Trouble()) && (f.Account == "" ||
		strings.EqualFold(f.Account, x.Account)) &&
		strings.Contains(strings.ToLower(x.Name), strings.ToLower(f.Name)) &&
		x.Seconds >= f.Longer.Seconds()
}
