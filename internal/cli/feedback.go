package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/mail"
)

// feedbackCommands are those of gull feedback.
type feedbackCommands struct{ *app }

func (a feedbackCommands) command() *cobra.Command {
	return group("feedback", "What other servers report of mail in our name, and of TLS to us",
		a.show(), a.list(), a.status(), a.name())
}

func (a feedbackCommands) show() *cobra.Command {
	var days int
	c := &cobra.Command{
		Use:   "show DOMAIN",
		Short: "Who sends in a domain's name, from where, what was proved, and how TLS fares",
		Long: "What others reported lately of a domain: DMARC aggregate reports say from which " +
			"addresses mail in its name came and whether SPF or a signature proved it; TLS " +
			"reports " +
			"(RFC 8460) say how connections to its hosts did. Reports are read at the address " +
			"service.feedback.address. A sender that nobody knows becomes a snag; gull " +
			"feedback name " +
			"makes it known.",
		Args:    exactly(1),
		Example: "  gull feedback show skerryline.example --days 14",
		RunE: func(c *cobra.Command, args []string) error {
			x, err := a.client().Feedback(c.Context(), args[0], days)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(x)
			}
			fmt.Fprintf(
				a.out,
				"%s: %d of %d messages proved since %s. %s\n\n",
				shown(x.Domain),
				x.Passed,
				x.Messages,
				x.Since.Format("2006-01-02"),
				x.Says,
			)
			if len(x.Senders) > 0 {
				printTable(a.out, x.Senders, []column[mail.FeedbackSender]{
					{
						"FROM",
						false,
						func(s mail.FeedbackSender) string { return s.Source.String() },
					},
					{"WHO", false, func(s mail.FeedbackSender) string {
						if s.Name == "" && !s.Known {
							return "nobody knows"
						}
						return dash(s.Name)
					}},
					{
						"MESSAGES",
						true,
						func(s mail.FeedbackSender) string { return fmt.Sprint(s.Messages) },
					},
					{
						"PROVED",
						true,
						func(s mail.FeedbackSender) string { return fmt.Sprint(s.Passed) },
					},
					{
						"BY SPF",
						true,
						func(s mail.FeedbackSender) string { return fmt.Sprint(s.BySPF) },
					},
					{
						"SIGNED",
						true,
						func(s mail.FeedbackSender) string { return fmt.Sprint(s.BySigned) },
					},
					{
						"KEPT AWAY",
						true,
						func(s mail.FeedbackSender) string { return fmt.Sprint(s.Refused) },
					},
					{
						"LAST",
						false,
						func(s mail.FeedbackSender) string { return s.Last.Format("2006-01-02") },
					},
					{
						"NAMED",
						false,
						func(s mail.FeedbackSender) string { return dash(strings.Join(s.Of, ", ")) },
					},
				})
			}
			if len(x.TLS) > 0 {
				fmt.Fprintln(a.out)
				printTable(a.out, x.TLS, []column[mail.FeedbackTLS]{
					{"POLICY", false, func(t mail.FeedbackTLS) string { return t.Policy }},
					{"RESULT", false, func(t mail.FeedbackTLS) string {
						if t.Result == "" {
							return "well"
						}
						return t.Result
					}},
					{
						"SESSIONS",
						true,
						func(t mail.FeedbackTLS) string { return fmt.Sprint(t.Sessions) },
					},
					{"HOST", false, func(t mail.FeedbackTLS) string { return dash(t.Host) }},
					{
						"REPORTED BY",
						false,
						func(t mail.FeedbackTLS) string { return strings.Join(t.Tellers, ", ") },
					},
					{"", false, func(t mail.FeedbackTLS) string { return t.More }},
				})
			}
			return nil
		},
	}
	c.Flags().IntVar(&days, "days", 30, "of the last so many days")
	return c
}

func (a feedbackCommands) list() *cobra.Command {
	var after string
	var limit int
	c := &cobra.Command{
		Use:     "list",
		Short:   "Reports that were received, the latest first",
		Args:    exactly(0),
		Example: "  gull feedback list",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {fmt.Sprint(limit)}}
			if after != "" {
				q.Set("after", after)
			}
			page, err := a.client().FeedbackReports(c.Context(), q)
			if err != nil {
				return err
			}
			return printList(a.app, page.Items, []column[mail.FeedbackReport]{
				{"ID", true, func(r mail.FeedbackReport) string { return fmt.Sprint(r.ID) }},
				{"KIND", false, func(r mail.FeedbackReport) string { return r.Kind }},
				{"DOMAIN", false, func(r mail.FeedbackReport) string { return shown(r.Domain) }},
				{"BY", false, func(r mail.FeedbackReport) string { return r.Reporter }},
				{"FROM", false, func(r mail.FeedbackReport) string { return exact(r.From) }},
				{"RECEIVED", true, func(r mail.FeedbackReport) string { return ago(r.ReceivedAt) }},
			}, "No report was received yet.")
		},
	}
	c.Flags().StringVar(&after, "after", "", "go on behind this id")
	c.Flags().IntVar(&limit, "limit", 50, "at most so many")
	return c
}

func (a feedbackCommands) status() *cobra.Command {
	return &cobra.Command{
		Use:     "status",
		Short:   "Where reports are read, what was none, and what became of our own",
		Args:    exactly(0),
		Example: "  gull feedback status",
		RunE: func(c *cobra.Command, _ []string) error {
			x, err := a.client().FeedbackState(c.Context())
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(x)
			}
			fmt.Fprintln(a.out, x.Says)
			for _, u := range x.Unread {
				fmt.Fprintf(
					a.out,
					"  no report: %s from %s: %s\n",
					exact(u.At),
					dash(u.Sender),
					u.Fault,
				)
			}
			if !x.Sends {
				fmt.Fprintln(a.out, "We report to nobody.")
			}
			for _, s := range x.Sent {
				fmt.Fprintf(
					a.out,
					"  our %s report of %s to %s: %s\n",
					s.Kind,
					s.Day.Format("2006-01-02"),
					shown(s.Domain),
					s.Result,
				)
			}
			for _, s := range x.Sources {
				fmt.Fprintf(a.out, "  %s is %s (named by %s)\n", s.Network, s.Name, s.Who)
			}
			return nil
		},
	}
}

func (a feedbackCommands) name() *cobra.Command {
	return &cobra.Command{
		Use:   "name SOURCE NAME",
		Short: "Name a sender in our name, so that it is known",
		Long: "Name an address or a network from which mail in our name comes, so that it is " +
			"known " +
			"and no snag; an empty name takes it away.",
		Args:    exactly(2),
		Example: "  gull feedback name 127.30.0.41 \"newsletter provider\"",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().NameSender(c.Context(), args[0], args[1]); err != nil {
				return err
			}
			if args[1] == "" {
				fmt.Fprintf(a.out, "%s has no name any more.\n", args[0])
				return nil
			}
			fmt.Fprintf(a.out, "%s is %s.\n", args[0], args[1])
			return nil
		},
	}
}
