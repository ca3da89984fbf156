package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/publish"
)

// publishCommands publish records at DNS servers.
type publishCommands struct{ *app }

func (a publishCommands) publish() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use:   "publish DOMAIN [POINT...]",
		Short: "Put what readiness asks for into DNS, at the servers that take changes from us",
		Long: "Look at a domain, and show what would be published for it at the DNS servers that " +
			"take changes (gull dnsserver): what goes and what comes, name by name. With " +
			"--yes it is " +
			"done, only if nobody changed the records meanwhile, and the zones' servers are " +
			"asked until " +
			"they show it. Other texts and hosts at the same name stay; the terms of an SPF " +
			"record are " +
			"merged. What no server takes is listed to be put in by hand. gull dns-change " +
			"take-back " +
			"puts back what stood there.",
		Example: "  gull readiness publish skerryline.example\n" +
			"  gull readiness publish skerryline.example spf dmarc --yes",
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			plan, err := a.client().PlanPublishing(c.Context(), args[0], args[1:])
			if err != nil {
				return err
			}
			if yes {
				plan, err = a.client().Publish(c.Context(), args[0], args[1:], plan.Mark)
				if err != nil {
					return err
				}
			}
			if a.format != "table" {
				return a.printValue(plan)
			}
			return a.printPlan(plan, yes)
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "publish it")
	return c
}

func (a publishCommands) printPlan(p api.PublishPlan, made bool) error {
	w := a.out
	able, failed := 0, 0
	for _, s := range p.Steps {
		if s.Change == nil {
			continue
		}
		able++
		fmt.Fprintf(w, "%s %s, at %s\n", s.Record.Name, s.Record.Type, s.Server)
		a.printChange(*s.Change)
		switch {
		case s.Failed != "":
			failed++
			fmt.Fprintf(w, "  not published: %s\n", s.Failed)
		case s.ID != 0:
			fmt.Fprintf(w, "  published (change %d); %s\n", s.ID, s.Seen)
		}
	}
	for _, s := range p.Steps {
		if s.Change == nil {
			fmt.Fprintf(w, "%s %s, by hand: %s\n  + %s\n", s.Record.Name, s.Record.Type, s.ByHand,
				s.Record.Zone)
		}
	}
	switch {
	case len(p.Steps) == 0:
		fmt.Fprintf(w, "%s: %.1f of 10; there is nothing to publish.\n", shown(p.Domain), p.Score)
	case !made && able > 0:
		fmt.Fprintf(
			w,
			"%s: %.1f of 10. Nothing is published yet: --yes does it.\n",
			shown(p.Domain),
			p.Score,
		)
	default:
		fmt.Fprintf(w, "%s: %.1f of 10\n", shown(p.Domain), p.Score)
	}
	if failed > 0 {
		return fmt.Errorf("%d of %d changes were not published", failed, able)
	}
	return nil
}

func (a publishCommands) printChange(c publish.RecordChange) {
	for _, v := range c.Removed {
		fmt.Fprintf(a.out, "  - %s\n", publish.Data(c.Type, v))
	}
	for _, v := range c.Added {
		fmt.Fprintf(a.out, "  + %s\n", publish.Data(c.Type, v))
	}
}

// changes are the commands of gull dns-change.
func (a publishCommands) changes() *cobra.Command {
	return group("dns-change", "Records that were published by us, and taking them back", a.list(),
		a.takeBack())
}

func (a publishCommands) list() *cobra.Command {
	var after string
	var limit int
	c := &cobra.Command{
		Use:     "list",
		Short:   "Records that we published, the latest first",
		Args:    exactly(0),
		Example: "  gull dns-change list",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {fmt.Sprint(limit)}}
			if after != "" {
				q.Set("after", after)
			}
			page, err := a.client().DNSChanges(c.Context(), q)
			if err != nil {
				return err
			}
			return printList(a.app, page.Items, []column[mail.DNSChange]{
				{"ID", true, func(c mail.DNSChange) string { return fmt.Sprint(c.ID) }},
				{"AT", false, func(c mail.DNSChange) string { return exact(c.At) }},
				{"WHO", false, func(c mail.DNSChange) string { return c.Who }},
				{"NAME", false, func(c mail.DNSChange) string { return c.Change.Name }},
				{"TYPE", false, func(c mail.DNSChange) string { return c.Change.Type }},
				{"REMOVED", false, func(c mail.DNSChange) string {
					return dash(strings.Join(c.Change.Removed, "; "))
				}},
				{"ADDED", false, func(c mail.DNSChange) string {
					return dash(strings.Join(c.Change.Added, "; "))
				}},
				{"TAKEN BACK", false, func(c mail.DNSChange) string {
					if c.BackAt.IsZero() {
						return "-"
					}
					return exact(c.BackAt.Time) + " by " + c.BackWho
				}},
			}, "We published no record yet.")
		},
	}
	c.Flags().StringVar(&after, "after", "", "go on behind this id")
	c.Flags().IntVar(&limit, "limit", 50, "at most so many")
	return c
}

func (a publishCommands) takeBack() *cobra.Command {
	return &cobra.Command{
		Use:   "take-back ID",
		Short: "Put back what stood there before, unless others changed it since",
		Args:  exactly(1),
		Long: "Put back what stood at the name before a change of ours. If somebody else " +
			"changed the " +
			"records since, nothing is done.",
		Example: "  gull dns-change take-back 7",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return fmt.Errorf("%q is no id of a change; gull dns-change list has them", args[0])
			}
			change, err := a.client().TakeBackDNSChange(c.Context(), id)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(change)
			}
			fmt.Fprintf(
				a.out,
				"%s %s is as it was before.\n",
				change.Change.Name,
				change.Change.Type,
			)
			return nil
		},
	}
}
