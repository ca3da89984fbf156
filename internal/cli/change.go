package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
)

// changeCommands are those of gull change.
type changeCommands struct{ *app }

func (a changeCommands) command() *cobra.Command {
	var limit int
	var what, name string
	list := &cobra.Command{
		Use:     "list",
		Short:   "What was changed in the directory, by whom, newest first",
		Args:    exactly(0),
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
			return printList(a.app, items, []column[mail.Record]{
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
