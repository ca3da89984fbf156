package cli

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/core/audit"
)

// auditCommands are those of gull audit.
type auditCommands struct{ *app }

func (a auditCommands) command() *cobra.Command {
	return group(
		"audit",
		"Who did what, in a record that shows when it was altered",
		a.list(),
		a.export(),
		a.verify(),
	)
}

// auditFlags choose entries.
type auditFlags struct{ who, action, target, since, until string }

func (f *auditFlags) add(c *cobra.Command) {
	flags := c.Flags()
	flags.StringVar(&f.who, "who", "", "by whom")
	flags.StringVar(&f.action, "action", "", "an operation, like mailbox-change, act or sign-in")
	flags.StringVar(&f.target, "target", "", "a part of what it was done to")
	flags.StringVar(
		&f.since,
		"since",
		"",
		"from then on: 2026-11-23, 2026-11-23 14:00, 3h or 2d ago",
	)
	flags.StringVar(&f.until, "until", "", "up to then")
}

func (f *auditFlags) words() (url.Values, error) {
	v := url.Values{}
	for name, text := range map[string]string{"who": f.who, "action": f.action, "target": f.target} {
		if text != "" {
			v.Set(name, text)
		}
	}
	for name, text := range map[string]string{"since": f.since, "until": f.until} {
		if text == "" {
			continue
		}
		at, err := parseTime(text, time.Now())
		if err != nil {
			return nil, usage("--%s: %w", name, err)
		}
		v.Set(name, at.UTC().Format(time.RFC3339Nano))
	}
	return v, nil
}

func wentHow(d audit.Deed) string {
	switch {
	case d.Done():
		return "done"
	case d.Status == 401 || d.Status == 403:
		return "not allowed"
	case d.Status < 500:
		return "refused"
	}
	return "failed"
}

func (a auditCommands) list() *cobra.Command {
	var f auditFlags
	limit := 50
	c := &cobra.Command{
		Use:   "list",
		Short: "Who did what, newest first",
		Long: "Who did what, when, from where, how it went and why: sign-ins and failed " +
			"ones, changes of configuration and directory, actions on messages, looks into " +
			"messages, exports, operators and tokens. -o json shows what was asked for, and " +
			"what stood there before and after.",
		Args: exactly(0),
		Example: "  gull audit list --since 1d\n  gull audit list --who wren --action act\n" +
			"  gull audit list --target ines.harrow -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			words, err := f.words()
			if err != nil {
				return err
			}
			words.Set("limit", strconv.Itoa(limit))
			page, err := a.client().Audit(c.Context(), words)
			if err != nil {
				return err
			}
			return printList(a.app, page.Items, []column[audit.Deed]{
				{"AT", false, func(d audit.Deed) string { return exact(d.At) }},
				{"WHO", false, func(d audit.Deed) string { return d.Who }},
				{"FROM", false, func(d audit.Deed) string { return d.Client }},
				{"ACTION", false, func(d audit.Deed) string { return d.Action }},
				{"ON", false, func(d audit.Deed) string { return dash(d.Target) }},
				{"WENT", false, wentHow},
				{"WHY", false, func(d audit.Deed) string { return d.Why }},
			}, "Nothing is on record.")
		},
	}
	f.add(c)
	c.Flags().IntVar(&limit, "limit", limit, "at most so many, up to 1000")
	return c
}

func (a auditCommands) export() *cobra.Command {
	var f auditFlags
	form := ""
	c := &cobra.Command{
		Use:   "export",
		Short: "The whole record, or a part, as JSON Lines or for syslog",
		Long: "Write the record to standard output, newest first: as JSON Lines with the " +
			"links that prove it, or as lines of RFC 5424 for a log server.",
		Args: exactly(0),
		Example: "  gull audit export > audit.jsonl\n" +
			"  gull audit export --since 2026-11-01 --form syslog | nc -u log 514",
		RunE: func(c *cobra.Command, _ []string) error {
			words, err := f.words()
			if err != nil {
				return err
			}
			if form != "jsonl" && form != "syslog" {
				return usage("--form %q is not known; write jsonl or syslog", form)
			}
			words.Set("limit", "1000")
			out := bufio.NewWriter(a.raw)
			for {
				page, err := a.client().Audit(c.Context(), words)
				if err != nil {
					return err
				}
				for _, d := range page.Items {
					line, err := json.Marshal(d)
					if form == "syslog" {
						line, err = d.Syslog(), nil
					}
					if err != nil {
						return err
					}
					if _, err := out.Write(append(line, '\n')); err != nil {
						return err
					}
				}
				if page.Next == "" {
					return out.Flush()
				}
				words.Set("after", page.Next)
			}
		},
	}
	f.add(c)
	c.Flags().StringVar(&form, "form", "jsonl", "jsonl or syslog")
	return c
}

func (a auditCommands) verify() *cobra.Command {
	head := ""
	c := &cobra.Command{
		Use:   "verify",
		Short: "Whether the record was altered",
		Long: "Each entry carries a hash of itself and of the one before it: what was " +
			"altered or taken out in the middle is found. Keep the head elsewhere from time " +
			"to time: with it, --head shows later that the end was not cut off.",
		Args:    exactly(0),
		Example: "  gull audit verify",
		RunE: func(c *cobra.Command, _ []string) error {
			x, err := a.client().VerifyAudit(c.Context())
			if err != nil {
				return err
			}
			missing := false
			if head != "" && x.Broken == 0 {
				missing, err = a.lacks(c, head)
				if err != nil {
					return err
				}
			}
			if a.format != "table" {
				if err := a.printValue(x); err != nil {
					return err
				}
			} else {
				fmt.Fprintf(a.out, "%d entries since %s, up to entry %d\nhead  %s\n", x.Entries, exact(x.Since), x.Last,
					x.Head)
			}
			switch {
			case x.Broken != 0:
				fmt.Fprintf(a.err, "gull: ALTERED: entry %d: %s\n", x.Broken, x.Why)
				return errSaid
			case missing:
				fmt.Fprintln(
					a.err,
					"gull: CUT OFF: no entry has the head that you gave: the end of the "+
						"record was written anew",
				)
				return errSaid
			}
			if a.format == "table" {
				fmt.Fprintln(a.out, "It was not altered.")
			}
			return nil
		},
	}
	c.Flags().StringVar(&head, "head", "", "a head that was kept: it must still be in the record")
	return c
}

// lacks reports that no entry has a link.
func (a auditCommands) lacks(c *cobra.Command, link string) (bool, error) {
	words := url.Values{"limit": {"1000"}}
	for {
		page, err := a.client().Audit(c.Context(), words)
		if err != nil {
			return false, err
		}
		for _, d := range page.Items {
			if d.Link == link {
				return false, nil
			}
		}
		if page.Next == "" {
			return true, nil
		}
		words.Set("after", page.Next)
	}
}
