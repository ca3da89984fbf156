package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/probe"
)

// probeCommands are those of gull probe.
type probeCommands struct{ *app }

func (a probeCommands) command() *cobra.Command {
	var routes, sources []string
	var from, inwards, client string
	var message, quiet bool
	c := &cobra.Command{
		Use:   "probe [HOST|DOMAIN|ADDRESS]",
		Short: "Converse live with a host, step by step, and say what is wrong",
		Args:  cobra.MaximumNArgs(1),
		Long: "Converse live with a mail host: what DNS says, each address, connection, greeting, " +
			"EHLO, TLS with its certificate, sign-in, sender and recipient; every step with its " +
			"time, what was said, and a verdict. " +
			"Nothing is sent unless --message. It goes by the route that a message would take, or " +
			"by those that are named, one after the other, to compare them.\n\n" +
			"With --inwards our own listeners are probed, as from an address of this machine, " +
			"with attempts to relay in every classical form: all must fail. The exit code is " +
			"1 if the probe fails.",
		Example: "  gull probe saltmarsh.example\n  gull probe harbour@strandwatch.example " +
			"--route \"to the world\" --route harbourlight\n  gull probe " +
			"mx.oldlocks.example:2530\n" +
			"  gull probe ada@saltmarsh.example --message\n  gull probe --inwards edge --client " +
			"127.20.9.9",
		RunE: func(c *cobra.Command, args []string) error {
			if (len(args) == 0) == (inwards == "") {
				return usage(
					"name a host, a domain or an address; or --inwards LISTENER for our own",
				)
			}
			p, err := a.client().Probe(c.Context(), map[string]any{
				"target":  first(args),
				"routes":  routes,
				"sources": sources,
				"from":    from,
				"message": message,
				"inwards": inwards,
				"client":  client,
			})
			if err != nil {
				return err
			}
			if a.format != "table" {
				err = a.printValue(p)
			} else {
				a.printProbe(p, !quiet)
			}
			if err == nil && p.Result == probe.Fail {
				return errSaid
			}
			return err
		},
	}
	f := c.Flags()
	f.StringArrayVar(&routes, "route", nil,
		"by the terms of this route; may be given again, to compare")
	f.StringArrayVar(&sources, "source", nil,
		"connect from this address of ours; may be given again")
	f.StringVar(&from, "from", "",
		"the sender that is asked about; the postmaster if not given, <> for the null sender")
	f.BoolVar(&message, "message", false, "send a small real message to the address")
	f.StringVar(&inwards, "inwards", "",
		"probe this listener of ours, or * for all, with attempts to relay")
	f.StringVar(&client, "client", "", "with --inwards: an address of this machine to come from")
	f.BoolVar(&quiet, "quiet", false, "steps only, without the transcript")
	return c
}

func (a probeCommands) printProbe(p probe.Probe, transcript bool) {
	w := a.out
	fmt.Fprintf(w, "%s: %s\n%s\n", p.Target, strings.ToUpper(p.Result), p.Verdict)
	if c := p.Cause; c != nil {
		fmt.Fprintf(w, "%s. %s %s Who can fix it: %s.\n", c.Title, c.Means, c.Fix,
			strings.ReplaceAll(c.WhoCanFix, "-", " "))
	}
	fmt.Fprintln(w)
	for _, s := range p.Steps {
		printStep(w.Write, s, false)
	}
	for _, t := range p.Attempts {
		by := ""
		if t.Route != "" {
			by = ", by route “" + t.Route + "”"
		}
		if t.Source != "" {
			by += ", from " + t.Source
		}
		fmt.Fprintf(w, "\n%s [%s] port %d%s\n", t.Host, t.Address, t.Port, by)
		for _, s := range t.Steps {
			printStep(w.Write, s, transcript)
		}
	}
	fmt.Fprintf(w, "\nIt took %.1f s.\n", p.Took)
}

func printStep(write func([]byte) (int, error), s probe.ProbeStep, transcript bool) {
	var b strings.Builder
	fmt.Fprintf(&b, "  %-7s  %-11s  %6.0f ms  %s\n", s.Result, s.Name, s.Took*1000, s.Says)
	for _, c := range s.Certificates {
		fmt.Fprintf(&b, "  %32s %s for %s, %s, until %s, by %s\n", "", c.Subject,
			strings.Join(c.Names, ", "), c.Key, exact(c.Until), c.Issuer)
	}
	for _, l := range s.Lines {
		if transcript {
			fmt.Fprintf(&b, "  %32s %s %s\n", fmt.Sprintf("%.3f", l.At),
				map[string]string{"us": ">", "them": "<", "note": "·"}[l.Who], l.Text)
		}
	}
	_, _ = write([]byte(b.String()))
}
