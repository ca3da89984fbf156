// Package resolve asks DNS where a domain's mail goes (RFC 5321 section 5.1,
// RFC 7505) and keeps the answers as long as they may be kept.
package resolve

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/diagnose"
)

// Failure is why a domain or host has no usable answer.
type Failure struct {
	Cause     diagnose.Cause
	Permanent bool
	Enhanced  string // of RFC 3463 and RFC 7505
	Text      string
}

// Error is the text.
func (f *Failure) Error() string { return f.Text }

// Host is a mail host of a domain.
type Host struct {
	Name       string
	Preference uint16
	Implicit   bool // the domain itself, for want of an MX
}

// Bounds on the cache.
const (
	maxEntries  = 10_000
	maxTTL      = time.Hour
	negativeTTL = 30 * time.Second // where no SOA says it
	maxNegative = 5 * time.Minute  // what a zone may say of what is not there (RFC 2308 section 5)
	maxChain    = 8                // CNAME records followed
)

// Resolver asks a set of servers. It is safe for several goroutines.
type Resolver struct {
	servers []string
	family  string // both, ipv4 or ipv6
	udp     *dns.Client
	tcp     *dns.Client

	mu    sync.Mutex
	cache map[question]answer

	// When a server last answered anything, and when none did: nanoseconds of the
	// Unix time.
	answered, silent atomic.Int64
}

// silentFor is how long a resolver that answered nothing counts as down.
const silentFor = 5 * time.Minute

// Down reports that no server answered the last time one was asked.
func (r *Resolver) Down() bool {
	silent := r.silent.Load()
	return silent > r.answered.Load() && time.Since(time.Unix(0, silent)) < silentFor
}

// Current is the resolver in force.
type Current struct{ atomic.Pointer[Resolver] }

// MX asks the resolver in force.
func (c *Current) MX(ctx context.Context, domain string) ([]Host, error) {
	return c.Load().MX(ctx, domain)
}

// Addrs asks the resolver in force.
func (c *Current) Addrs(ctx context.Context, host string) ([]netip.Addr, error) {
	return c.Load().Addrs(ctx, host)
}

// Records asks the resolver in force.
func (c *Current) Records(ctx context.Context, name string, kind uint16) ([]dns.RR, error) {
	return c.Load().Records(ctx, name, kind)
}

// Validates asks the resolver in force.
func (c *Current) Validates(ctx context.Context, name string, kind uint16) bool {
	return c.Load().Validates(ctx, name, kind)
}

type question struct {
	name string
	kind uint16
}

type answer struct {
	msg   *dns.Msg
	until time.Time
}

// New makes a resolver; no servers means those of the system.
func New(servers []netip.AddrPort, family string) *Resolver {
	r := &Resolver{
		family: family,
		udp:    &dns.Client{Net: "udp", Timeout: 3 * time.Second, UDPSize: 1232},
		tcp:    &dns.Client{Net: "tcp", Timeout: 5 * time.Second},
		cache:  map[question]answer{},
	}
	for _, s := range servers {
		r.servers = append(r.servers, s.String())
	}
	if len(r.servers) == 0 {
		if sys, err := dns.ClientConfigFromFile("/etc/resolv.conf"); err == nil {
			for _, s := range sys.Servers {
				r.servers = append(r.servers, netJoin(s, sys.Port))
			}
		}
	}
	return r
}

// Each is a resolver of each server by itself.
func (r *Resolver) Each() (list []*Resolver) {
	for _, s := range r.servers {
		one := New([]netip.AddrPort{{}}, r.family)
		one.servers = []string{s}
		list = append(list, one)
	}
	return list
}

// At is the first server's address.
func (r *Resolver) At() string {
	if len(r.servers) == 0 {
		return ""
	}
	return r.servers[0]
}

func netJoin(host, port string) string {
	if strings.Contains(host, ":") {
		return "[" + host + "]:" + port
	}
	return host + ":" + port
}

// MX finds the hosts of a domain in the order in which they are tried: by
// preference, those of equal preference shuffled. A domain without MX is its
// own host. The error is a *Failure.
func (r *Resolver) MX(ctx context.Context, domain string) ([]Host, error) {
	msg, err := r.ask(ctx, domain, dns.TypeMX)
	if err != nil {
		return nil, err
	}
	if msg.Rcode == dns.RcodeNameError && r.lies(ctx) {
		return nil, &Failure{
			diagnose.DNSTrouble,
			false,
			"4.4.3",
			"DNS says that " + domain + " does not exist, and says the same of the root of all " +
				"domains: it is not to be trusted now",
		}
	}
	if msg.Rcode == dns.RcodeNameError {
		return nil, &Failure{
			diagnose.NoSuchDomain,
			true,
			"5.1.2",
			"the domain " + domain + " does not exist in DNS",
		}
	}
	var hosts []Host
	for _, rr := range msg.Answer {
		if mx, ok := rr.(*dns.MX); ok {
			hosts = append(hosts, Host{
				Name:       strings.ToLower(strings.TrimSuffix(mx.Mx, ".")),
				Preference: mx.Preference,
			})
		}
	}
	if len(hosts) == 1 && hosts[0].Name == "" {
		return nil, &Failure{
			diagnose.NoMail,
			true,
			"5.1.10",
			"the domain " + domain + " says by its null MX that it takes no mail (RFC 7505)",
		}
	}
	hosts = slices.DeleteFunc(hosts, func(h Host) bool { return h.Name == "" })
	if len(hosts) == 0 {
		return []Host{{Name: domain, Implicit: true}}, nil
	}
	rand.Shuffle(len(hosts), func(i, j int) { hosts[i], hosts[j] = hosts[j], hosts[i] })
	slices.SortStableFunc(hosts,
		func(a, b Host) int { return int(a.Preference) - int(b.Preference) })
	return hosts, nil
}

// Records are the records of one type at a name, those behind a CNAME too. The
// error is a *Failure; NoSuchDomain means that the name does not exist.
func (r *Resolver) Records(ctx context.Context, name string, kind uint16) ([]dns.RR, error) {
	msg, err := r.ask(ctx, name, kind)
	if err != nil {
		return nil, err
	}
	if msg.Rcode == dns.RcodeNameError {
		return nil, &Failure{
			diagnose.NoSuchDomain,
			true,
			"5.1.2",
			"the name " + name + " does not exist in DNS",
		}
	}
	var out []dns.RR
	for _, rr := range msg.Answer {
		if rr.Header().Rrtype == kind {
			out = append(out, rr)
		}
	}
	return out, nil
}

// Validates reports whether the servers say that they checked an answer by DNSSEC
// (the AD bit, RFC 6840 section 5.8).
func (r *Resolver) Validates(ctx context.Context, name string, kind uint16) bool {
	msg, err := r.ask(ctx, name, kind)
	return err == nil && msg.AuthenticatedData
}

// lies reports a resolver that says of everything that it does not exist: it
// denies the root, which always is. Mail must not be bounced on its word.
func (r *Resolver) lies(ctx context.Context) bool {
	msg, err := r.ask(ctx, ".", dns.TypeNS)
	return err == nil && msg.Rcode == dns.RcodeNameError
}

// Addrs finds the addresses of a host, of the families that we use. The error
// is a *Failure.
func (r *Resolver) Addrs(ctx context.Context, host string) ([]netip.Addr, error) {
	if ip, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{ip}, nil
	}
	kinds := map[string][]uint16{"ipv4": {dns.TypeA}, "ipv6": {dns.TypeAAAA}, "both": {dns.TypeAAAA,
		dns.TypeA}}[r.family]
	var addrs []netip.Addr
	var trouble error
	for _, kind := range kinds {
		msg, err := r.ask(ctx, host, kind)
		if err != nil {
			trouble = err
			continue
		}
		for _, rr := range msg.Answer {
			switch rr := rr.(type) {
			case *dns.A:
				if ip, ok := netip.AddrFromSlice(rr.A.To4()); ok {
					addrs = append(addrs, ip)
				}
			case *dns.AAAA:
				if ip, ok := netip.AddrFromSlice(rr.AAAA.To16()); ok {
					addrs = append(addrs, ip)
				}
			}
		}
	}
	if len(addrs) > 0 {
		return addrs, nil
	}
	if trouble != nil {
		return nil, trouble
	}
	return nil, &Failure{
		diagnose.NoAddress,
		false,
		"4.4.4",
		fmt.Sprintf("the host %s has no %s in DNS", host, familyWords[r.family]),
	}
}

var familyWords = map[string]string{
	"ipv4": "IPv4 address",
	"ipv6": "IPv6 address",
	"both": "address",
}

// ask answers from the cache or from servers, and follows the CNAME records at whose end a server
// stopped: not every one follows them to another zone.
func (r *Resolver) ask(ctx context.Context, name string, kind uint16) (*dns.Msg, error) {
	msg, err := r.askOne(ctx, name, kind)
	if err != nil {
		return nil, err
	}
	secure, chain := msg.AuthenticatedData, slices.Clone(msg.Answer)
	for range maxChain {
		next := chainEnd(name, kind, chain)
		if next == "" || denied(msg) != nil {
			return msg, nil
		}
		more, err := r.askOne(ctx, next, kind)
		if err != nil {
			return nil, err
		}
		chain, secure = append(chain, more.Answer...), secure && more.AuthenticatedData
		whole := *more
		whole.Answer, whole.AuthenticatedData = chain, secure
		if msg = &whole; len(more.Answer) == 0 {
			return msg, nil
		}
	}
	return nil, &Failure{diagnose.DNSTrouble, false, "4.4.3",
		fmt.Sprintf("the CNAME records of %s go on for more than %d steps", name, maxChain)}
}

// chainEnd is the name to which CNAME records lead that is not answered; "" if there is none.
func chainEnd(name string, kind uint16, answer []dns.RR) string {
	if kind == dns.TypeCNAME {
		return ""
	}
	at, moved := dns.CanonicalName(name), false
	for range len(answer) + 1 {
		step := ""
		for _, rr := range answer {
			if dns.CanonicalName(rr.Header().Name) != at {
				continue
			}
			if rr.Header().Rrtype == kind {
				return ""
			}
			if c, ok := rr.(*dns.CNAME); ok {
				step = dns.CanonicalName(c.Target)
			}
		}
		if step == "" {
			break
		}
		at, moved = step, true
	}
	if !moved {
		return ""
	}
	return strings.TrimSuffix(at, ".")
}

// denied is the SOA record by which a server says that what was asked for is not there (RFC 2308).
func denied(msg *dns.Msg) *dns.SOA {
	for _, rr := range msg.Ns {
		if soa, ok := rr.(*dns.SOA); ok {
			return soa
		}
	}
	return nil
}

// askOne answers from the cache or from a server.
func (r *Resolver) askOne(ctx context.Context, name string, kind uint16) (*dns.Msg, error) {
	q := question{strings.ToLower(name), kind}
	now := time.Now()
	r.mu.Lock()
	known, ok := r.cache[q]
	r.mu.Unlock()
	if ok && now.Before(known.until) {
		return known.msg, nil
	}
	msg, err := r.query(ctx, q)
	if err != nil {
		return nil, err
	}
	r.keep(q, msg, now)
	return msg, nil
}

func (r *Resolver) query(ctx context.Context, q question) (*dns.Msg, error) {
	m := new(dns.Msg)
	m.SetQuestion(dns.Fqdn(q.name), q.kind)
	m.SetEdns0(1232, false)
	m.AuthenticatedData = true // tell whether it was checked (RFC 6840 section 5.7)
	err := errors.New("no DNS server is set")
	heard := false
	for _, server := range r.servers {
		var msg *dns.Msg
		msg, _, err = r.udp.ExchangeContext(ctx, m, server)
		if err == nil {
			r.answered.Store(time.Now().UnixNano())
			heard = true
		}
		if err == nil && msg.Truncated {
			msg, _, err = r.tcp.ExchangeContext(ctx, m, server)
		}
		if err == nil && (msg.Rcode == dns.RcodeSuccess || msg.Rcode == dns.RcodeNameError) {
			return msg, nil
		}
		if err == nil {
			err = fmt.Errorf("%s answers %s", server, dns.RcodeToString[msg.Rcode])
		}
		if ctx.Err() != nil {
			break
		}
	}
	if !heard && !errors.Is(ctx.Err(), context.Canceled) {
		r.silent.Store(time.Now().UnixNano())
	}
	return nil, &Failure{
		diagnose.DNSTrouble,
		false,
		"4.4.3",
		fmt.Sprintf("DNS gives no answer for %s %s: %v", q.name, dns.TypeToString[q.kind], err),
	}
}

func (r *Resolver) keep(q question, msg *dns.Msg, now time.Time) {
	ttl := negativeTTL
	soa := denied(msg)
	if soa != nil {
		ttl = min(maxNegative, time.Duration(min(soa.Hdr.Ttl, soa.Minttl))*time.Second)
	}
	if len(msg.Answer) > 0 {
		if soa == nil {
			ttl = maxTTL
		}
		for _, rr := range msg.Answer {
			ttl = min(ttl, time.Duration(rr.Header().Ttl)*time.Second)
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.cache) >= maxEntries {
		for old := range r.cache { // any one: maps are ranged in random order
			delete(r.cache, old)
			break
		}
	}
	r.cache[q] = answer{msg, now.Add(ttl)}
}
