package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/address"
	"gullroute/internal/core/readiness"
)

// readinessCommands are those of gull readiness.
type readinessCommands struct{ *app }

func (a readinessCommands) command() *cobra.Command {
	var last, zone, addresses bool
	c := &cobra.Command{
		Use:   "readiness [DOMAIN]",
		Short: "Whether what the world sees of a domain is right, and what to publish",
		Args:  cobra.MaximumNArgs(1),
		Long: "Look at one of our domains as the world sees it: MX and hosts, names of our " +
			"addresses, TLS, SPF, DKIM, DMARC, block lists. Each point says what was " +
			"expected and " +
			"found, what it costs of ten, " +
			"and the exact record to publish, as a line of a zone file, in the form of a DNS " +
			"editor, and piece by piece. Without a domain the last check of every domain is " +
			"listed; the service looks by itself every six hours.",
		Example: "  gull readiness skerryline.example\n  gull readiness\n" +
			"  gull readiness skerryline.example --zone",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.listReadiness(c)
			}
			if last {
				h, err := a.client().Readiness(c.Context(), args[0])
				if err != nil {
					return err
				}
				return a.showHistory(h)
			}
			r, err := a.client().CheckReadiness(c.Context(), args[0])
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(r)
			}
			switch {
			case zone:
				a.printZone(r)
			case addresses:
				a.printAddresses(r)
			default:
				a.printReadiness(r)
			}
			return nil
		},
	}
	c.Flags().
		BoolVar(&zone, "zone", false, "all records that concern mail as they should be, in "+
			"the text "+
			"of a zone file, with what is not there yet")
	c.Flags().
		BoolVar(&addresses, "address", false, "only how the world sees our addresses: names, "+
			"the host name, block lists")
	c.Flags().BoolVar(&last, "last", false,
		"the last look, and what changed since earlier ones, without looking anew")
	c.AddCommand(publishCommands(a).publish())
	return c
}

func (a readinessCommands) listReadiness(c *cobra.Command) error {
	all, err := a.client().AllReadiness(c.Context())
	if err != nil {
		return err
	}
	return printList(a.app, all, []column[readiness.Readiness]{
		{
			"DOMAIN",
			false,
			func(r readiness.Readiness) string { return address.DisplayDomain(r.Domain) },
		},
		{"KIND", false, func(r readiness.Readiness) string { return r.Kind }},
		{"SCORE", true, score},
		{"LOOKED AT", true, func(r readiness.Readiness) string {
			if r.CheckedAt.IsZero() {
				return "never"
			}
			return ago(r.CheckedAt)
		}},
		{"VERDICT", false, func(r readiness.Readiness) string { return r.Verdict }},
	}, "There is no domain of ours.")
}

func score(r readiness.Readiness) string {
	if r.CheckedAt.IsZero() {
		return "-"
	}
	return fmt.Sprintf("%.1f", r.Score)
}

func (a readinessCommands) showHistory(h readiness.Looks) error {
	if a.format != "table" {
		return a.printValue(h)
	}
	if h.Last == nil {
		fmt.Fprintln(a.out, "It was not looked at yet.")
		return nil
	}
	a.printReadiness(*h.Last)
	for _, c := range h.Changes {
		fmt.Fprintf(a.out, "%s  %s: %s → %s. %s\n", exact(c.At), c.Title, c.Was, c.Is, c.Says)
	}
	return nil
}

// printZone prints the records of a domain as they should be; what is missing has a mark.
func (a readinessCommands) printZone(r readiness.Readiness) {
	missing := 0
	for _, rec := range r.Zone {
		mark := ""
		if !rec.There {
			missing++
			mark = " ; not there yet"
		}
		fmt.Fprintf(a.out, "%s%s\n", rec.DNSRecord.Zone, mark)
		for _, old := range rec.Instead {
			fmt.Fprintf(a.out, "; in place of %s\n", old)
		}
	}
	fmt.Fprintf(a.out, "; %s: %d records, %d of them not there yet\n",
		address.DisplayDomain(r.Domain), len(r.Zone), missing)
}

// printAddresses prints only what concerns our addresses.
func (a readinessCommands) printAddresses(r readiness.Readiness) {
	ours := r.Points[:0:0]
	for _, p := range r.Points {
		if slices.Contains(
			[]string{"host-name", "ptr", "ehlo-name", "block-lists", "reach"},
			p.Key,
		) {
			ours = append(ours, p)
		}
	}
	for _, p := range ours {
		fmt.Fprintf(a.out, "%-11s  %s\n             %s\n", p.Result, p.Title, p.Says)
		if len(p.Found) > 0 {
			fmt.Fprintf(a.out, "             found: %s\n",
				strings.Join(p.Found, "\n                    "))
		}
	}
}

func (a readinessCommands) printReadiness(r readiness.Readiness) {
	w := a.out
	fmt.Fprintf(w, "%s: %.1f of 10\n%s\n", address.DisplayDomain(r.Domain), r.Score, r.Verdict)
	for _, p := range r.Points {
		costs := ""
		if p.Costs > 0 {
			costs = fmt.Sprintf(" (costs %.1f)", p.Costs)
		}
		fmt.Fprintf(w, "\n%-11s  %s%s\n             %s\n", p.Result, p.Title, costs, p.Says)
		if p.Result == readiness.Pass && len(p.Found) == 0 {
			continue
		}
		if p.Result != readiness.Pass {
			fmt.Fprintf(w, "             expected: %s\n", p.Expected)
		}
		if len(p.Found) > 0 {
			fmt.Fprintf(w, "             found: %s\n",
				strings.Join(p.Found, "\n                    "))
		}
		for _, rec := range p.Records {
			fmt.Fprintln(w)
			dkimCommands(a).printRecord(rec)
		}
	}
}
