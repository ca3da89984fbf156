package deliver

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"syscall"
	"testing"
	"time"

	"gullroute/internal/core/config"
)

func addresses(list ...string) (out []netip.Addr) {
	for _, a := range list {
		out = append(out, netip.MustParseAddr(a))
	}
	return out
}

// What worked goes first: where IPv6 leads nowhere, it is not waited for at every connection.
func TestAddressesThatWorkGoFirst(t *testing.T) {
	var r reach
	now := time.Now()
	all := addresses("2001:db8::10", "127.30.0.10", "127.30.0.11")
	if got := fmt.Sprint(r.order(all, now)); got != fmt.Sprint(all) {
		t.Errorf("as DNS gives them: %s", got)
	}
	r.saw(all[0], os.NewSyscallError("connect", syscall.ENETUNREACH), now)
	r.saw(all[1], os.ErrDeadlineExceeded, now)
	if got := fmt.Sprint(r.order(all, now)); got != "[127.30.0.11 2001:db8::10 127.30.0.10]" {
		t.Errorf("after two failures: %s", got)
	}
	other := addresses("2001:db8::99", "127.30.0.20")
	if got := fmt.Sprint(r.order(other, now)); got != "[127.30.0.20 2001:db8::99]" {
		t.Errorf("of another host, while there is no way to IPv6: %s", got)
	}
	r.saw(other[0], nil, now)
	if got := fmt.Sprint(r.order(other, now)); got != fmt.Sprint(other) {
		t.Errorf("when IPv6 works again: %s", got)
	}
	if got := fmt.Sprint(r.order(all, now.Add(restsAddress))); got != fmt.Sprint(all) {
		t.Errorf("after ten minutes: %s", got)
	}
}

// Addresses of ours are used evenly, and one that this machine does not have is left out.
func TestSourceAddressesTakeTurns(t *testing.T) {
	c := clientOf(t)
	used := map[string]int{}
	c.Dial = func(_ context.Context, from netip.Addr, _ netip.AddrPort, _ time.Duration) (net.Conn, error) {
		used[from.String()]++
		if from == netip.MustParseAddr("127.20.0.3") {
			return nil, &net.OpError{Op: "dial", Err: os.NewSyscallError("bind", syscall.EADDRNOTAVAIL)}
		}
		return &net.TCPConn{}, nil
	}
	way := &config.Route{SourceAddresses: addresses("127.20.0.1", "127.20.0.2", "127.20.0.3", "2001:db8::1")}
	for range 12 {
		if _, err := c.reachOut(t.Context(), way, netip.MustParseAddrPort("127.30.0.10:25"), time.Second); err != nil {
			t.Fatal(err)
		}
	}
	if got := fmt.Sprint(used); got != "map[127.20.0.1:6 127.20.0.2:6 127.20.0.3:1]" {
		t.Errorf("used: %s", got)
	}
	if _, err := c.reachOut(t.Context(), &config.Route{}, netip.MustParseAddrPort("127.30.0.10:25"),
		time.Second); err != nil || used["invalid IP"] != 1 {
		t.Errorf("without any: %v %v", used, err)
	}
}
