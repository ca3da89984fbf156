package store

import (
	"context"
	"strconv"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/tuning"
)

// Tunings tell how the database server is set up.
type Tunings struct{ *DB }

// settingsAsked are the settings that are judged (core/tuning).
var settingsAsked = []string{
	"fsync",
	"full_page_writes",
	"synchronous_commit",
	"synchronous_standby_names",
	"default_transaction_read_only",
	"autovacuum",
	"autovacuum_naptime",
	"max_connections",
	"max_locks_per_transaction",
	"shared_buffers",
	"effective_cache_size",
	"maintenance_work_mem",
	"max_wal_size",
	"checkpoint_timeout",
	"wal_buffers",
	"bgwriter_lru_maxpages",
}

// units are those of pg_settings, in octets or milliseconds.
var units = map[string]int64{"B": 1, "kB": 1 << 10, "8kB": 8 << 10, "MB": 1 << 20, "16MB": 16 << 20,
	"GB": 1 << 30, "ms": 1, "s": 1000, "min": 60_000}

// Facts are what can be asked of the server; its memory cannot.
func (s Tunings) Facts(ctx context.Context) (tuning.Facts, error) {
	f := tuning.Facts{Settings: map[string]string{}, PerNode: int(s.pool.Config().MaxConns)}
	rows, err := s.pool.Query(ctx, `SELECT name, setting, coalesce(unit, '') FROM pg_settings
		WHERE name = ANY($1)`, settingsAsked)
	if err != nil {
		return f, err
	}
	var name, value, unit string
	if _, err := pgx.ForEachRow(rows, []any{&name, &value, &unit}, func() error {
		n, err := strconv.ParseInt(value, 10, 64)
		if size := units[unit]; err == nil && size > 0 && n > 0 {
			value = strconv.FormatInt(n*size, 10)
		}
		f.Settings[name] = value
		return nil
	}); err != nil {
		return f, err
	}
	if err := s.pool.QueryRow(ctx, `SELECT (SELECT count(*) FROM node WHERE NOT gone
			AND seen_at > clock_timestamp() - interval '1 minute'),
		(SELECT count(*) + coalesce(sum((SELECT count(*) FROM pg_index i
				WHERE i.indrelid = c.oid)), 0)
			FROM pg_inherits h JOIN pg_class c ON c.oid = h.inhrelid
				JOIN pg_class p ON p.oid = h.inhparent
			WHERE c.relkind = 'r'
				AND p.relname IN ('message', 'delivery_done', 'find_text', 'session')),
		(SELECT age(datfrozenxid)::bigint FROM pg_database WHERE datname = current_database()),
		coalesce((SELECT last_failed_wal FROM pg_stat_archiver
			WHERE last_failed_time > coalesce(last_archived_time, '-infinity')), '')`).Scan(&f.Nodes, &f.Relations,
		&f.XidAge, &f.ArchiveFailing); err != nil {
		return f, err
	}
	if err := s.writers(ctx, &f); err != nil {
		return f, err
	}
	rows, err = s.pool.Query(
		ctx,
		`SELECT slot_name::text, coalesce(pg_wal_lsn_diff(pg_current_wal_lsn(),
		restart_lsn), 0)::bigint FROM pg_replication_slots WHERE NOT active ORDER BY 1`,
	)
	if err != nil {
		return f, err
	}
	f.IdleSlots, err = pgx.CollectRows(rows, pgx.RowToStructByPos[tuning.Slot])
	return f, err
}

// writers reads who wrote pages, which stands elsewhere from PostgreSQL 17 on.
func (s Tunings) writers(ctx context.Context, f *tuning.Facts) error {
	var version int
	if err := s.pool.QueryRow(ctx, `SELECT current_setting('server_version_num')::int`).
		Scan(&version); err != nil {
		return err
	}
	sql := `SELECT checkpoints_timed, checkpoints_req, buffers_backend,
		buffers_backend + buffers_clean + buffers_checkpoint FROM pg_stat_bgwriter`
	if version >= 170000 {
		sql = `SELECT c.num_timed, c.num_requested, w.backend,
				w.backend + b.buffers_clean + c.buffers_written
			FROM pg_stat_checkpointer c, pg_stat_bgwriter b,
				(SELECT coalesce(sum(writes), 0)::bigint AS backend
					FROM pg_stat_io WHERE backend_type = 'client backend') w`
	}
	return s.pool.QueryRow(ctx, sql).
		Scan(&f.TimedCheckpoints, &f.ForcedCheckpoints, &f.WrittenByBackends, &f.Written)
}
