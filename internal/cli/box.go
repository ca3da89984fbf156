package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/folder"
	"gullroute/internal/core/mail"
)

func (a entryCommands) mailboxFolders() *cobra.Command {
	return &cobra.Command{
		Use: "folders ADDRESS", Short: "The folders of a mailbox, with how much lies in them",
		Args:    exactly(1),
		Example: "  gull mailbox folders ines.harrow@skerryline.example",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.client().MailboxFolders(c.Context(), args[0])
			if err != nil {
				return err
			}
			return printList(a.app, p.Items, []column[folder.Folder]{
				{"FOLDER", false, func(f folder.Folder) string { return f.Name }},
				{"MESSAGES", true, func(f folder.Folder) string { return fmt.Sprint(f.Messages) }},
				{"UNREAD", true, func(f folder.Folder) string { return fmt.Sprint(f.Unseen) }},
				{"SIZE", true, func(f folder.Folder) string { return octets(f.Octets) }},
				{"FOR", false, func(f folder.Folder) string { return f.Use }},
			}, "The mailbox has no folder.")
		},
	}
}

func (a entryCommands) mailboxMessages() *cobra.Command {
	var limit int
	var in string
	c := &cobra.Command{
		Use: "messages ADDRESS", Short: "Messages in a mailbox, newest first", Args: exactly(1),
		Example: "  gull mailbox messages ines.harrow@skerryline.example\n  gull mailbox messages " +
			"logbook@skerryline.example --folder INBOX",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.client().Mailbox(c.Context(), args[0], in, limit, "")
			if err != nil {
				return err
			}
			return printList(a.app, p.Items, []column[mail.MailboxItem]{
				{"ID", false, func(m mail.MailboxItem) string { return m.ID.String() }},
				{"RECEIVED", true, func(m mail.MailboxItem) string { return ago(m.ReceivedAt) }},
				{"FOLDER", false, func(m mail.MailboxItem) string { return m.Folder }},
				{"FROM", false, func(m mail.MailboxItem) string { return shown(m.Sender) }},
				{"SIZE", true, func(m mail.MailboxItem) string { return octets(m.Size) }},
				{
					"FLAGS",
					false,
					func(m mail.MailboxItem) string { return strings.Join(m.Flags, " ") },
				},
				{"SUBJECT", false, func(m mail.MailboxItem) string { return m.Subject }},
			}, "There is no message here.")
		},
	}
	c.Flags().IntVar(&limit, "limit", 50, "at most so many")
	c.Flags().StringVar(&in, "folder", "", "only what lies in this folder")
	return c
}

func (a entryCommands) mailboxRead() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "read ADDRESS ID", Short: "A message in a mailbox: its header and its text, safely",
		Long: "Look at a message in somebody's mailbox. Nothing in it is run or fetched; of HTML " +
			"its words are shown. That you looked, and why, goes on record (gull audit list).",
		Args: exactly(2),
		Example: "  gull mailbox read ines.harrow@skerryline.example 0B4Z7H8Q2M000 --why " +
			"\"she asks where it came from\"",
		RunE: func(c *cobra.Command, args []string) error {
			v, err := a.client().MailboxMessage(c.Context(), args[0], args[1], why)
			if err != nil || a.format != "table" {
				if err == nil {
					err = a.printValue(v)
				}
				return err
			}
			for _, f := range v.Fields {
				fmt.Fprintf(a.out, "%s: %s\n", f.Name, f.Value)
			}
			fmt.Fprintln(a.out)
			for _, p := range v.Parts {
				if len(v.Parts) > 1 {
					fmt.Fprintf(a.out, "[%s %s %s %s]\n", p.Path, p.Type, octets(p.Size), p.Name)
				}
			}
			fmt.Fprintln(a.out, strings.TrimRight(v.Text, "\r\n"))
			if v.Truncated {
				fmt.Fprintln(a.err, "There is more: gull mailbox raw gives all of it.")
			}
			return nil
		},
	}
	c.Flags().StringVar(&why, "why", "", "why you look; it goes on record")
	return c
}

func (a entryCommands) mailboxRaw() *cobra.Command {
	return &cobra.Command{
		Use: "raw ADDRESS ID", Short: "A message in a mailbox, as it is", Args: exactly(2),
		Example: "  gull mailbox raw ines.harrow@skerryline.example 0B4Z7H8Q2M000 > message.eml",
		RunE: func(c *cobra.Command, args []string) error {
			return a.client().MailboxRaw(c.Context(), args[0], args[1], a.raw)
		},
	}
}

func (a entryCommands) appPasswordCommand() *cobra.Command {
	return group("app-password", "Passwords of a mailbox for one program each",
		a.appPasswordList(), a.appPasswordAdd(), a.appPasswordRevoke())
}

func (a entryCommands) appPasswordList() *cobra.Command {
	return &cobra.Command{
		Use: "list ADDRESS", Short: "Them, with their last use", Args: exactly(1),
		Example: "  gull mailbox app-password list ines.harrow@skerryline.example",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.client().AppPasswords(c.Context(), args[0])
			if err != nil {
				return err
			}
			return printList(a.app, p.Items, []column[mail.AppPassword]{
				{"NAME", false, func(p mail.AppPassword) string { return p.Name }},
				{"MADE", true, func(p mail.AppPassword) string { return ago(p.CreatedAt) }},
				{"BY", false, func(p mail.AppPassword) string { return p.Who }},
				{"LAST USE", false, func(p mail.AppPassword) string {
					if p.UsedAt.IsZero() {
						return "never"
					}
					return ago(p.UsedAt.Time) + " by " + p.UsedBy + " from " + p.Client
				}},
			}, "There is none. Make one: gull mailbox app-password add "+args[0]+" phone")
		},
	}
}

func (a entryCommands) appPasswordAdd() *cobra.Command {
	return &cobra.Command{
		Use: "add ADDRESS NAME", Short: "Make one; it is shown this once", Args: exactly(2),
		Example: "  gull mailbox app-password add ines.harrow@skerryline.example phone",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.client().AddAppPassword(c.Context(), args[0], args[1])
			if err != nil || a.format != "table" {
				if err == nil {
					err = a.printValue(p)
				}
				return err
			}
			fmt.Fprintf(a.out, "%s\n", p.Password)
			fmt.Fprintf(a.err, "It signs %s in with one program, %s. It is shown this once.\n",
				p.Mailbox, p.Name)
			return nil
		},
	}
}

func (a entryCommands) appPasswordRevoke() *cobra.Command {
	return &cobra.Command{
		Use: "revoke ADDRESS NAME", Short: "Take one away; its sessions end at once",
		Args:    exactly(2),
		Example: "  gull mailbox app-password revoke ines.harrow@skerryline.example phone",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RevokeAppPassword(c.Context(), args[0], args[1]); err != nil {
				return err
			}
			fmt.Fprintf(
				a.out,
				"App password %s of %s is revoked; its sessions have ended.\n",
				args[1],
				args[0],
			)
			return nil
		},
	}
}
