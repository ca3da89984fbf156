// Package store keeps everything in PostgreSQL: one file per aggregate, SQL
// written out where it is used.
package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"gullroute/internal/core/fault"
	"gullroute/internal/core/ident"
)

// ErrNotFound reports that what was asked for does not exist.
var ErrNotFound = fault.ErrNotFound

// ErrFull reports that the database has no room for what was to be stored.
var ErrFull = errors.New("the database has no room left")

// full marks PostgreSQL's word for a full disk.
func full(err error) error {
	var refused *pgconn.PgError
	if errors.As(err, &refused) && refused.Code == "53100" {
		return fmt.Errorf("%w: %w", ErrFull, err)
	}
	return err
}

// DB is the database. It is safe for several goroutines.
type DB struct {
	pool database

	lanesMu sync.RWMutex
	lanes   map[ident.ID]time.Time // the day on which they were last put on record

	hosts   hosts
	renewed atomic.Int64 // how often all connections were closed
	pulse   pulse

	nodesMu   sync.Mutex
	nodes     map[int]watched
	looked    time.Time     // at them, the last time
	keys      map[int]int64 // of the runs that this process began
	deadAfter time.Duration
}

// Open connects, brings the schema up to date and makes the partitions that are
// needed next.
func Open(ctx context.Context, url string) (*DB, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	cfg.MaxConns = max(cfg.MaxConns, 16)
	s := &DB{
		hosts:     hosts{former: map[string]Generation{}, names: map[string]string{}},
		lanes:     map[ident.ID]time.Time{},
		keys:      map[int]int64{},
		deadAfter: deadAfter,
	}
	if err := s.hosts.prepare(cfg); err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	cfg.AfterConnect = cleanTexts
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	s.pool = database{pool}
	_, _ = s.WatchHosts(ctx) // a former primary may be the first in the list
	if err := s.migrate(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	if err := s.KeepPartitions(ctx, time.Now(), Retention{}); err != nil {
		pool.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	return s, nil
}

// Close ends all connections.
func (s *DB) Close() {
	s.pulse.drop()
	s.pool.Close()
}

// Ping reports whether the database answers.
func (s *DB) Ping(ctx context.Context) error { return s.pool.Ping(ctx) }

// partitioned tables, and what their partitions are created with. Messages of
// usual size stay in their page: the target keeps them out of the side table.
var partitioned = []struct{ table, with string }{
	{"message", ""},
	{"content", "WITH (toast_tuple_target = 8160)"},
	{"delivery_done", ""},
	{"event", ""},
	{"find_text", ""},
	{"session", ""},
	{"transcript", ""},
	{"refusal", ""},
}

// dayFormat is the end of a partition's name.
const dayFormat = "20060102"

// daysAhead is how many days' partitions are made in advance.
const daysAhead = 3

// Retention says how long what grows is kept; 0 keeps it.
type Retention struct{ Messages, Transcripts time.Duration }

// KeepPartitions makes the partitions for the days around now and drops those that
// are past their time, unless a message of theirs still waits.
func (s *DB) KeepPartitions(ctx context.Context, now time.Time, keep Retention) error {
	if err := s.MakePartitions(ctx, now.AddDate(0, 0, -1),
		now.AddDate(0, 0, daysAhead)); err != nil ||
		keep.Messages == 0 {
		return err
	}
	return errors.Join(
		s.dropOld(ctx, now.Add(-keep.Messages), "message", "content", "delivery_done", "event",
			"find_text", "session", "transcript", "refusal"),
		s.dropOld(ctx, now.Add(-keep.Transcripts), "transcript"),
	)
}

// MakePartitions makes the partitions of days that are not there yet.
func (s *DB) MakePartitions(ctx context.Context, first, last time.Time) error {
	first, last = first.UTC().Truncate(24*time.Hour), last.UTC().Truncate(24*time.Hour)
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(
			ctx,
			`SELECT pg_advisory_xact_lock(hashtext('gull partitions'))`,
		); err != nil {
			return err
		}
		for _, p := range partitioned {
			for from := first; !from.After(last); from = from.AddDate(0, 0, 1) {
				sql := fmt.Sprintf(
					`CREATE TABLE IF NOT EXISTS %s_%s PARTITION OF %s FOR
						VALUES FROM (%d) TO (%d) %s`,
					p.table,
					from.Format(dayFormat),
					p.table,
					ident.Floor(from),
					ident.Floor(from.AddDate(0, 0, 1)),
					p.with,
				)
				if _, err := tx.Exec(ctx, sql); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// lockWait is how long forgetting waits for those who read or write a table, and
// lets them wait; it comes again.
const lockWait = "300ms"

// dropOld drops partitions, one at a time, each in a moment: who writes to the
// table meanwhile does not notice.
func (s *DB) dropOld(ctx context.Context, before time.Time, tables ...string) error {
	var oldest *int64
	if err := s.pool.QueryRow(
		ctx,
		`SELECT min(message_id) FROM delivery`,
	).Scan(&oldest); err != nil {
		return err
	}
	if oldest != nil && ident.ID(*oldest).Time().Before(before) {
		before = ident.ID(*oldest).Time()
	}
	last := before.UTC().Truncate(24*time.Hour).AddDate(0, 0, -1).Format(dayFormat)
	rows, err := s.pool.Query(
		ctx,
		`SELECT c.relname::text FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
			JOIN pg_class p ON p.oid = i.inhparent
		WHERE p.relname = ANY($2) AND c.relkind = 'r' AND right(c.relname, 8) <= $1
			ORDER BY right(c.relname, 8)`,
		last,
		tables,
	)
	if err != nil {
		return err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, name := range names {
		err := s.inTx(ctx, func(tx pgx.Tx) error {
			if _, err := tx.Exec(ctx, `SET LOCAL lock_timeout = '`+lockWait+`'`); err != nil {
				return err
			}
			if strings.HasPrefix(name, "content_") {
				if err := keepContent(ctx, tx, name); err != nil {
					return err
				}
			}
			_, err := tx.Exec(ctx, `DROP TABLE `+pgx.Identifier{name}.Sanitize())
			return err
		})
		if err != nil {
			return fmt.Errorf("%s could not be forgotten now: %w", name, err)
		}
	}
	return nil
}

// keepContent keeps what messages in mailboxes refer to, of a day's content that is
// about to be forgotten.
func keepContent(ctx context.Context, tx pgx.Tx, partition string) error {
	name := pgx.Identifier{partition}.Sanitize()
	_, err := tx.Exec(ctx, `INSERT INTO kept_content SELECT message_id, seq, data FROM `+name+` c
		WHERE EXISTS (SELECT FROM mailbox_message m WHERE m.id = c.message_id
			AND m.id BETWEEN (SELECT min(message_id) FROM `+name+`)
				AND (SELECT max(message_id) FROM `+name+`))
			OR EXISTS (SELECT FROM mailbox_message m WHERE m.content = c.message_id) ON CONFLICT DO NOTHING`)
	return err
}

// inTx runs f in a transaction. After an error of the commit it may have happened.
func (s *DB) inTx(ctx context.Context, f func(pgx.Tx) error) error {
	beginning, cancel := limited(ctx)
	defer cancel()
	tx, err := s.pool.Begin(beginning)
	if err != nil {
		return err
	}
	defer func() {
		ending, cancel := limited(context.WithoutCancel(ctx))
		defer cancel()
		_ = tx.Rollback(ending) // does nothing after a commit
	}()
	if err := f(transaction{tx}); err != nil {
		return err
	}
	committing, cancel := limited(ctx)
	defer cancel()
	return tx.Commit(committing)
}
