package simnet

import (
	"context"
	"crypto/x509"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Inside is a simulated internet within the process, without sockets: what is
// dialled is a pipe. It needs nothing of the machine, so that time in it may be
// virtual.
type Inside struct {
	world  *World
	shared *Net
	ca     *authority
	// Latency is how long connecting takes.
	Latency time.Duration
	hosts   map[netip.Addr]*host

	mu    sync.Mutex
	dials map[string][]time.Time // by host's name
}

// NewInside makes the hosts of a world.
func NewInside(w *World) (*Inside, error) {
	ca, err := newAuthority("")
	if err != nil {
		return nil, err
	}
	n := &Inside{
		world:  w,
		shared: &Net{},
		ca:     ca,
		hosts:  map[netip.Addr]*host{},
		dials:  map[string][]time.Time{},
	}
	for _, spec := range w.Hosts {
		h := &host{
			spec:     spec,
			net:      n.shared,
			certs:    ca,
			firstTry: map[string]time.Time{},
			tries:    map[string]int{},
		}
		if err := h.setBehaviour(spec.Behaviour); err != nil {
			return nil, err
		}
		n.hosts[netip.MustParseAddr(spec.Address)] = h
	}
	return n, nil
}

// Dial connects to a host.
func (n *Inside) Dial(
	_ context.Context,
	_ netip.Addr,
	to netip.AddrPort,
	_ time.Duration,
) (net.Conn, error) {
	h := n.hosts[to.Addr()]
	if h == nil {
		return nil, &net.OpError{
			Op:  "dial",
			Err: os.NewSyscallError("connect", syscall.EHOSTUNREACH),
		}
	}
	n.mu.Lock()
	n.dials[h.spec.Name] = append(n.dials[h.spec.Name], time.Now())
	n.mu.Unlock()
	if h.behaviour().Closed {
		return nil, &net.OpError{
			Op:  "dial",
			Err: os.NewSyscallError("connect", syscall.ECONNREFUSED),
		}
	}
	time.Sleep(n.Latency)
	ours, theirs := net.Pipe()
	h.serve(theirs)
	return ours, nil
}

// Dials are the times at which a host was dialled.
func (n *Inside) Dials(host string) []time.Time {
	n.mu.Lock()
	defer n.mu.Unlock()
	return append([]time.Time(nil), n.dials[host]...)
}

// Stats is what a host saw.
func (n *Inside) Stats(host string) Stats {
	for _, h := range n.hosts {
		if h.spec.Name == host {
			h.mu.Lock()
			defer h.mu.Unlock()
			return h.stats
		}
	}
	return Stats{}
}

// Hosts are the mail hosts that the world's DNS names for a domain.
func (n *Inside) Hosts(domain string) []string {
	for _, d := range n.world.Domains {
		if d.Name != domain {
			continue
		}
		var hosts []string
		for _, mx := range d.MX {
			_, name, _ := strings.Cut(mx, " ")
			hosts = append(hosts, name)
		}
		return hosts
	}
	return nil
}

// Addr is a host's address.
func (n *Inside) Addr(name string) (netip.Addr, bool) {
	for a, h := range n.hosts {
		if h.spec.Name == name {
			return a, true
		}
	}
	if d := n.domain(name); d != nil && len(d.A) > 0 {
		a, err := netip.ParseAddr(d.A[0])
		return a, err == nil
	}
	return netip.Addr{}, false
}

// domain is a name of the world's DNS, nil if it has none.
func (n *Inside) domain(name string) *Domain {
	for i := range n.world.Domains {
		if n.world.Domains[i].Name == name {
			return &n.world.Domains[i]
		}
	}
	return nil
}

// NullMX reports a domain that says that it takes no mail (RFC 7505).
func (n *Inside) NullMX(domain string) bool {
	d := n.domain(domain)
	return d != nil && d.NullMX
}

// Broken reports a domain whose DNS fails.
func (n *Inside) Broken(domain string) bool {
	d := n.domain(domain)
	return d != nil && d.Broken
}

// Roots are what the hosts' certificates are verified by.
func (n *Inside) Roots() *x509.CertPool {
	pool := x509.NewCertPool()
	pool.AddCert(n.ca.cert)
	return pool
}

// Password is that of a smart host.
func (n *Inside) Password(host string) string {
	for _, h := range n.hosts {
		if strings.HasPrefix(h.spec.Name, host) {
			return h.spec.Password
		}
	}
	return ""
}

// Change lets a host behave in another way from now on.
func (n *Inside) Change(host string, change func(*Behaviour)) error {
	for _, h := range n.hosts {
		if h.spec.Name == host {
			b := h.behaviour()
			change(&b)
			return h.setBehaviour(b)
		}
	}
	return fmt.Errorf("there is no host %s", host)
}

// SendBackBy says how hosts that send messages back reach us.
func (n *Inside) SendBackBy(dial func(from netip.Addr) (net.Conn, error)) {
	n.shared.dialEdge = dial
}
