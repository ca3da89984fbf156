package config

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// DNSServer is a server of zones of ours that takes changes (RFC 2136), signed with a key that it
// knows (TSIG, RFC 8945).
type DNSServer struct {
	Line      int
	Name      string           `yaml:"name" required:"true"`
	Address   netip.AddrPort   `yaml:"address" required:"true" doc:"Where it takes changes, like 192.0.2.53:53: the server that holds the zones, not a copy"`
	Zones     []DomainName     `yaml:"zones" required:"true" doc:"Those that it changes for us"`
	KeyName   DomainName       `yaml:"key_name" required:"true" doc:"Under which it knows the key, like gull.skerryline.example"`
	Algorithm string           `yaml:"algorithm" enum:"hmac-sha256,hmac-sha384,hmac-sha512" default:"hmac-sha256" doc:"Of the key"`
	Secret    string           `yaml:"secret" required:"true" doc:"Name of the key among the secrets, in base64: gull secret set NAME"`
	Copies    []netip.AddrPort `yaml:"copies" doc:"Further servers of the zones; they are asked, too, until a change is seen. Those that the zone names (NS) are asked anyway"`
}

// ServerOf finds the DNS server that changes records of a name, and the zone in which it stands:
// the longest that fits.
func (c *Config) ServerOf(name string) (server *DNSServer, zone string) {
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	for i := range c.DNSServers {
		for _, z := range c.DNSServers[i].Zones {
			in := name == string(z) || strings.HasSuffix(name, "."+string(z))
			if in && len(z) > len(zone) {
				server, zone = &c.DNSServers[i], string(z)
			}
		}
	}
	return server, zone
}

func (k *checker) dnsServers() {
	names, zones := map[string]int{}, map[string]int{}
	for i := range k.c.DNSServers {
		s := &k.c.DNSServers[i]
		field := fmt.Sprintf("dns_servers[%d]", i)
		k.unique(names, s.Line, field+".name", s.Name)
		for _, z := range s.Zones {
			k.unique(zones, s.Line, field+".zones", string(z))
		}
		if s.Address.Port() == 0 || slices.ContainsFunc(s.Copies,
			func(a netip.AddrPort) bool { return a.Port() == 0 }) {
			k.wrong(s.Line, field+".address", "write the port, too, like 192.0.2.53:53")
		}
	}
}
