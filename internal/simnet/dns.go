package simnet

import (
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"
)

// nameServer answers for the whole simulated internet, over UDP and TCP.
type nameServer struct {
	mu      sync.RWMutex
	records map[string][]dns.RR // by lower-case name with the last dot
	broken  map[string]bool
	signed  []string // names with the last dot, for which and below which signatures were checked
	servers []*dns.Server
	mode    atomic.Pointer[string] // of how it answers at all
	updates *Updates
}

// The ways in which a name server can be in trouble.
const (
	dnsWell  = ""
	dnsDown  = "down"  // says nothing
	dnsSlow  = "slow"  // answers after a while
	dnsLying = "lying" // nothing exists
)

// slowAnswer is how long a slow name server takes.
const slowAnswer = 1500 * time.Millisecond

const recordTTL = 60

func newNameServer(w *World) (*nameServer, error) {
	ns := &nameServer{records: map[string][]dns.RR{}, broken: map[string]bool{}, updates: w.Updates}
	well := dnsWell
	ns.mode.Store(&well)
	if err := ns.add(". %d IN NS a.root.example.", recordTTL); err != nil {
		return nil, err
	}
	for _, h := range w.Hosts {
		if err := ns.add("%s. %d IN A %s", h.Name, recordTTL, h.Address); err != nil {
			return nil, err
		}
		reverse, _ := dns.ReverseAddr(h.Address)
		if err := ns.add("%s %d IN PTR %s.", reverse, recordTTL, h.Name); err != nil {
			return nil, err
		}
	}
	for _, d := range w.Domains {
		name := dns.Fqdn(strings.ToLower(d.Name))
		ns.broken[name] = d.Broken
		if d.Signed {
			ns.signed = append(ns.signed, name)
		}
		if _, ok := ns.records[name]; !ok {
			ns.records[name] = nil
		}
		if d.NullMX {
			d.MX = []string{"0 ."}
		}
		for _, mx := range d.MX {
			if err := ns.add("%s %d IN MX %s", name, recordTTL, dns.Fqdn(mx)); err != nil {
				return nil, err
			}
		}
		for _, a := range d.A {
			if err := ns.add("%s %d IN A %s", name, recordTTL, a); err != nil {
				return nil, err
			}
		}
	}
	for _, line := range w.Records {
		rr, err := parseRecord(line)
		if err != nil {
			return nil, fmt.Errorf("simnet: %w", err)
		}
		ns.publish(rr, false)
	}
	return ns, nil
}

func (ns *nameServer) add(format string, args ...any) error {
	rr, err := dns.NewRR(fmt.Sprintf(format, args...))
	if err != nil {
		return fmt.Errorf("simnet: DNS record: %w", err)
	}
	name := strings.ToLower(rr.Header().Name)
	ns.records[name] = append(ns.records[name], rr)
	return nil
}

// above reports whether there is something below a name: then it exists, without
// records (RFC 8020).
func (ns *nameServer) above(name string) bool {
	ns.mu.RLock()
	defer ns.mu.RUnlock()
	for known := range ns.records {
		if strings.HasSuffix(known, "."+name) {
			return true
		}
	}
	return false
}

// checked reports a name whose answers are signed.
func (ns *nameServer) checked(name string) bool {
	name = strings.ToLower(name)
	return slices.ContainsFunc(ns.signed, func(zone string) bool {
		return name == zone || strings.HasSuffix(name, "."+zone)
	})
}

// listen opens both transports at one address and returns it.
func (ns *nameServer) listen(address string) (string, error) {
	tcp, err := net.Listen("tcp", address)
	if err != nil {
		return "", err
	}
	udp, err := net.ListenPacket("udp", tcp.Addr().String())
	if err != nil {
		tcp.Close()
		return "", err
	}
	for _, s := range []*dns.Server{{Listener: tcp, Handler: ns}, {PacketConn: udp, Handler: ns}} {
		if ns.updates != nil {
			s.TsigSecret = map[string]string{dns.Fqdn(ns.updates.Key): ns.updates.Secret}
			s.MsgAcceptFunc = acceptUpdates
		}
		ns.servers = append(ns.servers, s)
		go func() { _ = s.ActivateAndServe() }()
	}
	return tcp.Addr().String(), nil
}

func (ns *nameServer) close() {
	for _, s := range ns.servers {
		_ = s.Shutdown()
	}
}

// ServeDNS answers one question.
func (ns *nameServer) ServeDNS(w dns.ResponseWriter, q *dns.Msg) {
	mode := *ns.mode.Load()
	switch mode {
	case dnsDown:
		return
	case dnsSlow:
		time.Sleep(slowAnswer)
	}
	if q.Opcode == dns.OpcodeUpdate {
		ns.serveUpdate(w, q)
		return
	}
	m := new(dns.Msg)
	m.SetReply(q)
	m.Authoritative = true
	m.AuthenticatedData = len(q.Question) == 1 && q.AuthenticatedData &&
		ns.checked(q.Question[0].Name)
	if len(q.Question) == 1 {
		name := strings.ToLower(q.Question[0].Name)
		ns.mu.RLock()
		records, known := ns.records[name]
		ns.mu.RUnlock()
		if !known && ns.above(name) {
			records, known = nil, true
		}
		switch {
		case mode == dnsLying:
			m.Rcode = dns.RcodeNameError
		case ns.broken[name]:
			m.Rcode = dns.RcodeServerFailure
		case !known:
			m.Rcode = dns.RcodeNameError
		}
		for _, rr := range records {
			same := rr.Header().Rrtype == q.Question[0].Qtype || rr.Header().Rrtype == dns.TypeCNAME
			if same && m.Rcode == dns.RcodeSuccess {
				m.Answer = append(m.Answer, rr)
			}
		}
	}
	if _, ok := w.RemoteAddr().(*net.UDPAddr); ok {
		size := dns.MinMsgSize
		if opt := q.IsEdns0(); opt != nil {
			size = int(opt.UDPSize())
		}
		m.Truncate(size)
	}
	_ = w.WriteMsg(m)
}
