package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/machine"
)

// Machines know what the database says of itself, and how full places were.
type Machines struct{ *DB }

// roomsKept is how long it is kept how full places were; roomsAsked is how far a forecast looks back.
const (
	roomsKept  = 90 * 24 * time.Hour
	roomsAsked = 21 * 24 * time.Hour
)

// Look asks the database for its size, version, the oldest open transaction and its standbys.
func (s Machines) Look(ctx context.Context) (d machine.Database, off time.Duration, err error) {
	var now time.Time
	var longest float64
	began := time.Now()
	err = s.pool.QueryRow(ctx, `SELECT clock_timestamp()`).Scan(&now)
	if err != nil {
		return d, 0, err
	}
	off = began.Add(time.Since(began) / 2).Sub(now) // as if the answer was made half-way
	err = s.pool.QueryRow(ctx, `SELECT current_setting('server_version_num')::int,
			pg_database_size(current_database()), coalesce(extract(epoch FROM now() - a.xact_start), 0)::float8,
			coalesce(format('process %s (%s)', a.pid, coalesce(nullif(a.application_name, ''), 'no name')), '')
		FROM (SELECT) one LEFT JOIN LATERAL (SELECT pid, xact_start, application_name FROM pg_stat_activity
			WHERE xact_start IS NOT NULL AND pid <> pg_backend_pid() AND datname = current_database()
				AND backend_type = 'client backend'
			ORDER BY xact_start LIMIT 1) a ON true`).Scan(&d.Version, &d.Size, &longest, &d.LongestN)
	if err != nil {
		return d, off, err
	}
	d.Longest = time.Duration(longest * float64(time.Second))
	rows, err := s.pool.Query(ctx, `SELECT application_name, state IS NOT NULL,
			coalesce(extract(epoch FROM replay_lag), 0)::float8 FROM pg_stat_replication ORDER BY 1`)
	if err != nil {
		return d, off, err
	}
	d.Standbys, err = pgx.CollectRows(
		rows,
		func(row pgx.CollectableRow) (b machine.Standby, err error) {
			var seen bool
			var behind float64
			if err = row.Scan(&b.Name, &seen, &behind); seen {
				lag := time.Duration(behind * float64(time.Second))
				b.Behind = &lag
			}
			return b, err
		},
	)
	return d, off, err
}

// Note keeps how much of a place is used, once an hour.
func (s Machines) Note(ctx context.Context, what string, used, free int64) error {
	_, err := s.pool.Exec(ctx, `INSERT INTO room_seen VALUES ($1, date_trunc('hour', now()), $2, $3)
		ON CONFLICT DO NOTHING`, what, used, free)
	return err
}

// ForgetRooms drops what is older than a forecast needs.
func (s Machines) ForgetRooms(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM room_seen WHERE at < now() - $1::interval`, roomsKept)
	return err
}

// Foresee tells how fast a place fills; nil if too little is known of it.
func (s Machines) Foresee(ctx context.Context, what string) (*machine.Forecast, error) {
	rows, err := s.pool.Query(ctx, `SELECT at, used, free FROM room_seen
		WHERE what = $1 AND at > now() - $2::interval ORDER BY at`, what, roomsAsked)
	if err != nil {
		return nil, err
	}
	samples, err := pgx.CollectRows(rows, pgx.RowToStructByPos[machine.Sample])
	return machine.Foresee(samples), err
}
