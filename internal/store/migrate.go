package store

import (
	"bufio"
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
)

// The schema is brought up to date by the program that begins. Rules for migrations, which a
// test holds: each says in its first comment what it is.
//
//   - Expand: adds what earlier programs do not see. They go on beside this one.
//   - Contract: takes away or changes what earlier programs use, once no program uses it any
//     more; it sets schema_use.works_from, and programs from before that stop.
//
// No migration waits for a lock for longer than schemaWait, since whoever comes after it would
// wait too: it gives way and comes again. None rewrites a table that may be large, nor makes an
// index on one but CONCURRENTLY.

//go:embed migrations/*.sql
var migrations embed.FS

// How long a migration waits for a lock, how long it gives way then, and how often.
const (
	schemaWait = time.Second
	giveWay    = 2 * time.Second
	lockTries  = 60
)

// FirstShared is the schema since which programs of two versions may use one database.
const FirstShared = 39

// Migration is a step of the schema.
type Migration struct {
	Version int64  `json:"version"`
	Kind    string `json:"kind" enum:"expand,contract"`
	What    string `json:"what"`
}

// ErrNewerSchema reports a database that a later program has changed.
var ErrNewerSchema = errors.New(
	"the database's schema is newer than this program: start the program that made it, or a " +
		"later " +
		"one",
)

// knownSchema is the latest version that this program knows.
var knownSchema = func() (latest int64) {
	for _, m := range Migrations() {
		latest = max(latest, m.Version)
	}
	return latest
}()

// Schema is the latest version of the schema that this program knows.
func Schema() int64 { return knownSchema }

// Migrations are all steps that this program knows, the first first.
func Migrations() (list []Migration) {
	names, _ := fs.Glob(migrations, "migrations/*.sql")
	for _, name := range names {
		v, err := goose.NumericComponent(name)
		if err != nil {
			continue
		}
		text, _ := migrations.ReadFile(name)
		list = append(list, describe(v, path.Base(name), string(text)))
	}
	return list
}

// describe reads what a migration says of itself in its first comment.
func describe(version int64, name, text string) Migration {
	m := Migration{Version: version, Kind: "expand"}
	var said []string
	lines := bufio.NewScanner(strings.NewReader(text))
	for lines.Scan() {
		line, comment := strings.CutPrefix(lines.Text(), "-- ")
		switch {
		case comment && !strings.HasPrefix(line, "+goose"):
			said = append(said, line)
			continue
		case len(said) == 0:
			continue
		}
		break
	}
	m.What = strings.TrimSuffix(strings.Join(said, " "), ".")
	if rest, ok := strings.CutPrefix(m.What, "Contract: "); ok {
		m.Kind, m.What = "contract", rest
	}
	m.What = strings.TrimPrefix(m.What, "Expand: ")
	if m.What == "" {
		_, m.What, _ = strings.Cut(strings.TrimSuffix(name, ".sql"), "_")
		m.What = strings.ReplaceAll(m.What, "_", " ")
	}
	return m
}

// SchemaState is what a database's schema is to this program.
type SchemaState struct {
	There     int64       `json:"there" doc:"The version of the database; 0 for an empty one"`
	WorksFrom int64       `json:"works_from" doc:"The oldest version whose programs may use it"`
	Known     int64       `json:"known" doc:"The latest version that this program knows"`
	Missing   []Migration `json:"missing" doc:"What this program would do to it at its start"`
}

// LookAtSchema tells how a database's schema stands to this program, and changes nothing.
func LookAtSchema(ctx context.Context, conn *pgx.Conn) (SchemaState, error) {
	st := SchemaState{Known: knownSchema, Missing: []Migration{}}
	var there bool
	err := conn.QueryRow(ctx, `SELECT to_regclass('goose_db_version') IS NOT NULL`).Scan(&there)
	if err != nil {
		return st, err
	}
	if there {
		err = conn.QueryRow(ctx, `SELECT coalesce(max(version_id), 0) FROM goose_db_version
			WHERE is_applied`).Scan(&st.There)
		if err == nil {
			st.WorksFrom, err = worksFrom(ctx, conn, st.There)
		}
	}
	for _, m := range Migrations() {
		if m.Version > st.There {
			st.Missing = append(st.Missing, m)
		}
	}
	return st, err
}

// asks is a connection, or several.
type asks interface {
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

// worksFrom is the oldest schema whose programs may use the one that is there; before it was
// written down, only those that know it.
func worksFrom(ctx context.Context, db asks, there int64) (from int64, err error) {
	var noted bool
	err = db.QueryRow(ctx, `SELECT to_regclass('schema_use') IS NOT NULL`).Scan(&noted)
	if err != nil || !noted {
		return there, err
	}
	err = db.QueryRow(ctx, `SELECT works_from FROM schema_use`).Scan(&from)
	return from, err
}

// migrate brings the schema up to date. A later one is used as it is, if it allows for it.
func (s *DB) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	c := s.pool.Config().ConnConfig.Copy()
	s.hosts.order(c)
	c.RuntimeParams["lock_timeout"] = schemaWait.String()
	db := stdlib.OpenDB(*c)
	defer db.Close()
	one, err := lock.NewPostgresSessionLocker() // of nodes that begin at the same time
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(one))
	if err != nil {
		return err
	}
	for try := 1; ; try++ {
		there, err := p.GetDBVersion(ctx)
		if err != nil {
			return err
		}
		if there > knownSchema {
			from, err := worksFrom(ctx, s.pool, there)
			if err == nil && from > knownSchema {
				err = fmt.Errorf(
					"%w: it has version %d for programs that know %d, and this one knows %d",
					ErrNewerSchema,
					there,
					from,
					knownSchema,
				)
			}
			return err
		}
		_, err = p.Up(ctx)
		var refused *pgconn.PgError
		if !errors.As(err, &refused) || refused.Code != "55P03" || try == lockTries {
			return err
		}
		select { // somebody uses the table: who comes after us shall not wait for him too
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(giveWay):
		}
	}
}
