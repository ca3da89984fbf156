package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/gate"
)

// gateCommands are what gates and lists have beyond their fields.
type gateCommands struct{ sectionCommands }

// listState shows how lists do.
func (a gateCommands) listState() *cobra.Command {
	return &cobra.Command{
		Use:     "state",
		Short:   "Lists in force: entries, what refers to them, how their sources do",
		Args:    exactly(0),
		Example: "  gull list state",
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := a.client().Lists(c.Context())
			if err != nil {
				return err
			}
			return printList(a.app, p.Items, []column[api.ListState]{
				{"NAME", false, func(l api.ListState) string { return l.Name }},
				{"KIND", false, func(l api.ListState) string { return l.Kind }},
				{"ENTRIES", true, func(l api.ListState) string { return fmt.Sprint(l.Entries) }},
				{"SOURCE", false, func(l api.ListState) string { return l.Source }},
				{"READ", true, func(l api.ListState) string {
					if l.ReadAt == nil {
						return "-"
					}
					return ago(*l.ReadAt)
				}},
				{"TROUBLE", false, func(l api.ListState) string { return l.Trouble }},
				{"USED BY", false, func(l api.ListState) string {
					var uses []string
					for _, u := range l.Uses {
						uses = append(uses, u.Name)
					}
					return strings.Join(uses, ", ")
				}},
			}, "No list is in force. Add one: gull list add NAME --kind addresses --entries ADDRESS")
		},
	}
}

// listAsk asks a list about a value.
func (a gateCommands) listAsk() *cobra.Command {
	return &cobra.Command{
		Use:   "ask NAME VALUE",
		Short: "Whether a list in force has an address, a network, a text, a file or a time",
		Args:  exactly(2),
		Long: "Ask a list in force. It ends with code 4 if the list has nothing that matches.\n\n" +
			"For hours the value is a time like 2026-11-28T10:00:00Z, or now.",
		Example: "  gull list ask partners harbour@kelpworks.example\n  gull list ask \"office hours\" now",
		RunE: func(c *cobra.Command, args []string) error {
			got, err := a.client().AskList(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			switch {
			case a.format != "table":
				err = a.printValue(got)
			case got.Holds && got.Entry != "":
				fmt.Fprintf(a.out, "Yes: %s\n", got.Entry)
			case got.Holds:
				fmt.Fprintln(a.out, "Yes.")
			default:
				fmt.Fprintln(a.out, "No.")
			}
			if err == nil && !got.Holds {
				return errNotFound
			}
			return err
		},
	}
}

// proposalList shows the usual wishes.
func (a gateCommands) proposalList() *cobra.Command {
	return &cobra.Command{
		Use: "proposals", Short: "Usual wishes, explained; each can be adopted as a gate", Args: exactly(0),
		Example: "  gull gate proposals",
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := a.client().GateProposals(c.Context())
			if err != nil || a.format != "table" {
				if err == nil {
					err = printList(a.app, p.Items, nil, "")
				}
				return err
			}
			for i, t := range p.Items {
				if i > 0 {
					fmt.Fprintln(a.out)
				}
				fmt.Fprintf(a.out, "%s: %s\n  %s\n", t.Key, t.Title, t.Explains)
				words := "  gull gate adopt " + t.Key
				for _, b := range t.Asks {
					words += fmt.Sprintf(" --set %s", quoted(b.Name+"="+b.Example))
				}
				fmt.Fprintln(a.out, words)
			}
			return nil
		},
	}
}

// adopt adds a proposal to the draft.
func (a gateCommands) adopt() *cobra.Command {
	var set []string
	var x api.ProposalChoice
	c := &cobra.Command{
		Use: "adopt KEY", Short: "Add a proposal as a gate, in the draft", Args: exactly(1),
		Long: "Add a proposal as a gate; it can be changed like any other. " + inDraft,
		Example: "  gull gate adopt no-programs --watch\n  gull gate adopt partner --set " +
			"domain=kelpworks.example --set \"route=by provider\"",
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			var keys []string
			for _, t := range gate.Proposals {
				keys = append(keys, t.Key+"\t"+t.Title)
			}
			return keys, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			x.Answers = map[string]string{}
			for _, s := range set {
				name, value, ok := strings.Cut(s, "=")
				if !ok {
					return usage("--set %q: write name=value", s)
				}
				x.Answers[name] = value
			}
			done, err := a.client().AddGateProposal(c.Context(), args[0], x)
			return a.edited(done, err)
		},
	}
	c.Flags().StringArrayVar(&set, "set", nil, "what the proposal asks for, as name=value; may be given again")
	c.Flags().StringVar(&x.Name, "name", "", "name of the gate; the proposal's own if not given")
	c.Flags().BoolVar(&x.Watch, "watch", false, "let it only watch at first")
	c.Flags().BoolVar(&x.First, "first", false, "put it before all other gates")
	return c
}
