package store

import (
	"context"
	"time"

	"gullroute/internal/core/mail"

	"github.com/jackc/pgx/v5"
)

// AddCounts adds to the counts of hours.
func (s *Store) AddCounts(ctx context.Context, counts []mail.Count) error {
	b := &pgx.Batch{}
	for _, c := range counts {
		b.Queue(`INSERT INTO count_hour (hour, kind, n, bytes) VALUES ($1, $2, $3, $4)
			ON CONFLICT (hour, kind) DO UPDATE SET n = count_hour.n + excluded.n, bytes = count_hour.bytes + excluded.bytes`, c.Hour, c.Kind, c.N, c.Bytes)
	}
	return s.pool.SendBatch(ctx, b).Close()
}

// Counts reads the counts since an hour.
func (s *Store) Counts(ctx context.Context, since time.Time) ([]mail.Count, error) {
	rows, err := s.pool.Query(ctx, `SELECT hour, kind, n, bytes FROM count_hour WHERE hour >= $1 ORDER BY hour, kind`, since)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.Count, error) {
		var c mail.Count
		err := row.Scan(&c.Hour, &c.Kind, &c.N, &c.Bytes)
		c.Hour = c.Hour.UTC()
		return c, err
	})
}
