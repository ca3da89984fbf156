package backup

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"filippo.io/age"
	"github.com/jackc/pgx/v5"
)

// Options are what a backup is made of.
type Options struct {
	Database   string
	KeyFile    string // "" leaves it out
	Passphrase string // under which the key file goes
	Program    string // version of this program
	Keep       int    // older ones go when there are more; 0 keeps all
	// Tell hears how far it is: what is done now, and of how many parts how many are done.
	Tell func(what string, done, all int)
}

// Done is what came of it.
type Done struct {
	Name     string   `json:"name"`
	Manifest Manifest `json:"manifest"`
	Written  int64    `json:"written" doc:"Octets written now; the rest was there already"`
	Removed  []string `json:"removed" doc:"Older ones that went"`
}

// ErrBusy reports that another backup is being made in the same directory.
var ErrBusy = errors.New("another backup is being made here; wait for its end")

// nameForm is how backups are named: by their time in UTC.
const nameForm = "20060102T150405Z"

// Make writes a backup into a directory of backups. It appears there when it is whole; what was
// begun and not ended is left in a directory whose name begins with a dot, which the next one
// removes.
func Make(ctx context.Context, root string, o Options) (Done, error) {
	if err := os.MkdirAll(filepath.Join(root, daysDir), 0o700); err != nil {
		return Done{}, err
	}
	lock, err := os.OpenFile(filepath.Join(root, ".lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return Done{}, err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return Done{}, ErrBusy
	}
	left, _ := filepath.Glob(filepath.Join(root, ".begun-*"))
	for _, dir := range left {
		_ = os.RemoveAll(dir)
	}
	name := time.Now().UTC().Format(nameForm)
	if _, err := os.Stat(filepath.Join(root, name)); err == nil {
		return Done{}, fmt.Errorf("there is a backup %s already", name)
	}
	dir := filepath.Join(root, ".begun-"+name)
	if err := os.Mkdir(dir, 0o700); err != nil {
		return Done{}, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	b := maker{Options: o, root: root, dir: dir, before: map[string]Day{}}
	names, err := list(root)
	if err != nil {
		return Done{}, err
	}
	for _, old := range names {
		if m, err := read(filepath.Join(root, old)); err == nil {
			for _, d := range m.Days {
				b.before[d.Name] = d
			}
		}
	}
	if err := b.make(ctx); err != nil {
		return Done{}, err
	}
	if err := os.Rename(dir, filepath.Join(root, name)); err != nil {
		return Done{}, err
	}
	if err := syncAll(root); err != nil {
		return Done{}, err
	}
	done := Done{Name: name, Manifest: b.manifest, Written: b.written, Removed: []string{}}
	if o.Keep > 0 {
		done.Removed, err = Prune(root, o.Keep)
	}
	return done, err
}

// maker makes one backup.
type maker struct {
	Options
	root, dir string
	conn      *pgx.Conn
	server    server
	snapshot  string
	manifest  Manifest
	written   int64
	before    map[string]Day // what the backups here say of the days that they share
	stream    *zip.Writer    // in place of the directory, for the database
}

// dayTable is a table that holds one day of history.
var dayTable = regexp.MustCompile(`_([0-9]{8})$`)

// Stream writes a backup as a ZIP file, its history too.
func Stream(ctx context.Context, out io.Writer, o Options) (Manifest, error) {
	dir, err := os.MkdirTemp("", "gull-backup-")
	if err != nil {
		return Manifest{}, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	b := maker{Options: o, dir: dir, stream: zip.NewWriter(out)}
	if err := b.make(ctx); err != nil {
		return Manifest{}, err
	}
	for _, name := range []string{configFile, keyFile, manifestFile} {
		text, err := os.ReadFile(filepath.Join(dir, name))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return Manifest{}, err
		}
		w, err := b.stream.Create(name)
		if err == nil {
			_, err = w.Write(text)
		}
		if err != nil {
			return Manifest{}, err
		}
	}
	return b.manifest, b.stream.Close()
}

// make writes the files.
func (b *maker) make(ctx context.Context) error {
	var err error
	if b.server, err = serverAt(b.Database); err != nil {
		return err
	}
	if b.conn, err = pgx.Connect(ctx, b.Database); err != nil {
		return fmt.Errorf("the database: %w", err)
	}
	defer func() { _ = b.conn.Close(context.WithoutCancel(ctx)) }()
	b.manifest = Manifest{
		Form:    form,
		Program: b.Program,
		MadeAt:  time.Now().UTC().Truncate(time.Second),
		Rows:    map[string]int64{},
	}
	// Everything is seen as it is at this moment, by every program that reads for this backup.
	if _, err := b.conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
		return err
	}
	if err := b.conn.QueryRow(ctx, `SELECT pg_export_snapshot(), current_setting('server_version'),
			(SELECT max(version_id) FROM goose_db_version WHERE is_applied)`).Scan(&b.snapshot,
		&b.manifest.Server, &b.manifest.Schema); err != nil {
		return fmt.Errorf("this is no database of ours: %w", err)
	}
	if err := b.configuration(ctx); err != nil {
		return err
	}
	days, err := b.count(ctx)
	if err != nil {
		return err
	}
	if b.stream != nil {
		days = nil
	}
	if err := b.key(); err != nil {
		return err
	}
	for i, day := range slices.Sorted(maps.Keys(days)) {
		b.tell("day "+day, i, len(days)+1)
		if err := b.day(ctx, day, days[day]); err != nil {
			return err
		}
	}
	b.tell("the database", len(days), len(days)+1)
	if err := b.database(ctx, days); err != nil {
		return err
	}
	text, err := json.MarshalIndent(b.manifest, "", "  ")
	if err != nil {
		return err
	}
	b.tell("done", len(days)+1, len(days)+1)
	if err := os.WriteFile(filepath.Join(b.dir, manifestFile), append(text, '\n'), 0o600); err != nil {
		return err
	}
	return errors.Join(syncAll(filepath.Join(b.dir, manifestFile)), syncAll(b.dir))
}

// database dumps everything but the data of some days.
func (b *maker) database(ctx context.Context, without map[string]string) error {
	args := []string{"--dbname=" + b.server.address, "--format=custom", "--snapshot=" + b.snapshot,
		"--no-owner", "--no-privileges"}
	for day := range without {
		args = append(args, "--exclude-table-data=*_"+day)
	}
	if b.stream == nil {
		args = append(args, "--file="+filepath.Join(b.dir, databaseFile))
		if err := b.server.run(ctx, nil, "pg_dump", args...); err != nil {
			return err
		}
		return b.keep(databaseFile)
	}
	w, err := b.stream.CreateHeader(&zip.FileHeader{Name: databaseFile, Method: zip.Store})
	if err != nil {
		return err
	}
	hash, n := sha256.New(), &counted{}
	if err := b.server.run(ctx, io.MultiWriter(w, hash, n), "pg_dump", args...); err != nil {
		return err
	}
	b.manifest.Files = append(b.manifest.Files, File{Name: databaseFile, Size: n.octets,
		SHA256: hex.EncodeToString(hash.Sum(nil))})
	return nil
}

// counted counts what is written.
type counted struct{ octets int64 }

func (c *counted) Write(p []byte) (int, error) {
	c.octets += int64(len(p))
	return len(p), nil
}

func (b *maker) tell(what string, done, all int) {
	if b.Tell != nil {
		b.Tell(what, done, all)
	}
}

// configuration writes the configuration in force, for people to read.
func (b *maker) configuration(ctx context.Context) error {
	var text string
	err := b.conn.QueryRow(ctx, `SELECT text FROM config_revision ORDER BY number DESC LIMIT 1`).
		Scan(&text)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	if m := regexp.MustCompile(`(?m)^ +host_name: *(\S+)`).FindStringSubmatch(text); m != nil {
		b.manifest.HostName = m[1]
	}
	if err := os.WriteFile(filepath.Join(b.dir, configFile), []byte(text), 0o600); err != nil {
		return err
	}
	return b.keep(configFile)
}

// count counts the rows of every table, and marks the days that are over: by how many rows their
// tables have, and which transactions wrote them.
func (b *maker) count(ctx context.Context) (map[string]string, error) {
	rows, err := b.conn.Query(
		ctx,
		`SELECT c.relname FROM pg_class c WHERE c.relnamespace = 'public'::regnamespace
		AND c.relkind = 'r' AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.objid = c.oid AND d.deptype = 'e')
		ORDER BY 1`,
	)
	if err != nil {
		return nil, err
	}
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, err
	}
	over := time.Now().UTC().AddDate(0, 0, -1).Format("20060102")
	marks := map[string][]string{}
	for i, table := range tables {
		b.tell("counting", i, len(tables))
		var n int64
		var mark string
		name := pgx.Identifier{table}.Sanitize()
		if err := b.conn.QueryRow(ctx, `SELECT count(*), coalesce(sum(hashtextextended(xmin::text || ctid::text, 0)),
			0)::text FROM `+name).Scan(&n, &mark); err != nil {
			return nil, err
		}
		b.manifest.Rows[table] = n
		if m := dayTable.FindStringSubmatch(table); m != nil && m[1] < over {
			marks[m[1]] = append(marks[m[1]], fmt.Sprintf("%s %d %s", table, n, mark))
		}
	}
	b.manifest.Waiting = b.manifest.Rows["delivery"]
	days := map[string]string{}
	for day, lines := range marks {
		hash := sha256.Sum256([]byte(strings.Join(lines, "\n")))
		days[day] = hex.EncodeToString(hash[:8])
	}
	return days, nil
}

// day writes a day of history, unless a backup before wrote it as it is.
func (b *maker) day(ctx context.Context, day, mark string) error {
	name := day + "-" + mark + ".dump"
	path := filepath.Join(b.root, daysDir, name)
	there, err := sum(path, io.Discard)
	if known, ok := b.before[name]; err == nil && ok && known.SHA256 != there.SHA256 {
		err = errors.New("it is damaged") // and written anew
	}
	if err != nil {
		begun := filepath.Join(b.dir, name)
		if err := b.server.run(ctx, nil, "pg_dump", "--dbname="+b.server.address, "--format=custom",
			"--snapshot="+b.snapshot, "--data-only", "--table=*_"+day, "--file="+begun); err != nil {
			return err
		}
		if err := errors.Join(syncAll(begun), os.Rename(begun, path), syncAll(filepath.Dir(path))); err != nil {
			return err
		}
		if info, err := os.Stat(path); err == nil {
			b.written += info.Size()
		}
	}
	file, err := sum(path, io.Discard)
	if err != nil {
		return err
	}
	b.manifest.Days = append(b.manifest.Days, Day{Day: day, Mark: mark, File: file})
	return nil
}

// key writes the key file under the passphrase, in the form of age, which other programs open too.
func (b *maker) key() error {
	if b.KeyFile == "" {
		return nil
	}
	text, err := os.ReadFile(b.KeyFile)
	if err != nil {
		return fmt.Errorf("key file: %w", err)
	}
	to, err := age.NewScryptRecipient(b.Passphrase)
	if err != nil {
		return fmt.Errorf("passphrase: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(b.dir, keyFile), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	w, err := age.Encrypt(f, to)
	if err == nil {
		_, err = w.Write(text)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return err
	}
	return b.keep(keyFile)
}

// keep puts a file on the manifest.
func (b *maker) keep(name string) error {
	path := filepath.Join(b.dir, name)
	if err := syncAll(path); err != nil {
		return err
	}
	f, err := sum(path, io.Discard)
	if err != nil {
		return err
	}
	b.manifest.Files = append(b.manifest.Files, f)
	b.written += f.Size
	return nil
}

// syncAll waits until a file or directory is on the disk.
func syncAll(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// Prune removes all but the latest backups, and days of history that none of them has.
func Prune(root string, keep int) (removed []string, err error) {
	names, err := list(root)
	if err != nil {
		return nil, err
	}
	removed = []string{}
	used := map[string]bool{}
	for i, name := range names {
		if i < len(names)-keep {
			if err := os.RemoveAll(filepath.Join(root, name)); err != nil {
				return removed, err
			}
			removed = append(removed, name)
			continue
		}
		m, err := read(filepath.Join(root, name))
		if err != nil {
			return removed, err
		}
		for _, d := range m.Days {
			used[d.Name] = true
		}
	}
	days, _ := filepath.Glob(filepath.Join(root, daysDir, "*.dump"))
	for _, path := range days {
		if !used[filepath.Base(path)] {
			if err := os.Remove(path); err != nil {
				return removed, err
			}
		}
	}
	return removed, nil
}
