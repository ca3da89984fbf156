package backup

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/audit"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// Verified is what was found of a backup.
type Verified struct {
	Name     string   `json:"name"`
	Manifest Manifest `json:"manifest"`
	Faults   []string `json:"faults" doc:"Empty of one that can be restored"`
	KeyOpens *bool    `json:"key_opens,omitempty" doc:"Whether the passphrase opens the key file; missing if none was given"`
}

// Open makes a directory of a backup that is a ZIP file; others it leaves as they are. done removes
// what it made.
func Open(path string) (dir string, done func(), err error) {
	info, err := os.Stat(path)
	if err != nil || info.IsDir() {
		return path, func() {}, err
	}
	r, err := zip.OpenReader(path)
	if err != nil {
		return "", nil, fmt.Errorf(
			"%s is neither a directory nor a ZIP file of a backup: %w",
			path,
			err,
		)
	}
	defer func() { _ = r.Close() }()
	if dir, err = os.MkdirTemp("", "gull-restore-"); err != nil {
		return "", nil, err
	}
	done = func() { _ = os.RemoveAll(dir) }
	for _, f := range r.File {
		if !slices.Contains([]string{databaseFile, configFile, keyFile, manifestFile}, f.Name) {
			continue
		}
		if err := unpack(f, filepath.Join(dir, f.Name)); err != nil {
			done()
			return "", nil, err
		}
	}
	return dir, done, nil
}

func unpack(f *zip.File, path string) error {
	in, err := f.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// Verify reads every file of a backup: hashes, and whether PostgreSQL's program reads it to its end.
func Verify(
	ctx context.Context,
	path, passphrase string,
	tell func(what string, done, all int),
) (Verified, error) {
	m, root, name, err := Find(path)
	if err != nil {
		return Verified{}, err
	}
	v := Verified{Name: name, Manifest: *m, Faults: []string{}}
	files := m.all(name)
	for i, f := range files {
		if tell != nil {
			tell(f.Name, i, len(files))
		}
		if fault := verifyFile(ctx, root, f); fault != "" {
			v.Faults = append(v.Faults, fault)
		}
	}
	if passphrase != "" && m.HasKey() {
		_, err := openKey(filepath.Join(root, name, keyFile), passphrase)
		opens := err == nil
		if v.KeyOpens = &opens; !opens {
			v.Faults = append(v.Faults, keyFile+": "+err.Error())
		}
	}
	return v, ctx.Err()
}

func verifyFile(ctx context.Context, root string, f File) string {
	path := filepath.Join(root, f.Name)
	found, err := sum(path, io.Discard)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return f.Name + " is missing"
	case err != nil:
		return f.Name + ": " + err.Error()
	case found.Size != f.Size:
		return fmt.Sprintf("%s has %d octets; it had %d", f.Name, found.Size, f.Size)
	case found.SHA256 != f.SHA256:
		return f.Name + " was changed: its hash is another"
	case strings.HasSuffix(path, ".dump"):
		if err := (server{}).run(ctx, io.Discard, "pg_restore", "--file=-", path); err != nil {
			return f.Name + ": " + err.Error()
		}
	}
	return ""
}

func openKey(path, passphrase string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	by, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, err
	}
	r, err := age.Decrypt(f, by)
	if err != nil {
		return nil, errors.New("the passphrase does not open the key file")
	}
	return io.ReadAll(r)
}

// Order is what a restore is to do.
type Order struct {
	Database   string // empty, and of the role that the service will have
	KeyFile    string // where the key file goes; "" restores none
	Passphrase string
	SignOut    bool // sessions of the console and tokens end
	Tell       func(what string, done, all int)
}

// Restored is what came of it.
type Restored struct {
	Name      string    `json:"name"`
	MadeAt    time.Time `json:"made_at"`
	Rows      int64     `json:"rows"`
	Tables    int       `json:"tables"`
	Waiting   int64     `json:"waiting" doc:"Deliveries that wait until all delivery goes on"`
	KeyFile   string    `json:"key_file,omitempty"`
	SignedOut bool      `json:"signed_out"`
}

// ErrUsed reports a database that is not empty.
var ErrUsed = errors.New("the database is not empty: a backup is restored into a new one " +
	"(createdb), never over another")

// Who is what does it, in pauses and in the audit log.
const who = "gull restore"

// Restore makes a server of a backup. All delivery is paused afterwards: what waited then may have
// been delivered by the old server since, which must be off before it goes on.
func Restore(ctx context.Context, path string, o Order) (Restored, error) {
	m, root, name, err := Find(path)
	if err != nil {
		return Restored{}, err
	}
	if known := store.Schema(); m.Schema > known {
		return Restored{}, fmt.Errorf(
			"the backup was made by a later program (%s, schema %d); this one knows "+
				"schema %d: install that program",
			m.Program,
			m.Schema,
			known,
		)
	}
	v, err := Verify(ctx, path, o.Passphrase, o.Tell)
	if err != nil {
		return Restored{}, err
	}
	if len(v.Faults) > 0 {
		return Restored{}, fmt.Errorf("the backup is not whole: %s", strings.Join(v.Faults, "; "))
	}
	if err := unused(ctx, o.Database); err != nil {
		return Restored{}, err
	}
	out := Restored{
		Name:      name,
		MadeAt:    m.MadeAt,
		Waiting:   m.Waiting,
		Tables:    len(m.Rows),
		SignedOut: o.SignOut,
	}
	for _, n := range m.Rows {
		out.Rows += n
	}
	if o.KeyFile != "" && m.HasKey() {
		if err := restoreKey(filepath.Join(root, name, keyFile), o); err != nil {
			return out, err
		}
		out.KeyFile = o.KeyFile
	}
	if err := load(ctx, m, root, name, o); err != nil {
		return out, err
	}
	if err := compare(ctx, o.Database, m); err != nil {
		return out, err
	}
	return out, settle(ctx, m, name, o)
}

// unused refuses a database in which something is.
func unused(ctx context.Context, database string) error {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return fmt.Errorf("the database: %w", err)
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	var used bool
	if err := conn.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND c.relkind IN ('r', 'p', 'v', 'm', 'S')
		AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.objid = c.oid AND d.deptype = 'e'))`).Scan(&used); err != nil {
		return err
	}
	if used {
		return ErrUsed
	}
	return nil
}

// restoreKey puts the key file in its place; another one that is there stays.
func restoreKey(sealed string, o Order) error {
	text, err := openKey(sealed, o.Passphrase)
	if err != nil {
		return err
	}
	if there, err := os.ReadFile(o.KeyFile); err == nil {
		if string(there) == string(text) {
			return nil
		}
		return fmt.Errorf(
			"%s holds another key: move it away, or name another file with --key-file",
			o.KeyFile,
		)
	}
	f, err := os.OpenFile(o.KeyFile, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Sync(), f.Close())
}

// load fills the database: tables first, then data, then indexes and constraints.
func load(ctx context.Context, m *Manifest, root, name string, o Order) error {
	to, err := serverAt(o.Database)
	if err != nil {
		return err
	}
	all := len(m.Days) + 3
	step := 0
	run := func(what, file, section string) error {
		if o.Tell != nil {
			o.Tell(what, step, all)
		}
		step++
		args := []string{
			"--dbname=" + to.address,
			"--no-owner",
			"--no-privileges",
			"--exit-on-error",
			"--section=" + section,
		}
		if section != "pre-data" {
			args = append(args, "--jobs=2")
		}
		return to.run(ctx, nil, "pg_restore", append(args, file)...)
	}
	database := filepath.Join(root, name, databaseFile)
	if err := run("tables", database, "pre-data"); err != nil {
		return err
	}
	if err := run("the database", database, "data"); err != nil {
		return err
	}
	for _, d := range m.Days {
		if err := run("day "+d.Day, filepath.Join(root, daysDir, d.Name), "data"); err != nil {
			return err
		}
	}
	return run("indexes", database, "post-data")
}

// compare counts every table.
func compare(ctx context.Context, database string, m *Manifest) error {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	var other []string
	for _, table := range slices.Sorted(maps.Keys(m.Rows)) {
		var n int64
		if err := conn.QueryRow(ctx, "SELECT count(*) FROM "+pgx.Identifier{table}.Sanitize()).Scan(&n); err != nil {
			return err
		}
		if n != m.Rows[table] {
			other = append(other, fmt.Sprintf("%s has %d rows of %d", table, n, m.Rows[table]))
		}
	}
	if len(other) > 0 {
		return fmt.Errorf("not everything came back: %s", strings.Join(other, ", "))
	}
	return nil
}

// settle pauses all delivery, ends the runs of the old nodes and, if asked, sessions and tokens, and
// puts it on record.
func settle(ctx context.Context, m *Manifest, name string, o Order) error {
	db, err := store.Open(ctx, o.Database)
	if err != nil {
		return err
	}
	defer db.Close()
	why := fmt.Sprintf(
		"restored from the backup %s: what waited then may have been delivered since; go on when the "+
			"old server is off",
		name,
	)
	return errors.Join(
		(store.Pauses{DB: db}).SetPause(
			ctx,
			mail.Pause{Kind: mail.PauseDelivery, Who: who, Why: why},
		),
		(store.Runs{DB: db}).EndAll(ctx),
		signOut(ctx, db, o.SignOut),
		(store.Audit{DB: db}).Add(
			ctx,
			&audit.Deed{At: time.Now(), Who: who, Action: "restore", Target: name,
				Status: 200, Why: "made " + m.MadeAt.Format(time.RFC3339)},
		),
	)
}

func signOut(ctx context.Context, db *store.DB, asked bool) error {
	if !asked {
		return nil
	}
	return (store.Accounts{DB: db}).SignOutAll(ctx)
}
