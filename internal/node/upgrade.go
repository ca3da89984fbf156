package node

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// Upgrade is what the start of this program would do to a database and to those who use it now.
type Upgrade struct {
	Schema store.SchemaState `json:"schema"`
	Nodes  []UpgradeNode     `json:"nodes"`
	// Octets is how much the database takes.
	Octets int64 `json:"octets"`
	// Against is what speaks against it now, each with what to do first.
	Against []string `json:"against"`
}

// UpgradeNode is a node that runs, and whether it goes on beside this program.
type UpgradeNode struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Schema  int64  `json:"schema" doc:"The latest that it knows; 0 if it does not say"`
	GoesOn  bool   `json:"goes_on"`
}

// longHeld is how long a transaction may be open before a migration might wait for its locks.
const longHeld = time.Minute

// LookAtUpgrade changes nothing: it looks at the schema, the nodes that run and what is in the way.
func LookAtUpgrade(ctx context.Context, url string) (u Upgrade, err error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return u, fmt.Errorf("database: %w", err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	u.Nodes, u.Against = []UpgradeNode{}, []string{}
	if u.Schema, err = store.LookAtSchema(ctx, conn); err != nil {
		return u, err
	}
	if err := conn.QueryRow(ctx,
		`SELECT pg_database_size(current_database())`).Scan(&u.Octets); err != nil {
		return u, err
	}
	if u.Schema.WorksFrom > u.Schema.Known {
		u.Against = append(
			u.Against,
			fmt.Sprintf("this program is too old: it knows schema %d, and the "+
				"database is for programs that know %d. Take the program that made it so, or a later one; "+
				"back goes only by a backup from before", u.Schema.Known, u.Schema.WorksFrom),
		)
	}
	if u.Schema.There == 0 {
		return u, nil
	}
	if err := u.nodes(ctx, conn); err != nil {
		return u, err
	}
	return u, u.held(ctx, conn)
}

// needs is the oldest schema whose programs may go on once this program has begun.
func (u *Upgrade) needs() int64 {
	need := u.Schema.WorksFrom
	for _, m := range u.Schema.Missing {
		if m.Kind == "contract" || m.Version == store.FirstShared {
			need = max(need, m.Version)
		}
	}
	return need
}

func (u *Upgrade) nodes(ctx context.Context, conn *pgx.Conn) error {
	said := `facts`
	if u.Schema.There < store.FirstShared {
		said = `NULL::jsonb`
	}
	rows, err := conn.Query(ctx, `SELECT DISTINCT ON (name) name, `+said+` FROM node
		WHERE NOT gone AND seen_at > now() - interval '30 seconds' ORDER BY name, id DESC`)
	if err != nil {
		return err
	}
	need := u.needs()
	u.Nodes, err = pgx.AppendRows(
		u.Nodes,
		rows,
		func(row pgx.CollectableRow) (n UpgradeNode, err error) {
			var f *mail.NodeFacts
			if err = row.Scan(&n.Name, &f); f != nil {
				n.Version, n.Schema = f.Version, f.Schema
			}
			n.GoesOn = n.Schema >= need
			return n, err
		},
	)
	for _, n := range u.Nodes {
		if len(u.Schema.Missing) > 0 && !n.GoesOn {
			u.Against = append(
				u.Against,
				fmt.Sprintf("%s stops taking mail when this program begins: its "+
					"program is too old for what is done to the schema. Upgrade it right afterwards; until then "+
					"this node does its work", n.Name),
			)
		}
	}
	return err
}

// held names transactions that have been open for so long that a change of a table might wait
// for them.
func (u *Upgrade) held(ctx context.Context, conn *pgx.Conn) error {
	if len(u.Schema.Missing) == 0 {
		return nil
	}
	rows, err := conn.Query(ctx, `SELECT pid, coalesce(nullif(application_name, ''), 'no name'),
			extract(epoch FROM now() - xact_start)::int FROM pg_stat_activity
		WHERE datname = current_database() AND xact_start < now() - $1::interval
			AND pid <> pg_backend_pid() ORDER BY xact_start`, longHeld)
	if err != nil {
		return err
	}
	var pid, seconds int
	var name string
	_, err = pgx.ForEachRow(rows, []any{&pid, &name, &seconds}, func() error {
		u.Against = append(
			u.Against,
			fmt.Sprintf("a transaction of process %d (%s) has been open for %s: "+
				"a migration gives way to it again and again. Let it end, or SELECT "+
				"pg_terminate_backend(%d)",
				pid, name, time.Duration(seconds)*time.Second, pid),
		)
		return nil
	})
	return err
}
