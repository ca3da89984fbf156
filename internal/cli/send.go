package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
)

// sendCommands are those of gull send.
type sendCommands struct{ *app }

func (a sendCommands) command() *cobra.Command {
	var t api.TestMessage
	var detach bool
	var wait time.Duration
	c := &cobra.Command{
		Use:   "send --to ADDRESS",
		Short: "Send a test message through a real listener and follow it until it ends",
		Args:  exactly(0),
		Example: "  gull send --from tickets@skerryline.example --to x@saltmarsh.example " +
			"--listener inside --client 127.20.1.5\n" +
			"  gull send --from someone@saltmarsh.example --to ines.harrow@skerryline.example",
		RunE: func(c *cobra.Command, _ []string) error {
			if len(t.To) == 0 {
				return usage("say at least one recipient with --to")
			}
			h, err := a.client().Send(c.Context(), t)
			if err != nil {
				return err
			}
			if a.format == "table" {
				for _, s := range h.Steps {
					if s.Said != "" {
						fmt.Fprintf(a.out, "> %s\n", s.Said)
					}
					fmt.Fprintf(a.out, "< %s\n", s.Heard)
				}
				fmt.Fprintln(a.out)
			} else if err := a.printValue(h); err != nil {
				return err
			}
			if h.ID == "" {
				return a.notTaken(h)
			}
			if detach || a.format != "table" {
				return nil
			}
			ctx, cancel := context.WithTimeout(c.Context(), wait)
			defer cancel()
			err = a.follow(ctx, h.ID)
			if errors.Is(ctx.Err(), context.DeadlineExceeded) && c.Context().Err() == nil {
				fmt.Fprintf(
					a.out,
					"\nIt has not come to its end within %s, and is tried on by itself. Follow "+
						"it: gull trace follow %s\n",
					wait,
					h.ID,
				)
				return nil
			}
			return err
		},
	}
	f := c.Flags()
	f.DurationVar(&wait, "wait", time.Minute, "how long it is followed at most")
	f.StringVar(&t.From, "from", "", "envelope sender; nothing is the null sender")
	f.StringArrayVar(&t.To, "to", nil, "recipient; may be given again")
	f.StringVar(&t.Subject, "subject", "", "subject")
	f.StringVar(&t.Text, "text", "", "text")
	f.StringVar(&t.Listener, "listener", "", "name of the listener; the first if not given")
	f.StringVar(&t.Client, "client", "", "address of this machine to send from")
	f.BoolVar(&detach, "detach", false, "do not follow the message")
	return c
}

// notTaken says why a test message was not taken, by what the listener answered last.
func (a sendCommands) notTaken(h api.Submitted) error {
	last := ""
	for _, s := range h.Steps {
		if !s.Positive {
			last = s.Heard
		}
	}
	switch {
	case strings.HasPrefix(last, "421"):
		return fmt.Errorf(
			"listener %s takes nothing just now: %s; see gull status and gull listener list",
			h.Listener,
			last,
		)
	case strings.HasPrefix(last, "4"):
		return fmt.Errorf("listener %s did not take it now: %s; the same may be taken later",
			h.Listener, last)
	case strings.HasPrefix(last, "5"):
		return fmt.Errorf(
			"the message was refused at listener %s: %s; see which rule says so with gull explain",
			h.Listener,
			last,
		)
	}
	return fmt.Errorf("the message was not taken at listener %s: %s", h.Listener, last)
}
