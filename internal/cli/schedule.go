package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/retry"
)

// scheduleCommands are those of gull schedule.
type scheduleCommands struct{ *app }

func (a scheduleCommands) command() *cobra.Command {
	words := map[string]*string{}
	var list []string
	preview := &cobra.Command{
		Use:   "preview",
		Short: "When a message would be tried, a delay notice sent, and when it expires",
		Args:  exactly(0),
		Long: "Plays a schedule through for a message whose host never answers: the one in " +
			"force for a route or domain, or one that you try out.",
		Example: "  gull schedule preview\n  gull schedule preview --domain greywacke.example\n  " +
			"gull schedule preview --intervals 5m,15m,1h --expire-after 3d",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{}
			setWords(q, words)
			if len(list) > 0 {
				q.Set("intervals", strings.Join(list, ","))
			}
			p, err := a.client().SchedulePreview(c.Context(), q)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(p)
			}
			a.printPreview(p)
			return nil
		},
	}
	f := preview.Flags()
	for name, help := range map[string]string{"route": "a route whose schedule counts",
		"domain":       "a domain whose peer's schedule counts",
		"warn-after":   "try out: until a delay notice is sent",
		"expire-after": "try out: until it expires"} {
		words[name] = f.String(name, "", help)
	}
	f.StringSliceVar(&list, "intervals", nil, "try out: between attempts, like 5m,15m,1h")
	return group("schedule", "The schedule of retries", preview)
}

// printPreview draws the attempts on a line and lists them.
func (a scheduleCommands) printPreview(p retry.Preview) {
	w := a.out
	for _, s := range p.Cost {
		fmt.Fprintln(w, s)
	}
	const width = 72
	line := []rune(strings.Repeat("·", width+1))
	at := func(s float64) int { return min(int(s/max(p.ExpireAfter, 1)*width), width) }
	for _, t := range p.Attempts {
		line[at(t.Earliest)] = '|'
	}
	if p.WarnAfter > 0 && p.WarnAfter < p.ExpireAfter {
		line[at(p.WarnAfter)] = 'w'
	}
	line[width] = 'x'
	fmt.Fprintf(w, "\n%s\n0%*s\n| an attempt, w a delay notice is sent, x expired\n\n", string(line),
		width, seconds(p.ExpireAfter))
	shownAttempts := p.Attempts
	const most = 40
	if len(shownAttempts) > most {
		shownAttempts = shownAttempts[:most]
	}
	printTable(w, shownAttempts, []column[retry.Try]{
		{"ATTEMPT", true, func(t retry.Try) string { return fmt.Sprint(t.N) }},
		{"AFTER", true, func(t retry.Try) string { return after(t.Earliest) }},
		{"AT THE LATEST", true, func(t retry.Try) string { return after(t.Latest) }},
	})
	if n := len(p.Attempts) - most; n > 0 {
		fmt.Fprintf(w, "and %d more, the last after %s\n", n,
			after(p.Attempts[len(p.Attempts)-1].Earliest))
	}
}

func after(s float64) string {
	if s == 0 {
		return "immediately"
	}
	return seconds(s)
}
