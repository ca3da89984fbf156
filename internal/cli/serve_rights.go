package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/rights"
	"gullroute/internal/service"
)

// rightsCommand prints who may do what.
func (a termsCommands) rightsCommand() *cobra.Command {
	markdown := false
	c := &cobra.Command{
		Use:     "rights",
		Short:   "What each role may do, operation by operation",
		Args:    exactly(0),
		Example: "  gull help rights",
		RunE: func(*cobra.Command, []string) error {
			if !markdown {
				for _, x := range rights.About {
					fmt.Fprintf(a.out, "%-72s %s\n", x.Is, rights.Who(x.Area))
				}
				return nil
			}
			text, err := service.OpenAPI()
			if err != nil {
				return err
			}
			var doc struct {
				Paths map[string]map[string]struct {
					OperationID string
					Summary     string
				}
			}
			if err := json.Unmarshal(text, &doc); err != nil {
				return err
			}
			operations := map[rights.Area][]string{}
			for path, methods := range doc.Paths {
				for method, op := range methods {
					area := rights.Of(op.OperationID, method == "get")
					operations[area] = append(
						operations[area],
						fmt.Sprintf(
							"| `%s`%s | `%s %s` | %s |",
							op.OperationID,
							star(op.OperationID),
							strings.ToUpper(method),
							path,
							op.Summary,
						),
					)
				}
			}
			fmt.Fprint(
				a.out,
				"# Rights\n\nMade by `gull help rights --markdown`. Each operation belongs to an "+
					"area, and each role has areas; commands and console go by the same operations. Whoever is "+
					"bounded to domains may call the operations marked with *, which show him what is about "+
					"his domains.\n\n| area |",
			)
			for _, r := range rights.Roles {
				fmt.Fprintf(a.out, " %s |", r)
			}
			fmt.Fprintf(a.out, "\n|---|%s\n", strings.Repeat("---|", len(rights.Roles)))
			for _, x := range rights.About {
				fmt.Fprintf(a.out, "| **%s**: %s |", x.Area, x.Is)
				for _, r := range rights.Roles {
					fmt.Fprintf(a.out, " %s |", yes(rights.May(r, x.Area)))
				}
				fmt.Fprintln(a.out)
			}
			for _, x := range rights.About {
				list := operations[x.Area]
				slices.Sort(list)
				fmt.Fprintf(
					a.out,
					"\n## %s\n\n%s: %s.\n\n| operation | call | does |\n|---|---|---|\n%s\n",
					x.Area,
					x.Is,
					rights.Who(x.Area),
					strings.Join(list, "\n"),
				)
			}
			list := operations[rights.Mailbox]
			slices.Sort(list)
			fmt.Fprintf(
				a.out,
				"\n## mailbox\n\nThe page of one's own mailbox: its owner, signed in there; nobody who "+
					"administers.\n\n| operation | call | does |\n|---|---|---|\n%s\n",
				strings.Join(list, "\n"),
			)
			return nil
		},
	}
	c.Flags().BoolVar(&markdown, "markdown", false, "as docs/rights.md")
	return c
}

// star marks an operation that heeds bounds to domains.
func star(operation string) string {
	if rights.Heeds(operation) {
		return " *"
	}
	return ""
}
