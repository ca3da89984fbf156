package cli

import (
	"fmt"
	"net/url"
	"os"

	"github.com/spf13/cobra"
)

// bundleCommands are those of gull bundle.
type bundleCommands struct{ *app }

func (a bundleCommands) command() *cobra.Command {
	var messages []string
	var whole bool
	c := &cobra.Command{
		Use:   "bundle FILE",
		Short: "Write a support bundle: what somebody who helps needs to see",
		Args:  exactly(1),
		Long: "Write a zip archive with the settings without secrets, versions, health, nodes, " +
			"lanes, snags, review, readiness, and the path of chosen messages. Contents of " +
			"messages, passwords and keys are never in it; addresses and subjects are masked " +
			"unless --whole.",
		Example: "  gull bundle gull-support.zip\n  gull bundle gull-support.zip --message " +
			"05A870V5G0800 --whole",
		RunE: func(c *cobra.Command, args []string) error {
			f, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
			if err != nil {
				return err
			}
			q := url.Values{"message": messages}
			if whole {
				q.Set("whole", "true")
			}
			err = a.client().Bundle(c.Context(), q, f)
			if closeErr := f.Close(); err == nil {
				err = closeErr
			}
			if err != nil {
				_ = os.Remove(args[0])
				return err
			}
			fmt.Fprintf(a.out, "%s is written; look into it before you pass it on.\n", args[0])
			return nil
		},
	}
	c.Flags().StringArrayVar(&messages, "message", nil,
		"id of a message whose path goes with it; may be given again")
	c.Flags().BoolVar(&whole, "whole", false, "addresses and subjects as they are")
	return c
}
