package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/client"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
)

func (a *app) mailboxCommand() *cobra.Command {
	k := kind{"mailbox", "mailboxes", form.Shown[directory.Mailbox]("password_hash", "scram_keys"), "odile.marr@skerryline.example",
		"gull mailbox add odile.marr@skerryline.example --name \"Odile Marr\" --quota \"2 GB\" --may-submit --password-stdin",
		"gull mailbox set piet.sandholm@skerryline.example --automatic-reply-outside \"I am away\" --automatic-reply-until 2026-12-01"}
	return group("mailbox", "Mailboxes; changes count at once", a.mailboxList(), a.entryShow(k), a.entryAdd(k), a.entrySet(k), a.entryRemove(k), a.entryImport(k), a.entryExport(k),
		a.mailboxMessages(), a.mailboxRaw())
}

func (a *app) aliasCommand() *cobra.Command {
	k := kind{"alias", "aliases", form.Shown[directory.Alias](), "crew@skerryline.example",
		"gull alias add crew@skerryline.example --to crew.north@skerryline.example,crew.south@skerryline.example",
		"gull alias set info@skerryline.example --to odile.marr@skerryline.example"}
	return group("alias", "Aliases and groups; changes count at once", a.aliasList(), a.entryShow(k), a.entryAdd(k), a.entrySet(k), a.entryRemove(k), a.entryImport(k), a.entryExport(k))
}

// kind is mailboxes or aliases.
type kind struct {
	noun, path      string
	fields          []form.Field
	example         string
	addEx, changeEx string
}

func (a *app) mailboxList() *cobra.Command {
	var limit int
	var search, domain, sort string
	c := &cobra.Command{
		Use: "list", Short: "Mailboxes by address, with how full they are", Args: exactly(0),
		Example: "  gull mailbox list\n  gull mailbox list --search harrow -o csv\n  gull mailbox list --sort quota",
		RunE: func(c *cobra.Command, _ []string) error {
			var items []mail.MailboxLine
			q := url.Values{"search": {search}, "domain": {domain}, "sort": {sort}}
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
			err := printList(a, items, []column[mail.MailboxLine]{
				{"ADDRESS", false, func(m mail.MailboxLine) string { return m.Address }},
				{"NAME", false, func(m mail.MailboxLine) string { return m.Name }},
				{"LETTERS", true, func(m mail.MailboxLine) string { return fmt.Sprint(m.Letters) }},
				{"USED", true, func(m mail.MailboxLine) string { return octets(m.Octets) }},
				{"QUOTA", true, func(m mail.MailboxLine) string { return quotaWords(m) }},
				{"SUBMITS", false, func(m mail.MailboxLine) string { return submitWords(m) }},
				{"FORWARDS TO", false, func(m mail.MailboxLine) string { return strings.Join(m.ForwardTo, ", ") }},
				{"ALSO", false, func(m mail.MailboxLine) string { return strings.Join(append(m.Addresses, m.Generated...), ", ") }},
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
	f.StringVar(&sort, "sort", "address", "address, name, used or quota: by the last two those first that use most")
	_ = c.RegisterFlagCompletionFunc("sort", cobra.FixedCompletions([]string{"address", "name", "used", "quota"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func quotaWords(m mail.MailboxLine) string {
	if m.Quota == 0 {
		return "-"
	}
	return fmt.Sprintf("%s (%d%%)", form.Size(m.Quota), m.Octets*100/m.Quota)
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

func (a *app) aliasList() *cobra.Command {
	var limit int
	var search string
	c := &cobra.Command{
		Use: "list", Short: "Aliases by address", Args: exactly(0), Example: "  gull alias list",
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := a.client().Aliases(c.Context(), url.Values{"search": {search}, "limit": {strconv.Itoa(limit)}})
			if err != nil {
				return err
			}
			return printList(a, p.Items, []column[client.AliasLine]{
				{"ADDRESS", false, func(l client.AliasLine) string { return l.Address }},
				{"TO", false, func(l client.AliasLine) string { return strings.Join(l.To, ", ") }},
				{"ABOUT", false, func(l client.AliasLine) string { return l.About }},
			}, "There is no such alias. Add one: gull alias add ADDRESS --to ADDRESS")
		},
	}
	c.Flags().IntVar(&limit, "limit", 1000, "at most so many")
	c.Flags().StringVar(&search, "search", "", "a part of an address or of a target")
	return c
}

func (a *app) entryShow(k kind) *cobra.Command {
	return &cobra.Command{
		Use: "show ADDRESS", Short: "All its fields", Args: exactly(1), Example: "  gull " + k.noun + " show " + k.example,
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
				fmt.Fprintf(a.out, "%-24s %s\n", "generated addresses", strings.Join(e.Generated, ", "))
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
	line, err := bufio.NewReader(a.in).ReadString('\n')
	line = strings.TrimRight(line, "\r\n")
	if line == "" {
		return "", usage("standard input holds no line: %v", err)
	}
	return line, nil
}

func (a *app) entryAdd(k kind) *cobra.Command {
	var f fieldFlags
	var dry bool
	c := &cobra.Command{Use: "add ADDRESS", Short: "Add one; it counts at once", Args: exactly(1), Example: "  " + k.addEx}
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

func (a *app) entryFields(c *cobra.Command, f *fieldFlags, before map[string]any, password bool) (map[string]any, error) {
	fields, err := f.given(c.Flags(), before)
	if err == nil && password {
		fields["password"], err = a.readLine()
	}
	return fields, err
}

func (a *app) entryDone(k kind, e client.Entry, err error, dry bool, word string) error {
	switch {
	case err != nil:
		return err
	case a.format != "table":
		return a.printValue(e)
	case dry:
		fmt.Fprintf(a.out, "It is valid. Nothing was changed.\n")
		return nil
	}
	fmt.Fprintf(a.out, "%s %v %s.\n", strings.ToUpper(k.noun[:1])+k.noun[1:], e.Fields["address"], word)
	if len(e.Generated) > 0 {
		fmt.Fprintf(a.out, "It is reached under %s too.\n", strings.Join(e.Generated, ", "))
	}
	return nil
}

func (a *app) entrySet(k kind) *cobra.Command {
	var f fieldFlags
	var dry bool
	c := &cobra.Command{Use: "set ADDRESS", Short: "Change fields; it counts at once", Args: exactly(1), Example: "  " + k.changeEx}
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

func (a *app) entryRemove(k kind) *cobra.Command {
	var dry, yes bool
	c := &cobra.Command{
		Use: "remove ADDRESS", Short: "Take one out; it counts at once", Args: exactly(1),
		Long:    "Take one out. At a terminal it asks before. With --dry-run it only says what would go.",
		Example: "  gull " + k.noun + " remove " + k.example + " --dry-run\n  gull " + k.noun + " remove " + k.example,
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
func (a *app) removalOf(ctx context.Context, k kind, address string) (string, error) {
	e, err := a.client().ShowEntry(ctx, k.path, address)
	if err != nil || k.noun != "mailbox" {
		return "", err
	}
	list, err := a.client().Mailboxes(ctx, url.Values{"search": {address}, "limit": {"10"}})
	if err != nil {
		return "", err
	}
	for _, m := range list.Items {
		if m.Address == e.Fields["address"] && m.Letters > 0 {
			return fmt.Sprintf("; the %d messages in it (%s) can then be reached no more", m.Letters, octets(m.Octets)), nil
		}
	}
	return "; it is empty", nil
}

func (a *app) entryImport(k kind) *cobra.Command {
	var dry bool
	columns := directory.MailboxColumns
	if k.noun == "alias" {
		columns = directory.AliasColumns
	}
	c := &cobra.Command{
		Use: "import FILE", Short: "Add and change from CSV, all rows or none", Args: exactly(1),
		Long: "Read CSV whose first row names the columns: " + strings.Join(columns, ", ") + ". Lists are written with spaces between. " +
			"Rows add or change; nobody is taken out. With a single row at fault nothing is changed, and every fault is named by its row.",
		Example: "  gull " + k.noun + " import people.csv --dry-run\n  gull " + k.noun + " import people.csv",
		RunE: func(c *cobra.Command, args []string) error {
			text, err := a.readFile(args[0])
			if err != nil {
				return usage("%v", err)
			}
			tell, end := a.bar(max(bytes.Count(text, []byte("\n"))-1, 1), "importing")
			done, err := a.client().ImportEntries(c.Context(), k.path, bytes.NewReader(text), dry, func(p client.Progress) { tell(p.Done, p.What) })
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

func (a *app) imported(done mail.Imported, dry bool) error {
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
		fmt.Fprintf(a.out, "%d rows %s: %d new, %d changed, %d as they were.\n", done.Rows, verb, done.New, done.Changed, done.Unchanged)
		if dry && len(done.Problems) == 0 {
			fmt.Fprintln(a.out, "Nothing was changed.")
		}
	}
	if len(done.Problems) > 0 {
		return errRows
	}
	return nil
}

func (a *app) entryExport(k kind) *cobra.Command {
	return &cobra.Command{
		Use: "export", Short: "All of them as CSV, without passwords", Args: exactly(0), Example: "  gull " + k.noun + " export > " + k.path + ".csv",
		RunE: func(c *cobra.Command, _ []string) error { return a.client().ExportEntries(c.Context(), k.path, a.raw) },
	}
}

func (a *app) mailboxMessages() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "messages ADDRESS", Short: "Letters in a mailbox, newest first", Args: exactly(1),
		Example: "  gull mailbox messages ines.harrow@skerryline.example",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.client().Mailbox(c.Context(), args[0], limit, "")
			if err != nil {
				return err
			}
			return printList(a, p.Items, []column[mail.MailboxItem]{
				{"ID", false, func(m mail.MailboxItem) string { return m.ID.String() }},
				{"CAME", true, func(m mail.MailboxItem) string { return ago(m.ReceivedAt) }},
				{"FROM", false, func(m mail.MailboxItem) string { return shown(m.Sender) }},
				{"SIZE", true, func(m mail.MailboxItem) string { return octets(m.Size) }},
				{"SUBJECT", false, func(m mail.MailboxItem) string { return m.Subject }},
			}, "The mailbox is empty.")
		},
	}
	c.Flags().IntVar(&limit, "limit", 50, "at most so many")
	return c
}

func (a *app) mailboxRaw() *cobra.Command {
	return &cobra.Command{
		Use: "raw ADDRESS ID", Short: "A letter in a mailbox, as it is", Args: exactly(2),
		Example: "  gull mailbox raw ines.harrow@skerryline.example 0B4Z7H8Q2M000 > letter.eml",
		RunE: func(c *cobra.Command, args []string) error {
			return a.client().MailboxRaw(c.Context(), args[0], args[1], a.raw)
		},
	}
}

func (a *app) secretCommand() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "Names of kept passwords, never their values", Args: exactly(0), Example: "  gull secret list",
		RunE: func(c *cobra.Command, _ []string) error {
			items, err := a.client().Secrets(c.Context())
			if err != nil {
				return err
			}
			return printList(a, items, []column[mail.SecretLine]{
				{"NAME", false, func(s mail.SecretLine) string { return s.Name }},
				{"SET", true, func(s mail.SecretLine) string { return ago(s.ChangedAt) }},
				{"BY", false, func(s mail.SecretLine) string { return s.Who }},
			}, "No password is kept.")
		},
	}
	set := &cobra.Command{
		Use: "set NAME", Short: "Keep a password for somebody else's server, read from standard input", Args: exactly(1),
		Long:    "Keep a password, encrypted under the key file of the service. A route's sign_in names it; it counts at once.",
		Example: "  gull secret set harbourlight < password.txt",
		RunE: func(c *cobra.Command, args []string) error {
			value, err := a.readLine()
			if err != nil {
				return err
			}
			if err := a.client().SetSecret(c.Context(), args[0], value); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Secret %s is kept. A route uses it with: gull route set ROUTE --sign-in-account ACCOUNT --sign-in-secret %s\n", args[0], args[0])
			return nil
		},
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Forget a password", Args: exactly(1), Example: "  gull secret remove harbourlight",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemoveSecret(c.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Secret %s is forgotten.\n", args[0])
			return nil
		},
	}
	return group("secret", "Passwords for others' servers, kept encrypted", list, set, remove)
}

func (a *app) changeCommand() *cobra.Command {
	var limit int
	var what, name string
	list := &cobra.Command{
		Use: "list", Short: "What was changed in the directory, by whom, newest first", Args: exactly(0),
		Example: "  gull change list --name ines.harrow@skerryline.example",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {strconv.Itoa(limit)}}
			for k, v := range map[string]string{"what": what, "name": name} {
				if v != "" {
					q.Set(k, v)
				}
			}
			items, err := a.client().Changes(c.Context(), q)
			if err != nil {
				return err
			}
			return printList(a, items, []column[mail.Record]{
				{"WHEN", true, func(r mail.Record) string { return ago(r.At) }},
				{"AT", false, func(r mail.Record) string { return exact(r.At) }},
				{"BY", false, func(r mail.Record) string { return r.Who }},
				{"WHAT", false, func(r mail.Record) string { return r.What + " " + r.Name }},
				{"CHANGE", false, recordWords},
			}, "Nothing was changed.")
		},
	}
	list.Flags().IntVar(&limit, "limit", 50, "at most so many")
	list.Flags().StringVar(&what, "what", "", "mailbox, alias or secret")
	list.Flags().StringVar(&name, "name", "", "only of this name")
	return group("change", "Who changed what in the directory", list)
}

// recordWords tells a change field by field.
func recordWords(r mail.Record) string {
	switch {
	case r.Before == nil && r.Name != "import":
		return "added"
	case r.After == nil:
		return "removed"
	}
	var words []string
	for _, f := range form.Shown[directory.Mailbox]("password_hash", "scram_keys") {
		b, n := config.Words(r.Before[f.Name]), config.Words(r.After[f.Name])
		if b != n {
			words = append(words, fmt.Sprintf("%s %q → %q", f.Name, b, n))
		}
	}
	for _, name := range []string{"to", "rows", "mailboxes", "aliases"} {
		if b, n := config.Words(r.Before[name]), config.Words(r.After[name]); b != n {
			words = append(words, strings.TrimSpace(name+" "+b+" → "+n))
		}
	}
	return strings.Join(words, ", ")
}

func (a *app) configCommand() *cobra.Command {
	return group("config", "The configuration as one text", a.configCheck(), a.configImport(), a.configExport(), a.configSchema())
}

func (a *app) configCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE", Short: "Check a configuration; needs no service and changes nothing", Args: exactly(1),
		Example: "  gull config check demo/skerryline.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			text, err := a.readFile(args[0])
			if err != nil {
				return usage("%v", err)
			}
			parsed, err := config.Parse(text)
			if err != nil {
				return fmt.Errorf("%s is not valid:\n%w", args[0], err)
			}
			compiled := config.Compile(parsed, 0, directory.Of(parsed.Mailboxes, parsed.Aliases))
			fmt.Fprintf(a.out, "The configuration is valid: %d listeners, %d domains, %d relay rules, %d routes, %d peers, %d mailboxes, %d aliases.\n",
				len(parsed.Listeners), len(parsed.Domains), len(parsed.RelayRules), len(parsed.Routes), len(parsed.Peers), len(parsed.Mailboxes), len(parsed.Aliases))
			a.printHazards(append(compiled.Hazards(), compiled.NeverUsed()...))
			return nil
		},
	}
}

func (a *app) configSchema() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of the configuration, for editors", Args: exactly(0),
		Example: "  gull config schema > config.schema.json",
		RunE: func(*cobra.Command, []string) error {
			text, err := json.MarshalIndent(config.Schema(), "", "  ")
			if err == nil {
				_, err = fmt.Fprintf(a.out, "%s\n", text)
			}
			return err
		},
	}
}

func (a *app) configImport() *cobra.Command {
	var apply, dry bool
	c := &cobra.Command{
		Use: "import FILE", Short: "Take a whole text as the draft", Args: exactly(1),
		Long:    "Take a configuration's text as the draft, in place of the one there is. Mailboxes and aliases that stand in it are added or changed when it is applied.",
		Example: "  gull config import skerryline.yaml\n  gull config import skerryline.yaml --apply",
		RunE: func(c *cobra.Command, args []string) error {
			text, err := a.readFile(args[0])
			if err != nil {
				return usage("%v", err)
			}
			d, err := a.client().ImportConfig(c.Context(), args[0], string(text), dry)
			if err != nil {
				return err
			}
			if dry {
				fmt.Fprintln(a.out, "The configuration is valid. Nothing was changed.")
				return nil
			}
			if apply {
				done, err := a.client().ApplyDraft(c.Context(), map[string]any{"version": d.Version})
				if err != nil {
					return err
				}
				return a.applied(done)
			}
			if a.format != "table" {
				return a.printValue(d)
			}
			fmt.Fprintf(a.out, "It is the draft now, with %d changes. Next: gull draft rehearse, then gull draft apply.\n", len(d.Changes))
			return nil
		},
	}
	c.Flags().BoolVar(&apply, "apply", false, "apply it at once, if its rehearsal finds nothing dangerous")
	c.Flags().BoolVar(&dry, "dry-run", false, "check it; change nothing")
	return c
}

func (a *app) configExport() *cobra.Command {
	var only bool
	var secrets string
	c := &cobra.Command{
		Use: "export", Short: "Configuration and directory as one text, secrets removed", Args: exactly(0),
		Long:    "Print what is in force, in the form in which import takes it. Passwords are not in it, unless it is written with --with-secrets to a file that only you can read.",
		Example: "  gull config export > skerryline.yaml\n  gull config export --with-secrets everything.yaml",
		RunE: func(c *cobra.Command, _ []string) error {
			if secrets != "" {
				return a.exportSecrets(c, secrets)
			}
			t, err := a.client().Config(c.Context(), !only)
			if err != nil {
				return err
			}
			if a.format != "table" && a.format != "yaml" {
				return a.printValue(t)
			}
			_, err = fmt.Fprint(a.out, t.Text)
			return err
		},
	}
	c.Flags().BoolVar(&only, "without-directory", false, "without mailboxes and aliases")
	c.Flags().StringVar(&secrets, "with-secrets", "", "write everything, passwords too, to this new file")
	return c
}

func (a *app) exportSecrets(c *cobra.Command, file string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return usage("%v", err)
	}
	defer f.Close()
	t, err := a.client().ConfigWithSecrets(c.Context())
	if err != nil {
		_ = os.Remove(file)
		return err
	}
	if _, err := f.WriteString(t.Text); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Everything is in %s, readable by you only.\n", file)
	return f.Close()
}
