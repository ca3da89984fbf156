package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"gullroute/internal/client"
	"gullroute/internal/core/mail"
)

// actionCommands are those of gull action.
type actionCommands struct{ *app }

func (a actionCommands) list() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use:     "actions",
		Short:   "What people did with messages, lanes and nodes, newest first",
		Args:    exactly(0),
		Example: "  gull queue actions\n  gull queue actions --limit 5 -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Actions(c.Context(), limit)
			if err != nil {
				return err
			}
			return printList(a.app, list, []column[mail.Action]{
				{"ACTION", true, func(x mail.Action) string { return fmt.Sprint(x.ID) }},
				{"WHEN", true, func(x mail.Action) string { return ago(x.At) }},
				{"WHO", false, func(x mail.Action) string { return x.Who }},
				{"WHAT", false, func(x mail.Action) string { return x.Verb }},
				{"ON", false, func(x mail.Action) string { return x.On }},
				{"MESSAGES", true, func(x mail.Action) string { return fmt.Sprint(x.Touched) }},
				{"UNDO", false, undoText},
				{"WHY", false, func(x mail.Action) string { return x.Why }},
			}, "Nobody has done anything yet.")
		},
	}
	c.Flags().IntVar(&limit, "limit", 30, "at most so many")
	return c
}

func undoText(x mail.Action) string {
	switch {
	case x.UndoneBy > 0:
		return fmt.Sprintf("taken back by %d", x.UndoneBy)
	case x.CanUndo:
		return "can be"
	}
	return "-"
}

// undoCommand takes an action back; restore is its name after a drop.
func (a actionCommands) undo(name string) *cobra.Command {
	why := ""
	short, example := "Take an action back, where that makes sense", "  gull queue undo 12"
	if name == "restore" {
		short, example = "Put back what an action dropped, within a day", "  gull queue restore 12"
	}
	c := &cobra.Command{
		Use: name + " ACTION", Short: short, Args: exactly(1), Example: example,
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage("%q is no number of an action; see gull queue actions", args[0])
			}
			tell, end := a.bar(1_000_000, name)
			done, err := a.client().Undo(c.Context(), id, why,
				func(p client.Progress) { tell(p.Done, "") })
			end()
			if err != nil {
				return err
			}
			return a.printDone(done)
		},
	}
	c.Flags().StringVar(&why, "why", "", "kept on record")
	return c
}
