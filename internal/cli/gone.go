package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/mail"
)

func (a entryCommands) mailboxRemoved() *cobra.Command {
	return &cobra.Command{
		Use:     "removed",
		Short:   "Mailboxes that were taken out and can be given back, the latest first",
		Args:    exactly(0),
		Example: "  gull mailbox removed",
		RunE: func(c *cobra.Command, _ []string) error {
			items, err := a.client().RemovedMailboxes(c.Context())
			if err != nil {
				return err
			}
			return printList(a.app, items, []column[mail.GoneMailbox]{
				{"ADDRESS", false, func(m mail.GoneMailbox) string { return m.Address }},
				{"REMOVED", true, func(m mail.GoneMailbox) string { return ago(m.RemovedAt) }},
				{"BY", false, func(m mail.GoneMailbox) string { return dash(m.By) }},
				{
					"MESSAGES",
					true,
					func(m mail.GoneMailbox) string { return strconv.FormatInt(m.Messages, 10) },
				},
				{"SIZE", true, func(m mail.GoneMailbox) string { return octets(m.Octets) }},
				{"UNTIL", false, func(m mail.GoneMailbox) string { return exact(m.EndsAt) }},
				{"", false, func(m mail.GoneMailbox) string {
					if m.Taken {
						return "the address is somebody's: --as"
					}
					return ""
				}},
			}, "None can be given back.")
		},
	}
}

func (a entryCommands) mailboxGiveBack() *cobra.Command {
	var as string
	c := &cobra.Command{
		Use:   "give-back ADDRESS",
		Short: "Give one back that was taken out, with password and mail",
		Long: "Give a mailbox back that was taken out, the latest with the address: as it was, with " +
			"its password, folders and mail, until its time is over (service.mailboxes_kept). " +
			"Passwords of programs are made anew. If somebody has the address now, give it back under another.",
		Args: exactly(1),
		Example: "  gull mailbox give-back odile.marr@skerryline.example\n" +
			"  gull mailbox give-back odile.marr@skerryline.example --as odile.old@skerryline.example",
		ValidArgsFunction: func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			items, _ := a.client().RemovedMailboxes(c.Context())
			var out []string
			for _, m := range items {
				out = append(out, m.Address)
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			given, err := a.client().GiveBack(c.Context(), args[0], as)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(given)
			}
			fmt.Fprintf(a.out, "%s is given back.\n", given.Address)
			if len(given.Left) > 0 {
				fmt.Fprintf(a.out, "Not its further addresses that are others' now: %s.\n",
					strings.Join(given.Left, ", "))
			}
			return nil
		},
	}
	c.Flags().StringVar(&as, "as", "", "another address, if its own is somebody's now")
	return c
}
