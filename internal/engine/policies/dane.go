package policies

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"

	"github.com/miekg/dns"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/tlsterms"
	"gullroute/internal/engine/resolve"
)

// DANE is what signed DNS says of the certificate of a host to which a domain's mail goes (RFC
// 7672 section 2.2): nothing, unless the answers on the whole way were checked by our resolver,
// which is believed because it runs on this machine.
func (k *Keeper) DANE(ctx context.Context, domain, host string, port int) tlsterms.DANE {
	if k.Config().Service.TLSPolicies.DANE != config.ByResolver {
		return tlsterms.DANE{}
	}
	if !k.Resolver.Validates(ctx, domain, dns.TypeMX) || !k.signedAddress(ctx, host) {
		return tlsterms.DANE{}
	}
	name := fmt.Sprintf("_%d._tcp.%s", port, host)
	rrs, err := k.Resolver.Records(ctx, name, dns.TypeTLSA)
	if err != nil {
		var f *resolve.Failure
		if errors.As(err, &f) && f.Cause == diagnose.NoSuchDomain {
			return tlsterms.DANE{}
		}
		return tlsterms.DANE{Fault: err.Error()}
	}
	d := tlsterms.DANE{Secure: k.Resolver.Validates(ctx, name, dns.TypeTLSA)}
	for _, rr := range rrs {
		if t, ok := rr.(*dns.TLSA); ok {
			data, err := hex.DecodeString(t.Certificate)
			if err == nil {
				d.Records = append(d.Records, tlsterms.TLSA{Usage: t.Usage, Selector: t.Selector,
					Matching: t.MatchingType, Data: data})
			}
		}
	}
	return d
}

func (k *Keeper) signedAddress(ctx context.Context, host string) bool {
	return k.Resolver.Validates(ctx, host, dns.TypeA) ||
		k.Resolver.Validates(ctx, host, dns.TypeAAAA)
}
