package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"gullroute/internal/api"
	"gullroute/internal/core/archive"
)

// logCommands are those of gull log.
type logCommands struct{ *app }

func (a logCommands) command() *cobra.Command {
	level := &cobra.Command{
		Use:       "level [LEVEL]",
		Short:     "How much the service writes to its log; changes immediately",
		Args:      cobra.MaximumNArgs(1),
		ValidArgs: []string{"debug", "info", "warn", "error"},
		Example:   "  gull log level\n  gull log level debug",
		RunE: func(c *cobra.Command, args []string) error {
			want := ""
			if len(args) == 1 {
				want = args[0]
			}
			l, err := a.client().LogLevel(c.Context(), want)
			if err == nil {
				_, err = fmt.Fprintln(a.out, l)
			}
			return err
		},
	}
	list := &cobra.Command{
		Use: "list", Short: "Opened archives, newest first", Args: exactly(0),
		RunE: func(c *cobra.Command, _ []string) error {
			items, err := a.client().Archives(c.Context(), "")
			if err != nil {
				return err
			}
			return printList(a.app, items, archiveColumns(),
				"No archive is open. Open one with gull log open FILE.")
		},
	}
	closing := &cobra.Command{
		Use: "close NUMBER", Short: "Forget an opened archive; the file stays", Args: exactly(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage("%q is not the number of an archive; see gull log list", args[0])
			}
			return a.client().CloseLog(c.Context(), id)
		},
	}
	return group("log", "The service's log, and archives of what happened", a.logExport(),
		a.logOpen(), a.logDays(), a.logRead(), list, closing, level)
}

func archiveColumns() []column[archive.Info] {
	return []column[archive.Info]{
		{"NUMBER", true, func(i archive.Info) string { return strconv.FormatInt(i.ID, 10) }},
		{"NAME", false, func(i archive.Info) string { return i.Name }},
		{"OF", false, func(i archive.Info) string { return i.About.HostName }},
		{"SINCE", false, func(i archive.Info) string { return exact(i.About.Since) }},
		{"UNTIL", false, func(i archive.Info) string { return exact(i.About.Until) }},
		{"LINES", true, func(i archive.Info) string { return strconv.FormatInt(i.Lines, 10) }},
		{"SIZE", true, func(i archive.Info) string { return octets(i.Bytes) }},
		{"DAMAGED", true, func(i archive.Info) string { return strconv.FormatInt(i.Damaged, 10) }},
	}
}

func (a logCommands) logExport() *cobra.Command {
	var p period
	var file string
	c := &cobra.Command{
		Use:   "export",
		Short: "Write messages, refusals and sessions of a period to an archive",
		Args:  exactly(0),
		Long: "Write what happened in a period to an archive: messages with their path, " +
			"refusals, and sessions with their transcripts, as JSON Lines compressed by zstd. " +
			"Content and credentials are not in it.",
		Example: "  gull log export --period yesterday -f yesterday.jsonl.zst\n  gull log export " +
			"--since 2026-11-20 --until 2026-11-21 | zstdcat | head",
		RunE: func(c *cobra.Command, _ []string) error {
			q, err := p.query(time.Now())
			if err != nil {
				return err
			}
			q.Del("zone")
			if file == "" || file == "-" {
				return a.client().ExportLog(c.Context(), q, a.raw)
			}
			return a.exportTo(c, q, file)
		},
	}
	p.flags(c)
	c.Flags().StringVarP(&file, "file", "f", "", "write to this file; standard output if not given")
	return c
}

// exportTo writes an archive beside its name first: a broken one does not stand
// where a whole one is looked for.
func (a logCommands) exportTo(c *cobra.Command, q url.Values, file string) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".gull-export-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	bar := a.transfer("exported", 0)
	err = a.client().ExportLog(c.Context(), q, io.MultiWriter(f, bar))
	bar.end()
	if err == nil {
		err = f.Close()
	}
	if err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		return err
	}
	info, err := os.Stat(file)
	if err == nil && a.format == "table" {
		fmt.Fprintf(a.err, "%s: %s. Open it with gull log open %s.\n", file, octets(info.Size()),
			file)
	}
	return err
}

func (a logCommands) logOpen() *cobra.Command {
	var days []string
	c := &cobra.Command{
		Use:   "open [FILE…]",
		Short: "Open archives, to be looked into with --archive",
		Long: "Open archives made by gull log export, of this or another installation, " +
			"compressed " +
			"or not, of any size. The service keeps them apart from its own records: gull trace " +
			"find, trace show, session list, session show and report look into one with " +
			"--archive NUMBER, the console under Reports.\n\n" +
			"An archive that was opened before is known by its content and is there immediately. " +
			"Damaged lines are counted and named. Archives that nobody looks into for two " +
			"weeks are forgotten.\n\n" +
			"--day opens what the service itself archived of a day (service.archive; gull log " +
			"days " +
			"has them).",
		Example: "  gull log open yesterday.jsonl.zst\n  gull log open --day 2026-10-01\n  " +
			"gull trace find --archive 1 --state " +
			"bounced",
		RunE: func(c *cobra.Command, args []string) error {
			var infos []archive.Info
			if len(args)+len(days) == 0 {
				return usage("name a file, or a day with --day")
			}
			for _, day := range days {
				info, err := a.client().OpenArchivedDay(c.Context(), day)
				if err != nil {
					return fmt.Errorf("%s: %w", day, err)
				}
				infos = append(infos, info)
			}
			for _, file := range args {
				info, err := a.openOne(c, file)
				if err != nil {
					return fmt.Errorf("%s: %w", file, err)
				}
				infos = append(infos, info)
			}
			if err := printList(a.app, infos, archiveColumns(), ""); err != nil ||
				a.format != "table" {
				return err
			}
			for _, i := range infos {
				if i.Known {
					fmt.Fprintf(a.out, "%s was open already.\n", i.Name)
				}
				for _, f := range i.Faults {
					fmt.Fprintf(a.err, "%s: %s\n", i.Name, f)
				}
			}
			fmt.Fprintf(
				a.err,
				"Look into it: gull trace find --archive %d, gull session list --archive %d, gull "+
					"report --archive %d --since %s\n",
				infos[0].ID,
				infos[0].ID,
				infos[0].ID,
				infos[0].About.Since.Format("2006-01-02"),
			)
			return nil
		},
	}
	c.Flags().StringSliceVar(&days, "day", nil, "a day that the service archived, like 2026-10-01")
	return c
}

// logDays is gull log days.
func (a logCommands) logDays() *cobra.Command {
	return &cobra.Command{
		Use:   "days",
		Short: "Days that the service archived by itself, the latest first",
		Args:  exactly(0),
		Long: "Days that are archived on the machine of the node which answers " +
			"(service.archive). " +
			"gull log open --day opens one, also when it is long forgotten here.",
		Example: "  gull log days\n  gull log open --day 2026-10-01",
		RunE: func(c *cobra.Command, _ []string) error {
			days, err := a.client().ArchivedDays(c.Context())
			if err != nil {
				return err
			}
			return printList(a.app, days, []column[api.ArchivedDay]{
				{"DAY", false, func(d api.ArchivedDay) string { return d.Day }},
				{"SIZE", true, func(d api.ArchivedDay) string { return octets(d.Size) }},
				{"OPEN AS", true, func(d api.ArchivedDay) string {
					if d.Archive == 0 {
						return "-"
					}
					return fmt.Sprintf("--archive %d", d.Archive)
				}},
			}, "No day is archived here: gull service set --archive-directory "+
				"/var/lib/gull/archive.")
		},
	}
}

func (a logCommands) openOne(c *cobra.Command, file string) (archive.Info, error) {
	f, err := os.Open(file)
	if err != nil {
		return archive.Info{}, err
	}
	defer f.Close()
	hash := sha256.New()
	size, err := io.Copy(hash, f)
	if err != nil {
		return archive.Info{}, err
	}
	known, err := a.client().Archives(c.Context(), hex.EncodeToString(hash.Sum(nil)))
	if err != nil || len(known) == 1 {
		if len(known) == 1 {
			known[0].Known = true
			return known[0], nil
		}
		return archive.Info{}, err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return archive.Info{}, err
	}
	bar := a.transfer(filepath.Base(file), size)
	defer bar.end()
	return a.client().OpenLog(c.Context(), filepath.Base(file), io.TeeReader(f, bar))
}

// transfer shows how far a transfer is, where a person sees it. size 0 is not known.
func (a logCommands) transfer(what string, size int64) *transfer {
	f, ok := a.rawErr.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return &transfer{}
	}
	if size == 0 {
		size = -1
	}
	return &transfer{
		progressbar.NewOptions64(size, progressbar.OptionSetWriter(f),
			progressbar.OptionSetDescription(what), progressbar.OptionShowBytes(true),
			progressbar.OptionThrottle(80*time.Millisecond), progressbar.OptionClearOnFinish(),
			progressbar.OptionSetWidth(30)),
	}
}

// transfer counts what goes through it.
type transfer struct{ bar *progressbar.ProgressBar }

// Write counts.
func (t *transfer) Write(p []byte) (int, error) {
	if t.bar == nil {
		return len(p), nil
	}
	return t.bar.Write(p)
}

func (t *transfer) end() {
	if t.bar != nil {
		_ = t.bar.Finish()
	}
}
