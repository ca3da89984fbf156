package cli

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/mail"
)

// revisionCommands are those of gull revision.
type revisionCommands struct{ *app }

func (a revisionCommands) command() *cobra.Command {
	return group("revision", "Configurations that were in force", a.revisionList(),
		a.revisionShow(), a.revisionRevert(), a.revisionConfirm())
}

func (a revisionCommands) revisionList() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use:     "list",
		Short:   "Revisions, newest first",
		Args:    exactly(0),
		Example: "  gull revision list",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Revisions(c.Context(), limit)
			if err != nil {
				return err
			}
			return printList(a.app, list, []column[mail.Revision]{
				{"REVISION", true, func(r mail.Revision) string { return fmt.Sprint(r.Number) }},
				{"APPLIED", true, func(r mail.Revision) string { return ago(r.AppliedAt) }},
				{"AT", false, func(r mail.Revision) string { return exact(r.AppliedAt) }},
				{"BY", false, func(r mail.Revision) string { return r.Who }},
				{"", false, revisionWords},
				{"WHY", false, func(r mail.Revision) string { return r.Why }},
			}, "Nothing was applied yet.")
		},
	}
	c.Flags().IntVar(&limit, "limit", 50, "at most so many")
	return c
}

func revisionWords(r mail.Revision) string {
	var words []string
	if r.Forced {
		words = append(words, "forced")
	}
	if r.Reverts > 0 {
		words = append(words, fmt.Sprintf("back to %d", r.Reverts))
	}
	if !r.ConfirmBy.IsZero() {
		words = append(words, "goes back "+ago(r.ConfirmBy.Time))
	}
	return strings.Join(words, ", ")
}

func revisionNumber(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return 0, usage("%q is not a revision's number; gull revision list shows them", text)
	}
	return n, nil
}

func (a revisionCommands) revisionShow() *cobra.Command {
	var against int
	var text bool
	c := &cobra.Command{
		Use:   "show NUMBER",
		Short: "What a revision changed",
		Args:  exactly(1),
		Example: "  gull revision show 7\n  gull revision show 7 --against 3\n  gull revision " +
			"show 7 --text > skerryline.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			n, err := revisionNumber(args[0])
			if err != nil {
				return err
			}
			v, err := a.client().Revision(c.Context(), n, against)
			switch {
			case err != nil:
				return err
			case text:
				_, err = io.WriteString(a.out, v.Revision.Text)
				return err
			case a.format != "table":
				return a.printValue(v)
			}
			fmt.Fprintf(a.out, "Revision %d, applied %s (%s) by %s. %s %s\n\n", v.Revision.Number,
				exact(v.Revision.AppliedAt), ago(v.Revision.AppliedAt), v.Revision.Who,
				v.Revision.Why, revisionWords(v.Revision))
			if v.Against > 0 {
				fmt.Fprintf(a.out, "Against revision %d:\n", v.Against)
				a.printChanges(v.Changes)
				_, err = io.WriteString(a.out, v.YAML)
			}
			return err
		},
	}
	c.Flags().IntVar(&against, "against", 0,
		"compare with this revision; the one before if not given")
	c.Flags().BoolVar(&text, "text", false, "print its text")
	return c
}

func (a revisionCommands) revisionRevert() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use:   "revert NUMBER",
		Short: "Go back to a revision; it is in force immediately",
		Args:  exactly(1),
		Long: "Put an earlier revision in force again, as a new one. A draft stays, and is " +
			"rebased with: gull draft rebase",
		Example: "  gull revision revert 6 --why \"mail to saltmarsh.example stopped\"",
		RunE: func(c *cobra.Command, args []string) error {
			n, err := revisionNumber(args[0])
			if err != nil {
				return err
			}
			done, err := a.client().Revert(c.Context(), n, why)
			if err != nil {
				return err
			}
			return a.applied(done)
		},
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for the record")
	return c
}

func (a revisionCommands) revisionConfirm() *cobra.Command {
	return &cobra.Command{
		Use:     "confirm NUMBER",
		Short:   "Keep a revision that would go back by itself",
		Args:    exactly(1),
		Example: "  gull revision confirm 8",
		RunE: func(c *cobra.Command, args []string) error {
			n, err := revisionNumber(args[0])
			if err != nil {
				return err
			}
			if err := a.client().Confirm(c.Context(), n); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Revision %d stays.\n", n)
			return nil
		},
	}
}
