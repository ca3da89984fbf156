package route

import (
	"cmp"
	"slices"

	"gullroute/internal/core/config"
)

// Terms are what counts on a lane: its route's, and what was agreed with the
// peer that the next hop belongs to.
type Terms struct {
	Peer                  string // name, "" without agreement
	TLS                   string // off, offered, required or verified
	PinnedName            string // the certificate's name, in place of the host's
	IgnorePolicies        bool   // of the domain itself: MTA-STS and DANE
	Connections           int
	MessagesPerConnection int
	MessagesPerMinute     int // 0 is no limit
	Transcript            string
}

var tlsStrength = []string{"off", "offered", "required", "verified"}

// TermsOf joins a route's terms with those of the peer behind the next hop. A
// smart host is nobody's peer: what it is asked is the route's alone.
func TermsOf(c *config.Compiled, r *config.Route, nextHop string) Terms {
	t := Terms{
		TLS:                   r.TLS,
		Connections:           r.Connections,
		MessagesPerConnection: r.MessagesPerConnection,
		MessagesPerMinute:     r.MessagesPerMinute,
		Transcript:            cmp.Or(r.Transcript, config.TranscriptAll),
	}
	if r.NextHop == config.HopDirect {
		t.TLS = "offered"
	}
	if r.NextHop != config.HopMX && r.NextHop != config.HopDirect {
		return t
	}
	p := c.Peer(nextHop)
	if p == nil {
		return t
	}
	t.Peer, t.PinnedName, t.Transcript = p.Name, string(
		p.PinnedName,
	), cmp.Or(p.Transcript, t.Transcript)
	t.IgnorePolicies = p.IgnorePolicies
	if slices.Index(tlsStrength, p.TLS) > slices.Index(tlsStrength, t.TLS) {
		t.TLS = p.TLS
	}
	t.Connections = least(t.Connections, p.Connections)
	t.MessagesPerConnection = least(t.MessagesPerConnection, p.MessagesPerConnection)
	t.MessagesPerMinute = least(t.MessagesPerMinute, p.MessagesPerMinute)
	return t
}

// least is the smaller of two limits; 0 is none.
func least(a, b int) int {
	if a == 0 || b != 0 && b < a {
		return b
	}
	return a
}
