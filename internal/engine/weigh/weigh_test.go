package weigh

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/config"
	"gullroute/internal/core/form"
	"gullroute/internal/core/repute"
	"gullroute/internal/engine/resolve"
)

// zones is a name server with lists; names under slow. are answered late, under dead. never.
type zones struct {
	mu      sync.Mutex
	listed  map[string]bool
	counted map[string]int
	at      netip.AddrPort
}

func (z *zones) set(name string, is bool) { z.mu.Lock(); z.listed[name] = is; z.mu.Unlock() }

func (z *zones) ServeDNS(w dns.ResponseWriter, q *dns.Msg) {
	name := strings.TrimSuffix(strings.ToLower(q.Question[0].Name), ".")
	z.mu.Lock()
	z.counted[name]++
	listed := z.listed[name]
	z.mu.Unlock()
	switch {
	case strings.Contains(name, "dead."):
		return
	case strings.Contains(name, "slow."):
		time.Sleep(700 * time.Millisecond)
	}
	m := new(dns.Msg)
	m.SetReply(q)
	if !listed {
		m.Rcode = dns.RcodeNameError
	} else if q.Question[0].Qtype == dns.TypeA {
		rr, _ := dns.NewRR(name + ". 60 IN A 127.0.0.2")
		m.Answer = append(m.Answer, rr)
	}
	_ = w.WriteMsg(m)
}

func weigher(t *testing.T, lists ...repute.DNSList) (*Weigher, *zones, *[]string) {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	z := &zones{listed: map[string]bool{}, counted: map[string]int{}}
	for i := range lists {
		l := &lists[i]
		l.Name, l.Kind, l.Points = string(l.Zone), cmpOr(l.Kind, repute.Block), 40
		z.set("2.0.0.127."+string(l.Zone), true)
		z.set("test."+string(l.Zone), true)
	}
	server := &dns.Server{PacketConn: conn, Handler: z}
	go func() { _ = server.ActivateAndServe() }()
	t.Cleanup(func() { _ = server.Shutdown() })
	r := &resolve.Current{}
	z.at = netip.MustParseAddrPort(conn.LocalAddr().String())
	r.Store(resolve.New([]netip.AddrPort{z.at}, "ipv4"))
	told := &[]string{}
	var mu sync.Mutex
	return &Weigher{
		Resolver: r,
		Config:   func() *config.Compiled { return &config.Compiled{Config: &config.Config{DNSLists: lists}} },
		Trouble: func(with, text string, _ time.Time) {
			mu.Lock()
			defer mu.Unlock()
			*told = append(*told, with+": "+text)
		},
	}, z, told
}

func cmpOr(a, b string) string {
	if a == "" {
		return b
	}
	return a
}

func list(zone string, asks ...string) repute.DNSList {
	return repute.DNSList{Zone: form.DomainName(zone), Asks: asks}
}

func TestListsAreAskedAtTheSameTimeAndRemembered(t *testing.T) {
	w, z, _ := weigher(
		t,
		list("a.example"),
		list("b.slow.example"),
		list("c.slow.example"),
		list("names.example", "from", "links"),
	)
	z.set("65.0.30.127.a.example", true)
	z.set("1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.a.example", true)
	z.set("undertow.example.names.example", true)
	ctx := context.Background()
	began := time.Now()
	all := w.Everything(ctx, "127.30.0.65")
	// Each slow list is asked for two test entries and the client, one behind the other.
	if took := time.Since(began); took > 4*700*time.Millisecond {
		t.Errorf("lists are asked one after the other: %s", took)
	}
	if len(all) != 3 || !all[0].Listed || all[1].Listed || all[1].Trouble != "" {
		t.Errorf("the lists say %+v", all)
	}
	if all := w.Everything(ctx, "2001:db8::1"); !all[0].Listed {
		t.Errorf("of an IPv6 address: %+v", all)
	}
	both := w.Domains(
		ctx,
		"edge",
		[]string{"undertow.example"},
		[]string{"undertow.example", "saltmarsh.example"},
	)
	listed := 0
	for _, l := range both {
		if l.Listed {
			listed++
		}
	}
	if listed != 1 {
		t.Errorf("one list counts %d times: %+v", listed, both)
	}

	const rounds = 2000
	began = time.Now()
	for range rounds {
		w.Everything(ctx, "127.30.0.65")
	}
	each := time.Since(began) / rounds / 3
	if each > 20*time.Microsecond*slower {
		t.Errorf("what is known takes %s a list", each)
	}
	if n := z.counted["65.0.30.127.a.example"]; n > 2 { // its address and its text
		t.Errorf("a list was asked %d times", n)
	}
}

func TestAColdAnswerDelaysNobodyElse(t *testing.T) {
	w, _, _ := weigher(t, list("cold.slow.example"), list("warm.example"))
	ctx := context.Background()
	w.Everything(ctx, "127.0.0.9")
	var cold sync.WaitGroup
	for i := range 20 {
		cold.Go(func() { w.Everything(ctx, fmt.Sprintf("127.1.0.%d", i)) })
	}
	time.Sleep(50 * time.Millisecond)
	began := time.Now()
	if all := w.Everything(ctx, "127.0.0.9"); len(all) != 2 || time.Since(began) > 100*time.Millisecond {
		t.Errorf("what is known waits for what is not: %s", time.Since(began))
	}
	cold.Wait()
}

func TestAListThatIsNoneIsTakenOut(t *testing.T) {
	w, z, told := weigher(
		t,
		list("yes.example"),
		list("missing.example"),
		list("silent.dead.example"),
		list("good.example"),
	)
	z.set("1.0.0.127.yes.example", true)
	z.set("5.0.0.127.yes.example", true)
	z.set("2.0.0.127.missing.example", false)
	z.set("5.0.0.127.good.example", true)
	ctx := context.Background()
	if err := w.Round(ctx); err != nil {
		t.Fatal(err)
	}
	for _, l := range w.Everything(ctx, "127.0.0.5") {
		if good := l.List == "good.example"; l.Listed != good || (l.Trouble == "") != good {
			t.Errorf("%+v", l)
		}
	}
	for _, words := range []string{"yes.example", "missing.example", "silent.dead.example"} {
		if !strings.Contains(strings.Join(*told, "\n"), "DNS list "+words) {
			t.Errorf("nobody is told of %s: %q", words, *told)
		}
	}
	if s := w.States(); s[0].Trouble == "" || s[3].Trouble != "" || s[3].Checked == nil {
		t.Errorf("states: %+v", s)
	}
	z.set("1.0.0.127.yes.example", false) // it is put right
	w.Resolver.Store(resolve.New([]netip.AddrPort{z.at}, "ipv4"))
	h := w.healthOf(&w.Config().DNSLists[0])
	h.mu.Lock()
	h.checked = h.checked.Add(-2 * deadEvery)
	h.mu.Unlock()
	if err := w.Round(ctx); err != nil {
		t.Fatal(err)
	}
	if l := w.Everything(ctx, "127.0.0.5")[0]; l.Trouble != "" || !l.Listed {
		t.Errorf("a list that is one again: %+v", l)
	}
}

// One zone may be set up as several lists that count different answers.
func TestListsOfOneZoneCountTheirOwnAnswers(t *testing.T) {
	two, four := list("zone.example"), list("zone.example")
	two.Answers = []netip.Prefix{netip.MustParsePrefix("127.0.0.2/32")}
	four.Answers = []netip.Prefix{netip.MustParsePrefix("127.0.0.4/32")}
	w, z, _ := weigher(t, two, four)
	z.set("5.0.0.127.zone.example", true) // 127.0.0.2
	for range 2 {                         // asked, and remembered
		if all := w.Everything(context.Background(), "127.0.0.5"); !all[0].Listed || all[1].Listed {
			t.Errorf("%+v", all)
		}
	}
}

func TestGreetingsAndNames(t *testing.T) {
	w, _, _ := weigher(t)
	settings := &repute.Settings{Points: repute.Points{NoReverseName: 1, FalseGreeting: 1}}
	c := w.Client(
		context.Background(),
		settings,
		Facts{Client: netip.MustParseAddr("127.9.9.9"), Helo: "nowhere.example"},
	)
	if c.NameState != repute.NameNone || !strings.Contains(c.Greeting, "does not exist") {
		t.Errorf("%+v", c)
	}
}
