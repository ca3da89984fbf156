package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"gullroute/internal/core/mail"
)

// nodeCommands are those of gull node.
type nodeCommands struct{ *app }

func (a nodeCommands) command() *cobra.Command {
	list := &cobra.Command{
		Use:     "list",
		Short:   "The services on this database",
		Args:    exactly(0),
		Example: "  gull node list",
		RunE: func(c *cobra.Command, _ []string) error {
			nodes, err := a.client().Nodes(c.Context())
			if err != nil {
				return err
			}
			return printList(a.app, nodes, []column[mail.Node]{
				{"NODE", false, func(n mail.Node) string { return n.Name }},
				{"STATE", false, func(n mail.Node) string { return n.State }},
				{"UP SINCE", true, func(n mail.Node) string { return ago(n.StartedAt) }},
				{"HEARD OF", true, func(n mail.Node) string { return ago(n.SeenAt) }},
				{"WORKS ON", true, func(n mail.Node) string { return fmt.Sprint(n.Leased) }},
				{
					"",
					false,
					func(n mail.Node) string { return map[bool]string{true: "(answers here)"}[n.Here] },
				},
			}, "No node is known.")
		},
	}
	drain := pauseCommands(a).pauseCommand(mail.PauseNode, "drain NODE",
		"Let a node finish what it has and take nothing new")
	drain.Long = "Let a node finish the transactions it has under way, give back what waits in " +
		"its memory, and take neither new mail nor deliveries. When gull node list shows it as " +
		"drained, it can be stopped. It stays drained, over restarts, until gull node resume."
	return group("node", "Nodes: the services that share the queue", list, drain,
		pauseCommands(a).resumeCommand(mail.PauseNode, "Let a drained node work again"))
}
