package resolve

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/diagnose"
)

// zone is a DNS server with a few records; it counts what it is asked.
type zone struct {
	records map[string][]string // by name
	asked   atomic.Int32
	lies    bool // denies even the root
}

// ServeDNS answers; names that begin with "fail" fail, large answers over UDP
// are truncated.
func (z *zone) ServeDNS(w dns.ResponseWriter, q *dns.Msg) {
	if q.Question[0].Name == "." && !z.lies { // the root always is
		m := new(dns.Msg)
		_ = w.WriteMsg(m.SetReply(q))
		return
	}
	z.asked.Add(1)
	m := new(dns.Msg)
	m.SetReply(q)
	name := q.Question[0].Name
	records, ok := z.records[name]
	switch {
	case strings.HasPrefix(name, "fail"):
		m.Rcode = dns.RcodeServerFailure
	case !ok:
		m.Rcode = dns.RcodeNameError
	}
	for _, r := range records {
		rr, err := dns.NewRR(name + " 60 IN " + r)
		if err == nil && (rr.Header().Rrtype == q.Question[0].Qtype || rr.Header().Rrtype == dns.TypeCNAME) {
			m.Answer = append(m.Answer, rr)
		}
		if err == nil && rr.Header().Rrtype == dns.TypeSOA && len(m.Answer) == 0 {
			m.Ns = append(m.Ns, rr)
		}
	}
	if _, udp := w.RemoteAddr().(*net.UDPAddr); udp {
		m.Truncate(512)
	}
	_ = w.WriteMsg(m)
}

func serve(t *testing.T, z *zone) netip.AddrPort {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p, err := net.ListenPacket("udp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range []*dns.Server{{Listener: l, Handler: z}, {PacketConn: p, Handler: z}} {
		go func() { _ = s.ActivateAndServe() }()
		t.Cleanup(func() { _ = s.Shutdown() })
	}
	return netip.MustParseAddrPort(l.Addr().String())
}

func many(n int) []string {
	var out []string
	for i := range n {
		out = append(out, fmt.Sprintf("MX 10 host-number-%d.with.a.long.name.example.", i))
	}
	return out
}

func TestMXOrderAndItsSpecialCases(t *testing.T) {
	z := &zone{records: map[string][]string{
		"order.example.": {"MX 20 c.example.", "MX 10 A.example.", "MX 10 b.example."},
		"null.example.":  {"MX 0 ."},
		"mixed.example.": {"MX 0 .", "MX 10 a.example."},
		"none.example.":  {"A 127.0.0.1"},
		"large.example.": many(60),
	}}
	r := New([]netip.AddrPort{serve(t, z)}, "both")
	ctx := context.Background()
	firsts := map[string]bool{}
	for range 40 {
		hosts, err := r.MX(ctx, "order.example")
		if err != nil || len(hosts) != 3 || hosts[2].Name != "c.example" {
			t.Fatalf("%+v %v", hosts, err)
		}
		firsts[hosts[0].Name] = true
	}
	if len(firsts) != 2 {
		t.Errorf("hosts of equal preference are not shuffled: %v", firsts)
	}
	if n := z.asked.Load(); n != 1 {
		t.Errorf("the answer was asked for %d times", n)
	}
	if hosts, err := r.MX(ctx,
		"none.example"); err != nil || len(hosts) != 1 || !hosts[0].Implicit ||
		hosts[0].Name != "none.example" {
		t.Errorf("no MX: %+v %v", hosts, err)
	}
	if hosts, err := r.MX(ctx, "mixed.example"); err != nil || len(hosts) != 1 || hosts[0].Name != "a.example" {
		t.Errorf("a null MX beside another is no null MX: %+v %v", hosts, err)
	}
	if hosts, err := r.MX(ctx, "large.example"); err != nil || len(hosts) != 60 {
		t.Errorf("a truncated answer must be asked for over TCP: %d hosts, %v", len(hosts), err)
	}
	for domain, want := range map[string]Failure{
		"null.example":  {Cause: diagnose.NoMail, Permanent: true, Enhanced: "5.1.10"},
		"gone.example":  {Cause: diagnose.NoSuchDomain, Permanent: true, Enhanced: "5.1.2"},
		"fail.example":  {Cause: diagnose.DNSTrouble, Permanent: false, Enhanced: "4.4.3"},
		"fail2.example": {Cause: diagnose.DNSTrouble, Permanent: false, Enhanced: "4.4.3"},
	} {
		_, err := r.MX(ctx, domain)
		var f *Failure
		if !errors.As(err, &f) || f.Cause != want.Cause || f.Permanent != want.Permanent ||
			f.Enhanced != want.Enhanced ||
			!strings.Contains(f.Text, domain) {
			t.Errorf("%s: %+v", domain, err)
		}
	}
}

func TestTheAddressFamilyIsASetting(t *testing.T) {
	z := &zone{records: map[string][]string{
		"both.example.": {
			"A 127.0.0.1",
			"AAAA 2001:db8::1",
		},
		"four.example.":  {"A 127.0.0.1"},
		"empty.example.": {"TXT \"x\""},
	}}
	server := serve(t, z)
	for _, c := range []struct{ family, host, want string }{
		{"both", "both.example", "2001:db8::1 127.0.0.1"}, {"ipv4", "both.example", "127.0.0.1"}, {"ipv6",
			"both.example", "2001:db8::1"},
		{"both", "four.example", "127.0.0.1"}, {"ipv6", "four.example",
			"the host four.example has no IPv6 address in DNS"},
		{"both", "empty.example", "the host empty.example has no address in DNS"}, {"both", "192.0.2.7",
			"192.0.2.7"},
	} {
		addrs, err := New([]netip.AddrPort{server}, c.family).Addrs(context.Background(), c.host)
		var got []string
		for _, a := range addrs {
			got = append(got, a.String())
		}
		if err != nil {
			got = []string{err.Error()}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s by %s: %v", c.host, c.family, got)
		}
	}
}

func TestASecondServerIsAskedWhenTheFirstFails(t *testing.T) {
	good := &zone{records: map[string][]string{"a.example.": {"MX 10 mx.example."}}}
	dead, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	deadAddress := netip.MustParseAddrPort(dead.LocalAddr().String())
	dead.Close()
	r := New([]netip.AddrPort{deadAddress, serve(t, good)}, "both")
	if hosts, err := r.MX(context.Background(), "a.example"); err != nil || len(hosts) != 1 {
		t.Errorf("%+v %v", hosts, err)
	}
	r = New([]netip.AddrPort{deadAddress}, "both")
	if _, err := r.MX(context.Background(), "a.example"); err == nil || !strings.Contains(err.Error(),
		"refused") {
		t.Errorf("a dead resolver: %v", err)
	}
}

func TestAResolverThatDeniesEverythingIsNotBelieved(t *testing.T) {
	r := New([]netip.AddrPort{serve(t, &zone{lies: true})}, "ipv4")
	_, err := r.MX(context.Background(), "saltmarsh.example")
	var f *Failure
	if !errors.As(err, &f) || f.Permanent || f.Cause != diagnose.DNSTrouble ||
		!strings.Contains(f.Text, "not to be trusted") {
		t.Errorf("%+v", err)
	}
}

// TestAResolverThatSaysNothingIsDown asks one that is there and answers nothing.
func TestAResolverThatSaysNothingIsDown(t *testing.T) {
	deaf, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer deaf.Close()
	r := New([]netip.AddrPort{netip.MustParseAddrPort(deaf.LocalAddr().String())}, "both")
	if r.Down() {
		t.Error("it was not asked yet")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer cancel()
	if _, err := r.MX(ctx, "saltmarsh.example"); err == nil || !r.Down() {
		t.Errorf("%v, down %v", err, r.Down())
	}
}

// A server may answer with the CNAME alone: what it leads to is asked for.
func TestAliasesInDNSAreFollowed(t *testing.T) {
	z := &zone{records: map[string][]string{
		"mx.saltmarsh.example.":   {"CNAME host.provider.example."},
		"host.provider.example.":  {"CNAME n1.provider.example."},
		"n1.provider.example.":    {"A 127.30.0.10"},
		"saltmarsh.example.":      {"CNAME other.example."},
		"other.example.":          {"MX 10 n1.provider.example."},
		"round.example.":          {"CNAME about.example."},
		"about.example.":          {"CNAME round.example."},
		"leads-nowhere.example.":  {"CNAME nobody.example."},
		"leads-to-empty.example.": {"CNAME empty.example."},
		"empty.example.":          {"TXT nothing"},
		"quiet.example.":          {"SOA ns.example. keeper.example. 1 7200 3600 1209600 1"},
	}}
	r := New([]netip.AddrPort{serve(t, z)}, "ipv4")
	ctx := context.Background()
	if a, err := r.Addrs(ctx, "mx.saltmarsh.example"); err != nil || len(a) != 1 || a[0].String() != "127.30.0.10" {
		t.Errorf("through two aliases: %v %v", a, err)
	}
	if h, err := r.MX(ctx, "saltmarsh.example"); err != nil || h[0].Name != "n1.provider.example" {
		t.Errorf("the MX of another name: %v %v", h, err)
	}
	for name, cause := range map[string]diagnose.Cause{"round.example": diagnose.DNSTrouble,
		"leads-nowhere.example": diagnose.NoAddress, "leads-to-empty.example": diagnose.NoAddress} {
		var f *Failure
		if a, err := r.Addrs(ctx, name); !errors.As(err, &f) || f.Cause != cause {
			t.Errorf("%s: %v %v", name, a, err)
		}
	}
	before := z.asked.Load()
	for range 3 {
		_, _ = r.Addrs(ctx, "quiet.example")
	}
	if n := z.asked.Load() - before; n != 1 {
		t.Errorf("what is not there was asked for %d times", n)
	}
	time.Sleep(1100 * time.Millisecond) // as long as its zone says
	if _, _ = r.Addrs(ctx, "quiet.example"); z.asked.Load()-before != 2 {
		t.Error("it is not asked for again when its zone says so")
	}
}
