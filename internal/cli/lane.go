package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/retry"
)

// laneCommands are those of gull lane.
type laneCommands struct{ *app }

func laneColumns() []column[mail.Lane] {
	return []column[mail.Lane]{
		{"LANE", false, func(l mail.Lane) string { return l.ID.String() }},
		{"NEXT HOP", false, func(l mail.Lane) string { return shown(l.NextHop) }},
		{"ROUTE", false, func(l mail.Lane) string { return l.Route }},
		{"STATE", false, func(l mail.Lane) string { return string(l.State) }},
		{"WAIT", true, func(l mail.Lane) string { return fmt.Sprint(l.Waiting) }},
		{"DEFER", true, func(l mail.Lane) string { return fmt.Sprint(l.Deferred) }},
		{"HELD", true, func(l mail.Lane) string { return fmt.Sprint(l.Held) }},
		{"SIZE", true, func(l mail.Lane) string { return octets(l.Bytes) }},
		{"OLDEST", true, func(l mail.Lane) string { return ago(l.OldestAt.Time) }},
		{"NEXT ATTEMPT", true, func(l mail.Lane) string {
			if l.State == mail.LanePaused {
				return "paused"
			}
			return next(l.NextAttemptAt.Time)
		}},
		{"LAST REPLY", false, func(l mail.Lane) string {
			if l.State == mail.LaneStranded || l.State == mail.LanePaused ||
				l.State == mail.LaneParked {
				return l.Why
			}
			return lastText(l.Last)
		}},
	}
}

func (a laneCommands) command() *cobra.Command {
	return group(
		"lane",
		"Lanes: what waits for the same next hop",
		a.laneList(),
		a.laneShow(),
		a.laneGroups(),
		a.laneFlush(),
		pauseCommands(
			a,
		).pauseCommand(mail.PauseLane, "pause LANE", "Stop a lane; mail for it waits"),
		pauseCommands(a).resumeCommand(mail.PauseLane, "Let a lane go on"),
	)
}

func (a laneCommands) laneList() *cobra.Command {
	filter := map[string]*string{}
	limit := 0
	c := &cobra.Command{
		Use:   "list",
		Short: "Lanes with mail waiting, those with most first",
		Args:  exactly(0),
		Example: "  gull lane list\n  gull lane list --state resting --sort oldest\n  gull lane " +
			"list --find greywacke -o jsonl",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {strconv.Itoa(limit)}}
			none := "Nothing waits: no lane holds mail."
			for name, v := range filter {
				if *v != "" {
					q.Set(name, *v)
				}
				if *v != "" && name != "sort" && name != "order" {
					none = "No lane matches."
				}
			}
			p, err := a.client().Lanes(c.Context(), q)
			if err != nil {
				return err
			}
			if a.format == "table" && p.Verdict.Title != "" {
				fmt.Fprintf(a.out, "%s\n%s\n", p.Verdict.Title, p.Verdict.Next)
				for _, why := range p.Verdict.Why {
					fmt.Fprintf(a.out, "  - %s\n", why)
				}
				fmt.Fprintln(a.out)
			}
			if err := printList(
				a.app,
				p.Items,
				laneColumns(),
				none,
			); err != nil {
				return err
			}
			if p.Next != "" && a.format == "table" {
				fmt.Fprintf(a.err, "There are %d lanes; these are %d of them (--limit).\n", p.Total,
					len(p.Items))
			}
			return nil
		},
	}
	f := c.Flags()
	for name, help := range map[string]string{
		"find":  "a part of the next hop, route, state or cause",
		"state": "moving, paused, resting, stranded or parked",
		"route": "a route's name",
		"cause": "why it waits",
		"sort":  "messages, bytes, oldest, next, host, state or trouble",
		"order": "asc or desc",
	} {
		filter[name] = f.String(name, "", help)
	}
	f.IntVar(&limit, "limit", 1000, "at most so many")
	return c
}

// laneID finds a lane by its id, its next hop or a part of that.
func (a laneCommands) laneID(ctx context.Context, text string) (string, error) {
	if id, err := ident.Parse(text); err == nil {
		return id.String(), nil
	}
	p, err := a.client().Lanes(ctx, url.Values{"find": {text}, "limit": {"50"}})
	if err != nil {
		return "", err
	}
	exact := slices.DeleteFunc(slices.Clone(p.Items), func(l mail.Lane) bool {
		return l.NextHop != text && address.DisplayDomain(l.NextHop) != text
	})
	if len(exact) == 1 {
		return exact[0].ID.String(), nil
	}
	if len(p.Items) == 1 {
		return p.Items[0].ID.String(), nil
	}
	if len(p.Items) == 0 {
		return "", fmt.Errorf("nothing waits in a lane %q; see gull lane list: %w", text,
			errNotFound)
	}
	return "", usage("%d lanes match %q; give the id of one, see gull lane list --find %s", p.Total,
		text, text)
}

func (a laneCommands) laneShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show LANE",
		Short:   "One lane: state, counts, ages, last hour and last reply",
		Args:    exactly(1),
		Long:    "One lane, by its id or its next hop.",
		Example: "  gull lane show greywacke.example\n  gull lane show 2XK4T9Q8R7Y1C -o json",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := a.laneID(c.Context(), args[0])
			if err != nil {
				return err
			}
			l, err := a.client().Lane(c.Context(), id)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(l)
			}
			a.printLane(l)
			return nil
		},
	}
}

func (a laneCommands) printLane(l api.LaneDetail) {
	w := a.out
	fmt.Fprintf(w, "%s by route %s: %s", shown(l.NextHop), l.Route, l.State)
	if l.Why != "" {
		fmt.Fprintf(w, ", %s", l.Why)
	}
	fmt.Fprintf(w, "\n\nlane         %s\n", l.ID)
	if !l.Since.IsZero() {
		fmt.Fprintf(w, "since        %s (%s)\n", exact(l.Since.Time), ago(l.Since.Time))
	}
	if !l.Until.IsZero() {
		fmt.Fprintf(w, "until        %s (%s)\n", exact(l.Until.Time), ago(l.Until.Time))
	}
	fmt.Fprintf(w, "messages      %d waiting, %d deferred, %d held, %d being sent; %s\n", l.Waiting,
		l.Deferred, l.Held, l.Sending, octets(l.Bytes))
	fmt.Fprintf(w, "connections  %d open, at most %d now\n", l.Connections, l.Limit)
	if !l.OldestAt.IsZero() {
		fmt.Fprintf(w, "oldest       %s (%s), expires %s\n", exact(l.OldestAt.Time),
			ago(l.OldestAt.Time), ago(l.ExpiresAt.Time))
	}
	if !l.NextAttemptAt.IsZero() {
		fmt.Fprintf(w, "next attempt     %s\n", next(l.NextAttemptAt.Time))
	}
	came, gone, failed := 0, 0, 0
	for _, m := range l.Minutes {
		came, gone, failed = came+m.Received, gone+m.Finished, failed+m.Failed
	}
	fmt.Fprintf(w, "last hour    %d received, %d left, %d attempts deferred\n", came, gone, failed)
	fmt.Fprintf(w, "schedule     %s; delay notice after %s; expires after %s\n",
		intervals(l.Schedule.Intervals), seconds(l.Schedule.WarnAfter),
		seconds(l.Schedule.ExpireAfter))
	if l.Last != nil {
		fmt.Fprintf(w, "\nlast reply   %s\n", lastText(l.Last))
		if l.Last.Host != "" {
			fmt.Fprintf(w, "             from %s [%s], %s\n", l.Last.Host, l.Last.Address,
				ago(l.LastAt.Time))
		}
	}
	fmt.Fprintln(w, "\nage of its messages")
	for _, g := range l.Ages {
		label := "over " + seconds(g.From)
		if g.To > 0 {
			label = "up to " + seconds(g.To)
		}
		more := ""
		if g.More {
			more = " or more"
		}
		fmt.Fprintf(w, "  %-12s %7d%s\n", label, g.Messages, more)
	}
}

func seconds(s float64) string {
	if s == 0 {
		return "never"
	}
	return retry.Words(time.Duration(s * float64(time.Second)))
}

func intervals(list []float64) string {
	var words []string
	for _, s := range list {
		words = append(words, seconds(s))
	}
	return "tried again after " + strings.Join(words, ", ")
}

func (a laneCommands) laneGroups() *cobra.Command {
	by := "route"
	c := &cobra.Command{
		Use:     "groups",
		Short:   "The lanes summed up by route, host, cause or state",
		Args:    exactly(0),
		Example: "  gull lane groups --by cause",
		RunE: func(c *cobra.Command, _ []string) error {
			groups, err := a.client().LaneGroups(c.Context(), by)
			if err != nil {
				return err
			}
			return printList(a.app, groups, []column[api.LaneGroup]{
				{strings.ToUpper(by), false, func(g api.LaneGroup) string { return dash(g.By) }},
				{"LANES", true, func(g api.LaneGroup) string { return fmt.Sprint(g.Lanes) }},
				{"TROUBLED", true, func(g api.LaneGroup) string { return fmt.Sprint(g.Troubled) }},
				{"MESSAGES", true, func(g api.LaneGroup) string { return fmt.Sprint(g.Messages) }},
				{"SIZE", true, func(g api.LaneGroup) string { return octets(g.Bytes) }},
				{"OLDEST", true, func(g api.LaneGroup) string { return ago(g.OldestAt.Time) }},
			}, "Nothing waits: no lane holds mail.")
		},
	}
	c.Flags().StringVar(&by, "by", "route", "route, host, cause or state")
	return c
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func (a laneCommands) laneFlush() *cobra.Command {
	dry, why := false, ""
	c := &cobra.Command{
		Use:   "flush LANE",
		Short: "Try all messages of a lane now",
		Args:  exactly(1),
		Long: "Try all messages of a lane now, within its limits; a lane that rests tries its " +
			"host immediately. When messages expire does not change.",
		Example: "  gull lane flush sunkenpier.example",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := a.laneID(c.Context(), args[0])
			if err != nil {
				return err
			}
			return verbCommands(a).act(
				c,
				api.ActionRequest{
					Verb:      mail.VerbFlush,
					Selection: mail.Selection{Lane: id},
					Why:       why,
					DryRun:    dry,
				},
				true,
			)
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "only say how many messages it would touch")
	c.Flags().StringVar(&why, "why", "", "kept on record")
	return c
}
