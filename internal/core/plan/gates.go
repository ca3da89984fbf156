package plan

import (
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/route"
)

// ByGates are the legs of a recipient as gates change them: redirected, or by another route
// where it does not stay here. lost are redirections that lead nowhere: then it is held.
func ByGates(
	c *config.Compiled,
	e config.Envelope,
	to address.Address,
	legs []route.Leg,
	f *gate.Fate,
) (out []route.Leg, lost []address.Address) {
	for _, other := range f.Redirect {
		planned, fault := route.Plan(c, e, other)
		if fault != nil {
			lost = append(lost, other)
			continue
		}
		for _, leg := range planned {
			leg.Via = append([]address.Address{to}, leg.Via...)
			out = append(out, leg)
		}
	}
	if len(out) == 0 {
		out = append(out, legs...)
	}
	if r := c.Route(f.Route); f.Route != "" && r != nil {
		for i := range out {
			if leg := &out[i]; leg.NextHop != "local" {
				leg.Route, leg.NextHop = r, route.NextHop(r, leg.Recipient)
				leg.Why = "gate " + f.RouteBy + " sends it by route " + r.Name
			}
		}
	}
	return out, lost
}
