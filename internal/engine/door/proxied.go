package door

import (
	"bufio"
	"net"
	"net/netip"
	"slices"
	"time"

	"github.com/pires/go-proxyproto"

	"gullroute/internal/core/config"
)

// headerTime bounds how long a load balancer takes to name its client.
const headerTime = 10 * time.Second

// proxied is a connection that a load balancer passes on: it comes from whom the balancer names.
type proxied struct {
	net.Conn
	r      *bufio.Reader
	client net.Addr
}

func (p *proxied) Read(b []byte) (int, error) { return p.r.Read(b) }
func (p *proxied) RemoteAddr() net.Addr       { return p.client }

// balances reports a connection from a load balancer of a listener.
func (l *Door) balances(conn net.Conn) bool {
	conf := l.conf.Load()
	if conf == nil || len(conf.Proxies) == 0 {
		return false
	}
	client := Client(conn)
	return slices.ContainsFunc(
		conf.Proxies,
		func(p netip.Prefix) bool { return p.Contains(client) },
	)
}

// proxiedBegin reads whom a load balancer names (the PROXY protocol, versions 1 and 2), and begins
// the conversation with him. Without that there is none: the balancer is never taken for a client.
func (d *Doors) proxiedBegin(l *Door, conn net.Conn) {
	_ = conn.SetReadDeadline(time.Now().Add(headerTime))
	p := &proxied{Conn: conn, r: bufio.NewReaderSize(conn, 4096), client: conn.RemoteAddr()}
	header, err := proxyproto.Read(p.r)
	if err != nil {
		d.Log.Warn(
			"a load balancer named no client",
			"listener",
			l.Name,
			"balancer",
			conn.RemoteAddr().String(),
			"error",
			err,
		)
		conn.Close()
		return
	}
	_ = conn.SetReadDeadline(time.Time{})
	// A health check of the balancer itself (LOCAL), or an address that it cannot say, is its own.
	if source, ok := header.SourceAddr.(*net.TCPAddr); ok && !header.Command.IsLocal() {
		p.client = source
	}
	d.Begin(l, p)
}

// settings of a door are those of its listener now.
func (l *Door) settings(conf *config.Listener) { l.conf.Store(conf) }
