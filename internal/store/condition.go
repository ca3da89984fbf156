package store

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
)

// State is how the database does, as far as taking and delivering mail needs it.
type State string

// The states. Only a well database takes what must not be lost.
const (
	Well     State = "well"
	Away     State = "away"      // no connection
	Frozen   State = "frozen"    // connections, and no answers
	ReadOnly State = "read-only" // a standby, or set so
	Waiting  State = "waiting"   // commits wait for a standby
	Hanging  State = "hanging"   // it answers, and commits come to no end
	Former   State = "former"    // only a former primary takes writes
	Newer    State = "newer"     // its schema is newer than this program
	Replaced State = "replaced"  // another service runs under this node's name
	Refusing State = "refusing"  // another error
)

// States are all of them.
func States() []State {
	return []State{
		Well,
		Away,
		Frozen,
		ReadOnly,
		Waiting,
		Hanging,
		Former,
		Newer,
		Replaced,
		Refusing,
	}
}

// Condition is a state with what it means.
type Condition struct {
	State State
	Text  string // a sentence: what is wrong and what to do
}

var sentences = map[State]string{
	Away: "the database cannot be reached: %s",
	Frozen: "the database takes connections and does not answer: it is frozen or overloaded; look " +
		"at its machine, " +
		"or promote its standby",
	ReadOnly: "the database is read-only: it is a standby, or was set so; let this service reach " +
		"the primary " +
		"(name all hosts in the database's address, with target_session_attrs=read-write)",
	Waiting: "commits wait for a synchronous standby that does not answer: start it, " +
		"or take it out of synchronous_standby_names",
	Hanging: "the database answers, and its commits come to no end: look at its disk",
	Former: "only a former primary takes writes, and what it takes is lost to the promoted one: " +
		"stop it (%s)",
	Newer: "the database's schema is newer than this program: stop this service and start the " +
		"program " +
		"that changed the schema, or a later one",
	Replaced: "another service runs under the name of this node, and this one has stopped: give " +
		"each its own --node",
	Refusing: "the database refuses a heartbeat: %s",
}

func condition(s State, args ...any) Condition {
	return Condition{s, fmt.Sprintf(sentences[s], args...)}
}

// NewerSchema and RunReplaced are conditions that a heartbeat finds.
func NewerSchema() Condition { return condition(Newer) }
func RunReplaced() Condition { return condition(Replaced) }

// Ask finds out why a heartbeat failed. It takes a new connection, and a few seconds at most.
func (s Runs) Ask(ctx context.Context, failed error) Condition {
	var refused *pgconn.PgError
	var dial *pgconn.ConnectError
	switch {
	case errors.As(failed, &refused) && refused.Code == "25006":
		return condition(ReadOnly)
	case errors.Is(failed, ErrFormer):
		return condition(Former, strings.Join(s.Former(), ", "))
	case errors.As(failed, &refused) && !errors.As(failed, &dial) && !connectionCode(refused.Code):
		return condition(Refusing, refused.Message)
	}
	ctx, cancel := context.WithTimeout(ctx, 2*hostTimeout)
	defer cancel()
	c := s.pool.Config().ConnConfig
	s.hosts.order(c)
	conn, err := pgconn.ConnectConfig(ctx, &c.Config)
	if err != nil {
		return unreached(s.DB, err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if !errors.Is(failed, context.DeadlineExceeded) && !isTimeout(failed) {
		return condition(Away, failed) // a moment ago; the next heartbeat will tell
	}
	found, err := conn.Exec(ctx, `SELECT count(*) FROM pg_stat_activity
		WHERE usename = current_user AND wait_event = 'SyncRep'`).ReadAll()
	if err != nil || len(found) != 1 || len(found[0].Rows) != 1 {
		return condition(Frozen)
	}
	if string(found[0].Rows[0][0]) != "0" {
		return condition(Waiting)
	}
	return condition(Hanging)
}

// connectionCode reports a code of a connection that ended (SQLSTATE classes 08 and 57).
func connectionCode(code string) bool {
	return strings.HasPrefix(code, "57") || strings.HasPrefix(code, "08")
}

func unreached(s *DB, err error) Condition {
	switch {
	case errors.Is(err, ErrFormer):
		return condition(Former, strings.Join(s.Former(), ", "))
	case errors.Is(err, ErrOtherCluster):
		return condition(Refusing, err)
	case strings.Contains(err.Error(), "read only connection") || strings.Contains(err.Error(),
		"ValidateConnect failed"):
		return condition(ReadOnly)
	case isTimeout(err):
		return condition(Frozen)
	}
	return condition(Away, err)
}

func isTimeout(err error) bool {
	var t net.Error
	return errors.Is(err, context.DeadlineExceeded) || errors.As(err, &t) && t.Timeout() ||
		pgconn.Timeout(err)
}
