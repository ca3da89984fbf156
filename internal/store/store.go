// Package store keeps everything in PostgreSQL: one file per aggregate, SQL
// written out where it is used.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"

	"gullroute/internal/core/ident"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound reports that what was asked for does not exist.
var ErrNotFound = errors.New("not found")

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

// Store is the database. It is safe for several goroutines.
type Store struct {
	pool *pgxpool.Pool

	lanesMu sync.RWMutex
	lanes   map[ident.ID]laneName

	nodesMu   sync.Mutex
	nodes     map[int]watched
	deadAfter time.Duration
}

// Open connects, brings the schema up to date and makes the partitions that are
// needed next.
func Open(ctx context.Context, url string) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	cfg.MaxConns = max(cfg.MaxConns, 16)
	cfg.ConnConfig.ConnectTimeout = 5 * time.Second
	cfg.ConnConfig.RuntimeParams["application_name"] = "gull"
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	s := &Store{pool: pool, lanes: map[ident.ID]laneName{}, deadAfter: deadAfter}
	if err := s.migrate(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	if err := s.KeepPartitions(ctx, time.Now(), 0); err != nil {
		pool.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	return s, nil
}

// Close ends all connections.
func (s *Store) Close() { s.pool.Close() }

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.pool.Ping(ctx) }

func (s *Store) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(s.pool)
	defer db.Close()
	p, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// partitioned tables, and what their partitions are created with. Letters of
// usual size stay in their page: the target keeps them out of the side table.
var partitioned = []struct{ table, with string }{
	{"message", ""},
	{"content", "WITH (toast_tuple_target = 8160)"},
	{"delivery_done", ""},
	{"event", ""},
}

// dayFormat is the end of a partition's name.
const dayFormat = "20060102"

// daysAhead is how many days' partitions are made in advance.
const daysAhead = 3

// KeepPartitions makes the partitions for the days around now and drops those
// older than retention, unless a message of theirs still waits. A retention of
// 0 drops nothing.
func (s *Store) KeepPartitions(ctx context.Context, now time.Time, retention time.Duration) error {
	today := now.UTC().Truncate(24 * time.Hour)
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtext('gull partitions'))`); err != nil {
			return err
		}
		for _, p := range partitioned {
			for day := -1; day <= daysAhead; day++ {
				from := today.AddDate(0, 0, day)
				sql := fmt.Sprintf(`CREATE TABLE IF NOT EXISTS %s_%s PARTITION OF %s FOR VALUES FROM (%d) TO (%d) %s`,
					p.table, from.Format(dayFormat), p.table, ident.Floor(from), ident.Floor(from.AddDate(0, 0, 1)), p.with)
				if _, err := tx.Exec(ctx, sql); err != nil {
					return err
				}
			}
		}
		if retention == 0 {
			return nil
		}
		return dropOld(ctx, tx, now.Add(-retention))
	})
}

func dropOld(ctx context.Context, tx pgx.Tx, before time.Time) error {
	var oldest *int64
	if err := tx.QueryRow(ctx, `SELECT min(message_id) FROM delivery`).Scan(&oldest); err != nil {
		return err
	}
	if oldest != nil && ident.ID(*oldest).Time().Before(before) {
		before = ident.ID(*oldest).Time()
	}
	last := before.UTC().Truncate(24*time.Hour).AddDate(0, 0, -1).Format(dayFormat)
	rows, err := tx.Query(ctx, `SELECT c.relname::text FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent
		WHERE p.relname IN ('message', 'content', 'delivery_done', 'event') AND right(c.relname, 8) <= $1`, last)
	if err != nil {
		return err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, name := range names {
		if _, err := tx.Exec(ctx, `DROP TABLE `+pgx.Identifier{name}.Sanitize()); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) inTx(ctx context.Context, f func(pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, s.pool, f)
}
