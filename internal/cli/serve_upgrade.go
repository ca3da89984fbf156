package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/backup"
	"gullroute/internal/node"
)

// upgradeCommands are those of gull upgrade. They go past the service, by the database.
type upgradeCommands struct{ *app }

// freshBackup is how old a backup may be before an upgrade.
const freshBackup = 24 * time.Hour

// upgradeCheck is what gull upgrade check says.
type upgradeCheck struct {
	Version string `json:"version"`
	node.Upgrade
}

func (a upgradeCommands) command() *cobra.Command {
	var database, backups string
	c := &cobra.Command{
		Use:   "check",
		Short: "What the start of this program would do to a database, and what speaks against it",
		Args:  exactly(0),
		Long: "Run the new program's check before it is started: what it would do to the " +
			"schema, which " +
			"nodes go on beside it, what is in the way. It changes nothing. Steps of the " +
			"schema either " +
			"expand it, and earlier programs go on beside this one, or contract it, and " +
			"programs that are " +
			"too old stop. No step waits longer than a second for a lock: it gives way and " +
			"comes again. " +
			"The exit code is 1 if something speaks against it.",
		Example: "  gull upgrade check --database postgres://gull@127.0.0.1/gull --backups " +
			"/var/backups/gull",
		RunE: func(c *cobra.Command, _ []string) error {
			if database == "" {
				return usage("say where the database is with --database or GULL_DATABASE_URL")
			}
			u, err := node.LookAtUpgrade(c.Context(), database)
			if err != nil {
				return err
			}
			if backups != "" && len(u.Schema.Missing) > 0 {
				if why := backupMissing(backups); why != "" {
					u.Against = append(u.Against, why)
				}
			}
			if a.format != "table" {
				err = a.printValue(upgradeCheck{version(), u})
			} else {
				a.print(u)
			}
			if err == nil && len(u.Against) > 0 {
				return errSaid
			}
			return err
		},
	}
	c.Flags().StringVar(&database, "database", "", "address of the database (GULL_DATABASE_URL)")
	environment(c.Flags(), "database", "GULL_DATABASE_URL")
	c.Flags().
		StringVar(&backups, "backups", "", "directory of backups: is there one of the last day?")
	return group("upgrade", "Go to another version of the program", c)
}

// backupMissing says that there is no backup of the last day; "" if there is one.
func backupMissing(dir string) string {
	list, err := backup.List(dir)
	switch {
	case err != nil:
		return "the backups cannot be read (" + err.Error() + "): gull backup " + dir
	case len(list) == 0:
		return "there is no backup, and it is the only way back: gull backup " + dir
	}
	if last := list[len(list)-1].Manifest.MadeAt; time.Since(last) > freshBackup {
		return fmt.Sprintf("the last backup is of %s, and it is the only way back: gull backup %s",
			ago(last), dir)
	}
	return ""
}

func (a upgradeCommands) print(u node.Upgrade) {
	w := a.out
	fmt.Fprintf(w, "program    %s, knows schema %d\n", version(), u.Schema.Known)
	if u.Schema.There == 0 {
		fmt.Fprintln(w, "database   empty: this program begins it")
	} else {
		fmt.Fprintf(w, "database   schema %d, for programs that know %d or later, %s\n", u.Schema.There,
			u.Schema.WorksFrom, octets(u.Octets))
	}
	if len(u.Schema.Missing) == 0 {
		fmt.Fprintln(w, "steps      none: the schema is as this program knows it, or later")
	} else if u.Schema.There > 0 {
		for _, m := range u.Schema.Missing {
			fmt.Fprintf(w, "step %-5d %s: %s\n", m.Version, m.Kind, m.What)
		}
	}
	for _, n := range u.Nodes {
		knows := "does not say its version"
		if n.Version != "" {
			knows = fmt.Sprintf("%s, knows schema %d", n.Version, n.Schema)
		}
		fmt.Fprintf(
			w,
			"node       %s (%s): %s\n",
			n.Name,
			knows,
			map[bool]string{true: "goes on beside it", false: "stops when this program begins"}[n.GoesOn],
		)
	}
	fmt.Fprintln(w)
	for _, why := range u.Against {
		fmt.Fprintf(w, "But: %s.\n", why)
	}
	if len(u.Against) == 0 {
		fmt.Fprintln(
			w,
			"Nothing speaks against it. Install the package, then: gull node restart --all",
		)
	}
}
