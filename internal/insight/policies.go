package insight

import (
	"context"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/route"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/policies"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Policies looks at what domains say of TLS for mail to them.
type Policies struct {
	Store   store.TLSPolicies
	Keeper  *policies.Keeper
	InForce *inforce.State
	Outward deliver.Options
}

// Check asks a domain anew, and says what counts towards each of its hosts.
func (p *Policies) Check(ctx context.Context, domain string) api.TLSPolicyChecked {
	out := api.TLSPolicyChecked{TLSPolicy: p.Keeper.Ask(ctx, domain), Hosts: []api.TLSHostTerms{}}
	cfg := p.InForce.Config()
	to := address.Address{Local: "postmaster", Domain: domain}
	way, reply := route.Find(cfg, config.Envelope{Sender: cfg.Service.Postmaster}, to)
	if reply != nil || way.Stranded() {
		out.Fails = "no route leads to " + domain
		return out
	}
	r := way.Route
	out.Route = r.Name
	client := deliver.NewClient(cfg, p.Outward)
	targets, failure := client.Targets(ctx, r, way.NextHop)
	if failure != nil {
		out.Fails = failure.Reply.Text
		return out
	}
	for _, t := range targets {
		s := client.Secured(ctx, r, way.NextHop, t.Host, t.Port)
		out.Hosts = append(
			out.Hosts,
			api.TLSHostTerms{Host: t.Host, TLS: s.TLS, By: s.By, Says: s.Words(),
				May: s.Unfit == ""},
		)
	}
	return out
}
