package store

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Runs are the runs of the nodes and what they lease.
type Runs struct{ *DB }

// Each start of a service is a run of its node, and leases carry the run's number. A run
// that is over never comes back: every transaction that makes leases for it fails (see the
// function alive), and what it holds is due again. A service whose run is over although
// it lives begins a new one.

// ErrOver reports that the run that was to make leases is over.
var ErrOver = errors.New("this run of the node is over: what it held is due again elsewhere")

// Codes of the database's own functions.
const (
	codeOver       = "GR001"
	codeIncomplete = "GR002"
)

// leaseLocks is the class of advisory locks on runs: shared while leases are made, whole
// while they are freed.
const leaseLocks = 1735748716

// Times by which a node counts as dead.
const (
	// deadAfter is how long a node may be silent before its leases are taken.
	deadAfter = 30 * time.Second
	// blindAfter is how long a watcher may have seen nothing and still go on counting
	// the silence of others: after a gap of its own it begins anew.
	blindAfter = deadAfter / 3
)

// watched is when a node was last heard of, by its word and by our own clock: a
// clock that is set must not make a living node look dead.
type watched struct {
	seenAt time.Time // as the node wrote it
	since  time.Time // when we first saw it so
}

// RegisterNode begins a run and returns the number its leases carry. Earlier runs of the
// same name are over: what they held is due again once ReleaseDead has been called.
func (s Runs) RegisterNode(ctx context.Context, name string) (int, error) {
	var random [8]byte
	_, _ = rand.Read(random[:])
	key := int64(binary.BigEndian.Uint64(random[:]) >> 1)
	var run int
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(
			ctx,
			`UPDATE node SET gone = true, replaced = true WHERE name = $1 AND NOT (gone
				AND replaced)`,
			name,
		); err != nil {
			return err
		}
		return tx.QueryRow(ctx, `INSERT INTO node (name, key) VALUES ($1, $2) RETURNING id`, name,
			key).Scan(&run)
	})
	if err == nil {
		s.nodesMu.Lock()
		s.keys[run] = key
		s.nodesMu.Unlock()
	}
	return run, err
}

// key is that of a run which this process began.
func (s *DB) key(run int) int64 {
	s.nodesMu.Lock()
	defer s.nodesMu.Unlock()
	return s.keys[run]
}

// Pulse is what a heartbeat finds.
type Pulse struct {
	// Over says that the run is over: what it held is another's.
	Over bool
	// Replaced says that another service runs under this node's name.
	Replaced bool
	// Newer says that a later program has changed the schema so that this one may not use it.
	Newer bool
	// BeginAnew says that this service is asked to begin anew.
	BeginAnew bool
	// Running are the names of the nodes that run and are not drained, in order.
	Running []string
}

// Heartbeat says that a run goes on. It is a small durable write: when it returns without
// error, the database takes what must not be lost. It has a connection of its own: that
// all others are busy is no sign that the database is not well.
// The facts are what the node says of itself to those who look at all nodes.
func (s Runs) Heartbeat(ctx context.Context, run int, facts mail.NodeFacts) (p Pulse, err error) {
	conn, err := s.pulse.get(ctx, s.DB)
	if err != nil {
		return p, err
	}
	var worksFrom int64
	err = conn.QueryRow(
		ctx,
		`UPDATE node SET seen_at = clock_timestamp(), facts = $4
		WHERE id = $1 AND key = $2 AND NOT gone
		RETURNING (SELECT works_from FROM schema_use), begin_anew, (SELECT array_agg(DISTINCT name ORDER BY name) FROM node n
				WHERE NOT n.gone AND n.seen_at > now() - $3::interval AND NOT EXISTS (SELECT FROM pause p
					WHERE p.kind = 'node' AND p.name = n.name AND (p.until IS NULL OR p.until > now())))`,
		run,
		s.key(run),
		deadAfter,
		facts,
	).Scan(&worksFrom, &p.BeginAnew, &p.Running)
	p.Newer = worksFrom > knownSchema
	if errors.Is(err, pgx.ErrNoRows) {
		p.Over = true
		err = conn.QueryRow(ctx,
			`SELECT coalesce(bool_or(replaced), false) FROM node WHERE id = $1 AND key = $2`, run,
			s.key(run)).Scan(&p.Replaced)
	}
	if err != nil {
		s.pulse.drop()
	}
	return p, err
}

// pulse is the heartbeat's connection. It is used by one goroutine at a time.
type pulse struct {
	mu      sync.Mutex
	conn    *pgx.Conn
	renewed int64 // how often all connections were closed when it was made
}

func (p *pulse) get(ctx context.Context, s *DB) (*pgx.Conn, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if now := s.renewed.Load(); p.conn == nil || p.conn.IsClosed() || p.renewed != now ||
		s.hosts.behind(p.conn.PgConn()) {
		p.close()
		c := s.pool.Config().ConnConfig
		s.hosts.order(c)
		conn, err := pgx.ConnectConfig(ctx, c)
		if err != nil {
			return nil, err
		}
		p.conn, p.renewed = conn, now
	}
	return p.conn, nil
}

func (p *pulse) drop() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.close()
}

func (p *pulse) close() {
	if p.conn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = p.conn.Close(ctx)
		p.conn = nil
	}
}

const aliveSQL = `SELECT alive($1, $2)`

// alive lets a transaction fail if the run that it makes leases for is over.
func (s *DB) alive(run int) string { return fmt.Sprintf("SELECT alive(%d, %d);", run, s.key(run)) }

// leasing runs a statement that takes leases for a run, in one round trip and one
// transaction with the question whether the run goes on.
func (s *DB) leasing(ctx context.Context, run int, sql string, args ...any) ([]Due, error) {
	b := &pgx.Batch{}
	b.Queue(aliveSQL, run, s.key(run))
	b.Queue(sql, args...)
	results := s.pool.SendBatch(ctx, b)
	defer results.Close()
	if _, err := results.Exec(); err != nil {
		return nil, over(err)
	}
	rows, err := results.Query()
	if err != nil {
		return nil, err
	}
	due, err := pgx.CollectRows(rows, scanDue)
	if err != nil {
		return nil, err
	}
	for i := range due {
		due[i].Run = run
	}
	return due, results.Close()
}

// over marks the database's word that a run is over, or that content is missing.
func over(err error) error {
	var refused *pgconn.PgError
	if !errors.As(err, &refused) {
		return err
	}
	switch refused.Code {
	case codeOver:
		return fmt.Errorf("%w (%w)", ErrOver, err)
	case codeIncomplete:
		return fmt.Errorf("%w (%w)", ErrIncomplete, err)
	}
	return err
}

// ReleaseDead makes due what is leased to runs that are over, and returns how many
// deliveries. Nodes that were silent for long are over from now on.
func (s Runs) ReleaseDead(ctx context.Context) (int64, error) {
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		silent, err := s.silent(ctx, tx)
		if err == nil && len(silent) > 0 {
			_, err = tx.Exec(ctx, `UPDATE node SET gone = true WHERE id = ANY($1)`, silent)
		}
		return err
	})
	if err != nil {
		return 0, err
	}
	rows, err := s.pool.Query(ctx, `SELECT id FROM node WHERE gone AND NOT released ORDER BY id`)
	if err != nil {
		return 0, err
	}
	dead, err := pgx.CollectRows(rows, pgx.RowTo[int])
	if err != nil {
		return 0, err
	}
	var released int64
	for _, run := range dead {
		n, err := s.release(ctx, run)
		if err != nil {
			return released, err
		}
		released += n
	}
	return released, nil
}

// release makes due what a run holds that is over; the whole queue is looked at, but only
// after a node has died. It has the run's lock whole, so no
// transaction that leases for it is under way; what holds the lock (a process that was
// stopped in the middle of one) loses its connection, and release comes again.
func (s Runs) release(ctx context.Context, run int) (int64, error) {
	var released int64
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		var free bool
		if err := tx.QueryRow(
			ctx,
			`SELECT pg_try_advisory_xact_lock($1, $2)`,
			leaseLocks,
			run,
		).Scan(&free); err != nil {
			return err
		}
		if !free {
			_, err := tx.Exec(ctx, `SELECT pg_terminate_backend(pid) FROM pg_locks
				WHERE locktype = 'advisory' AND classid = $1 AND objid = $2 AND objsubid = 2
					AND granted AND pid <> pg_backend_pid()
					AND database = (SELECT oid FROM pg_database
						WHERE datname = current_database())`, leaseLocks, run)
			return err
		}
		tag, err := tx.Exec(ctx, `UPDATE delivery SET lease = NULL WHERE lease = $1`, run)
		if err != nil {
			return err
		}
		released = tag.RowsAffected()
		_, err = tx.Exec(ctx, `UPDATE node SET released = true WHERE id = $1`, run)
		return err
	})
	return released, err
}

// ReleaseLost makes due what is leased to runs that nobody knows of: a failover to a
// standby that was behind can lose a node's row and keep its leases. The whole queue is
// looked at.
func (s Runs) ReleaseLost(ctx context.Context) (int64, error) {
	tag, err := s.pool.Exec(
		ctx,
		`UPDATE delivery d SET lease = NULL WHERE lease IS NOT NULL AND NOT EXISTS (SELECT
			FROM node n WHERE n.id = d.lease)`,
	)
	return tag.RowsAffected(), err
}

// silent are the nodes whose word has not changed for long, by our own clock.
func (s Runs) silent(ctx context.Context, tx pgx.Tx) ([]int, error) {
	rows, err := tx.Query(ctx, `SELECT id, seen_at FROM node WHERE NOT gone`)
	if err != nil {
		return nil, err
	}
	type beat struct {
		run    int
		seenAt time.Time
	}
	beats, err := pgx.CollectRows(rows,
		func(row pgx.CollectableRow) (b beat, err error) { return b, row.Scan(&b.run, &b.seenAt) })
	if err != nil {
		return nil, err
	}
	s.nodesMu.Lock()
	defer s.nodesMu.Unlock()
	now, known := time.Now(), map[int]watched{}
	if now.Sub(s.looked) > min(blindAfter, s.deadAfter) {
		s.nodes = nil // we saw nothing for a while: their silence is none
	}
	var dead []int
	for _, b := range beats {
		w, ok := s.nodes[b.run]
		if !ok || !w.seenAt.Equal(b.seenAt) {
			w = watched{b.seenAt, now}
		}
		known[b.run] = w
		if now.Sub(w.since) > s.deadAfter {
			dead = append(dead, b.run)
		}
	}
	s.nodes, s.looked = known, now
	return dead, nil
}

// ReleaseNode ends a run and makes due what it holds: at a graceful stop.
func (s Runs) ReleaseNode(ctx context.Context, run int) error {
	if _, err := s.pool.Exec(
		ctx,
		`UPDATE node SET gone = true WHERE id = $1 AND key = $2`,
		run,
		s.key(run),
	); err != nil {
		return err
	}
	_, err := s.release(ctx, run)
	return err
}

// Leases are deliveries leased to a run, in order. Leases are in no index, so that taking
// one rewrites none: the whole queue is looked at.
func (s Runs) Leases(ctx context.Context, run int) ([]LeaseHeld, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT message_id, n, lane FROM delivery WHERE lease = $1 ORDER BY 1, 2`, run)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (LeaseHeld, error) {
		var l LeaseHeld
		err := row.Scan(&l.ID.Message, &l.ID.N, &l.Lane)
		return l, err
	})
}

// LeaseHeld is a delivery that is leased, and its lane.
type LeaseHeld struct {
	ID   mail.DeliveryID
	Lane ident.ID
}

// EndAll ends the runs of every node: of a database that was restored none goes on.
func (s Runs) EndAll(ctx context.Context) error {
	_, err := s.pool.Exec(
		ctx,
		`UPDATE node SET gone = true, replaced = true WHERE NOT (gone AND replaced)`,
	)
	return err
}
