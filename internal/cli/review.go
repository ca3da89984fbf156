package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"gullroute/internal/core/review"
)

// reviewCommands are those of gull review.
type reviewCommands struct{ *app }

func (a reviewCommands) command() *cobra.Command {
	var draft, all bool
	c := &cobra.Command{
		Use:   "review",
		Short: "Findings of the settings, why they matter, and their fixes",
		Args:  exactly(0),
		Long: "Look for findings in the settings and around them. Each says what was found, " +
			"why it matters, and how it is fixed: by gull review fix where a change of the draft " +
			"does it, else by hand. What you decide to live with is accepted with a reason, " +
			"and shown only with --all.",
		Example: "  gull review\n  gull review --draft\n  gull review fix " +
			"'no-machine-limits:relay rule ticket machines'\n  gull review accept key-file-copy " +
			"--because \"in the safe of the harbour office\"",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Review(c.Context(), draft)
			if err != nil {
				return err
			}
			shown := list[:0:0]
			for _, w := range list {
				if w.Accepted == nil || all || a.format != "table" {
					shown = append(shown, w)
				}
			}
			if a.format != "table" {
				return printList(
					a.app,
					shown,
					[]column[review.Finding]{
						{"KEY", false, func(w review.Finding) string { return w.Key }},
						{
							"SEVERITY",
							false,
							func(w review.Finding) string { return string(w.Severity) },
						},
						{
							"TITLE",
							false,
							func(w review.Finding) string { return w.Title },
						},
						{"WHERE", false, func(w review.Finding) string { return w.Where }},
						{"FOUND", false, func(w review.Finding) string { return w.Text }},
					},
					"",
				)
			}
			a.printReview(shown, len(list)-len(shown))
			return nil
		},
	}
	list := &cobra.Command{
		Use:     "list",
		Short:   "The findings, as gull review alone shows them",
		Args:    exactly(0),
		Example: "  gull review list --draft",
		RunE:    c.RunE,
	}
	for _, one := range []*cobra.Command{c, list} {
		one.Flags().BoolVar(&draft, "draft", false, "of the draft, not of what is in force")
		one.Flags().BoolVar(&all, "all", false, "what was accepted too")
	}
	c.AddCommand(list, a.reviewFix(), a.reviewAccept(), a.reviewReopen())
	return c
}

func (a reviewCommands) printReview(list []review.Finding, accepted int) {
	w := a.out
	if len(list) == 0 {
		fmt.Fprintf(w, "No finding was found; %d were looked for.\n", review.Rules())
	}
	counts := map[review.Severity]int{}
	for _, x := range list {
		counts[x.Severity]++
	}
	if len(list) > 0 {
		fmt.Fprintf(w,
			"%d critical, %d serious, %d minor; %d kinds of finding were looked for.\n\n",
			counts[review.Critical], counts[review.Serious], counts[review.Minor], review.Rules())
	}
	for _, x := range list {
		fmt.Fprintf(w, "%-7s  %s (%s)\n         found  %s\n         why    %s\n", x.Severity,
			x.Title, x.Where, x.Text, x.Why)
		switch {
		case x.Accepted != nil:
			fmt.Fprintf(w, "         accepted by %s %s: %s\n", x.Accepted.Who, ago(x.Accepted.At),
				x.Accepted.Because)
		case x.Fix != nil:
			fmt.Fprintf(w, "         fix   %s: gull review fix '%s'\n         then   %s\n",
				x.Fix.Says, x.Key, x.Fix.Effect)
		default:
			fmt.Fprintf(w, "         fix   %s\n", x.ByHand)
		}
		fmt.Fprintf(w, "         key    %s\n\n", x.Key)
	}
	if accepted > 0 {
		fmt.Fprintf(w, "%d more are accepted; --all shows them.\n", accepted)
	}
}

func (a reviewCommands) reviewFix() *cobra.Command {
	return &cobra.Command{
		Use:     "fix KEY…",
		Short:   "Fix findings: into the draft, or immediately for aliases",
		Args:    cobra.MinimumNArgs(1),
		Example: "  gull review fix nobody-alerted no-daily-report",
		RunE: func(c *cobra.Command, args []string) error {
			for _, key := range args {
				done, err := a.client().FixFinding(c.Context(), key)
				if err != nil {
					return err
				}
				fmt.Fprintln(a.out, done.Text+".")
			}
			return nil
		},
	}
}

func (a reviewCommands) reviewAccept() *cobra.Command {
	var because string
	c := &cobra.Command{
		Use:   "accept KEY",
		Short: "Live with a finding, for a reason",
		Args:  exactly(1),
		Example: "  gull review accept key-file-copy --because \"in the safe of the harbour " +
			"office\"",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().AcceptFinding(c.Context(), args[0], because); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is accepted: %s\n", args[0], because)
			return nil
		},
	}
	c.Flags().StringVar(&because, "because", "", "why, for those who come after you")
	_ = c.MarkFlagRequired("because")
	return c
}

func (a reviewCommands) reviewReopen() *cobra.Command {
	return &cobra.Command{
		Use:     "reopen KEY",
		Short:   "Take the decision to live with a finding back",
		Args:    exactly(1),
		Example: "  gull review reopen key-file-copy",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().ReopenFinding(c.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is open again.\n", args[0])
			return nil
		},
	}
}
