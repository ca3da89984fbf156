package cli

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/client"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
)

// entryCommands are those of gull entry.
type entryCommands struct{ *app }

func (a entryCommands) mailboxCommand() *cobra.Command {
	k := kind{
		"mailbox",
		"mailboxes",
		form.Shown[directory.Mailbox]("password_hash", "scram_keys"),
		"odile.marr@skerryline.example",
		"gull mailbox add odile.marr@skerryline.example --name \"Odile Marr\" --quota \"2 GB\" " +
			"--may-submit --password-stdin",
		"gull mailbox set piet.sandholm@skerryline.example --automatic-reply-outside \"I am " +
			"away\" --automatic-reply-until 2026-12-01",
	}
	return group("mailbox", "Mailboxes; changes take effect immediately", a.mailboxList(),
		a.entryShow(k), a.entryAdd(k), a.entrySet(k), a.entryRemove(k), a.entryImport(k),
		a.entryExport(k), a.mailboxFolders(), a.mailboxMessages(), a.mailboxRead(), a.mailboxRaw(),
		a.appPasswordCommand(), a.mailboxRemoved(), a.mailboxGiveBack())
}

func (a entryCommands) aliasCommand() *cobra.Command {
	k := kind{
		"alias",
		"aliases",
		form.Shown[directory.Alias](),
		"crew@skerryline.example",
		"gull alias add crew@skerryline.example --to " +
			"crew.north@skerryline.example,crew.south@skerryline.example",
		"gull alias set info@skerryline.example --to odile.marr@skerryline.example",
	}
	return group("alias", "Aliases and groups; changes take effect immediately", a.aliasList(),
		a.entryShow(k), a.entryAdd(k), a.entrySet(k), a.entryRemove(k), a.entryImport(k),
		a.entryExport(k))
}

// kind is mailboxes or aliases.
type kind struct {
	noun, path      string
	fields          []form.Field
	example         string
	addEx, changeEx string
}

func (a entryCommands) mailboxList() *cobra.Command {
	var limit int
	var search, domain, sort string
	var unused int
	c := &cobra.Command{
		Use:   "list",
		Short: "Mailboxes by address, with how full they are and when they were last used",
		Args:  exactly(0),
		Example: "  gull mailbox list\n  gull mailbox list --search harrow -o csv\n  gull mailbox " +
			"list --sort quota\n  gull mailbox list --unused-days 90",
		RunE: func(c *cobra.Command, _ []string) error {
			var items []mail.MailboxLine
			q := url.Values{"search": {search}, "domain": {domain}, "sort": {sort}}
			if unused > 0 {
				q.Set("unused_days", strconv.Itoa(unused))
			}
			more := true
			for more && len(items) < limit {
				q.Set("limit", strconv.Itoa(min(1000, limit-len(items))))
				p, err := a.client().Mailboxes(c.Context(), q)
				if err != nil {
					return err
				}
				items = append(items, p.Items...)
				more = p.Next != ""
				q.Set("after", p.Next)
			}
			err := printList(a.app, items, []column[mail.MailboxLine]{
				{"ADDRESS", false, func(m mail.MailboxLine) string { return m.Address }},
				{"NAME", false, func(m mail.MailboxLine) string { return m.Name }},
				{
					"MESSAGES",
					true,
					func(m mail.MailboxLine) string { return fmt.Sprint(m.Messages) },
				},
				{"USED", true, func(m mail.MailboxLine) string { return octets(m.Octets) }},
				{"QUOTA", true, func(m mail.MailboxLine) string { return quotaWords(m) }},
				{"SUBMITS", false, func(m mail.MailboxLine) string { return submitWords(m) }},
				{"LAST USE", false, func(m mail.MailboxLine) string { return useWords(m) }},
				{
					"FORWARDS TO",
					false,
					func(m mail.MailboxLine) string { return strings.Join(m.ForwardTo, ", ") },
				},
				{
					"ALSO",
					false,
					func(m mail.MailboxLine) string {
						return strings.Join(append(m.Addresses,
							m.Generated...), ", ")
					},
				},
			}, "There is no such mailbox. Add one: gull mailbox add ADDRESS --name NAME")
			if err == nil && more && a.format == "table" {
				fmt.Fprintf(a.err, "There are more; these are the first %d (--limit).\n", limit)
			}
			return err
		},
	}
	f := c.Flags()
	f.IntVar(&limit, "limit", 100, "at most so many")
	f.StringVar(&search, "search", "", "a part of an address or a name")
	f.StringVar(&domain, "domain", "", "only of this domain")
	f.IntVar(&unused, "unused-days", 0, "only those that nobody signed in to for so many days")
	f.StringVar(&sort, "sort", "address",
		"address, name, used or quota: by the last two those first that use most")
	_ = c.RegisterFlagCompletionFunc(
		"sort",
		cobra.FixedCompletions([]string{"address", "name", "used", "quota"},
			cobra.ShellCompDirectiveNoFileComp),
	)
	return c
}

func quotaWords(m mail.MailboxLine) string {
	if m.Quota == 0 {
		return "-"
	}
	return fmt.Sprintf("%s (%d%%)", form.Size(m.Quota), m.Octets*100/m.Quota)
}

// useWords is when a mailbox was last used, and how.
func useWords(m mail.MailboxLine) string {
	if len(m.LastUse) == 0 {
		return "never"
	}
	return ago(m.LastUse[0].At) + " by " + m.LastUse[0].Protocol
}

func submitWords(m mail.MailboxLine) string {
	switch {
	case !m.MaySubmit:
		return "no"
	case !m.HasPassword:
		return "needs a password"
	}
	return "yes"
}

func (a entryCommands) aliasList() *cobra.Command {
	var limit int
	var search string
	c := &cobra.Command{
		Use: "list", Short: "Aliases by address", Args: exactly(0), Example: "  gull alias list",
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := a.client().Aliases(c.Context(),
				url.Values{"search": {search}, "limit": {strconv.Itoa(limit)}})
			if err != nil {
				return err
			}
			return printList(a.app, p.Items, []column[api.AliasLine]{
				{"ADDRESS", false, func(l api.AliasLine) string { return l.Address }},
				{"TO", false, func(l api.AliasLine) string { return strings.Join(l.To, ", ") }},
				{"ABOUT", false, func(l api.AliasLine) string { return l.About }},
			}, "There is no such alias. Add one: gull alias add ADDRESS --to ADDRESS")
		},
	}
	c.Flags().IntVar(&limit, "limit", 1000, "at most so many")
	c.Flags().StringVar(&search, "search", "", "a part of an address or of a target")
	return c
}

func (a entryCommands) entryShow(k kind) *cobra.Command {
	return &cobra.Command{
		Use:     "show ADDRESS",
		Short:   "All its fields",
		Args:    exactly(1),
		Example: "  gull " + k.noun + " show " + k.example,
		RunE: func(c *cobra.Command, args []string) error {
			e, err := a.client().ShowEntry(c.Context(), k.path, args[0])
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(e.Fields)
			}
			a.showFields(k.fields, e.Fields, config.Words)
			if len(e.Generated) > 0 {
				fmt.Fprintf(a.out, "%-24s %s\n", "generated addresses",
					strings.Join(e.Generated, ", "))
			}
			return nil
		},
	}
}

// passwordFlag lets a password come in by standard input, never by an argument
// that others on the machine can read.
func passwordFlag(c *cobra.Command, k kind) *bool {
	from := new(bool)
	if k.noun == "mailbox" {
		c.Flags().BoolVar(from, "password-stdin", false, "read the password from standard input")
	}
	return from
}

func (a *app) readLine() (string, error) {
	if a.lines == nil {
		a.lines = bufio.NewReader(a.in)
	}
	line, err := a.lines.ReadString('\n')
	line = strings.TrimRight(line, "\r\n")
	if line == "" {
		return "", usage("standard input holds no line: %v", err)
	}
	return line, nil
}

func (a entryCommands) entryAdd(k kind) *cobra.Command {
	var f fieldFlags
	var dry bool
	c := &cobra.Command{
		Use:     "add ADDRESS",
		Short:   "Add one; it takes effect immediately",
		Args:    exactly(1),
		Example: "  " + k.addEx,
	}
	f.add(c, k.fields, "address", "password")
	c.Flags().BoolVar(&dry, "dry-run", false, "check it; change nothing")
	password := passwordFlag(c, k)
	c.RunE = func(c *cobra.Command, args []string) error {
		fields, err := a.entryFields(c, &f, nil, *password)
		if err != nil {
			return err
		}
		fields["address"] = args[0]
		e, err := a.client().AddEntry(c.Context(), k.path, fields, dry)
		return a.entryDone(k, e, err, dry, "is there")
	}
	return c
}

func (a entryCommands) entryFields(
	c *cobra.Command,
	f *fieldFlags,
	before map[string]any,
	password bool,
) (map[string]any, error) {
	fields, err := f.given(c.Flags(), before)
	if err == nil && password {
		fields["password"], err = a.readLine()
	}
	return fields, err
}

func (a entryCommands) entryDone(k kind, e api.Entry, err error, dry bool, word string) error {
	switch {
	case err != nil:
		return err
	case a.format != "table":
		return a.printValue(e)
	case dry:
		fmt.Fprintf(a.out, "It is valid. Nothing was changed.\n")
		return nil
	}
	fmt.Fprintf(a.out, "%s %v %s.\n", strings.ToUpper(k.noun[:1])+k.noun[1:], e.Fields["address"],
		word)
	if len(e.Generated) > 0 {
		fmt.Fprintf(a.out, "It is reached under %s too.\n", strings.Join(e.Generated, ", "))
	}
	return nil
}

func (a entryCommands) entrySet(k kind) *cobra.Command {
	var f fieldFlags
	var dry bool
	c := &cobra.Command{
		Use:     "set ADDRESS",
		Short:   "Change fields; it takes effect immediately",
		Args:    exactly(1),
		Example: "  " + k.changeEx,
	}
	f.add(c, k.fields, "address", "password")
	c.Flags().StringArrayVar(&f.unset, "unset", nil, "field to take out; may be given again")
	c.Flags().BoolVar(&dry, "dry-run", false, "check it; change nothing")
	password := passwordFlag(c, k)
	c.RunE = func(c *cobra.Command, args []string) error {
		before, err := a.client().ShowEntry(c.Context(), k.path, args[0])
		if err != nil {
			return err
		}
		fields, err := a.entryFields(c, &f, before.Fields, *password)
		if err != nil {
			return err
		}
		if len(fields) == 0 {
			return usage("say what to change; see %s --help", c.CommandPath())
		}
		e, err := a.client().ChangeEntry(c.Context(), k.path, args[0], fields, dry)
		return a.entryDone(k, e, err, dry, "is changed")
	}
	return c
}

func (a entryCommands) entryRemove(k kind) *cobra.Command {
	var dry, yes bool
	c := &cobra.Command{
		Use:   "remove ADDRESS",
		Short: "Take one out; it takes effect immediately",
		Args:  exactly(1),
		Long: "Take one out. At a terminal it asks before. With --dry-run it only says what " +
			"would go.",
		Example: "  gull " + k.noun + " remove " + k.example + " --dry-run\n  gull " + k.noun +
			" remove " + k.example,
		RunE: func(c *cobra.Command, args []string) error {
			says, err := a.removalOf(c.Context(), k, args[0])
			if err != nil {
				return err
			}
			switch {
			case dry:
				fmt.Fprintf(a.out, "%s would be removed%s.\n", args[0], says)
				return nil
			case a.asks() && !yes && !a.confirm(args[0]+" would be removed"+says+". Go on?"):
				return nil
			}
			if err := a.client().RemoveEntry(c.Context(), k.path, args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is removed.\n", args[0])
			return nil
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would go, and change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// removalOf is what goes with a mailbox or an alias, in words.
func (a entryCommands) removalOf(ctx context.Context, k kind, address string) (string, error) {
	e, err := a.client().ShowEntry(ctx, k.path, address)
	if err != nil || k.noun != "mailbox" {
		return "", err
	}
	list, err := a.client().Mailboxes(ctx, url.Values{"search": {address}, "limit": {"10"}})
	if err != nil {
		return "", err
	}
	for _, m := range list.Items {
		if m.Address == e.Fields["address"] && m.Messages > 0 {
			return fmt.Sprintf("; the %d messages in it (%s) can then be reached no more",
				m.Messages, octets(m.Octets)), nil
		}
	}
	return "; it is empty", nil
}

func (a entryCommands) entryImport(k kind) *cobra.Command {
	var dry bool
	columns := directory.MailboxColumns
	if k.noun == "alias" {
		columns = directory.AliasColumns
	}
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Add and change from CSV, all rows or none",
		Args:  exactly(1),
		Long: "Read CSV whose first row names the columns: " + strings.Join(columns,
			", ") + ". Lists are written with spaces between. " +
			"Rows add or change; nobody is taken out. With a single row at fault nothing is " +
			"changed, and every fault is named by its row.",
		Example: "  gull " + k.noun + " import people.csv --dry-run\n  gull " + k.noun +
			" import people.csv",
		RunE: func(c *cobra.Command, args []string) error {
			text, err := a.readFile(args[0])
			if err != nil {
				return usage("%v", err)
			}
			tell, end := a.bar(max(bytes.Count(text, []byte("\n"))-1, 1), "importing")
			done, err := a.client().ImportEntries(c.Context(), k.path, bytes.NewReader(text), dry,
				func(p client.Progress) { tell(p.Done, p.What) })
			end()
			if err != nil {
				return err
			}
			return a.imported(done, dry)
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "check every row; change nothing")
	return c
}

// errRows ends a command whose rows were at fault.
var errRows = fmt.Errorf("nothing was changed: rows are at fault")

func (a entryCommands) imported(done api.Imported, dry bool) error {
	if a.format != "table" {
		if err := a.printValue(done); err != nil {
			return err
		}
	} else {
		for _, p := range done.Problems {
			where := ""
			if p.Field != "" {
				where = ", " + p.Field
			}
			fmt.Fprintf(a.out, "row at line %d%s: %s\n", p.Line, where, p.Text)
		}
		verb := "were read"
		if done.Written {
			verb = "were written"
		}
		fmt.Fprintf(a.out, "%d rows %s: %d new, %d changed, %d as they were.\n", done.Rows, verb,
			done.New, done.Changed, done.Unchanged)
		if dry && len(done.Problems) == 0 {
			fmt.Fprintln(a.out, "Nothing was changed.")
		}
	}
	if len(done.Problems) > 0 {
		return errRows
	}
	return nil
}

func (a entryCommands) entryExport(k kind) *cobra.Command {
	return &cobra.Command{
		Use:     "export",
		Short:   "All of them as CSV, without passwords",
		Args:    exactly(0),
		Example: "  gull " + k.noun + " export > " + k.path + ".csv",
		RunE: func(c *cobra.Command,
			_ []string) error {
			return a.client().ExportEntries(c.Context(), k.path, a.raw)
		},
	}
}
