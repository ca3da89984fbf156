package config

import (
	"crypto/sha256"
	"encoding/hex"
	"net/netip"
	"time"

	"gullroute/internal/core/tlsterms"
)

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
		return "dane", "say in service.resolvers which resolvers check signatures: on this " +
			"machine, like 127.0.0.1:53"
	}
	for _, r := range resolvers {
		if !r.Addr().Unmap().IsLoopback() {
			return "dane", "the resolver " + r.String() + " is not on this machine: whoever is " +
				"between could say that it checked"
		}
	}
	return "", ""
}

// DomainTLS is what we ask of others who send to a domain of ours.
type DomainTLS struct {
	Mode   string        `yaml:"mode" enum:"off,testing,enforce" default:"off" doc:"testing: they report what would fail. enforce: they send only over TLS, to our hosts, by a certificate that verifies"`
	Hosts  []DomainName  `yaml:"hosts" doc:"Our hosts that take its mail; the service's host name if not given"`
	MaxAge time.Duration `yaml:"max_age" min:"24h" max:"365d" default:"7d" doc:"How long they may keep it"`
}

// PolicyOf is the policy of a domain of ours as it is served; false if it says none. Its id
// changes with what it says, and with nothing else.
func PolicyOf(c *Compiled, domain string) (tlsterms.Policy, bool) {
	d := c.Domain(domain)
	if d == nil || d.TLSPolicy.Mode == "off" || d.TLSPolicy.Mode == "" {
		return tlsterms.Policy{}, false
	}
	p := tlsterms.Policy{Mode: d.TLSPolicy.Mode, MaxAge: int64(d.TLSPolicy.MaxAge / time.Second)}
	for _, h := range d.TLSPolicy.Hosts {
		p.MX = append(p.MX, string(h))
	}
	if len(p.MX) == 0 {
		p.MX = []string{string(c.Service.HostName)}
	}
	sum := sha256.Sum256([]byte(p.Text()))
	p.ID = hex.EncodeToString(sum[:10])
	return p, true
}
