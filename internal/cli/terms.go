package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"gullroute/internal/core/glossary"
)

// termsCommands are those on our own terms.
type termsCommands struct{ *app }

// command prints them; it stands under help, where people look for words.
func (a termsCommands) command() *cobra.Command {
	markdown := false
	c := &cobra.Command{
		Use:     "terms",
		Short:   "What our own terms mean: lane, snag, peer, draft, rehearsal and the like",
		Args:    exactly(0),
		Example: "  gull help terms\n  gull help terms -o json",
		RunE: func(*cobra.Command, []string) error {
			switch {
			case markdown:
				fmt.Fprint(a.out, glossary.Markdown())
				return nil
			case a.format != "table":
				return a.printValue(glossary.Terms)
			}
			for _, t := range glossary.Terms {
				fmt.Fprintf(a.out, "%s\n  %s\n  For example: %s\n\n", t.Name, t.Means, t.Example)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&markdown, "markdown", false, "as docs/glossary.md")
	return c
}
