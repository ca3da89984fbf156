package config

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"gullroute/internal/core/address"
)

// Certificate is one that the service keeps, with its key encrypted. Listeners, console and
// policies show it as kept:NAME.
type Certificate struct {
	Line  int
	Name  string   `yaml:"name" required:"true"`
	Names []string `yaml:"names" required:"true" doc:"Host names that it is to have, like mail.skerryline.example; an authority that gives them to addresses takes those, too"`
	From  string   `yaml:"from" enum:"authority,by_hand" default:"authority" doc:"authority: asked for and renewed by itself (ACME, RFC 8555). by_hand: uploaded"`
	Proof string   `yaml:"proof" enum:"http,tls,dns" default:"http" doc:"How the names are shown to be ours. http: at port 80 (gull serve --proofs). tls: at port 443 (gull serve --policies; RFC 8737). dns: by a record, at a DNS server that takes changes"`
	Key   string   `yaml:"key" enum:"ecdsa-p256,rsa-2048,rsa-3072" default:"ecdsa-p256" doc:"Kind of the keys that are made"`
}

// Authority gives out certificates (ACME, RFC 8555).
type Authority struct {
	Directory string            `yaml:"directory" doc:"Its URL, like https://authority.example/directory; none if not given"`
	Contact   []address.Address `yaml:"contact" doc:"Whom it tells of trouble"`
	Agreed    bool              `yaml:"agreed" doc:"Its terms were read and are agreed to"`
	KeyID     string            `yaml:"key_id" doc:"Of our account there, if it asks for one (external account binding)"`
	Secret    string            `yaml:"secret" doc:"Name of that account's key among the secrets, in base64 (gull secret set NAME)"`
}

// KeptPrefix stands before the name of a certificate that is kept here, where a file is named
// otherwise.
const KeptPrefix = "kept:"

// The origins of certificates, and how names are proved.
const (
	FromAuthority = "authority"
	ProofDNS      = "dns"
)

func (a Authority) check() (field, fault string) {
	switch {
	case a.Directory == "" && (len(a.Contact) > 0 || a.KeyID != "" || a.Agreed):
		return "directory", "say where the authority is"
	case a.Directory == "":
		return "", ""
	case webAddress(a.Directory) != "":
		return "directory", webAddress(a.Directory)
	case !a.Agreed:
		return "agreed", "read the authority's terms, then write agreed: true"
	case (a.KeyID == "") != (a.Secret == ""):
		return "secret", "key_id and secret go together"
	}
	return "", ""
}

func (k *checker) certificates() {
	names := map[string]int{}
	for i := range k.c.Certificates {
		c := &k.c.Certificates[i]
		field := fmt.Sprintf("certificates[%d]", i)
		k.unique(names, c.Line, field+".name", c.Name)
		for _, n := range c.Names {
			if _, err := netip.ParseAddr(n); err == nil && c.Proof != ProofDNS {
				continue
			}
			host, wild := strings.CutPrefix(n, "*.")
			if _, err := address.ParseDomain(host); err != nil || strings.ToLower(n) != n {
				k.wrong(c.Line, field+".names", "%q is no host name; write one in lower case", n)
			}
			if wild && c.From == FromAuthority && c.Proof != ProofDNS {
				k.wrong(c.Line, field+".proof", "a name with an asterisk is proved by dns only")
			}
			if server, _ := k.c.ServerOf(host); c.From == FromAuthority && c.Proof == ProofDNS &&
				server == nil {
				k.wrong(
					c.Line,
					field+".proof",
					"no DNS server of ours takes changes of %s (dns_servers)",
					n,
				)
			}
		}
		if c.From == FromAuthority && k.c.Service.CertificateAuthority.Directory == "" {
			k.wrong(
				c.Line,
				field+".from",
				"no authority is set (service.certificate_authority); without one "+
					"write from: by_hand",
			)
		}
	}
}

// kept says what is wrong with a certificate named in place of a file, and its key.
func (k *checker) kept(certificate, key string) string {
	name, kept := strings.CutPrefix(certificate, KeptPrefix)
	switch {
	case !kept && (certificate == "") != (key == ""):
		return "certificate and key go together"
	case kept && key != "":
		return "the key of " + certificate + " is kept with it; take key out"
	case kept && !slices.ContainsFunc(k.c.Certificates,
		func(c Certificate) bool { return c.Name == name }):
		return "there is no certificate " + name + " among the certificates"
	}
	return ""
}

// Shows are what shows a certificate that is kept: the names of listeners and routes.
func (c *Config) Shows(name string) (out []string) {
	for i := range c.Listeners {
		if c.Listeners[i].Certificate == KeptPrefix+name {
			out = append(out, "listener "+c.Listeners[i].Name)
		}
	}
	for i := range c.Routes {
		if c.Routes[i].Certificate == KeptPrefix+name {
			out = append(out, "route "+c.Routes[i].Name)
		}
	}
	return out
}
