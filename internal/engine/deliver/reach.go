package deliver

import (
	"cmp"
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"sync"
	"syscall"
	"time"

	"gullroute/internal/core/config"
)

// restsAddress is how long an address that could not be reached is tried behind others, and one
// of ours that could not be used is left out.
const restsAddress = 10 * time.Minute

// maxReached bounds what is remembered.
const maxReached = 10_000

// reach remembers which addresses of others could not be reached and which of ours could not be
// used, so that a family that does not work here costs one timeout, not one for each connection.
type reach struct {
	mu     sync.Mutex
	failed map[netip.Addr]time.Time // of hosts: the last connection that failed
	absent [2]time.Time             // when there was no way to IPv4, IPv6 at all
	unfit  map[netip.Addr]time.Time // of ours
	turn   int
}

func familyOf(ip netip.Addr) int {
	if ip.Unmap().Is4() {
		return 0
	}
	return 1
}

// order puts addresses of a host behind the others that could not be reached lately; within each
// group they stay as they are.
func (r *reach) order(addrs []netip.Addr, now time.Time) []netip.Addr {
	r.mu.Lock()
	defer r.mu.Unlock()
	rank := func(ip netip.Addr) int {
		switch {
		case now.Sub(r.failed[ip]) < restsAddress:
			return 2
		case now.Sub(r.absent[familyOf(ip)]) < restsAddress:
			return 1
		}
		return 0
	}
	out := slices.Clone(addrs)
	slices.SortStableFunc(out, func(a, b netip.Addr) int { return cmp.Compare(rank(a), rank(b)) })
	return out
}

// saw notes how a connection went.
func (r *reach) saw(ip netip.Addr, err error, now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err == nil {
		delete(r.failed, ip)
		r.absent[familyOf(ip)] = time.Time{}
		return
	}
	if errors.Is(err, context.Canceled) {
		return
	}
	if r.failed == nil || len(r.failed) >= maxReached {
		r.failed = map[netip.Addr]time.Time{}
	}
	r.failed[ip] = now
	if errors.Is(err, syscall.ENETUNREACH) || errors.Is(err, syscall.EADDRNOTAVAIL) {
		r.absent[familyOf(ip)] = now
	}
}

// sources are the addresses of ours to connect to a host from, the one whose turn it is first. Those
// that could not be used lately are left out, unless none is left; none is any address.
func (r *reach) sources(way *config.Route, to netip.Addr, now time.Time) []netip.Addr {
	var fit, resting []netip.Addr
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, a := range way.Sources() {
		switch {
		case familyOf(a) != familyOf(to):
		case now.Sub(r.unfit[a]) < restsAddress:
			resting = append(resting, a)
		default:
			fit = append(fit, a)
		}
	}
	if len(fit) == 0 {
		return resting
	}
	r.turn++
	at := r.turn % len(fit)
	return slices.Concat(fit[at:], fit[:at])
}

// reachOut opens a connection to a host, from an address of the route's: each in turn, the next one
// if one is not an address of this machine.
func (c *Client) reachOut(
	ctx context.Context,
	way *config.Route,
	to netip.AddrPort,
	timeout time.Duration,
) (net.Conn, error) {
	list := c.reach.sources(way, to.Addr(), time.Now())
	if len(list) == 0 {
		list = []netip.Addr{{}}
	}
	var conn net.Conn
	var err error
	for _, from := range list {
		conn, err = c.Dial(ctx, from, to, timeout)
		if len(list) < 2 || !errors.Is(err, syscall.EADDRNOTAVAIL) {
			break
		}
		c.reach.mu.Lock()
		if c.reach.unfit == nil {
			c.reach.unfit = map[netip.Addr]time.Time{}
		}
		c.reach.unfit[from] = time.Now()
		c.reach.mu.Unlock()
	}
	c.reach.saw(to.Addr(), err, time.Now())
	return conn, err
}
