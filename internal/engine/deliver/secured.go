package deliver

import (
	"context"
	"net/netip"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/core/tlsterms"
)

// secured are the terms of TLS towards a host. What a domain says of them is heeded where its own
// hosts are found by MX; a smart host is nobody's (RFC 8461 section 2).
func (c *Client) secured(
	ctx context.Context,
	r *config.Route,
	terms route.Terms,
	nextHop string,
	t target,
) tlsterms.Terms {
	demand := tlsterms.Demand{TLS: terms.TLS, Name: terms.PinnedName, Ignore: terms.IgnorePolicies}
	if terms.TLS != r.TLS || terms.PinnedName != "" { // an agreement may say nothing of TLS
		demand.Peer = terms.Peer
	}
	var policy *tlsterms.Policy
	var dane tlsterms.DANE
	if c.Policies != nil && r.NextHop == config.HopMX && !demand.Ignore &&
		!address.IsLiteral(nextHop) {
		if dane = c.Policies.DANE(ctx, nextHop, t.host, t.port); !dane.Secure ||
			len(dane.Records) == 0 {
			policy = c.Policies.STS(ctx, nextHop)
		}
	}
	return tlsterms.Of(demand, r.Name, nextHop, t.host, policy, dane)
}

// Secured are the terms of TLS towards each host of a next hop, for people to see.
func (c *Client) Secured(
	ctx context.Context,
	r *config.Route,
	nextHop, host string,
	port int,
) tlsterms.Terms {
	if r.NextHop == config.HopDirect {
		r = plainMX(r)
	}
	return c.secured(
		ctx,
		r,
		route.TermsOf(c.cfg, r, nextHop),
		nextHop,
		target{host: host, port: port},
	)
}

// unfitHost is the failure of a host to which no connection is made.
func unfitHost(t target, ip netip.Addr, s tlsterms.Terms) *Failure {
	f := &Failure{
		Cause: diagnose.PolicyNotKept,
		Reply: mail.LastReply{Stage: diagnose.StageTLS, Host: t.host,
			Address: ip.String(), Enhanced: "4.7.5", Text: s.Unfit},
	}
	if s.Later {
		f.Cause, f.Reply.Stage, f.Reply.Enhanced = diagnose.DNSTrouble, diagnose.StageDNS, "4.4.3"
	}
	return f
}
