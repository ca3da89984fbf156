package main

import (
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"

	"gullroute/internal/core/config"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/policies"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/simnet"
)

// policyConfig sends by the MX of a domain in a simulated internet.
const policyConfig = `
service:
  host_name: mail.skerryline.example
  postmaster: keeper@skerryline.example
  resolvers: ["%s"]
  address_family: ipv4
  mx_port: %d
  policy_port: %d
  tls_policies: {mta_sts: %s, dane: %s}
listeners:
  - {name: inside, address: "127.0.0.1:0", kind: inside}
domains:
  - {name: skerryline.example, kind: local}
relay_rules:
  - {name: all here, networks: [127.0.0.0/8], action: allow}
routes:
  - {name: out, recipients: ["*"], next_hop: mx, connections: 20, messages_per_connection: 100}
mailboxes:
  - {address: keeper@skerryline.example}
`

// policed measures relaying to a domain with an enforced policy (MTA-STS) and records of its
// host's certificate in signed DNS, which are kept after the first connection, against the same
// mail over TLS to the same host while no policy is heeded.
func (b *bench) policed() ([]result, error) {
	var with, without []float64
	for range b.rounds {
		for _, heeded := range []bool{false, true} {
			rate, err := b.policedOnce(messages/2, heeded)
			if err != nil {
				return nil, err
			}
			if heeded {
				with = append(with, rate)
			} else {
				without = append(without, rate)
			}
		}
	}
	v, base, ratios := median(with, without)
	return []result{{"relay over TLS, policies of the domain kept", "policies ignored", v, base,
		"messages/s", v / base, ratios, ">= 0.95", v/base >= 0.95}}, nil
}

func (b *bench) policedOnce(n int, heeded bool) (float64, error) {
	ports := make([]int, 2)
	for i, ip := range []string{sinkAddress, "127.0.0.1"} {
		l, err := net.Listen("tcp", ip+":0")
		if err != nil {
			return 0, err
		}
		ports[i] = l.Addr().(*net.TCPAddr).Port
		l.Close()
	}
	ca, err := os.CreateTemp("", "gull-bench-ca-")
	if err != nil {
		return 0, err
	}
	ca.Close()
	defer os.Remove(ca.Name())
	defer os.Remove(ca.Name() + ".key")
	const host = "mx.saltmarsh.example"
	sea, err := simnet.Start(simnet.Options{
		World: &simnet.World{
			Domains: []simnet.Domain{{Name: "saltmarsh.example", MX: []string{"10 " + host}, Signed: true,
				Policy: &simnet.STSPolicy{Mode: "enforce", MX: []string{host}}}},
			Hosts: []simnet.Spec{{Name: host, Address: sinkAddress, DANE: "yes",
				Behaviour: simnet.Behaviour{TLS: "valid", Forgets: true}}},
		},
		DNS: "127.0.0.1:0", Port: ports[0], Policy: fmt.Sprintf("127.0.0.1:%d", ports[1]),
		Control: "127.0.0.1:0", CAFile: ca.Name(),
	})
	if err != nil {
		return 0, err
	}
	defer sea.Close()
	sts, dane := config.Ignored, config.Ignored
	if heeded {
		sts, dane = "heeded", config.ByResolver
	}
	text := fmt.Sprintf(policyConfig, sea.DNS, ports[0], ports[1], sts, dane)
	c, err := config.Parse([]byte(text))
	if err != nil {
		return 0, err
	}
	compiled := config.Compile(c, 1, nil)
	roots := x509.NewCertPool()
	pem, err := os.ReadFile(ca.Name())
	if err != nil || !roots.AppendCertsFromPEM(pem) {
		return 0, fmt.Errorf("the simulated authority's certificate: %v", err)
	}
	resolver := &resolve.Current{}
	resolver.Store(resolve.New([]netip.AddrPort{netip.MustParseAddrPort(sea.DNS)}, "ipv4"))
	keep := &policies.Keeper{Resolver: resolver, Roots: roots, Log: slog.New(slog.DiscardHandler),
		Config: func() *config.Compiled { return compiled }}
	st, id, err := b.fresh()
	if err != nil {
		return 0, err
	}
	defer st.Close()
	nd, err := startNodeAs(text, st, id, true, nil, deliver.Options{Roots: roots, Resolver: resolver,
		Policies: keep})
	if err != nil {
		return 0, err
	}
	defer nd.stop()
	rate, err := b.relayed(nd, n)
	if err != nil {
		return 0, err
	}
	if heeded && keep.STS(b.ctx, "saltmarsh.example") == nil {
		return 0, fmt.Errorf("the policy was not found")
	}
	if d := keep.DANE(b.ctx, "saltmarsh.example", host, ports[0]); heeded && !d.Secure {
		return 0, fmt.Errorf("the records of the certificate were not found: %+v", d)
	}
	return rate, nil
}
