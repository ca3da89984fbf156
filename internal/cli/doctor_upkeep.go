package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
)

// upkeep is gull doctor upkeep.
func (a doctorCommands) upkeep() *cobra.Command {
	return &cobra.Command{
		Use:   "upkeep",
		Short: "Which certificates and keys end when, and how much room is left",
		Args:  exactly(0),
		Long: "Which certificates of listeners and which signing keys end when, and how much " +
			"room " +
			"is left. The exit code is 1 if something needs somebody now.",
		Example: "  gull doctor upkeep\n  gull doctor upkeep -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			u, err := a.client().Upkeep(c.Context())
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(u)
			}
			soon := false
			printTable(a.out, u.Endings, []column[api.Ending]{
				{"ENDS", false, func(e api.Ending) string { return exact(e.Until) }},
				{"", false, func(e api.Ending) string { return ago(e.Until) }},
				{
					"KIND",
					false,
					func(e api.Ending) string { return strings.ReplaceAll(e.Kind, "-", " ") },
				},
				{"OF", false, func(e api.Ending) string { return e.What }},
				{"TO DO", false, func(e api.Ending) string {
					if !e.Soon && e.Note == "" {
						return "-"
					}
					return strings.TrimPrefix(e.Note+"; "+e.Fix, "; ")
				}},
			})
			for _, e := range u.Endings {
				soon = soon || e.Soon
			}
			fmt.Fprintln(a.out)
			printTable(a.out, u.Rooms, []column[api.Room]{
				{"ROOM OF", false, func(r api.Room) string { return r.What }},
				{"USED", true, func(r api.Room) string { return octets(r.Size) }},
				{"LEFT", true, func(r api.Room) string {
					if r.Free == 0 {
						return "-"
					}
					return octets(r.Free)
				}},
				{"GROWS A DAY", true, func(r api.Room) string {
					if r.PerDay <= 0 {
						return "-"
					}
					return octets(r.PerDay)
				}},
				{"FULL IN", true, func(r api.Room) string {
					if r.FullDays == 0 {
						return "-"
					}
					return fmt.Sprintf("%d days", r.FullDays)
				}},
			})
			for _, r := range u.Rooms {
				soon = soon || r.Soon
			}
			if soon {
				return errSaid
			}
			return nil
		},
	}
}
