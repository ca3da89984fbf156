package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"gullroute/internal/api"
)

// statusCommands are those of gull status.
type statusCommands struct{ *app }

func (a statusCommands) command() *cobra.Command {
	var watch time.Duration
	c := &cobra.Command{
		Use: "status", Short: "What flows, what waits, what is in trouble", Args: exactly(0),
		Long: "Say what flows, what waits and what is in trouble, the one thing that matters first. With " +
			"--watch it is said again and again until Ctrl-C; while the service does not answer that is said " +
			"instead.",
		Example: "  gull status\n  gull status --watch\n  gull status --watch=10s\n  gull status -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			if !c.Flags().Changed("watch") {
				return a.once(c.Context())
			}
			if watch < time.Second {
				return usage("--watch %s: a second at least", watch)
			}
			return a.again(c.Context(), watch)
		},
	}
	c.Flags().DurationVar(&watch, "watch", 2*time.Second, "say it again and again, each time after this")
	c.Flags().Lookup("watch").NoOptDefVal = "2s"
	return c
}

// once says the status.
func (a statusCommands) once(ctx context.Context) error {
	st, err := a.client().Status(ctx)
	if err != nil {
		return err
	}
	if a.format != "table" {
		return a.printValue(st)
	}
	a.printStatus(st)
	return nil
}

// again says it until ctx ends, on a terminal in place of what was said before.
func (a statusCommands) again(ctx context.Context, every time.Duration) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	f, ok := a.raw.(*os.File)
	terminal := ok && term.IsTerminal(int(f.Fd()))
	for ctx.Err() == nil {
		if terminal && a.format == "table" {
			fmt.Fprint(a.raw, "\x1b[H\x1b[2J")
		}
		if err := a.once(ctx); err != nil && ctx.Err() == nil {
			fmt.Fprintf(a.out, "%s  %v\n", time.Now().Format(time.TimeOnly), err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(every):
		}
	}
	return nil
}

func (a statusCommands) printStatus(st api.Status) {
	w := a.out
	a.printHazards(st.Hazards)
	if len(st.Hazards) > 0 {
		fmt.Fprintln(w)
	}
	if !st.ConfirmBy.IsZero() {
		fmt.Fprintf(w,
			"Revision %d goes back by itself %s unless you keep it: gull revision confirm %d\n\n",
			st.Revision, ago(st.ConfirmBy.Time), st.Revision)
	}
	stuck := st.Resting + st.Stranded + st.Paused
	switch {
	case st.Stopped != "":
		fmt.Fprintf(w, "%s\n\n", st.Stopped)
	case st.Domains == 0:
		fmt.Fprint(
			w,
			"No domain is set up yet, so no mail is taken. Begin with: gull domain add "+
				"skerryline.example --kind local\n\n",
		)
	case st.Verdict.Title != "":
		fmt.Fprintf(w, "%s\n%s\n", st.Verdict.Title, st.Verdict.Next)
		for _, why := range st.Verdict.Why {
			fmt.Fprintf(w, "  - %s\n", why)
		}
		if stuck > 0 {
			fmt.Fprintf(w, "  - %d of %d lanes do not move (%d resting, %d stranded, %d paused).\n",
				stuck, st.Lanes, st.Resting, st.Stranded, st.Paused)
		}
		fmt.Fprintln(w)
	case stuck > 0:
		fmt.Fprintf(w, "%d of %d lanes do not move (%d resting, %d stranded, %d paused).\n\n",
			stuck, st.Lanes, st.Resting, st.Stranded, st.Paused)
	case st.Deferred > 0:
		fmt.Fprintf(w, "Mail moves; %d deliveries wait for another attempt.\n\n", st.Deferred)
	default:
		fmt.Fprint(w, "Mail moves and nothing is in trouble.\n\n")
	}
	fmt.Fprintf(w, "server     %s, node %s, up since %s (%s), configuration revision %d\n",
		st.HostName, st.Node, exact(st.StartedAt), ago(st.StartedAt), st.Revision)
	fmt.Fprintf(w, "queue      %d waiting, %d deferred, %d held, %d sending in %d lanes",
		st.Waiting, st.Deferred, st.Held, st.Sending, st.Lanes)
	if !st.OldestAt.IsZero() {
		fmt.Fprintf(w, "; the oldest was received %s", ago(st.OldestAt.Time))
	}
	fmt.Fprintln(w)
	if n := st.Snags["critical"] + st.Snags["serious"]; n > 0 {
		fmt.Fprintf(w, "snags      %d critical, %d serious, %d minor: gull snag list\n",
			st.Snags["critical"], st.Snags["serious"], st.Snags["minor"])
	}
	var words []string
	for _, kind := range []string{"received", "delivered", "deferred", "bounced", "expired",
		"rejected"} {
		words = append(words, fmt.Sprintf("%d %s", st.Today[kind], kind))
	}
	fmt.Fprintf(w, "24 hours   %s\n", strings.Join(words, ", "))
	for i, l := range st.Listeners {
		label := "         "
		if i == 0 {
			label = "listeners"
		}
		fmt.Fprintf(w, "%s  %s (%s) at %s, %d sessions open\n", label, l.Name, l.Kind, l.Address,
			l.Sessions)
	}
	if len(st.Trouble) > 0 {
		fmt.Fprintln(w)
		printTable(w, st.Trouble, laneColumns())
	}
}

func (a *app) follow(ctx context.Context, id string) error {
	return (&follower{app: a, id: id, shown: map[string]bool{}}).run(ctx)
}
