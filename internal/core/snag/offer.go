package snag

import (
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"slices"
	"strings"
)

// Offer lists what can be done from here, best first, in a configuration. What is
// paused is not offered to be tried now.
func (s *Snag) Offer(c *config.Compiled, paused bool) {
	s.Fixes = []Fix{}
	if s.State == "closed" {
		return
	}
	fixes := diagnose.Explain(s.Cause).Fixes
	if !slices.Contains(fixes, diagnose.FixFlush) && HoldsAll(s.Cause) &&
		s.Cause != diagnose.NoRoute {
		fixes = append(slices.Clip(fixes), diagnose.FixFlush)
	}
	if s.Doubt != "" { // what waits need not wait for nothing
		for _, do := range []diagnose.Fix{diagnose.FixSmartHost, diagnose.FixReturn} {
			if !slices.Contains(fixes, do) {
				fixes = append(slices.Clip(fixes), do)
			}
		}
	}
	o := offer{s: s, c: c, paused: paused}
	if r := c.SmartHost(s.Place.Name); r != nil {
		o.smart = r.Name
	}
	for _, do := range fixes {
		for _, f := range o.of(do) {
			s.add(f)
		}
	}
}

// add puts a fix behind the others; those that cost something are behind those that
// do not, and never the one to try first.
func (s *Snag) add(f Fix) {
	at := len(s.Fixes)
	if f.Costs == "" {
		at = slices.IndexFunc(s.Fixes, func(o Fix) bool { return o.Costs != "" })
		if at < 0 {
			at = len(s.Fixes)
		}
	}
	s.Fixes = slices.Insert(s.Fixes, at, f)
	for i := range s.Fixes {
		s.Fixes[i].First = i == 0 && s.Fixes[i].Costs == ""
	}
}

// certain reports that what the host said is not in doubt, or that nobody had to say
// it: what cannot be taken back needs that.
func (s *Snag) certain() bool {
	v := s.Evidence.Verdict
	return v == nil || s.Evidence.Last.Code == 0 || v.Sure == string(diagnose.Certain)
}

// offer says what can be done about a trouble.
type offer struct {
	s      *Snag
	c      *config.Compiled
	smart  string // the smart host to send by
	paused bool
}

// of are the fixes of a kind that can work here.
func (o offer) of(do diagnose.Fix) []Fix {
	s, at := o.s, o.s.Place
	switch do {
	case diagnose.FixFlush:
		if s.Waiting > 0 && !o.paused {
			return []Fix{{Do: do, Says: "Try now"}}
		}
	case diagnose.FixSmartHost:
		return o.bySmartHost()
	case diagnose.FixRoute:
		return o.byRoute()
	case diagnose.FixSlower:
		if at.Kind == NextHop && len(Slower(s.Cause)) > 0 {
			return []Fix{{Do: do, Says: "Go slower with " + at.Name, Draft: true}}
		}
	case diagnose.FixPause:
		if s.Waiting > 0 && len(s.Lanes) > 0 && !o.paused {
			return []Fix{{Do: do, Says: "Stop trying for two hours"}}
		}
	case diagnose.FixRecord:
		if domain := s.ours(o.c); domain != "" {
			return []Fix{{
				Do:     do,
				Says:   "Show the DNS records to publish for " + domain,
				Domain: domain,
			}}
		}
	case diagnose.FixReturn:
		if s.Waiting > 0 && s.certain() {
			return []Fix{{
				Do:    do,
				Says:  "Send what waits back",
				Costs: "the messages leave the queue; what was sent back cannot be called back",
			}}
		}
	case diagnose.FixTLS:
		return o.byTLS()
	}
	return nil
}

func (o offer) bySmartHost() (out []Fix) {
	at := o.s.Place
	wide := at.Kind == Ourselves && o.s.Parts > 0
	if o.smart == "" || at.Kind != NextHop && at.Kind != Domain && !wide {
		return nil
	}
	if o.s.Waiting > 0 {
		out = append(out, Fix{
			Do:    diagnose.FixSmartHost,
			Says:  "Send what waits by “" + o.smart + "”",
			Route: o.smart,
		})
	}
	if wide {
		return out
	}
	return append(out, Fix{
		Do:    diagnose.FixRoute,
		Says:  "Send to " + at.Name + " by “" + o.smart + "” from now on",
		Route: o.smart,
		Draft: true,
	})
}

// byRoute offers routes for what none takes: a new one, and the smart host.
func (o offer) byRoute() (out []Fix) {
	at := o.s.Place.Name
	if o.s.Cause != diagnose.NoRoute || at == "" || strings.HasPrefix(at, "[") {
		return nil
	}
	out = append(out, Fix{
		Do:     diagnose.FixAddRoute,
		Says:   "Add a route for " + at + " to its own hosts (MX)",
		Domain: at,
		Draft:  true,
	})
	if o.smart != "" {
		out = append(out, Fix{
			Do:    diagnose.FixRoute,
			Says:  "Send to " + at + " by “" + o.smart + "”",
			Route: o.smart,
			Draft: true,
		})
	}
	return out
}

func (o offer) byTLS() []Fix {
	at := o.s.Place
	switch {
	case at.Kind != NextHop:
		return nil
	case o.s.Cause == diagnose.TLSRequired:
		return []Fix{{Do: diagnose.FixTLS, Says: "Use TLS with " + at.Name, Draft: true}}
	case o.s.Cause == diagnose.PolicyNotKept && o.s.certain():
		return []Fix{{
			Do:    diagnose.FixTLS,
			Says:  "Heed no TLS policy of " + at.Name,
			Draft: true,
			Costs: "whoever stands between may read and change messages to it, which its policy is there to prevent",
		}}
	case agreedTLS(o.c, at.Name) && o.s.certain():
		return []Fix{{
			Do:    diagnose.FixTLS,
			Says:  "Ask less of " + at.Name + " in TLS",
			Draft: true,
			Costs: "messages to it may be read or changed on the way",
		}}
	}
	return nil
}

// OfferAliases adds the aliases of ours that name an address at which nobody is, or
// the one whose messages come round again. It looks through all of them.
func (s *Snag) OfferAliases(c *config.Compiled) {
	a, err := address.Parse(s.Place.Name)
	if err != nil || s.State == "closed" || s.Place.Kind != Address || c.Directory == nil {
		return
	}
	if s.Cause == diagnose.Loop && c.Directory.Alias(a) != nil {
		s.add(Fix{
			Do:    diagnose.FixAlias,
			Says:  "Remove the alias " + a.Display(),
			Alias: a.String(),
			Costs: "what comes for " + a.Display() + " is refused from then on",
		})
	}
	if diagnose.Explain(s.Cause).Family != diagnose.Address || !s.certain() {
		return
	}
	for _, alias := range c.Directory.Naming(a) {
		if len(alias.To) > 1 {
			s.add(Fix{
				Do:    diagnose.FixAlias,
				Says:  "Take it out of " + alias.Address.Display(),
				Alias: alias.Address.String(),
				Costs: a.Display() + " gets nothing more of what is sent to " +
					"" + alias.Address.Display(),
			})
		}
	}
}

// ours is the domain of ours that a trouble about our identity concerns, "" if none.
func (s *Snag) ours(c *config.Compiled) string {
	domain := s.Place.Name
	if s.Place.Kind != Domain && s.Place.Kind != Sender {
		domain = s.Evidence.Sender[strings.LastIndexByte(s.Evidence.Sender, '@')+1:]
	}
	if c.Domain(domain) == nil {
		return ""
	}
	return domain
}

// Slower are the terms with a domain whose host wants less at a time; none if that
// does not help.
func Slower(c diagnose.Cause) map[string]any {
	switch c {
	case diagnose.TooManySessions:
		return map[string]any{"connections": 1}
	case diagnose.RateLimited, diagnose.LowReputation:
		return map[string]any{"connections": 1, "messages_per_minute": 20}
	}
	return nil
}

// agreedTLS reports whether TLS was agreed with a domain, beyond what its route asks.
func agreedTLS(c *config.Compiled, domain string) bool {
	p := c.Peer(domain)
	return p != nil && (p.TLS == "required" || p.TLS == "verified")
}
