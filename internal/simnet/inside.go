package simnet

import (
	"context"
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
	world *World
	hosts map[netip.Addr]*host

	mu    sync.Mutex
	dials map[string][]time.Time // by host's name
}

// NewInside makes the hosts of a world.
func NewInside(w *World) (*Inside, error) {
	ca, err := newAuthority()
	if err != nil {
		return nil, err
	}
	n := &Inside{world: w, hosts: map[netip.Addr]*host{}, dials: map[string][]time.Time{}}
	for _, spec := range w.Hosts {
		h := &host{spec: spec, net: &Net{}, certs: ca, firstTry: map[string]time.Time{}, tries: map[string]int{}}
		if err := h.setBehaviour(spec.Behaviour); err != nil {
			return nil, err
		}
		n.hosts[netip.MustParseAddr(spec.Address)] = h
	}
	return n, nil
}

// Dial connects to a host.
func (n *Inside) Dial(_ context.Context, _ netip.Addr, to netip.AddrPort, _ time.Duration) (net.Conn, error) {
	h := n.hosts[to.Addr()]
	if h == nil {
		return nil, &net.OpError{Op: "dial", Err: os.NewSyscallError("connect", syscall.EHOSTUNREACH)}
	}
	n.mu.Lock()
	n.dials[h.spec.Name] = append(n.dials[h.spec.Name], time.Now())
	n.mu.Unlock()
	if h.behaviour().Closed {
		return nil, &net.OpError{Op: "dial", Err: os.NewSyscallError("connect", syscall.ECONNREFUSED)}
	}
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
	return netip.Addr{}, false
}
