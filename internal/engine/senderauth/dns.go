// Package senderauth asks who a message is really from: SPF, DKIM and DMARC of what
// comes in; and signs what goes out.
package senderauth

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strings"

	"github.com/miekg/dns"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/engine/resolve"
)

// Resolver answers questions of DNS; *resolve.Resolver is one. No such name is a
// *resolve.Failure with cause NoSuchDomain.
type Resolver interface {
	Records(ctx context.Context, name string, kind uint16) ([]dns.RR, error)
}

// asker puts a Resolver in the form in which evaluation asks.
type asker struct{ Resolver }

// dnsError turns a failure into the one that net makes of it.
func dnsError(name string, err error) error {
	var f *resolve.Failure
	if errors.As(err, &f) && f.Cause == diagnose.NoSuchDomain {
		return &net.DNSError{Err: "no such host", Name: name, IsNotFound: true}
	}
	return &net.DNSError{Err: err.Error(), Name: name, IsTemporary: true}
}

// LookupTXT is each TXT record of a name, its strings put together.
func (a asker) LookupTXT(ctx context.Context, name string) ([]string, error) {
	out, err := TXT(ctx, a, name)
	if err != nil {
		return nil, dnsError(name, err)
	}
	return out, nil
}

// TXT is the TXT records of a name, each in one piece. No such name is a
// *resolve.Failure with cause NoSuchDomain.
func TXT(ctx context.Context, r Resolver, name string) ([]string, error) {
	rrs, err := r.Records(ctx, name, dns.TypeTXT)
	var out []string
	for _, rr := range rrs {
		out = append(out, resolve.Text(rr.(*dns.TXT)))
	}
	return out, err
}

// LookupMX is the MX records of a name.
func (a asker) LookupMX(ctx context.Context, name string) ([]*net.MX, error) {
	rrs, err := a.Records(ctx, name, dns.TypeMX)
	if err != nil {
		return nil, dnsError(name, err)
	}
	var out []*net.MX
	for _, rr := range rrs {
		mx := rr.(*dns.MX)
		out = append(out, &net.MX{Host: mx.Mx, Pref: mx.Preference})
	}
	return out, nil
}

// LookupIPAddr is the addresses of a name, of both families.
func (a asker) LookupIPAddr(ctx context.Context, name string) ([]net.IPAddr, error) {
	var out []net.IPAddr
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		rrs, err := a.Records(ctx, name, kind)
		if err != nil {
			return nil, dnsError(name, err)
		}
		for _, rr := range rrs {
			switch rr := rr.(type) {
			case *dns.A:
				out = append(out, net.IPAddr{IP: rr.A})
			case *dns.AAAA:
				out = append(out, net.IPAddr{IP: rr.AAAA})
			}
		}
	}
	return out, nil
}

// LookupAddr is the names of an address.
func (a asker) LookupAddr(ctx context.Context, address string) ([]string, error) {
	reverse, err := dns.ReverseAddr(address)
	if err != nil {
		return nil, err
	}
	rrs, err := a.Records(ctx, reverse, dns.TypePTR)
	if err != nil {
		return nil, dnsError(address, err)
	}
	var out []string
	for _, rr := range rrs {
		out = append(out, rr.(*dns.PTR).Ptr)
	}
	return out, nil
}

// Names are the names of an address that lead back to it (RFC 8601 section 2.7.3,
// iprev), and those that do not.
func Names(ctx context.Context, r Resolver, ip netip.Addr) (confirmed, others []string, err error) {
	names, err := asker{r}.LookupAddr(ctx, ip.String())
	if err != nil {
		var f *net.DNSError
		if errors.As(err, &f) && f.IsNotFound {
			err = nil
		}
		return nil, nil, err
	}
	const most = 10 // RFC 7208 section 4.6.4
	for _, name := range names[:min(len(names), most)] {
		back := false
		addrs, _ := asker{r}.LookupIPAddr(ctx, strings.TrimSuffix(name, "."))
		for _, a := range addrs {
			known, _ := netip.AddrFromSlice(a.IP)
			back = back || known.Unmap() == ip.Unmap()
		}
		if name = strings.TrimSuffix(name, "."); back {
			confirmed = append(confirmed, name)
		} else {
			others = append(others, name)
		}
	}
	return confirmed, others, nil
}
