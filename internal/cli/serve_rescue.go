package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"gullroute/internal/node"
)

// rescue lets somebody administer again, past the service.
func (a operatorCommands) rescue() *cobra.Command {
	database := ""
	c := &cobra.Command{
		Use:   "rescue NAME",
		Short: "Let somebody administer again when nobody can sign in any more",
		Long: "Give somebody a new password and the role administrator, take his second " +
			"factor away and switch " +
			"him on; who is not there is added. It goes by the database, past the service: " +
			"whoever may write " +
			"there may do this. It stands in the audit log.",
		Args:    exactly(1),
		Example: "  gull operator rescue keeper --database postgres://gull@127.0.0.1/gull",
		RunE: func(c *cobra.Command, args []string) error {
			if database == "" {
				return usage("say where the database is with --database or GULL_DATABASE_URL")
			}
			password, err := node.Rescue(c.Context(), database, args[0])
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "\n  password  %s\n\nIt is shown this once. %s signs in with it and "+
				"chooses another then.\n", password, args[0])
			return nil
		},
	}
	c.Flags().StringVar(&database, "database", "", "address of the database (GULL_DATABASE_URL)")
	environment(c.Flags(), "database", "GULL_DATABASE_URL")
	return c
}

// first makes the first administrator where no browser is at hand.
func (a operatorCommands) first() *cobra.Command {
	database := ""
	c := &cobra.Command{
		Use:   "first NAME",
		Short: "Make the first administrator, without a browser",
		Long: "Make the first administrator with a password that is asked for, or read from " +
			"standard " +
			"input. It goes by the database, past the service, and only while nobody administers.",
		Args: exactly(1),
		Example: "  gull operator first keeper --database postgres://gull@127.0.0.1/gull\n" +
			"  gull operator first keeper < password.txt",
		RunE: func(c *cobra.Command, args []string) error {
			if database == "" {
				return usage("say where the database is with --database or GULL_DATABASE_URL")
			}
			password, err := a.secret("password of " + args[0])
			if err != nil {
				return err
			}
			made, err := node.First(c.Context(), database, args[0], password)
			if err != nil {
				return err
			}
			if !made {
				return errors.New("somebody administers already: gull operator rescue lets " +
					"one in again")
			}
			fmt.Fprintf(a.out, "%s administers. Sign in: gull login --name %s\n", args[0], args[0])
			return nil
		},
	}
	c.Flags().StringVar(&database, "database", "", "address of the database (GULL_DATABASE_URL)")
	environment(c.Flags(), "database", "GULL_DATABASE_URL")
	return c
}
