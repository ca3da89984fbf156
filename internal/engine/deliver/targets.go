package deliver

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/resolve"
)

// Hosts finds where a next hop leads now, in order, for people to see.
func (c *Client) Hosts(
	ctx context.Context,
	r *config.Route,
	nextHop string,
) ([]mail.HopHost, *Failure) {
	targets, failure := c.targets(ctx, r, nextHop)
	if failure != nil {
		return nil, failure
	}
	var out []mail.HopHost
	for _, t := range targets {
		h := mail.HopHost{
			Name:       t.host,
			Preference: t.preference,
			Port:       t.port,
			Addresses:  []string{},
		}
		secured := c.Secured(ctx, r, nextHop, t.host, t.port)
		h.TLS, h.Trouble = secured.Words(), secured.Unfit
		addrs, err := c.Resolver.Addrs(ctx, t.host)
		if err != nil {
			h.Trouble = err.Error()
		}
		for _, a := range addrs {
			h.Addresses = append(h.Addresses, a.String())
		}
		out = append(out, h)
	}
	return out, nil
}

// target is one host to try.
type target struct {
	host       string
	port       int
	preference int
}

// plainMX is the first half of a route with next hop direct.
func plainMX(r *config.Route) *config.Route {
	mx := *r
	mx.NextHop, mx.TLS, mx.SignIn, mx.Hosts, mx.MXLookup = config.HopMX, "offered", nil, nil, false
	return &mx
}

// targets lists the hosts of a next hop in order.
func (c *Client) targets(
	ctx context.Context,
	r *config.Route,
	nextHop string,
) ([]target, *Failure) {
	if r.NextHop == config.HopMX || r.NextHop == config.HopDirect {
		return c.mxTargets(ctx, nextHop, c.cfg.Service.MXPort, r.WithoutMX == "bounce")
	}
	var targets []target
	for i, h := range byWeight(r, strings.Split(nextHop, ",")) {
		host, port := config.SplitHost(h, r.Port)
		if !r.MXLookup {
			targets = append(targets, target{host, port, i})
			continue
		}
		more, failure := c.mxTargets(ctx, host, port, false)
		if failure != nil {
			// A missing smart host is our own mistake: fixed, the mail leaves.
			failure.Permanent = false
			return nil, failure
		}
		targets = append(targets, more...)
	}
	return targets, nil
}

// byWeight draws the order of hosts: each comes first as often as its weight
// says.
func byWeight(r *config.Route, hosts []string) []string {
	if r.Choose != "by_weight" || len(hosts) < 2 {
		return hosts
	}
	rest, weights := slices.Clone(hosts), make([]int, len(hosts))
	for i := range weights {
		weights[i] = 1
		if i < len(r.Weights) {
			weights[i] = max(r.Weights[i], 0)
		}
	}
	var out []string
	for len(rest) > 0 {
		sum := 0
		for _, w := range weights {
			sum += w
		}
		at := 0
		if sum > 0 {
			for pick := rand.IntN(sum); pick >= weights[at]; at++ {
				pick -= weights[at]
			}
		}
		out = append(out, rest[at])
		rest, weights = slices.Delete(rest, at, at+1), slices.Delete(weights, at, at+1)
	}
	return out
}

func (c *Client) mxTargets(
	ctx context.Context,
	domain string,
	port int,
	needMX bool,
) ([]target, *Failure) {
	if address.IsLiteral(domain) {
		ip, err := address.LiteralAddr(domain)
		if err != nil {
			return nil, dnsFailure(domain, &resolve.Failure{
				Cause:     diagnose.NoSuchDomain,
				Permanent: true,
				Enhanced:  "5.1.2",
				Text:      "no address literal",
			})
		}
		return []target{{ip.String(), port, 0}}, nil
	}
	hosts, err := c.Resolver.MX(ctx, domain)
	if err != nil {
		return nil, dnsFailure(domain, err)
	}
	if len(hosts) == 1 && hosts[0].Implicit {
		if needMX {
			return nil, dnsFailure(domain, &resolve.Failure{
				Cause:     diagnose.NoAddress,
				Permanent: true,
				Enhanced:  "5.4.4",
				Text: "the domain " + domain + " has no MX, and the route sends to none " +
					"without",
			})
		}
		if _, err := c.Resolver.Addrs(ctx, domain); err != nil {
			return nil, noMXNoAddress(domain, err)
		}
	}
	ours := string(c.cfg.Service.HostName)
	var targets []target
	for _, h := range hosts {
		if h.Name == ours { // RFC 5321 section 5.1: we and those after us are no way on
			break
		}
		targets = append(targets, target{h.Name, port, int(h.Preference)})
	}
	if len(targets) == 0 {
		return nil, &Failure{
			Cause:     diagnose.Loop,
			Permanent: true,
			Reply: mail.LastReply{
				Stage:    diagnose.StageDNS,
				Host:     domain,
				Enhanced: "5.4.6",
				Text: "the best MX of " + domain + " is this server, and no domain of ours " +
					"has that name",
			},
		}
	}
	return targets, nil
}

func noMXNoAddress(domain string, err error) *Failure {
	f := dnsFailure(domain, err)
	if f.Cause == diagnose.NoAddress {
		f.Permanent, f.Reply.Enhanced = true, "5.4.4"
		f.Reply.Text = "the domain " + domain + " has neither an MX nor an address in DNS"
	}
	return f
}

func dnsFailure(host string, err error) *Failure {
	var f *resolve.Failure
	if !errors.As(err, &f) {
		f = &resolve.Failure{Cause: diagnose.DNSTrouble, Enhanced: "4.4.3", Text: err.Error()}
	}
	return &Failure{
		Cause:     f.Cause,
		Permanent: f.Permanent,
		Reply: mail.LastReply{
			Stage:    diagnose.StageDNS,
			Host:     host,
			Enhanced: f.Enhanced,
			Text:     f.Text,
		},
	}
}
