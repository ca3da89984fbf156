package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/publish"
	"gullroute/internal/core/senderauth"
)

// dkimCommands are those of gull dkim.
type dkimCommands struct{ *app }

func (a dkimCommands) command() *cobra.Command {
	return group("dkim", "Keys that sign the messages of our domains (DKIM)", a.dkimList(),
		a.dkimShow(), a.dkimMake(), a.dkimImport(), a.dkimRotate(),
		a.dkimDo("check", "Ask DNS for a key's record now"),
		a.dkimDo("use", "Let a key sign; the one of the same kind before it retires"),
		a.dkimDo("retire", "Let a key sign no more"), a.dkimRemove())
}

func (a dkimCommands) dkimList() *cobra.Command {
	return &cobra.Command{
		Use:     "list [DOMAIN]",
		Short:   "Keys, what they do and what comes next",
		Args:    cobra.MaximumNArgs(1),
		Example: "  gull dkim list\n  gull dkim list skerryline.example",
		RunE: func(c *cobra.Command, args []string) error {
			keys, err := a.client().Keys(c.Context(), first(args))
			if err != nil {
				return err
			}
			return printList(a.app, keys, []column[mail.DKIMKey]{
				{"DOMAIN", false, func(k mail.DKIMKey) string { return k.Domain }},
				{"SELECTOR", false, func(k mail.DKIMKey) string { return k.Selector }},
				{"ALGORITHM", false, func(k mail.DKIMKey) string { return k.Algorithm }},
				{"STATE", false, func(k mail.DKIMKey) string { return k.State }},
				{"MADE", true, func(k mail.DKIMKey) string { return ago(k.MadeAt) }},
				{"IN DNS", false, inDNS},
				{"NEXT", false, func(k mail.DKIMKey) string { return k.Next }},
			}, "No message is signed. Make a key with: gull dkim make DOMAIN")
		},
	}
}

func first(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

func inDNS(k mail.DKIMKey) string {
	switch {
	case k.Fault != "":
		return "no: " + k.Fault
	case k.SeenAt.IsZero():
		return "not asked yet"
	}
	return "since " + ago(k.SeenAt.Time)
}

func (a dkimCommands) dkimShow() *cobra.Command {
	var line bool
	c := &cobra.Command{
		Use:   "show DOMAIN SELECTOR",
		Short: "One key, with the record to publish in every form",
		Args:  exactly(2),
		Example: "  gull dkim show skerryline.example r202611\n  gull dkim show " +
			"skerryline.example r202611 --zone-line >> zone",
		RunE: func(c *cobra.Command, args []string) error {
			k, err := a.client().Key(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			if line {
				fmt.Fprintln(a.out, k.Record.Zone)
				return nil
			}
			return a.showKey(k)
		},
	}
	c.Flags().BoolVar(&line, "zone-line", false, "the line of a zone file, and nothing else")
	return c
}

func (a dkimCommands) showKey(k mail.DKIMKey) error {
	if a.format != "table" {
		return a.printValue(k)
	}
	fmt.Fprintf(a.out, "Key %s of %s (%s): %s\nnext    %s\nin DNS  %s\n\n", k.Selector, k.Domain,
		k.Algorithm, k.State, k.Next, inDNS(k))
	a.printRecord(k.Record)
	return nil
}

// printRecord prints a record in the forms in which it is pasted, each on a line
// of its own and never cut.
func (a dkimCommands) printRecord(r publish.DNSRecord) {
	fmt.Fprintf(
		a.out,
		"As a line of a zone file:\n\n%s\n\nIn the form of a DNS editor:\n\n  host   %s\n  type   "+
			"%s\n  value  %s\n\nPiece by piece, for copying:\n\n%s\n%s\n%s\n",
		r.Zone,
		r.Form.Host,
		r.Form.Type,
		r.Form.Value,
		r.Name,
		r.Type,
		r.Value,
	)
}

func (a dkimCommands) dkimMake() *cobra.Command {
	fields := map[string]any{}
	var selector, algorithm string
	c := &cobra.Command{
		Use:   "make DOMAIN",
		Short: "Make a key and say what to publish",
		Args:  exactly(1),
		Long: "Make a key. The private half is kept encrypted under the service's key file and " +
			"never shown. It signs nothing until its record is in DNS and it is used.",
		Example: "  gull dkim make skerryline.example\n  gull dkim make skerryline.example " +
			"--algorithm ed25519 --selector tide",
		RunE: func(c *cobra.Command, args []string) error {
			fields["domain"], fields["selector"], fields["algorithm"] = args[0], selector, algorithm
			k, err := a.client().MakeKey(c.Context(), fields)
			if err != nil {
				return err
			}
			return a.showKey(k)
		},
	}
	keyFlags(c, &selector, &algorithm)
	return c
}

func keyFlags(c *cobra.Command, selector, algorithm *string) {
	c.Flags().StringVar(selector, "selector", "", "its name in DNS; by kind and month if not given")
	c.Flags().StringVar(
		algorithm,
		"algorithm",
		senderauth.RSA2048,
		"rsa-2048, rsa-3072 or ed25519; many servers verify RSA only, so let Ed25519 sign beside "+
			"it",
	)
	_ = c.RegisterFlagCompletionFunc("algorithm",
		cobra.FixedCompletions(senderauth.Algorithms, cobra.ShellCompDirectiveNoFileComp))
}

func (a dkimCommands) dkimImport() *cobra.Command {
	var selector string
	c := &cobra.Command{
		Use:     "import DOMAIN",
		Short:   "Take over a key that was in use elsewhere, in PEM from standard input",
		Args:    exactly(1),
		Example: "  gull dkim import skerryline.example --selector tide < tide.pem",
		RunE: func(c *cobra.Command, args []string) error {
			text, err := io.ReadAll(io.LimitReader(a.in, 64<<10))
			if err != nil {
				return err
			}
			k, err := a.client().MakeKey(c.Context(),
				map[string]any{"domain": args[0], "selector": selector, "private": string(text)})
			if err != nil {
				return err
			}
			return a.showKey(k)
		},
	}
	c.Flags().StringVar(&selector, "selector", "", "the name it has in DNS")
	_ = c.MarkFlagRequired("selector")
	return c
}

func (a dkimCommands) dkimRotate() *cobra.Command {
	var selector, algorithm string
	var overlap time.Duration
	c := &cobra.Command{
		Use:   "rotate DOMAIN",
		Short: "Make a new key that takes over by itself once its record is in DNS",
		Args:  exactly(1),
		Long: "Make a new key beside the one that signs. When DNS has shown its record for the " +
			"overlap, it signs and the one before it retires; " +
			"the old record stays for a week, for messages under way. Nothing happens as long as " +
			"the record is not published.",
		Example: "  gull dkim rotate skerryline.example\n  gull dkim rotate skerryline.example " +
			"--overlap 24h",
		RunE: func(c *cobra.Command, args []string) error {
			k, err := a.client().MakeKey(c.Context(), map[string]any{
				"domain":     args[0],
				"selector":   selector,
				"algorithm":  algorithm,
				"takes_over": true,
				"overlap":    int64(overlap / time.Second),
			})
			if err != nil {
				return err
			}
			return a.showKey(k)
		},
	}
	keyFlags(c, &selector, &algorithm)
	c.Flags().DurationVar(&overlap, "overlap", time.Hour,
		"how long DNS must have shown the record: at least the time for which others keep answers")
	return c
}

func (a dkimCommands) dkimDo(verb, short string) *cobra.Command {
	var force bool
	c := &cobra.Command{
		Use:     verb + " DOMAIN SELECTOR",
		Short:   short,
		Args:    exactly(2),
		Example: "  gull dkim " + verb + " skerryline.example r202611",
		RunE: func(c *cobra.Command, args []string) error {
			k, err := a.client().DoKey(c.Context(), args[0], args[1], verb, force)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(k)
			}
			fmt.Fprintf(a.out, "Key %s of %s: %s; in DNS: %s.\nNext: %s.\n", k.Selector, k.Domain,
				k.State, inDNS(k), k.Next)
			return nil
		},
	}
	if verb == "use" {
		c.Flags().BoolVar(&force, "force", false,
			"even if its record is not in DNS: what it signs then fails everywhere")
	}
	return c
}

func (a dkimCommands) dkimRemove() *cobra.Command {
	return &cobra.Command{
		Use:     "remove DOMAIN SELECTOR",
		Short:   "Forget a key that signs nothing",
		Args:    exactly(2),
		Example: "  gull dkim remove skerryline.example r202608",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemoveKey(c.Context(), args[0], args[1]); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Key %s of %s is forgotten.\n", args[1], args[0])
			return nil
		},
	}
}
