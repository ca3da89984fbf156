package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Notices are what nodes tell each other.
type Notices struct{ *DB }

// Notice is what one node tells the others through the database.
type Notice struct {
	Kind string   `json:"kind"` // config or directory
	Keys []string `json:"keys,omitempty"`
	// Node says it, in notices that are not for itself; Live are events.
	Node string            `json:"node,omitempty"`
	Live []json.RawMessage `json:"live,omitempty"`
}

// channel carries notices.
const channel = "gull"

// maxNotice bounds a notice, in octets; PostgreSQL takes 8,000.
const maxNotice = 7000

// Say tells all nodes. It reports ErrLongNotice of a notice that is too long.
func (s Notices) Say(ctx context.Context, n Notice) error {
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	if len(text) > maxNotice {
		return ErrLongNotice
	}
	_, err = s.pool.Exec(ctx, `SELECT pg_notify($1, $2)`, channel, string(text))
	return err
}

// ErrLongNotice reports a notice that no node could be told.
var ErrLongNotice = errors.New("the notice is too long")

// notify tells all nodes, when the transaction commits.
func notify(ctx context.Context, tx pgx.Tx, kind string, keys []string) error {
	text, err := json.Marshal(Notice{Kind: kind, Keys: keys})
	if err != nil {
		return err
	}
	if len(text) > maxNotice {
		text, _ = json.Marshal(Notice{Kind: kind})
	}
	_, err = tx.Exec(ctx, `SELECT pg_notify($1, $2)`, channel, string(text))
	return err
}

// Listen calls f with every notice until ctx ends. After a connection that broke, was
// frozen or leads to a former primary it calls missed, because notices may have been lost,
// and goes on: ten seconds after another host takes writes at the latest.
func (s Notices) Listen(ctx context.Context, missed func(), f func(Notice)) {
	for ctx.Err() == nil {
		err := s.listen(ctx, missed, f)
		if ctx.Err() != nil {
			return
		}
		_ = err // the database is away; others say so
		select {
		case <-ctx.Done():
		case <-time.After(listenAgain):
		}
	}
}

const listenAgain = 500 * time.Millisecond

// Times of listening: a connection that is silent for so long is asked whether it still
// leads to the host that takes writes.
const (
	listenQuiet = 2 * time.Second
	listenAsk   = 2 * time.Second
)

func (s Notices) listen(ctx context.Context, missed func(), f func(Notice)) error {
	c := s.pool.Config().ConnConfig
	s.hosts.order(c)
	renewed := s.renewed.Load()
	conn, err := pgx.ConnectConfig(ctx, c)
	if err != nil {
		return err
	}
	defer func() {
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), listenAsk)
		defer cancel()
		_ = conn.Close(ending)
	}()
	asking, cancel := context.WithTimeout(ctx, listenAsk)
	_, err = conn.Exec(asking, "LISTEN "+channel)
	cancel()
	if err != nil {
		return err
	}
	missed()
	for {
		waiting, cancel := context.WithTimeout(ctx, listenQuiet)
		n, err := conn.WaitForNotification(waiting)
		cancel()
		if err == nil {
			var notice Notice
			if json.Unmarshal([]byte(n.Payload), &notice) == nil {
				f(notice)
			}
			continue
		}
		if ctx.Err() != nil || conn.IsClosed() {
			return fmt.Errorf("notices: %w", err)
		}
		if s.renewed.Load() != renewed || s.hosts.behind(conn.PgConn()) {
			return errors.New("notices: the database is another host by now")
		}
		var standby bool
		asking, cancel := context.WithTimeout(ctx, listenAsk)
		err = conn.QueryRow(asking, `SELECT pg_is_in_recovery()`).Scan(&standby)
		cancel()
		if err != nil || standby {
			return fmt.Errorf("notices: the host does not answer or is a standby: %w", err)
		}
	}
}
