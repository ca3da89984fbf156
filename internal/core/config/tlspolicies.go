package config

import "net/netip"

// TLSPolicies say which of others' policies are heeded.
type TLSPolicies struct {
	MTASTS string `yaml:"mta_sts" enum:"heeded,ignored" default:"heeded" doc:"Policies that domains publish (RFC 8461)"`
	DANE   string `yaml:"dane" enum:"ignored,by_resolver" default:"ignored" doc:"Certificates that signed DNS names (RFC 7672). by_resolver: the resolvers check signatures and are believed, so that they must run on this machine"`
}

// How policies are taken.
const (
	Ignored    = "ignored"
	ByResolver = "by_resolver"
)

// check says why signatures cannot be believed to be checked.
func (t TLSPolicies) check(resolvers []netip.AddrPort) (field, fault string) {
	if t.DANE != ByResolver {
		return "", ""
	}
	if len(resolvers) == 0 {
		return "dane", "say in service.resolvers which resolvers check signatures: on this machine, like 127.0.0.1:53"
	}
	for _, r := range resolvers {
		if !r.Addr().Unmap().IsLoopback() {
			return "dane", "the resolver " + r.String() + " is not on this machine: whoever is between could " +
				"say that it checked"
		}
	}
	return "", ""
}
