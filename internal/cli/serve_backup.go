package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"gullroute/internal/backup"
)

// backupCommands are gull backup and gull restore. They go past the service, by the database.
type backupCommands struct{ *app }

// backupFlags are those that several commands have.
type backupFlags struct {
	database, keyFile, passphraseFile string
	withoutKey                        bool
	keep                              int
}

func (f *backupFlags) add(c *cobra.Command, keyUse string) {
	c.Flags().StringVar(&f.database, "database", "", "address of the database (GULL_DATABASE_URL)")
	environment(c.Flags(), "database", "GULL_DATABASE_URL")
	c.Flags().StringVar(&f.keyFile, "key-file", "", keyUse+" (GULL_KEY_FILE)")
	environment(c.Flags(), "key-file", "GULL_KEY_FILE")
	f.addPassphrase(c)
}

func (f *backupFlags) addPassphrase(c *cobra.Command) {
	c.Flags().StringVar(&f.passphraseFile, "passphrase-file", "",
		"file with the passphrase of the key file; without it the passphrase is asked for")
}

// minPassphrase keeps the key file from being guessed.
const minPassphrase = 12

// passphrase reads it from its file, or asks for it; twice if it is a new one.
func (a backupCommands) passphrase(f *backupFlags, fresh bool) (string, error) {
	var text string
	if f.passphraseFile != "" {
		read, err := os.ReadFile(f.passphraseFile)
		if err != nil {
			return "", fmt.Errorf("passphrase: %w", err)
		}
		text = strings.TrimRight(string(read), "\r\n")
	} else {
		in, ok := a.in.(*os.File)
		if !ok || !term.IsTerminal(int(in.Fd())) {
			return "", usage("say where the passphrase of the key file is with --passphrase-file")
		}
		var err error
		if text, err = a.secret("passphrase of the key file"); err != nil {
			return "", err
		}
		if fresh {
			again, err := a.secret("the same again")
			if err != nil {
				return "", err
			}
			if again != text {
				return "", usage("the two are not the same")
			}
		}
	}
	if fresh && len(text) < minPassphrase {
		return "", usage(
			"the passphrase has %d characters; %d at least are needed: who has the backup may guess "+
				"as long as he likes",
			len(text),
			minPassphrase,
		)
	}
	return text, nil
}

// progress shows how far it is, where a person sees it.
func (a backupCommands) progress() (tell func(string, int, int), end func()) {
	f, ok := a.rawErr.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return func(string, int, int) {}, func() {}
	}
	var bar *progressbar.ProgressBar
	total := 0
	return func(what string, done, all int) {
			if bar == nil || all != total {
				total = all
				bar = progressbar.NewOptions(
					all,
					progressbar.OptionSetWriter(f),
					progressbar.OptionShowCount(),
					progressbar.OptionClearOnFinish(),
					progressbar.OptionSetWidth(30),
				)
			}
			bar.Describe(what)
			_ = bar.Set(done)
		}, func() {
			if bar != nil {
				_ = bar.Finish()
			}
		}
}

func (a backupCommands) backup() *cobra.Command {
	var f backupFlags
	c := &cobra.Command{
		Use:   "backup DIRECTORY|-",
		Short: "Write all that the server is into files, while it runs",
		Long: "Write a backup into a directory of backups, as it is at one moment, while the " +
			"service runs: the database by PostgreSQL's own tools (operators, tokens, keys, " +
			"mail and history with it), the key file under a passphrase, the configuration " +
			"for people to read, and a manifest with a hash of each file. Days of history " +
			"that are over are written once and shared by the backups of the directory. With " +
			"--keep older ones go. - writes one ZIP file to standard output, its history " +
			"too.\n\nFiles that the configuration names (certificates, keys of listeners) " +
			"are not in it.",
		Example: "  gull backup /var/backups/gull --passphrase-file /etc/gull/passphrase " +
			"--keep 14\n  gull backup - --passphrase-file /etc/gull/passphrase | ssh " +
			"shore.skerryline.example 'cat > gull.zip'\n  gull backup verify /var/backups/gull",
		Args: exactly(1),
		RunE: func(c *cobra.Command, args []string) error { return a.make(c.Context(), args[0], &f) },
	}
	f.add(c, "the service's key file")
	c.Flags().BoolVar(&f.withoutKey, "without-key", false,
		"leave the key file out: without it passwords for others' servers and signing keys "+
			"are lost")
	c.Flags().
		IntVar(&f.keep, "keep", 0, "how many backups stay in the directory; older ones go; 0 "+
			"keeps all")
	c.AddCommand(a.list(), a.verify())
	return c
}

func (a backupCommands) make(ctx context.Context, to string, f *backupFlags) error {
	if f.database == "" {
		return usage("say where the database is with --database or GULL_DATABASE_URL")
	}
	o := backup.Options{Database: f.database, Program: version(), Keep: f.keep}
	switch {
	case f.keep < 0:
		return usage("--keep %d: a number of backups is needed", f.keep)
	case f.withoutKey:
	case f.keyFile == "":
		return usage(
			"say where the service's key file is with --key-file, or leave it out with " +
				"--without-key",
		)
	default:
		var err error
		o.KeyFile = f.keyFile
		if o.Passphrase, err = a.passphrase(f, true); err != nil {
			return err
		}
	}
	var end func()
	o.Tell, end = a.progress()
	defer end()
	if to == "-" {
		if out, ok := a.raw.(*os.File); ok && term.IsTerminal(int(out.Fd())) {
			return usage("a ZIP file is no text for a terminal: gull backup - > gull.zip")
		}
		m, err := backup.Stream(ctx, a.raw, o)
		if err == nil {
			fmt.Fprintf(a.err, "backup of %s: %d deliveries waited\n", exact(m.MadeAt), m.Waiting)
		}
		return err
	}
	done, err := backup.Make(ctx, to, o)
	if err != nil {
		return err
	}
	end()
	if a.format != "table" {
		return a.printValue(done)
	}
	fmt.Fprintf(
		a.out,
		"%s\n  holds    %s; %s written now\n  database %d tables, %d deliveries waited\n",
		filepath.Join(to, done.Name),
		octets(done.Manifest.Size()),
		octets(done.Written),
		len(done.Manifest.Rows),
		done.Manifest.Waiting,
	)
	if !done.Manifest.HasKey() {
		fmt.Fprintln(a.out, "  key file not in it: keep a copy of it elsewhere")
	}
	if len(done.Removed) > 0 {
		fmt.Fprintf(a.out, "  removed  %s\n", strings.Join(done.Removed, ", "))
	}
	return nil
}

func (a backupCommands) list() *cobra.Command {
	return &cobra.Command{
		Use:     "list DIRECTORY",
		Short:   "The backups of a directory",
		Example: "  gull backup list /var/backups/gull",
		Args:    exactly(1),
		RunE: func(_ *cobra.Command, args []string) error {
			items, err := backup.List(args[0])
			if err != nil {
				return err
			}
			return printList(a.app, items, []column[backup.Listed]{
				{"BACKUP", false, func(b backup.Listed) string { return b.Name }},
				{"MADE", false, func(b backup.Listed) string { return exact(b.Manifest.MadeAt) }},
				{"BY", false, func(b backup.Listed) string { return b.Manifest.Program }},
				{"SIZE", true, func(b backup.Listed) string { return octets(b.Manifest.Size()) }},
				{
					"waiting",
					true,
					func(b backup.Listed) string { return fmt.Sprint(b.Manifest.Waiting) },
				},
				{
					"key file",
					false,
					func(b backup.Listed) string { return yes(b.Manifest.HasKey()) },
				},
			}, "No backup is here.")
		},
	}
}

func (a backupCommands) verify() *cobra.Command {
	var f backupFlags
	c := &cobra.Command{
		Use:   "verify DIRECTORY|FILE",
		Short: "Read every file of a backup, and say whether it can be restored",
		Long: "Read every file of a backup, of the latest in a directory of backups: that " +
			"none is missing or changed, that PostgreSQL's program reads it to its end, and, " +
			"with --passphrase-file, that the passphrase opens the key file. The exit code " +
			"is 1 if it cannot be restored.",
		Example: "  gull backup verify /var/backups/gull --passphrase-file " +
			"/etc/gull/passphrase\n  gull backup verify /var/backups/gull/20261130T021500Z\n " +
			" gull backup verify gull.zip",
		Args: exactly(1),
		RunE: func(c *cobra.Command, args []string) error {
			passphrase := ""
			if f.passphraseFile != "" {
				var err error
				if passphrase, err = a.passphrase(&f, false); err != nil {
					return err
				}
			}
			dir, done, err := backup.Open(args[0])
			if err != nil {
				return err
			}
			defer done()
			tell, end := a.progress()
			defer end()
			v, err := backup.Verify(c.Context(), dir, passphrase, tell)
			if err != nil {
				return err
			}
			end()
			if a.format != "table" {
				err = a.printValue(v)
			} else {
				a.printVerified(&v)
			}
			if err == nil && len(v.Faults) > 0 {
				return errSaid
			}
			return err
		},
	}
	f.addPassphrase(c)
	return c
}

func (a backupCommands) printVerified(v *backup.Verified) {
	m := &v.Manifest
	fmt.Fprintf(
		a.out,
		"backup of %s, made %s by %s (schema %d, PostgreSQL %s)\n",
		dash(m.HostName),
		exact(m.MadeAt),
		m.Program,
		m.Schema,
		m.Server,
	)
	for _, fault := range v.Faults {
		fmt.Fprintf(a.out, "  WRONG    %s\n", fault)
	}
	if len(v.Faults) > 0 {
		fmt.Fprintln(
			a.out,
			"It cannot be restored as it is: take an earlier one, and make a new one now.",
		)
		return
	}
	fmt.Fprintf(
		a.out,
		"  whole    %d files, %s, %d deliveries waited\n",
		len(m.Files)+len(m.Days),
		octets(m.Size()),
		m.Waiting,
	)
	switch {
	case !m.HasKey():
		fmt.Fprintln(a.out, "  key file not in it")
	case v.KeyOpens != nil:
		fmt.Fprintln(a.out, "  key file opens with the passphrase")
	default:
		fmt.Fprintln(a.out, "  key file not opened: give --passphrase-file to try")
	}
}

func (a backupCommands) restore() *cobra.Command {
	var f backupFlags
	var signOut bool
	c := &cobra.Command{
		Use:   "restore DIRECTORY|FILE",
		Short: "Make a server of a backup, in an empty database",
		Long: "Make a server of a backup, of the latest in a directory of backups. It is " +
			"verified first; the database must be empty, and belong to the role that the " +
			"service has; a key file that is there already is not overwritten. Every table " +
			"is counted afterwards.\n\nAll delivery is paused then: what waited may have " +
			"been delivered by the old server since. When that is off for good: gull queue " +
			"resume. With --sign-out sessions of the console and tokens end.",
		Example: "  createdb --owner gull gull\n  gull restore /var/backups/gull --database " +
			"postgres://gull@127.0.0.1/gull --key-file /etc/gull/key\n  gull restore " +
			"gull.zip --database postgres://gull@127.0.0.1/gull --key-file /etc/gull/key " +
			"--sign-out",
		Args: exactly(1),
		RunE: func(c *cobra.Command, args []string) error {
			if f.database == "" {
				return usage("say where the new database is with --database or GULL_DATABASE_URL")
			}
			dir, done, err := backup.Open(args[0])
			if err != nil {
				return err
			}
			defer done()
			m, _, _, err := backup.Find(dir)
			if err != nil {
				return err
			}
			o := backup.Order{Database: f.database, SignOut: signOut}
			if m.HasKey() && !f.withoutKey {
				if f.keyFile == "" {
					return usage(
						"say where the key file is to be with --key-file, or leave it with " +
							"--without-key",
					)
				}
				o.KeyFile = f.keyFile
				if o.Passphrase, err = a.passphrase(&f, false); err != nil {
					return err
				}
			}
			var end func()
			o.Tell, end = a.progress()
			defer end()
			r, err := backup.Restore(c.Context(), dir, o)
			if err != nil {
				return err
			}
			end()
			if a.format != "table" {
				return a.printValue(r)
			}
			a.printRestored(a.out, &r)
			return nil
		},
	}
	f.add(c, "where the key file is to be")
	c.Flags().
		BoolVar(&f.withoutKey, "without-key", false, "leave the key file of the backup where it is")
	c.Flags().
		BoolVar(&signOut, "sign-out", false, "end sessions of the console, and take tokens away")
	return c
}

func (a backupCommands) printRestored(w io.Writer, r *backup.Restored) {
	fmt.Fprintf(
		w,
		"restored as of %s (%s): %d rows in %d tables, every one counted\n",
		exact(r.MadeAt),
		ago(r.MadeAt),
		r.Rows,
		r.Tables,
	)
	if r.KeyFile != "" {
		fmt.Fprintf(w, "  key file  %s\n", r.KeyFile)
	}
	if r.SignedOut {
		fmt.Fprintln(w, "  sessions and tokens have ended")
	}
	fmt.Fprintf(w, "  waiting   %d deliveries; all delivery is paused\n\nNext:\n", r.Waiting)
	for i, step := range []string{
		"see that the old server is off and stays off, or messages go out twice",
		"start the service (gull serve, systemctl start gull)",
		"look: gull status, gull queue list, gull audit list",
		"let delivery go on: gull queue resume",
	} {
		fmt.Fprintf(w, "  %d. %s\n", i+1, step)
	}
}
