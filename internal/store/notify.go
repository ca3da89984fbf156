package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

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
func (s *Store) Say(ctx context.Context, n Notice) error {
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

// Listen calls f with every notice until ctx ends. After a broken connection it
// calls missed, because notices may have been lost, and goes on.
func (s *Store) Listen(ctx context.Context, missed func(), f func(Notice)) {
	for ctx.Err() == nil {
		err := s.listen(ctx, missed, f)
		if ctx.Err() != nil {
			return
		}
		_ = err // the database is away; others say so
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

func (s *Store) listen(ctx context.Context, missed func(), f func(Notice)) error {
	conn, err := pgx.ConnectConfig(ctx, s.pool.Config().ConnConfig)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
		return err
	}
	missed()
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return fmt.Errorf("notices: %w", err)
		}
		var notice Notice
		if json.Unmarshal([]byte(n.Payload), &notice) == nil {
			f(notice)
		}
	}
}
