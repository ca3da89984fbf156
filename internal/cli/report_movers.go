package cli

import (
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/core/report"
)

// movers is gull report movers.
func (a reportCommands) movers() *cobra.Command {
	var p period
	var by, kind, archive string
	var limit int
	c := &cobra.Command{
		Use:   "movers",
		Short: "What changed most against the same time before",
		Args:  exactly(0),
		Long: "What changed most, by value: a period against the same hours of the same days, " +
			"a week before (or as many weeks as the period is long).",
		Example: "  gull report movers --period yesterday\n  gull report movers --period week --by " +
			"sender_domain --kind bounced",
		RunE: func(c *cobra.Command, _ []string) error {
			q, err := p.query(time.Now())
			if err != nil {
				return err
			}
			q.Del("zone")
			q.Set("dim", by)
			q.Set("kind", kind)
			q.Set("limit", strconv.Itoa(limit))
			if archive != "" {
				q.Set("archive", archive)
			}
			m, err := a.client().Movers(c.Context(), q)
			if err != nil {
				return err
			}
			if a.format == "table" {
				fmt.Fprintf(a.out, "%s, %s to %s, against %s to %s\n\n", kind, exact(m.Since),
					exact(m.Until), exact(m.BeforeSince), exact(m.BeforeUntil))
			}
			return printList(a.app, m.Items, []column[report.Mover]{
				{"CHANGE", true, func(x report.Mover) string {
					return fmt.Sprintf("%+d", x.Now-x.Before)
				}},
				{"NOW", true, func(x report.Mover) string { return number(x.Now) }},
				{"BEFORE", true, func(x report.Mover) string { return number(x.Before) }},
				{"WHAT", false, func(x report.Mover) string { return x.Value }},
				{"MEANS", false, func(x report.Mover) string { return x.Title }},
			}, "Nothing changed.")
		},
	}
	p.flags(c)
	f := c.Flags()
	f.StringVar(&by, "by", "recipient_domain", "by which value")
	f.StringVar(&kind, "kind", "delivered", "what is counted")
	f.StringVar(&archive, "archive", "", "of an opened archive (gull log list)")
	f.IntVar(&limit, "limit", 10, "at most so many, up to 100")
	_ = c.RegisterFlagCompletionFunc("by", cobra.FixedCompletions(
		report.Choices(), cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("kind",
		cobra.FixedCompletions(report.Kinds, cobra.ShellCompDirectiveNoFileComp))
	return c
}
