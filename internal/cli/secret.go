package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"gullroute/internal/core/mail"
)

// secretCommands are those of gull secret.
type secretCommands struct{ *app }

func (a secretCommands) command() *cobra.Command {
	list := &cobra.Command{
		Use:     "list",
		Short:   "Names of kept passwords, never their values",
		Args:    exactly(0),
		Example: "  gull secret list",
		RunE: func(c *cobra.Command, _ []string) error {
			items, err := a.client().Secrets(c.Context())
			if err != nil {
				return err
			}
			return printList(a.app, items, []column[mail.SecretLine]{
				{"NAME", false, func(s mail.SecretLine) string { return s.Name }},
				{"SET", true, func(s mail.SecretLine) string { return ago(s.ChangedAt) }},
				{"BY", false, func(s mail.SecretLine) string { return s.Who }},
			}, "No password is kept.")
		},
	}
	set := &cobra.Command{
		Use:   "set NAME",
		Short: "Keep a password for somebody else's server, read from standard input",
		Args:  exactly(1),
		Long: "Keep a password, encrypted under the key file of the service. A route's sign_in " +
			"names it; it takes effect immediately.",
		Example: "  gull secret set harbourlight < password.txt",
		RunE: func(c *cobra.Command, args []string) error {
			value, err := a.readLine()
			if err != nil {
				return err
			}
			if err := a.client().SetSecret(c.Context(), args[0], value); err != nil {
				return err
			}
			fmt.Fprintf(
				a.out,
				"Secret %s is kept. A route uses it with: gull route set ROUTE --sign-in-account "+
					"ACCOUNT --sign-in-secret %s\n",
				args[0],
				args[0],
			)
			return nil
		},
	}
	remove := &cobra.Command{
		Use:     "remove NAME",
		Short:   "Forget a password",
		Args:    exactly(1),
		Example: "  gull secret remove harbourlight",
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
