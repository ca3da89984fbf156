package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/core/mail"
)

// nodeRestart is gull node restart.
type nodeRestart struct{ *app }

// settled is how long a node that began anew must be well before the next one is restarted.
const settled = 7 * time.Second

func (a nodeRestart) command() *cobra.Command {
	var all bool
	var why string
	var wait time.Duration
	c := &cobra.Command{
		Use:   "restart [NODE]",
		Short: "Let a node begin anew, or all of them one after the other",
		Args:  cobra.MaximumNArgs(1),
		Long: "Let a node end in order and begin anew, with the program that stands at its " +
			"place by " +
			"then: after the new package is installed, this is the upgrade. With --all one " +
			"node after the " +
			"other, the one that answers here last; the next one only when the one before it " +
			"takes mail " +
			"again. If one does not come back, the rest are left as they are and the exit " +
			"code is 1.",
		Example: "  gull node restart reef\n  gull node restart --all --why \"upgrade\"",
		RunE: func(c *cobra.Command, args []string) error {
			if all == (len(args) == 1) {
				return usage("name a node, or say --all")
			}
			nodes, err := a.client().Nodes(c.Context())
			if err != nil {
				return err
			}
			nodes = slices.DeleteFunc(nodes, func(n mail.Node) bool {
				return n.State == "silent" || !all && n.Name != args[0]
			})
			if len(nodes) == 0 && !all {
				return fmt.Errorf("no node %q runs: gull node list has those that do", args[0])
			}
			slices.SortStableFunc(nodes, func(a, b mail.Node) int { // who answers here is the last
				return map[bool]int{true: 1}[a.Here] - map[bool]int{true: 1}[b.Here]
			})
			for i, n := range nodes {
				if err := a.one(c.Context(), n, why, wait); err != nil {
					if left := len(nodes) - i - 1; left > 0 {
						return fmt.Errorf("%w; %d more were left as they are", err, left)
					}
					return err
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&all, "all", false, "all nodes that run, one after the other")
	c.Flags().StringVar(&why, "why", "", "kept in the audit log")
	c.Flags().
		DurationVar(&wait, "wait", 3*time.Minute, "how long a node may take until it is well again")
	return c
}

// one restarts a node and waits until its successor has been well for a while.
func (a nodeRestart) one(ctx context.Context, was mail.Node, why string, wait time.Duration) error {
	began := time.Now()
	if _, err := a.client().RestartNode(ctx, was.Name, why); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	var well time.Time
	last := "it has not ended yet"
	for {
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s was not well again within %s: %s", was.Name, wait, last)
		case <-time.After(500 * time.Millisecond):
		}
		now, err := a.successor(ctx, was)
		switch {
		case err != nil: // that of the node that answers here too, while it begins anew
			last, well = err.Error(), time.Time{}
		case now == nil:
			well = time.Time{}
		case now.Facts == nil || now.Facts.NotReady != "":
			last, well = "it takes no mail", time.Time{}
			if now.Facts != nil {
				last += ": " + now.Facts.NotReady
			}
		case well.IsZero():
			well = time.Now()
		case time.Since(well) >= settled:
			fmt.Fprintf(a.out, "%s began anew with version %s and is well, %.0f s\n", now.Name,
				now.Facts.Version, time.Since(began).Seconds())
			return nil
		}
	}
}

// successor is the run of a node that came after the one that was; nil if there is none yet.
func (a nodeRestart) successor(ctx context.Context, was mail.Node) (*mail.Node, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	nodes, err := a.client().Nodes(ctx)
	if err != nil {
		return nil, err
	}
	for i := range nodes {
		n := &nodes[i]
		if n.Name == was.Name && n.Number != was.Number && n.State != "silent" {
			return n, nil
		}
	}
	return nil, nil
}
