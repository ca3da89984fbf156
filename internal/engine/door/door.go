// Package door holds a node's open listeners: their addresses, who may connect and how
// many, and the certificates that they show. What is spoken behind a door is not its matter.
package door

import (
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/rehearse"
	"gullroute/internal/core/smtp"
)

// HandshakeTimeout bounds a TLS handshake.
const HandshakeTimeout = 30 * time.Second

// Options are what doors are made of.
type Options struct {
	Node string
	// Bind overrides the addresses of listeners, by name.
	Bind         map[string]netip.AddrPort
	Certificates *Certificates
	Log          *slog.Logger
	// Ours says which listeners are meant.
	Ours func(l *config.Listener) bool
	// Begin takes a connection that came; it must not wait.
	Begin func(d *Door, conn net.Conn)
}

// Doors are the open listeners of one kind of service.
type Doors struct {
	Options
	mu   sync.Mutex
	open map[string]*Door
}

// Door is one open address.
type Door struct {
	net.Listener
	Name string
	conf atomic.Pointer[config.Listener]
	mu   sync.Mutex
	per  map[netip.Addr]int // connections by client
	all  int
	// came are the connections of the running minute, by client.
	came   map[netip.Addr]int
	minute int64
}

// Drain waits until all sessions are over; after the given time it cuts those that are left.
func Drain(sessions *sync.WaitGroup, grace time.Duration, cut func()) {
	done := make(chan struct{})
	go func() { sessions.Wait(); close(done) }()
	select {
	case <-done:
		return
	case <-time.After(grace):
	}
	cut()
	<-done
}

// New makes doors; none is open before Apply.
func New(o Options) *Doors { return &Doors{Options: o, open: map[string]*Door{}} }

// Apply opens the listeners of a configuration and closes those it no longer has. An
// address that cannot be opened is an error; the others are open all the same.
func (d *Doors) Apply(c *config.Compiled) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for name, l := range d.open {
		conf := c.Listener(name)
		if conf == nil || !d.Ours(conf) || !config.On(conf.Nodes, d.Node) ||
			d.address(conf).String() != l.Addr().String() && d.address(conf).Port() != 0 {
			l.Close()
			delete(d.open, name)
		}
	}
	var errs []error
	for i := range c.Listeners {
		conf := &c.Listeners[i]
		if !d.Ours(conf) || !config.On(conf.Nodes, d.Node) {
			continue
		}
		if err := d.Certificates.Check(conf); err != nil {
			errs = append(errs,
				fmt.Errorf("listener %s: its certificate cannot be used: %w", conf.Name, err))
		}
		if open := d.open[conf.Name]; open != nil {
			open.settings(conf)
			continue
		}
		nl, err := net.Listen("tcp", d.address(conf).String())
		if err != nil {
			errs = append(errs, fmt.Errorf("listener %s: %w", conf.Name, err))
			continue
		}
		l := &Door{Listener: nl, Name: conf.Name, per: map[netip.Addr]int{}}
		l.settings(conf)
		d.open[conf.Name] = l
		go d.accept(l)
	}
	return errors.Join(errs...)
}

func (d *Doors) address(l *config.Listener) netip.AddrPort {
	if bound, ok := d.Bind[l.Name]; ok {
		return bound
	}
	return l.Address
}

// Named is the door of a name; one that is not open is made, for connections that were
// made elsewhere.
func (d *Doors) Named(name string) *Door {
	d.mu.Lock()
	defer d.mu.Unlock()
	l := d.open[name]
	if l == nil {
		l = &Door{Name: name, per: map[netip.Addr]int{}}
		d.open[name] = l
	}
	return l
}

// Addresses are the addresses that are open, by listener.
func (d *Doors) Addresses() map[string]string {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[string]string{}
	for name, l := range d.open {
		out[name] = l.Addr().String()
	}
	return out
}

// Sessions is how many connections there are, by listener.
func (d *Doors) Sessions() map[string]int {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[string]int{}
	for name, l := range d.open {
		l.mu.Lock()
		out[name] = l.all
		l.mu.Unlock()
	}
	return out
}

// Close closes them; connections that came stay.
func (d *Doors) Close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, l := range d.open {
		if l.Listener != nil {
			l.Close()
		}
	}
}

func (d *Doors) accept(l *Door) {
	for {
		conn, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // out of file descriptors and the like: they come back
			d.Log.Error("connection could not be accepted", "listener", l.Name, "error", err)
			time.Sleep(50 * time.Millisecond)
			continue
		}
		if l.balances(conn) {
			go d.proxiedBegin(l, conn)
			continue
		}
		d.Begin(l, conn)
	}
}

// Client is the address of a connection's other side.
func Client(conn net.Conn) netip.Addr {
	ap, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil {
		return netip.Addr{}
	}
	return ap.Addr().Unmap()
}

// maxCame bounds how many clients' new connections are counted.
const maxCame = 50_000

// Enter counts a connection, or says why it is not welcome.
func (l *Door) Enter(client netip.Addr, conf *config.Listener, now time.Time) *smtp.Reply {
	limits := conf.Limits
	var r smtp.Reply
	if !rehearse.Admits(conf, client) {
		r = smtp.NewReply(554, "5.7.1", "%s may not connect to this listener", client)
		return &r
	}
	if limits.Load > 0 && machineLoad() > float64(limits.Load) {
		r = smtp.NewReply(421, "4.3.2", "this machine is busy; try again later")
		return &r
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if minute := now.Unix() / 60; minute != l.minute || len(l.came) > maxCame {
		l.minute, l.came = minute, map[netip.Addr]int{}
	}
	l.came[client]++
	switch {
	case limits.NewPerMinute > 0 && l.came[client] > limits.NewPerMinute:
		r = smtp.NewReply(421, "4.7.0", "too many new connections from %s; at most %d a minute",
			client, limits.NewPerMinute)
	case l.all >= limits.Connections:
		r = smtp.NewReply(421, "4.3.2", "too many connections here; try again later")
	case l.per[client] >= limits.ConnectionsPerAddress:
		r = smtp.NewReply(421, "4.7.0", "too many connections from %s; at most %d at the same time",
			client, limits.ConnectionsPerAddress)
	default:
		l.all++
		l.per[client]++
		return nil
	}
	return &r
}

// Leave takes a connection off again.
func (l *Door) Leave(client netip.Addr) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all--
	if l.per[client]--; l.per[client] == 0 {
		delete(l.per, client)
	}
}

// machineLoad is the load of the last minute; 0 where the system does not say.
func machineLoad() float64 {
	text, err := os.ReadFile("/proc/loadavg")
	if err != nil {
		return 0
	}
	word, _, _ := strings.Cut(string(text), " ")
	load, _ := strconv.ParseFloat(word, 64)
	return load
}
