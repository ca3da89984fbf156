package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/repute"
)

// reputationCommands show and say what strangers are.
type reputationCommands struct{ *app }

func (a reputationCommands) command() *cobra.Command {
	c := &cobra.Command{
		Use:   "reputation [IP|DOMAIN]",
		Short: "What is known of a stranger: lists, names, what we saw of it; allow or deny it",
		Long: "Ask every list about an IP address or a domain, look for its name, and count " +
			"what we saw of it within 30 days. Without one: how strangers are weighed, how " +
			"the lists do, and whom people allow or deny.",
		Args: cobra.MaximumNArgs(1),
		Example: "  gull reputation 127.30.0.65\n  gull reputation undertow.example\n" +
			"  gull reputation allow 127.30.0.65 --for 7d --why \"they fix it\"",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.state(c)
			}
			x, err := a.client().Reputation(c.Context(), args[0])
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(x)
			}
			return a.show(x)
		},
	}
	c.AddCommand(
		a.except(
			"allow",
			"Allow it: neither weighed nor greylisted",
			"gull reputation allow saltmarsh.example --for 30d --why \"their new server has "+
				"no name yet\"",
		),
		a.except("deny", "Deny it: refused, whatever it sends",
			"gull reputation deny 127.30.0.0/28 --for 2d --why \"a flood\""),
		a.forget())
	return c
}

func (a reputationCommands) state(c *cobra.Command) error {
	x, err := a.client().Weighing(c.Context())
	if err != nil {
		return err
	}
	if a.format != "table" {
		return a.printValue(x)
	}
	t := x.Thresholds
	fmt.Fprintf(
		a.out,
		"The score is %s: marked from %d on, held from %d, refused from %d (0 is never).\n",
		x.Score,
		t.Mark,
		t.Hold,
		t.Refuse,
	)
	fmt.Fprintf(a.out, "Greylisting is %s: %d must come again, %d are known.\n\n",
		strings.ReplaceAll(x.Greylisting, "_", " "), x.Waiting, x.Known)
	err = printList(a.app, x.Lists, []column[repute.Health]{
		{"LIST", false, func(h repute.Health) string { return h.Name }},
		{"ZONE", false, func(h repute.Health) string { return h.Zone }},
		{"IS", false, healthWord},
	}, "No list is asked. Add one: gull dnslist add NAME --zone ZONE")
	if err != nil || len(x.Exceptions) == 0 {
		return err
	}
	fmt.Fprintln(a.out)
	return a.exceptions(x.Exceptions)
}

func healthWord(h repute.Health) string {
	switch {
	case h.Off:
		return "off"
	case h.Trouble != "":
		return "NOT ASKED: " + h.Trouble
	case h.Checked == nil:
		return "not asked yet"
	}
	return "well, looked at " + ago(*h.Checked)
}

func (a reputationCommands) exceptions(list []repute.Standing) error {
	return printList(a.app, list, []column[repute.Standing]{
		{"SAYS", false, func(s repute.Standing) string { return s.Says }},
		{"KIND", false, func(s repute.Standing) string { return s.Kind }},
		{"VALUE", false, func(s repute.Standing) string { return s.Value }},
		{"UNTIL", false, func(s repute.Standing) string {
			if s.Until == nil {
				return "for good"
			}
			return exact(*s.Until)
		}},
		{"WHO", false, func(s repute.Standing) string { return s.Who }},
		{"WHY", false, func(s repute.Standing) string { return s.Why }},
	}, "")
}

func (a reputationCommands) show(x api.Reputation) error {
	switch x.Says {
	case repute.Allow:
		fmt.Fprintf(a.out, "%s is ALLOWED: %s\n", x.About, x.Why)
	case repute.Deny:
		fmt.Fprintf(a.out, "%s is DENIED: %s\n", x.About, x.Why)
	default:
		fmt.Fprintf(a.out, "%s: score %d before any message\n", x.About, x.Points)
	}
	for _, p := range x.Parts {
		fmt.Fprintf(a.out, "  %4d  %s", p.Points, p.Signal)
		if p.Why != "" {
			fmt.Fprintf(a.out, ": %s", p.Why)
		}
		fmt.Fprintln(a.out)
	}
	if x.Kind == "address" {
		fmt.Fprintf(a.out, "Name: %s\n", map[string]string{
			repute.NameGood:   x.Name,
			repute.NameForged: x.Name + " (it does not lead back)",
			repute.NameNone:   "none",
			"":                "DNS does not say",
		}[x.NameState])
	}
	last := ""
	if x.LastAt != nil {
		last = ", the last " + ago(*x.LastAt)
	}
	fmt.Fprintf(
		a.out,
		"Within 30 days: %s taken, %s refused%s\n\n",
		upTo(x.Messages),
		upTo(x.Refusals),
		last,
	)
	if err := printList(a.app, x.Lists, []column[repute.Listing]{
		{"LIST", false, func(l repute.Listing) string { return l.List }},
		{"KIND", false, func(l repute.Listing) string { return l.Kind }},
		{"SAYS", false, func(l repute.Listing) string {
			switch {
			case l.Trouble != "":
				return "not asked: " + l.Trouble
			case l.Listed:
				return "LISTED (" + l.Answers + ")"
			case l.Answers != "":
				return l.Answers + " does not count"
			}
			return "not listed"
		}},
		{"WHY", false, func(l repute.Listing) string { return l.Text }},
		{"ASK AT", false, func(l repute.Listing) string { return l.AskAt }},
	}, "No list is asked about such things. Add one: gull dnslist add NAME --zone ZONE"); err != nil {
		return err
	}
	if len(x.Exceptions) > 0 {
		fmt.Fprintln(a.out)
		return a.exceptions(x.Exceptions)
	}
	return nil
}

func upTo(n int) string {
	if n >= 1000 {
		return "1,000 or more"
	}
	return fmt.Sprint(n)
}

func (a reputationCommands) except(says, short, example string) *cobra.Command {
	r := api.ExceptionRequest{Says: says}
	c := &cobra.Command{
		Use:   says + " VALUE",
		Short: short,
		Long: short + ". VALUE is a network or an IP address, an address, a domain or a " +
			"pattern.",
		Args:    exactly(1),
		Example: "  " + example,
		RunE: func(c *cobra.Command, args []string) error {
			r.Value = args[0]
			done, err := a.client().Except(c.Context(), r)
			if err != nil {
				return err
			}
			return a.printDone(done)
		},
	}
	c.Flags().StringVar(&r.For, "for", "", "how long, like 7d; for good if not given")
	c.Flags().StringVar(&r.Why, "why", "", "stands in the log")
	asKind(c, &r)
	return c
}

// asKind is the flag that says what an address or a domain is meant as.
func asKind(c *cobra.Command, r *api.ExceptionRequest) {
	c.Flags().
		StringVar(&r.Kind, "as", "", "what an address or a domain is meant as: sender (if not "+
			"given) or recipient")
	_ = c.RegisterFlagCompletionFunc("as", cobra.FixedCompletions(
		[]string{repute.OfSender, repute.OfRecipient}, cobra.ShellCompDirectiveNoFileComp))
}

func (a reputationCommands) forget() *cobra.Command {
	r := api.ExceptionRequest{Says: repute.Allow}
	c := &cobra.Command{
		Use:     "forget VALUE",
		Short:   "Take an exception back",
		Args:    exactly(1),
		Example: "  gull reputation forget 127.30.0.65",
		RunE: func(c *cobra.Command, args []string) error {
			r.Value = args[0]
			done, err := a.client().ForgetException(c.Context(), r)
			if err != nil {
				return err
			}
			return a.printDone(done)
		},
	}
	c.Flags().StringVar(&r.Why, "why", "", "stands in the log")
	asKind(c, &r)
	return c
}
