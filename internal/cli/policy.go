package cli

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// policyCommands are those of gull tls-policy.
type policyCommands struct{ *app }

func (a policyCommands) command() *cobra.Command {
	return group(
		"tls-policy",
		"What domains say of TLS for mail to them (MTA-STS, DANE)",
		a.list(),
		a.check(),
	)
}

func policyMode(p mail.TLSPolicy) string {
	if p.Policy == nil {
		return "-"
	}
	if p.InForce(time.Now()) == nil {
		return p.Policy.Mode + ", ended"
	}
	return p.Policy.Mode
}

func policyHosts(p mail.TLSPolicy) string {
	if p.Policy == nil {
		return "-"
	}
	return dash(strings.Join(p.Policy.MX, ", "))
}

func (a policyCommands) list() *cobra.Command {
	var after string
	var limit int
	c := &cobra.Command{
		Use:   "list",
		Short: "The policies that are known, by domain",
		Long: "The policies (MTA-STS, RFC 8461) of the domains to which mail went. A policy " +
			"counts until its time is over, whatever becomes of its server. What signed DNS " +
			"says of hosts (DANE) is not kept: gull tls-policy check looks at it.",
		Args:    exactly(0),
		Example: "  gull tls-policy list",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {fmt.Sprint(limit)}}
			if after != "" {
				q.Set("after", after)
			}
			page, err := a.client().TLSPolicies(c.Context(), q)
			if err != nil {
				return err
			}
			return printList(a.app, page.Items, []column[mail.TLSPolicy]{
				{"DOMAIN", false, func(p mail.TLSPolicy) string { return shown(p.Domain) }},
				{"MODE", false, policyMode},
				{"HOSTS", false, policyHosts},
				{"UNTIL", false, func(p mail.TLSPolicy) string { return exact(p.EndsAt.Time) }},
				{"ASKED", true, func(p mail.TLSPolicy) string { return ago(p.AskedAt) }},
				{"WRONG", false, func(p mail.TLSPolicy) string { return dash(p.Fault) }},
			}, "No domain to which mail went has one.")
		},
	}
	c.Flags().StringVar(&after, "after", "", "go on behind this domain")
	c.Flags().IntVar(&limit, "limit", 100, "at most so many")
	return c
}

func (a policyCommands) check() *cobra.Command {
	return &cobra.Command{
		Use:   "check DOMAIN",
		Short: "Ask a domain for its policy now, and how each of its hosts is to be known",
		Long: "Ask a domain for its policy now, whatever is kept, and say for each of its hosts by " +
			"which terms of TLS it gets mail, and who says so: the route, an agreement (gull " +
			"peer), the domain's policy (MTA-STS), or signed DNS (DANE).",
		Args:    exactly(1),
		Example: "  gull tls-policy check saltmarsh.example",
		RunE: func(c *cobra.Command, args []string) error {
			x, err := a.client().CheckTLSPolicy(c.Context(), args[0])
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(x)
			}
			w := a.out
			switch {
			case x.Policy == nil && x.Fault == "":
				fmt.Fprintf(w, "%s has no policy.\n", shown(x.Domain))
			case x.Policy == nil:
				fmt.Fprintf(w, "%s has no policy that counts.\n", shown(x.Domain))
			default:
				fmt.Fprintf(
					w,
					"%s says: %s; hosts %s; until %s (id %s)\n",
					shown(x.Domain),
					policyMode(x.TLSPolicy),
					policyHosts(x.TLSPolicy),
					exact(x.EndsAt.Time),
					x.Policy.ID,
				)
			}
			if x.Fault != "" {
				fmt.Fprintf(w, "The last time it went wrong: %s\n", x.Fault)
			}
			if x.Fails != "" {
				fmt.Fprintf(w, "Its hosts are not known: %s\n", x.Fails)
				return nil
			}
			fmt.Fprintf(w, "\nBy route %s:\n", x.Route)
			printTable(w, x.Hosts, []column[api.TLSHostTerms]{
				{"HOST", false, func(h api.TLSHostTerms) string { return h.Host }},
				{"TLS", false, func(h api.TLSHostTerms) string { return h.TLS }},
				{"BY", false, func(h api.TLSHostTerms) string { return h.By }},
				{"", false, func(h api.TLSHostTerms) string { return h.Says }},
			})
			return nil
		},
	}
}
