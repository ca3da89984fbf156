package config

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"gullroute/internal/core/address"
)

// Beginning is what a server is begun with: answers to the questions of gull setup.
type Beginning struct {
	HostName   string   `yaml:"host_name"`
	Domain     string   `yaml:"domain"`
	Postmaster string   `yaml:"postmaster"`
	Networks   []string `yaml:"networks"`    // of our machines, which may send without sign-in
	Smarthost  string   `yaml:"smarthost"`   // "" sends to the world by MX
	Authority  string   `yaml:"authority"`   // of certificates, its ACME directory; "" is none
	Agreed     bool     `yaml:"agreed"`      // to the authority's terms
	Listen     string   `yaml:"listen"`      // the address of the listeners
	PortsAbove int      `yaml:"ports_above"` // added to each port: for trying out
}

// Check says which answer is wrong, in the field's name.
func (b *Beginning) Check() error {
	if _, err := address.ParseDomain(b.HostName); err != nil || !strings.Contains(b.HostName, ".") {
		return fmt.Errorf(
			"host_name: %q is no full name of a host, like mail.skerryline.example",
			b.HostName,
		)
	}
	if _, err := address.ParseDomain(b.Domain); err != nil || !strings.Contains(b.Domain, ".") {
		return fmt.Errorf("domain: %q is no domain, like skerryline.example", b.Domain)
	}
	if a, err := address.Parse(b.Postmaster); err != nil || !strings.EqualFold(a.Domain, b.Domain) {
		return fmt.Errorf("postmaster: %q is no address of %s", b.Postmaster, b.Domain)
	}
	for _, n := range b.Networks {
		p, err := netip.ParsePrefix(n)
		if err != nil {
			if _, err := netip.ParseAddr(n); err != nil {
				return fmt.Errorf("networks: %q is no network, like 192.0.2.0/24", n)
			}
			continue
		}
		if p.Bits() == 0 {
			return fmt.Errorf(
				"networks: %s is everybody: then anybody sends through this server",
				n,
			)
		}
	}
	if host, port := SplitHost(b.Smarthost, 25); b.Smarthost != "" {
		_, err := address.ParseDomain(host)
		if _, ip := netip.ParseAddr(host); err != nil && ip != nil || port < 1 || port > 65535 {
			return fmt.Errorf("smarthost: %q is no host or host:port", b.Smarthost)
		}
	}
	if b.Authority != "" {
		if u, err := url.Parse(b.Authority); err != nil || u.Scheme != "https" || u.Host == "" {
			return fmt.Errorf(
				"authority: %q is no https URL of an authority's directory",
				b.Authority,
			)
		}
		if !b.Agreed {
			return fmt.Errorf(
				"agreed: read the terms of %s and say yes to them, or name no authority",
				b.Authority,
			)
		}
	}
	if _, err := netip.ParseAddr(b.Listen); err != nil {
		return fmt.Errorf("listen: %q is no address, like :: for all of this machine", b.Listen)
	}
	_, err := Parse([]byte(b.Text()))
	return err
}

// Text is the configuration.
func (b *Beginning) Text() string {
	var out strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	ip, _ := netip.ParseAddr(b.Listen)
	at := func(port int) string { return netip.AddrPortFrom(ip, uint16(port+b.PortsAbove)).String() }
	line(
		"# What %s was begun with. From then on the configuration is in the database: "+
			"console, gull config.",
		b.HostName,
	)
	line(
		"\nservice:\n  host_name: %s\n  postmaster: %s\n  default_sender_domain: %s",
		b.HostName,
		b.Postmaster,
		b.Domain,
	)
	if b.Authority != "" {
		line(
			"  certificate_authority: {directory: %q, contact: [%s], agreed: true}",
			b.Authority,
			b.Postmaster,
		)
	}
	origin := "by_hand"
	if b.Authority != "" {
		origin = "authority"
	}
	line("\ncertificates:\n  - {name: mail, names: [%s], from: %s}", b.HostName, origin)
	line("\nlisteners:")
	for _, l := range []struct {
		name, kind, tls string
		port            int
	}{
		{"edge", Edge, "starttls", 25},
		{"submission", Submission, "required", 587},
		{"submission over TLS", Submission, "implicit", 465},
		{"imap over TLS", IMAP, "implicit", 993},
		{"pop3 over TLS", POP3, "implicit", 995},
	} {
		line(
			"  - {name: %s, address: %q, kind: %s, tls: %s, certificate: kept:mail}",
			l.name,
			at(l.port),
			l.kind,
			l.tls,
		)
	}
	if len(b.Networks) > 0 {
		line(
			"  - {name: inside, address: %q, kind: inside, allow: [%s]}",
			at(2525),
			quoted(b.Networks),
		)
	}
	line("\ndomains:\n  - {name: %s, kind: local, plus_addressing: true}", b.Domain)
	line("\nrelay_rules:")
	if len(b.Networks) > 0 {
		line("  - {name: our machines, networks: [%s], listeners: [inside], action: allow}",
			quoted(b.Networks))
	}
	line("  - {name: our people, accounts: [%s], own_sender: true, action: allow}", b.Domain)
	line("\nroutes:")
	if b.Smarthost != "" {
		line(
			"  - {name: by provider, recipients: [\"*\"], next_hop: smarthost, hosts: [%q]}",
			b.Smarthost,
		)
	} else {
		line("  - {name: to the world, recipients: [\"*\"], next_hop: mx}")
	}
	line("\nmailboxes:\n  - {address: %s, name: Postmaster}", b.Postmaster)
	return out.String()
}

func quoted(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = fmt.Sprintf("%q", s)
	}
	return strings.Join(out, ", ")
}
