package store

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
)

// Several hosts: a primary and its standbys. Connections go to the one that takes writes,
// the last good one first. After a promotion the former primary may still run and take
// writes: PostgreSQL counts promotions (its timeline), and no connection is made to a host
// whose count is lower than one that was seen.

// hostTimeout bounds a connection to one host: one that is frozen accepts it and never
// answers, and the next in line waits behind it.
const hostTimeout = 3 * time.Second

// Generation is whose data a host has, and how many promotions it has seen. Zero where
// the database does not tell.
type Generation struct {
	System   int64 // made when the cluster was
	Timeline int32
}

// ErrFormer reports a host that was the primary before another was promoted.
var ErrFormer = errors.New(
	"this host was the primary before another was promoted, and still takes writes: " +
		"stop it, or make it a standby",
)

// ErrOtherCluster reports a host with other data.
var ErrOtherCluster = errors.New(
	"this host has another database cluster than the one this service began with; " +
		"start the service anew if that is meant",
)

// hosts knows which hosts there are and how they do.
type hosts struct {
	mu    sync.Mutex
	known Generation // the highest that was seen
	good  string     // host:port of the last connection
	// former are hosts that take writes and must not.
	former map[string]Generation
	names  map[string]string // of hosts, by the addresses that they were found to have
}

// prepare sets a configuration's hooks. Several hosts need target_session_attrs, or a
// standby would be taken for the primary.
func (h *hosts) prepare(cfg *pgxpool.Config) error {
	c := cfg.ConnConfig
	if len(c.Fallbacks) > 0 && c.ValidateConnect == nil && severalHosts(c) {
		return errors.New("several hosts are named: add target_session_attrs=read-write, " +
			"or a standby could be taken for the primary")
	}
	c.ConnectTimeout = hostTimeout
	lookup := c.LookupFunc
	c.LookupFunc = func(ctx context.Context, host string) ([]string, error) {
		addresses, err := lookup(ctx, host)
		h.mu.Lock()
		defer h.mu.Unlock()
		for _, a := range addresses {
			h.names[a] = host
		}
		return addresses, err
	}
	c.RuntimeParams["application_name"] = "gull"
	given := c.ValidateConnect
	c.ValidateConnect = func(ctx context.Context, conn *pgconn.PgConn) error {
		if given != nil {
			if err := given(ctx, conn); err != nil {
				return err
			}
		}
		return h.admit(ctx, conn)
	}
	cfg.PrepareConn = func(_ context.Context, conn *pgx.Conn) (bool,
		error) {
		return !h.behind(conn.PgConn()), nil
	}
	cfg.BeforeConnect = func(_ context.Context, c *pgx.ConnConfig) error { h.order(c); return nil }
	return nil
}

// severalHosts reports different hosts; one host has fallbacks too, by ways to reach it.
func severalHosts(c *pgx.ConnConfig) bool {
	return slices.ContainsFunc(c.Fallbacks, func(f *pgconn.FallbackConfig) bool {
		return f.Host != c.Host || f.Port != c.Port
	})
}

func hostPort(host string, port uint16) string {
	return net.JoinHostPort(host, strconv.Itoa(int(port)))
}

// order puts the last good host first.
func (h *hosts) order(c *pgx.ConnConfig) {
	h.mu.Lock()
	good := h.good
	h.mu.Unlock()
	if good == "" || hostPort(c.Host, c.Port) == good {
		return
	}
	all := append(
		[]*pgconn.FallbackConfig{{Host: c.Host, Port: c.Port, TLSConfig: c.TLSConfig}},
		c.Fallbacks...)
	slices.SortStableFunc(all, func(a, b *pgconn.FallbackConfig) int {
		x, y := hostPort(a.Host, a.Port) == good, hostPort(b.Host, b.Port) == good
		switch {
		case x && !y:
			return -1
		case y && !x:
			return 1
		}
		return 0
	})
	c.Host, c.Port, c.TLSConfig, c.Fallbacks = all[0].Host, all[0].Port, all[0].TLSConfig, all[1:]
}

// generationSQL asks a primary; a standby has no generation of its own. Text, so that it
// can be asked by the simple protocol while a connection is being made.
const generationSQL = `SELECT system_identifier::text,
		(('x' || left(pg_walfile_name(pg_current_wal_insert_lsn()), 8))::bit(32)::int)::text
	FROM pg_control_system() WHERE NOT pg_is_in_recovery()`

// generation is a host's; zero for a standby, and where it may not be asked.
func generation(ctx context.Context, conn *pgconn.PgConn) Generation {
	results, err := conn.Exec(ctx, generationSQL).ReadAll()
	if err != nil || len(results) != 1 || len(results[0].Rows) != 1 {
		return Generation{}
	}
	row := results[0].Rows[0]
	system, _ := strconv.ParseInt(string(row[0]), 10, 64)
	timeline, _ := strconv.ParseInt(string(row[1]), 10, 32)
	return Generation{system, int32(timeline)}
}

// admit lets a connection be used, or says why not.
func (h *hosts) admit(ctx context.Context, conn *pgconn.PgConn) error {
	g := generation(ctx, conn)
	at := conn.Conn().RemoteAddr().String()
	h.mu.Lock()
	defer h.mu.Unlock()
	if address, port, err := net.SplitHostPort(at); err == nil && h.names[address] != "" {
		at = net.JoinHostPort(h.names[address], port)
	}
	if g == (Generation{}) {
		return nil
	}
	switch {
	case h.known.System != 0 && h.known.System != g.System:
		return fmt.Errorf("%s: %w", at, ErrOtherCluster)
	case g.Timeline < h.known.Timeline:
		h.former[at] = g
		return fmt.Errorf("%s: %w", at, ErrFormer)
	}
	delete(h.former, at)
	h.known, h.good = g, at
	conn.CustomData()[timelineKey] = g.Timeline
	return nil
}

// timelineKey is where a connection keeps its host's timeline.
const timelineKey = "gull timeline"

// behind reports a connection to a host after which another was promoted: it was frozen,
// perhaps, and wakes. What is asked there is answered from data that nobody else has.
func (h *hosts) behind(conn *pgconn.PgConn) bool {
	timeline, known := conn.CustomData()[timelineKey].(int32)
	h.mu.Lock()
	defer h.mu.Unlock()
	return known && timeline < h.known.Timeline
}

// Former are hosts that take writes though another was promoted after them.
func (s *DB) Former() []string {
	s.hosts.mu.Lock()
	defer s.hosts.mu.Unlock()
	var out []string
	for at := range s.hosts.former {
		out = append(out, at)
	}
	slices.Sort(out)
	return out
}

// Hosts are the database's hosts, as they are named.
func (s *DB) Hosts() []string {
	c := s.pool.Config().ConnConfig
	out := []string{hostPort(c.Host, c.Port)}
	for _, f := range c.Fallbacks {
		if at := hostPort(f.Host, f.Port); !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out
}

// Name tells this database from others, without anything secret.
func (s *DB) Name() string {
	return strings.Join(s.Hosts(), ",") + "/" + s.pool.Config().ConnConfig.Database
}

// WatchHosts asks each host whether it takes writes. If one was promoted after the one we
// write to, all connections move there.
func (s *DB) WatchHosts(ctx context.Context) (moved bool, err error) {
	c := s.pool.Config().ConnConfig
	if !severalHosts(c) {
		return false, nil
	}
	all := append(
		[]*pgconn.FallbackConfig{{Host: c.Host, Port: c.Port, TLSConfig: c.TLSConfig}},
		c.Fallbacks...)
	found := make([]Generation, len(all))
	var asking sync.WaitGroup
	for i, f := range all {
		asking.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, hostTimeout)
			defer cancel()
			one := c.Config.Copy()
			one.Host, one.Port, one.TLSConfig, one.Fallbacks, one.ValidateConnect = f.Host, f.Port,
				f.TLSConfig, nil, nil
			conn, err := pgconn.ConnectConfig(ctx, one)
			if err != nil {
				return
			}
			defer conn.Close(context.WithoutCancel(ctx))
			found[i] = generation(ctx, conn)
		})
	}
	asking.Wait()
	h := &s.hosts
	h.mu.Lock()
	before := h.known
	former := map[string]Generation{}
	for i, g := range found {
		if g.System == h.known.System && g.Timeline > h.known.Timeline {
			h.known, h.good, moved = g, hostPort(all[i].Host, all[i].Port), true
		}
	}
	for i, g := range found {
		if g.System != 0 && g.System == h.known.System && g.Timeline < h.known.Timeline {
			former[hostPort(all[i].Host, all[i].Port)] = g
		}
	}
	h.former = former
	h.mu.Unlock()
	if moved && before.Timeline != 0 {
		s.Renew()
	}
	return moved, nil
}

// Renew closes the connections: the host behind them does not answer, or is not the
// primary any longer. Those in use are closed when they are done with.
func (s *DB) Renew() {
	s.renewed.Add(1)
	s.pool.Reset()
}

// Size is how much room the database takes, in octets.
func (s *DB) Size(ctx context.Context) (n int64, err error) {
	err = s.pool.QueryRow(ctx, `SELECT pg_database_size(current_database())`).Scan(&n)
	return n, err
}

// Replication is how the database is copied, as far as an ordinary role is told.
type Replication struct {
	Standbys    int    // that are connected
	Synchronous string // the setting synchronous_standby_names
}

// Replication asks the primary.
func (s *DB) Replication(ctx context.Context) (Replication, error) {
	var r Replication
	err := s.pool.QueryRow(ctx, `SELECT (SELECT count(*) FROM pg_stat_replication),
		current_setting('synchronous_standby_names')`).Scan(&r.Standbys, &r.Synchronous)
	return r, err
}
