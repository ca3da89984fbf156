package insight

import (
	"context"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/publish"
	"gullroute/internal/core/readiness"
	core "gullroute/internal/core/senderauth"
	"gullroute/internal/core/tlsterms"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/policies"
	"gullroute/internal/engine/receive"
	"gullroute/internal/engine/resolve"
	asking "gullroute/internal/engine/senderauth"
	"gullroute/internal/inforce"
	"gullroute/internal/insight/snags"
	"gullroute/internal/store"
)

// readinessTime bounds a check of one domain.
const readinessTime = 60 * time.Second

// Keys are those that sign.
type Keys interface {
	List(ctx context.Context, domain string) ([]mail.DKIMKey, error)
	CheckKey(ctx context.Context, domain, selector string) (mail.DKIMKey, error)
}

// Readiness looks at our domains as the world sees them, and keeps what it saw.
type Readiness struct {
	Store    store.Readiness
	Snags    store.Snags
	Troubles *snags.Keeper
	Keys     Keys
	InForce  *inforce.State
	Receive  *receive.Server
	Roots    *x509.CertPool
	Feedback *Feedback
}

// Look looks at one of our domains as the world sees it, now.
func (s *Readiness) Look(ctx context.Context, domain string) (readiness.Readiness, error) {
	cfg := s.InForce.Config()
	d := cfg.Domain(domain)
	if d == nil {
		return readiness.Readiness{}, fault.Input(
			"domain: %s is not among our domains; gull probe checks others",
			address.DisplayDomain(domain),
		)
	}
	ctx, cancel := context.WithTimeout(ctx, readinessTime)
	defer cancel()
	l := looker{
		on:  s,
		cfg: cfg,
		r:   s.InForce.FreshResolver(),
		f:   readiness.Facts{Domain: domain, Kind: d.Kind, HostName: string(cfg.Service.HostName)},
	}
	if l.f.Postmaster = "postmaster@" + domain; d.Kind == config.Relay {
		l.f.Postmaster = cfg.Service.Postmaster.String()
	}
	l.f.ReportsTo = l.f.Postmaster
	if at := cfg.Service.Feedback.Address; at != nil {
		l.f.ReportsTo = at.String()
	}
	l.ourselves(ctx)
	var both sync.WaitGroup
	both.Go(func() { l.hosts(ctx) })
	both.Go(func() { l.sending(ctx) })
	both.Wait()
	return readiness.Judge(l.f, time.Now()), ctx.Err()
}

// looker gathers the facts of a domain.
type looker struct {
	on  *Readiness
	cfg *config.Compiled
	r   *resolve.Resolver
	f   readiness.Facts
}

// ourselves finds our addresses and their names.
func (l *looker) ourselves(ctx context.Context) {
	addrs, err := l.addrs(ctx, l.f.HostName)
	l.f.HostAddrs = addrs
	if l.f.Ours = l.cfg.Service.Addresses; len(l.f.Ours) == 0 {
		l.f.Ours = addrs
	}
	if err != nil {
		l.f.OursError = err.Error()
	}
	names := []string{l.f.HostName}
	for i := range l.cfg.Routes {
		r := &l.cfg.Routes[i]
		for _, ip := range r.Sources() {
			if !slices.Contains(l.f.Ours, ip) && len(l.cfg.Service.Addresses) == 0 {
				l.f.Ours = append(l.f.Ours, ip)
			}
		}
		if n := string(r.EHLOName); n != "" && !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	l.f.EHLONames, l.f.EHLO = names, map[string][]netip.Addr{}
	for _, n := range names {
		l.f.EHLO[n], _ = l.addrs(ctx, n)
	}
	for _, a := range l.f.Ours {
		n := readiness.Names{Addr: a}
		if n.Confirmed, n.Others, err = asking.Names(ctx, l.r, a); err != nil {
			n.Error = err.Error()
		}
		l.f.Names = append(l.f.Names, n)
	}
}

// addrs are the addresses of a name, of both families. No such name is no error.
func (l *looker) addrs(ctx context.Context, name string) ([]netip.Addr, error) {
	var out []netip.Addr
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		rrs, err := l.r.Records(ctx, name, kind)
		if err != nil {
			return out, notGone(err)
		}
		for _, rr := range rrs {
			switch rr := rr.(type) {
			case *dns.A:
				a, _ := netip.AddrFromSlice(rr.A.To4())
				out = append(out, a)
			case *dns.AAAA:
				a, _ := netip.AddrFromSlice(rr.AAAA.To16())
				out = append(out, a)
			}
		}
	}
	return out, nil
}

// notGone is an error of DNS, but for a name that does not exist.
func notGone(err error) error {
	var f *resolve.Failure
	if errors.As(err, &f) && f.Cause == diagnose.NoSuchDomain {
		return nil
	}
	return err
}

// hosts finds the MX hosts, and connects to them.
func (l *looker) hosts(ctx context.Context) {
	rrs, err := l.r.Records(ctx, l.f.Domain, dns.TypeMX)
	if err = notGone(err); err != nil {
		l.f.MXError = err.Error()
		return
	}
	for _, rr := range rrs {
		mx := rr.(*dns.MX)
		name := strings.ToLower(strings.TrimSuffix(mx.Mx, "."))
		if name == "" {
			l.f.NullMX = true
			continue
		}
		l.f.Hosts = append(l.f.Hosts, readiness.Host{Name: name, Preference: int(mx.Preference)})
	}
	if l.f.NoMX = len(rrs) == 0; l.f.NoMX {
		if addrs, _ := l.addrs(ctx, l.f.Domain); len(addrs) > 0 {
			l.f.Hosts = []readiness.Host{{Name: l.f.Domain}}
		}
	}
	slices.SortFunc(l.f.Hosts, func(a, b readiness.Host) int { return a.Preference - b.Preference })
	var all sync.WaitGroup
	for i := range l.f.Hosts[:min(len(l.f.Hosts), deliver.MaxProbes)] {
		all.Go(func() { l.host(ctx, &l.f.Hosts[i]) })
	}
	all.Wait()
}

func (l *looker) host(ctx context.Context, h *readiness.Host) {
	if _, err := netip.ParseAddr(h.Name); err == nil {
		h.Literal = true
		return
	}
	if rrs, err := l.r.Records(ctx, h.Name, dns.TypeCNAME); err == nil && len(rrs) > 0 {
		h.CNAME = strings.TrimSuffix(rrs[0].(*dns.CNAME).Target, ".")
		return
	}
	addrs, err := l.addrs(ctx, h.Name)
	if err != nil || len(addrs) == 0 {
		if h.Error = "it has no address in DNS"; err != nil {
			h.Error = err.Error()
		}
		return
	}
	h.Addrs = addrs
	h.Ours = strings.EqualFold(h.Name, l.f.HostName)
	for _, a := range addrs {
		h.Ours = h.Ours || slices.Contains(l.f.Ours, a)
	}
	l.connect(ctx, h)
}

// connect goes as far as TLS with a host.
func (l *looker) connect(ctx context.Context, h *readiness.Host) {
	h.Tried = true
	r := &config.Route{NextHop: config.HopMX, TLS: "offered"}
	client := deliver.NewClient(l.cfg, deliver.Options{Roots: l.on.Roots, Resolver: l.r})
	seen := client.Probe(ctx, r, l.f.Domain,
		deliver.Target{Host: h.Name, Port: l.cfg.Service.MXPort}, h.Addrs[0],
		deliver.ProbeOrder{Began: time.Now(), Dialled: l.on.Receive.Dialled})
	for _, s := range seen.Steps {
		switch {
		case s.Name == "hello" && s.Result == "pass":
			h.Reached = true
		case s.Name == "tls" && s.Result == "pass":
			h.TLS = true
		case s.Name == "certificate":
			h.Verified = s.Result == "pass" || strings.Contains(s.Says, "ends soon")
			if h.TLSTrouble, _, _ = strings.Cut(
				strings.TrimPrefix(s.Says, "the certificate does not verify: "),
				"; with TLS",
			); len(s.Certificates) > 0 {
				h.Until = s.Certificates[0].Until
				h.DANE = l.dane(ctx, h.Name, s.Chain)
			}
		case s.Result == "fail" && !h.Reached:
			h.Trouble = s.Says
		}
	}
}

// dane compares the TLSA records of a host with the certificate it shows.
func (l *looker) dane(ctx context.Context, host string, chain []*x509.Certificate) *readiness.DANE {
	name := fmt.Sprintf("_%d._tcp.%s", l.cfg.Service.MXPort, host)
	rrs, err := l.r.Records(ctx, name, dns.TypeTLSA)
	if err != nil || len(rrs) == 0 {
		return nil
	}
	out := &readiness.DANE{Records: len(rrs), Validated: l.r.Validates(ctx, name, dns.TypeTLSA)}
	for _, rr := range rrs {
		out.Matches = out.Matches || fits(rr.(*dns.TLSA), chain)
	}
	return out
}

// fits reports whether a TLSA record is about a chain (RFC 6698 section 2.1; usages 2
// and 3 count for mail, RFC 7672 section 3.1).
func fits(t *dns.TLSA, chain []*x509.Certificate) bool {
	data, err := hex.DecodeString(t.Certificate)
	if err != nil {
		return false
	}
	record := tlsterms.TLSA{
		Usage:    t.Usage,
		Selector: t.Selector,
		Matching: t.MatchingType,
		Data:     data,
	}
	if len(tlsterms.Usable([]tlsterms.TLSA{record})) == 0 {
		return false
	}
	if t.Usage == 3 {
		chain = chain[:min(len(chain), 1)]
	}
	return slices.ContainsFunc(chain, record.Matches)
}

// sending gathers what concerns messages from the domain.
func (l *looker) sending(ctx context.Context) {
	f := &l.f
	var err error
	if f.SPF.Records, err = asking.SPFRecords(ctx, l.r, f.Domain); err != nil &&
		len(f.SPF.Records) == 0 {
		var gone *net.DNSError
		if !errors.As(err, &gone) || !gone.IsNotFound {
			f.SPF.Error = err.Error()
		}
	}
	f.SPF.Results = map[netip.Addr]core.SPF{}
	for _, a := range f.Ours {
		f.SPF.Results[a] = asking.SPF(ctx, l.r, a, f.HostName,
			address.Address{Local: "postmaster", Domain: f.Domain})
	}
	if len(f.SPF.Records) == 1 {
		f.SPF.Tree = asking.Tree(ctx, l.r, f.Domain, f.SPF.Records[0])
	}
	if f.Keys, err = l.on.Keys.List(ctx, f.Domain); err == nil {
		for i := range f.Keys {
			if k, err := l.on.Keys.CheckKey(ctx, f.Domain, f.Keys[i].Selector); err == nil {
				f.Keys[i] = k
			}
		}
	}
	f.DMARC = asking.DMARC(ctx, l.r, f.Domain)
	if w := f.DMARC.Record; w != nil {
		f.DMARCText = l.text(ctx, w.At, "v=DMARC1")
	}
	if l.on.Feedback != nil {
		f.Evidence, _ = l.on.Feedback.Evidence(ctx, f.Domain)
	}
	f.TLSReports = l.text(ctx, "_smtp._tls."+f.Domain, "v=TLSRPTv1")
	l.sts(ctx)
	l.programs(ctx)
	l.lists(ctx)
	l.smartHosts()
}

// text is the first TXT record of a name that begins as it should.
func (l *looker) text(ctx context.Context, name, begins string) string {
	texts, _ := asking.TXT(ctx, l.r, name)
	for _, t := range texts {
		if strings.HasPrefix(t, begins) {
			return t
		}
	}
	return ""
}

// services are the names of services by kind of listener, without TLS from the start and with
// it (RFC 6186, 8314).
var services = map[string][2]string{
	config.IMAP:       {"_imap._tcp", "_imaps._tcp"},
	config.POP3:       {"_pop3._tcp", "_pop3s._tcp"},
	config.Submission: {"_submission._tcp", "_submissions._tcp"},
}

// programs finds where DNS leads mail programs.
func (l *looker) programs(ctx context.Context) {
	for i := range l.cfg.Listeners {
		listener := &l.cfg.Listeners[i]
		names, known := services[listener.Kind]
		if !known || listener.TLS == config.TLSOff {
			continue
		}
		s := readiness.Service{Name: names[0], Host: string(listener.GreetingName),
			Port: int(listener.Address.Port())}
		if listener.TLS == config.TLSImplicit {
			s.Name = names[1]
		}
		if listener.Kind == config.POP3 {
			s.Priority = 10
		}
		rrs, err := l.r.Records(ctx, s.Name+"."+l.f.Domain, dns.TypeSRV)
		if err = notGone(err); err != nil {
			s.Error = err.Error()
		}
		for _, rr := range rrs {
			if srv, is := rr.(*dns.SRV); is && srv.Target != "." {
				s.Found = append(
					s.Found,
					fmt.Sprintf("%s %d", strings.TrimSuffix(strings.ToLower(srv.Target), "."),
						srv.Port),
				)
			}
		}
		l.f.Services = append(l.f.Services, s)
	}
}

// sts asks for the policy that the domain publishes, as others ask.
func (l *looker) sts(ctx context.Context) {
	s := &l.f.STS
	s.Own, _ = config.PolicyOf(l.cfg, l.f.Domain)
	if s.Record = l.text(ctx, "_mta-sts."+l.f.Domain, "v=STSv1"); s.Record == "" {
		return
	}
	from := policies.Fetcher{Addrs: l.addrs, Port: l.cfg.Service.PolicyPort, Roots: l.on.Roots}
	p, err := from.Fetch(ctx, l.f.Domain)
	if err != nil {
		s.Error = err.Error()
		return
	}
	s.Mode, s.MX = p.Mode, p.MX
}

// lists asks DNS block lists for our addresses (RFC 5782 section 2.1).
func (l *looker) lists(ctx context.Context) {
	for _, list := range l.cfg.Service.BlockLists {
		for _, a := range l.f.Ours {
			one := readiness.Listing{List: string(list), Addr: a}
			name := strings.TrimSuffix(strings.TrimSuffix(publish.Reverse(a), ".in-addr.arpa"),
				".ip6.arpa") + "." + string(list)
			rrs, err := l.r.Records(ctx, name, dns.TypeA)
			if err = notGone(err); err != nil {
				one.Error = err.Error()
			}
			for _, rr := range rrs {
				one.Listed = true
				one.Reason = rr.(*dns.A).A.String()
			}
			if one.Listed {
				if texts, _ := asking.TXT(ctx, l.r, name); len(texts) > 0 {
					one.Reason = fmt.Sprintf("%.300s", texts[0])
				}
			}
			l.f.Lists = append(l.f.Lists, one)
		}
	}
}

// smartHosts are those by which the domain's messages to the world leave: its own
// way out, or the first route that takes more than single domains.
func (l *looker) smartHosts() {
	from := address.Address{Local: "postmaster", Domain: l.f.Domain}
	way := l.cfg.Route(l.cfg.Domain(l.f.Domain).Outgoing)
	for i := range l.cfg.Routes {
		r := &l.cfg.Routes[i]
		_, sends := r.Senders.Match(from)
		if way == nil && !r.Off && (sends || len(r.Senders) == 0) &&
			slices.ContainsFunc(r.Recipients, func(p address.Pattern) bool { return !p.Exact() }) {
			way = r
		}
	}
	if way != nil && way.NextHop == config.HopSmartHost {
		l.f.SmartHosts = way.Hosts
	}
}

// readyEvery is how often every domain is looked at.
const readyEvery = 6 * time.Hour

// Watch looks at every domain, puts it on record, and opens a trouble
// where something that was right no longer is. One node does it at a time.
func (s *Readiness) Watch(ctx context.Context) error {
	due, err := s.Store.ReadinessDue(ctx, time.Now().Add(-readyEvery))
	if err != nil || !due {
		return err
	}
	for _, d := range s.InForce.Config().Domains {
		if _, err := s.Check(ctx, string(d.Name)); err != nil {
			return err
		}
	}
	return nil
}

// Check looks at a domain and puts it on record.
func (s *Readiness) Check(ctx context.Context, domain string) (readiness.Readiness, error) {
	r, err := s.Look(ctx, domain)
	if err != nil {
		return r, err
	}
	before, err := s.Store.ReadinessHistory(ctx, domain)
	if err != nil {
		return r, err
	}
	broken := before.Note(r)
	if err := s.Store.SetReadiness(ctx, r, before); err != nil {
		return r, err
	}
	if len(broken) > 0 {
		s.Troubles.Ready(domain,
			mail.LastReply{Stage: diagnose.StageDNS, Host: domain, Text: strings.Join(broken, " ")},
			time.Now())
	} else {
		err = s.Snags.EndSnag(ctx, diagnose.NotReady, domain, "what was wrong is right again",
			time.Now())
	}
	return r, err
}

// All is what was last seen of every domain.
func (s *Readiness) All(ctx context.Context) ([]readiness.Readiness, error) {
	return s.Store.AllReadiness(ctx)
}

// History is what was seen of a domain, and when it changed.
func (s *Readiness) History(ctx context.Context, domain string) (*readiness.Looks, error) {
	return s.Store.ReadinessHistory(ctx, domain)
}
