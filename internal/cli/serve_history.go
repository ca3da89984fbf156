package cli

import (
	"os"

	"github.com/spf13/cobra"

	"gullroute/internal/node"
)

// simnetCommands are those of gull simnet.
type simnetCommands struct{ *app }

func (a simnetCommands) simnetHistory() *cobra.Command {
	database := ""
	c := &cobra.Command{
		Use:   "history FILE",
		Short: "Put the demo world's history into a database that has none",
		Args:  exactly(1),
		Long: "Put the demo world's history into a database, beside what is there. The file is " +
			"an archive with the messages' contents, made by demo/history. Do it before the " +
			"service starts.",
		RunE: func(c *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			return node.LoadHistory(c.Context(), database, f)
		},
	}
	c.Flags().StringVar(&database, "database", "", "address of the database (GULL_DATABASE_URL)")
	environment(c.Flags(), "database", "GULL_DATABASE_URL")
	return c
}
