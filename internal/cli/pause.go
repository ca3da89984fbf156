package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// pauseCommands are those of gull pause.
type pauseCommands struct{ *app }

var pauseExamples = map[string]string{
	mail.PauseLane:     "  gull lane pause fogbank.example --why \"their host floods us\" --for 2h",
	mail.PauseRoute:    "  gull route pause \"by provider\"",
	mail.PauseListener: "  gull listener pause edge --for 30m",
	mail.PauseNode:     "  gull node drain shore --why \"new kernel\"",
	mail.PauseDelivery: "  gull queue pause --for 15m",
	mail.PauseAccount:  "  gull mailbox pause odile.marr@skerryline.example --why \"her password was stolen\"",
}

// stop is what a command names.
func (a pauseCommands) stop(ctx context.Context, kind string, args []string) (api.StopRequest, error) {
	s := api.StopRequest{Kind: kind}
	if len(args) == 0 {
		return s, nil
	}
	s.Name = args[0]
	if kind == mail.PauseLane {
		id, err := laneCommands(a).laneID(ctx, args[0])
		if err != nil {
			return s, err
		}
		s.Name = id
	}
	return s, nil
}

func (a pauseCommands) pauseCommand(kind, use, short string) *cobra.Command {
	var why, length string
	n := 1
	if kind == mail.PauseDelivery {
		n = 0
	}
	c := &cobra.Command{Use: use, Short: short, Args: exactly(n), Example: pauseExamples[kind],
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.stop(c.Context(), kind, args)
			if err != nil {
				return err
			}
			s.Why, s.For = why, length
			done, err := a.client().Pause(c.Context(), s)
			if err != nil {
				return err
			}
			return a.printDone(done)
		}}
	c.Flags().StringVar(&why, "why", "", "kept on record and shown")
	c.Flags().StringVar(&length, "for", "", "ends by itself after this: 30m, 2h")
	return c
}

func (a pauseCommands) resumeCommand(kind, short string) *cobra.Command {
	why, use, n := "", "resume NAME", 1
	switch kind {
	case mail.PauseDelivery:
		use, n = "resume", 0
	case mail.PauseLane:
		use = "resume LANE"
	case mail.PauseAccount:
		use = "resume ADDRESS"
	}
	c := &cobra.Command{
		Use:   use,
		Short: short,
		Args:  exactly(n),
		Example: "  " + strings.Replace(
			strings.Split(strings.TrimSpace(pauseExamples[kind]), " --")[0],
			" pause",
			" resume",
			1,
		),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.stop(c.Context(), kind, args)
			if err != nil {
				return err
			}
			s.Why = why
			done, err := a.client().Resume(c.Context(), s)
			if err != nil {
				return err
			}
			return a.printDone(done)
		},
	}
	if kind == mail.PauseNode {
		c.Example = "  gull node resume shore"
	}
	c.Flags().StringVar(&why, "why", "", "kept on record")
	return c
}

// addPauses gives routes and listeners, which are sections of the configuration,
// their commands to stop and go on.
func (a pauseCommands) addPauses(root *cobra.Command) {
	for _, c := range root.Commands() {
		switch c.Name() {
		case "route":
			c.AddCommand(
				a.pauseCommand(mail.PauseRoute, "pause NAME",
					"Stop delivery by a route; its mail waits"),
				a.resumeCommand(mail.PauseRoute, "Let a route go on"),
			)
		case "mailbox":
			c.AddCommand(
				a.pauseCommand(mail.PauseAccount, "pause ADDRESS",
					"Let an account send nothing; its mailbox takes mail all the same"),
				a.resumeCommand(mail.PauseAccount, "Let an account send again"),
			)
		case "listener":
			c.AddCommand(
				a.pauseCommand(mail.PauseListener, "pause NAME",
					"Take nothing at a listener: clients are asked to come back"),
				a.resumeCommand(mail.PauseListener, "Let a listener go on"),
			)
		}
	}
}
