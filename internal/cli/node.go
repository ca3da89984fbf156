package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/mail"
)

// nodeCommands are those of gull node.
type nodeCommands struct{ *app }

func (a nodeCommands) command() *cobra.Command {
	drain := pauseCommands(a).pauseCommand(mail.PauseNode, "drain NODE",
		"Let a node finish what it has and take nothing new")
	drain.Long = "Let a node finish the transactions it has under way, give back what waits in " +
		"its memory, and take neither new mail nor deliveries. When gull node list shows it as " +
		"drained, it can be stopped. It stays drained, over restarts, until gull node resume."
	return group("node", "Nodes: the services that share the queue", a.list(), a.show(), drain,
		pauseCommands(a).resumeCommand(mail.PauseNode, "Let a drained node work again"),
		nodeRestart(a).command())
}

func (a nodeCommands) list() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "The services on this database: version, load, what they work on",
		Args:  exactly(0),
		Long: "The services on this database. LOAD is the share of the machine's processors " +
			"that the " +
			"service uses, REVISION the configuration in force there, WRITE how long its last " +
			"small " +
			"durable write took. gull node show NODE has the rest.",
		Example: "  gull node list\n  gull node list -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			nodes, err := a.client().Nodes(c.Context())
			if err != nil {
				return err
			}
			said := func(f func(*mail.NodeFacts) string) func(mail.Node) string {
				return func(n mail.Node) string {
					if n.Facts == nil {
						return "-"
					}
					return f(n.Facts)
				}
			}
			return printList(a.app, nodes, []column[mail.Node]{
				{"NODE", false, func(n mail.Node) string { return n.Name }},
				{"STATE", false, nodeState},
				{"VERSION", false, said(func(f *mail.NodeFacts) string { return f.Version })},
				{"ROLE", false, said(func(f *mail.NodeFacts) string { return f.Role })},
				{"UP SINCE", true, func(n mail.Node) string { return ago(n.StartedAt) }},
				{"HEARD OF", true, func(n mail.Node) string { return ago(n.SeenAt) }},
				{
					"REVISION",
					true,
					said(func(f *mail.NodeFacts) string { return fmt.Sprint(f.Revision) }),
				},
				{
					"SESSIONS",
					true,
					said(func(f *mail.NodeFacts) string { return fmt.Sprint(f.Sessions) }),
				},
				{"WORKS ON", true, func(n mail.Node) string { return fmt.Sprint(n.Leased) }},
				{"LOAD", true, said(func(f *mail.NodeFacts) string { return percent(f.Load) })},
				{"MEMORY", true, said(func(f *mail.NodeFacts) string { return octets(f.Memory) })},
				{"WRITE", true, said(func(f *mail.NodeFacts) string { return millis(f.Write) })},
				{
					"",
					false,
					func(n mail.Node) string { return map[bool]string{true: "(answers here)"}[n.Here] },
				},
			}, "No node is known.")
		},
	}
}

// nodeState is a node's state in a word or two.
func nodeState(n mail.Node) string {
	switch {
	case n.State != "silent" && n.BeginsAnew:
		return "restarting"
	case n.State == "running" && n.Facts != nil && n.Facts.NotReady != "":
		return "takes no mail"
	}
	return n.State
}

func percent(share float64) string { return fmt.Sprintf("%.0f %%", 100*share) }

func millis(seconds float64) string {
	if seconds == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f ms", 1000*seconds)
}

func (a nodeCommands) show() *cobra.Command {
	return &cobra.Command{
		Use:     "show NODE",
		Short:   "What a node says of itself: listeners, load, what it reads from",
		Args:    exactly(1),
		Example: "  gull node show shore\n  gull node show shore -o json",
		RunE: func(c *cobra.Command, args []string) error {
			nodes, err := a.client().Nodes(c.Context())
			if err != nil {
				return err
			}
			at := slices.IndexFunc(nodes, func(n mail.Node) bool { return n.Name == args[0] })
			if at < 0 {
				return fmt.Errorf(
					"no node %q was heard of within a day: gull node list has those that were",
					args[0],
				)
			}
			if a.format != "table" {
				return a.printValue(nodes[at])
			}
			a.print(nodes[at])
			return nil
		},
	}
}

func (a nodeCommands) print(n mail.Node) {
	line := func(what, text string) {
		if text != "" {
			fmt.Fprintf(a.out, "%-10s %s\n", what, text)
		}
	}
	line("node", n.Name+map[bool]string{true: " (answers here)"}[n.Here])
	line("state", nodeState(n))
	if n.Pause != nil {
		line("drained by", strings.TrimSuffix(n.Pause.Who+": "+n.Pause.Why, ": "))
	}
	line("up since", exact(n.StartedAt)+", "+ago(n.StartedAt))
	line("heard of", ago(n.SeenAt))
	f := n.Facts
	if f == nil {
		line("", "It has not said anything of itself yet.")
		return
	}
	line("no mail", f.NotReady)
	line("version", fmt.Sprintf("%s, knows schema %d", f.Version, f.Schema))
	line("role", f.Role)
	line("revision", fmt.Sprint(f.Revision))
	line("works on", fmt.Sprintf("%d deliveries", n.Leased))
	line("load", fmt.Sprintf("%s of its processors, %s of memory, %d sessions", percent(f.Load),
		octets(f.Memory), f.Sessions))
	if f.Write > 0 {
		line("write", millis(f.Write)+" for its last small durable write")
	}
	switch {
	case f.Behind > 0:
		line("history", fmt.Sprintf("read from a standby, %.1f s behind", f.Behind))
	case f.Behind < 0:
		line(
			"history",
			"its standby is not fresh enough or does not answer: read from the database itself",
		)
	}
	names := make([]string, 0, len(f.Listeners))
	for name := range f.Listeners {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Compare(a, b) })
	for _, name := range names {
		line("listener", f.Listeners[name]+"  "+name)
	}
}
