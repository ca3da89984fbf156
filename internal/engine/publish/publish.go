// Package publish changes records at DNS servers that take changes (dynamic update, RFC 2136),
// signed with a key (TSIG, RFC 8945), and asks until the world sees them.
package publish

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/config"
	"gullroute/internal/core/publish"
	"gullroute/internal/engine/resolve"
)

// exchangeTime bounds one question to a server.
const exchangeTime = 5 * time.Second

// ErrChanged reports records that are no longer what they were.
var ErrChanged = errors.New("the records were changed meanwhile by somebody else")

// Server is a DNS server with its key.
type Server struct {
	*config.DNSServer
	Zone string
	Key  string // base64
}

// Current asks the server itself what stands at a name.
func (s Server) Current(
	ctx context.Context,
	name, kind string,
) (values []string, ttl uint32, err error) {
	return ask(ctx, s.Address, name, kind)
}

func ask(
	ctx context.Context,
	at netip.AddrPort,
	name, kind string,
) (values []string, ttl uint32, err error) {
	m := new(dns.Msg)
	m.SetQuestion(dns.Fqdn(name), dns.StringToType[kind])
	m.RecursionDesired = false
	c := dns.Client{Net: "tcp", Timeout: exchangeTime}
	reply, _, err := c.ExchangeContext(ctx, m, at.String())
	if err != nil {
		return nil, 0, fmt.Errorf("the DNS server %s does not answer: %w", at, err)
	}
	if reply.Rcode != dns.RcodeSuccess && reply.Rcode != dns.RcodeNameError {
		return nil, 0, fmt.Errorf("the DNS server %s says %s when asked for %s %s", at,
			dns.RcodeToString[reply.Rcode], name, kind)
	}
	values = []string{}
	for _, rr := range reply.Answer {
		if h := rr.Header(); dns.TypeToString[h.Rrtype] == kind && strings.EqualFold(h.Name,
			dns.Fqdn(name)) {
			values, ttl = append(values, plain(rr)), h.Ttl
		}
	}
	slices.Sort(values)
	return values, ttl, nil
}

// plain is the data of a record in plain form.
func plain(rr dns.RR) string {
	if txt, ok := rr.(*dns.TXT); ok {
		return resolve.Text(txt)
	}
	data := strings.TrimPrefix(rr.String(), rr.Header().String())
	return strings.ToLower(strings.TrimSuffix(data, "."))
}

// Update puts the records of one name and type in order. It is refused if what stands there is
// no longer what the change began from.
func (s Server) Update(ctx context.Context, c publish.RecordChange, ttl uint32) error {
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(s.Zone))
	kind := dns.StringToType[c.Type]
	before, err := records(c.Name, c.Type, c.Before, 0)
	if err != nil {
		return err
	}
	if len(before) > 0 {
		m.Used(before)
	} else {
		m.RRsetNotUsed([]dns.RR{&dns.ANY{Hdr: dns.RR_Header{Name: dns.Fqdn(c.Name), Rrtype: kind}}})
	}
	removed, err := records(c.Name, c.Type, c.Removed, ttl)
	if err != nil {
		return err
	}
	added, err := records(c.Name, c.Type, c.Added, ttl)
	if err != nil {
		return err
	}
	m.Remove(removed)
	m.Insert(added)
	name, algorithm := dns.Fqdn(string(s.KeyName)), dns.Fqdn(s.Algorithm)
	m.SetTsig(name, algorithm, 300, time.Now().Unix())
	client := dns.Client{
		Net:        "tcp",
		Timeout:    exchangeTime,
		TsigSecret: map[string]string{name: s.Key},
	}
	reply, _, err := client.ExchangeContext(ctx, m, s.Address.String())
	switch {
	case reply != nil && reply.Rcode == dns.RcodeNotAuth:
		return fmt.Errorf(
			"the DNS server %s does not know the key %s, or not for the zone %s (NOTAUTH): "+
				"compare its name, algorithm and secret, and the clocks",
			s.Name,
			s.KeyName,
			s.Zone,
		)
	case err != nil:
		var unanswered net.Error
		if errors.As(err, &unanswered) {
			return fmt.Errorf("the DNS server %s does not answer: %w", s.Name, err)
		}
		return fmt.Errorf("the DNS server %s: %w", s.Name, err)
	case reply.Rcode == dns.RcodeYXRrset || reply.Rcode == dns.RcodeNXRrset ||
		reply.Rcode == dns.RcodeYXDomain || reply.Rcode == dns.RcodeNameError:
		return ErrChanged
	case reply.Rcode == dns.RcodeRefused:
		return fmt.Errorf("the DNS server %s refuses changes of %s by the key %s (REFUSED)", s.Name,
			c.Name, s.KeyName)
	case reply.Rcode != dns.RcodeSuccess:
		return fmt.Errorf("the DNS server %s says %s", s.Name, dns.RcodeToString[reply.Rcode])
	}
	return nil
}

// records writes values in plain form as records.
func records(name, kind string, values []string, ttl uint32) ([]dns.RR, error) {
	out := make([]dns.RR, 0, len(values))
	for _, v := range values {
		rr, err := dns.NewRR(fmt.Sprintf("%s %d IN %s %s", dns.Fqdn(name), ttl, kind,
			publish.Data(kind, v)))
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", name, kind, err)
		}
		out = append(out, rr)
	}
	return out, nil
}

// Seen is which servers of the zone show a change.
type Seen struct {
	Asked, Show int
	Missing     []string // that do not show it, with why
}

// pollEvery is the wait between two rounds of questions.
const pollEvery = 300 * time.Millisecond

// Await asks the zone's servers until all show the change or the time is over.
func (s Server) Await(
	ctx context.Context,
	r *resolve.Resolver,
	c publish.RecordChange,
	atMost time.Duration,
) Seen {
	end := time.Now().Add(atMost)
	servers := s.servers(ctx, r)
	want := slices.Sorted(slices.Values(c.After))
	for {
		seen := Seen{Asked: len(servers)}
		for _, at := range servers {
			values, _, err := ask(ctx, at, c.Name, c.Type)
			switch {
			case err != nil:
				seen.Missing = append(seen.Missing, err.Error())
			case !slices.Equal(values, want):
				seen.Missing = append(seen.Missing, at.String()+" does not show it yet")
			default:
				seen.Show++
			}
		}
		if seen.Show == seen.Asked || time.Now().After(end) || ctx.Err() != nil {
			return seen
		}
		select {
		case <-ctx.Done():
		case <-time.After(pollEvery):
		}
	}
}

// maxServers bounds how many of a zone's servers are asked.
const maxServers = 8

// servers are those of the zone: the one that took the change, its copies, and those that the zone
// names.
func (s Server) servers(ctx context.Context, r *resolve.Resolver) []netip.AddrPort {
	out := append([]netip.AddrPort{s.Address}, s.Copies...)
	names, err := r.Records(ctx, s.Zone, dns.TypeNS)
	if err != nil {
		return out
	}
	for _, rr := range names {
		ns, ok := rr.(*dns.NS)
		if !ok {
			continue
		}
		addrs, _ := r.Addrs(ctx, strings.TrimSuffix(ns.Ns, "."))
		for _, a := range addrs {
			known := slices.ContainsFunc(out, func(o netip.AddrPort) bool { return o.Addr() == a })
			if !known && len(out) < maxServers {
				out = append(out, netip.AddrPortFrom(a, 53))
			}
		}
	}
	return out
}
