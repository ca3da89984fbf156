package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/report"
)

// logged are the increments of many commits, added up.
type logged struct {
	places map[sumPlace]int
	ats    []time.Time
	dims   []string
	values []string
	kinds  []string
	counts [4][]int64 // number, octets, delay, longest delay
}

type sumPlace struct {
	dim, value, kind string
	hour             int64
}

// add adds what one commit has put on record.
func (l *logged) add(packed []byte) error {
	if l.places == nil {
		l.places = map[sumPlace]int{}
	}
	over := false
	err := report.ReadLog(packed, func(dim string, hour int64, s report.Sum) {
		at := sumPlace{dim, s.Value, s.Kind, hour}
		i, ok := l.places[at]
		if !ok {
			i = len(l.ats)
			l.places[at] = i
			l.ats = append(l.ats, time.Unix(hour*3600, 0).UTC())
			l.dims, l.values = append(l.dims, dim), append(l.values, s.Value)
			l.kinds = append(l.kinds, s.Kind)
			for k := range l.counts {
				l.counts[k] = append(l.counts[k], 0)
			}
		}
		for k, v := range [...]int64{s.N, s.Bytes, s.Delay} {
			sum := l.counts[k][i] + v
			over = over || v > 0 && sum < v
			l.counts[k][i] = sum
		}
		l.counts[3][i] = max(l.counts[3][i], s.DelayMax)
	})
	if err == nil && over {
		err = errors.New("a sum is out of range")
	}
	if err != nil {
		return dataError{err}
	}
	return nil
}

// write adds it to the counts.
func (l *logged) write(ctx context.Context, tx pgx.Tx) error {
	if len(l.ats) == 0 {
		return nil
	}
	_, err := tx.Exec(ctx, `WITH hours AS (
		SELECT * FROM unnest($1::timestamptz[], $2::text[], $3::text[], $4::text[], $5::bigint[],
			$6::bigint[], $7::bigint[], $8::bigint[])
			AS h(at, dim, value, kind, n, bytes, delay, delay_max)
		)`+addHours, l.ats, l.dims, l.values, l.kinds, l.counts[0], l.counts[1], l.counts[2],
		l.counts[3])
	return err
}
