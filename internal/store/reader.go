package store

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

// Reader knows a standby that searches and reports may be read from, and how far it is
// behind: nodes write into the database every few seconds that they live, with its clock,
// and the standby shows until when it has heard that.
type Reader struct {
	primary, standby *DB
	limit            time.Duration

	mutex  sync.Mutex
	asOf   time.Time // what was written until then is on the standby
	looked time.Time
	why    error // it can't be used; nil if it can
}

const (
	readers = 8 // connections to a standby
	// lookLimit bounds a look, and lookedFor is how long one counts.
	lookLimit = 3 * time.Second
	lookedFor = 5 * time.Second
)

// ErrBehind reports a standby that is further behind than it may be, and ErrNotOurs one of
// another database.
var (
	ErrBehind  = errors.New("it is too far behind")
	ErrNotOurs = errors.New("it is no standby of this service's database")
)

// firstNode tells one database from another: the random key of the first run of a node.
const firstNode = `(SELECT coalesce(min(key::text) FILTER (WHERE id = first), '') FROM node,
	(SELECT min(id) AS first FROM node) f)`

// OpenReader makes a reader of a standby of primary that may be so far behind. It connects
// when it is first looked at.
func OpenReader(
	ctx context.Context,
	primary *DB,
	url string,
	limit time.Duration,
) (*Reader, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("address of the standby: %w", err)
	}
	cfg.MaxConns, cfg.AfterConnect = readers, cleanTexts
	cfg.ConnConfig.ConnectTimeout = hostTimeout
	cfg.ConnConfig.RuntimeParams["application_name"] = "gull reading"
	cfg.ConnConfig.RuntimeParams["default_transaction_read_only"] = "on"
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	return &Reader{
		primary: primary,
		standby: &DB{pool: database{pool}},
		limit:   limit,
		why:     errors.New("it was not looked at yet"),
	}, nil
}

// Close ends its connections.
func (r *Reader) Close() {
	if r != nil {
		r.standby.pool.Close()
	}
}

// Look finds out how far the standby is behind. The error says why it can't be used.
func (r *Reader) Look(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, lookLimit)
	defer cancel()
	var now, heard time.Time
	var ours, its string
	err := r.primary.pool.QueryRow(ctx, `SELECT clock_timestamp(), `+firstNode).Scan(&now, &ours)
	if err == nil {
		err = r.standby.pool.QueryRow(ctx, `SELECT coalesce((SELECT max(seen_at) FROM node), 'epoch'), `+
			firstNode).
			Scan(&heard, &its)
	}
	behind := now.Sub(heard)
	switch {
	case err != nil:
	case its != ours:
		err = ErrNotOurs
	case behind > r.limit:
		err = fmt.Errorf("%w: %s, at most %s", ErrBehind, behind.Round(time.Second), r.limit)
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.asOf, r.looked, r.why = heard, time.Now(), err
	return err
}

// Fresh is the standby, and until when it has what was written; nil if it can't be used now.
func (r *Reader) Fresh() (*DB, time.Time) {
	if r == nil {
		return nil, time.Time{}
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.why != nil || time.Since(r.looked) > lookedFor {
		return nil, time.Time{}
	}
	return r.standby, r.asOf
}

// Distrust leaves the standby alone until it is looked at again.
func (r *Reader) Distrust(why error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.why = why
}

// Behind is how far the standby was behind when it was looked at; 0 if there is none, negative
// if it is not read from.
func (r *Reader) Behind() time.Duration {
	if r == nil {
		return 0
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.why != nil {
		return -1
	}
	return max(time.Millisecond, r.looked.Sub(r.asOf))
}
