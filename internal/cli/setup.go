package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/config"
	"gullroute/internal/core/form"
)

// sectionCommands are those of gull section.
type sectionCommands struct{ *app }

// sectionHelp is what people need to know of a section's commands.
var sectionHelp = map[string]struct {
	short, add, set, example string
	columns                  []string
}{
	"listeners": {
		"Listeners: addresses at which mail comes in",
		"gull listener add submission --address 0.0.0.0:587 --kind submission --tls required",
		"gull listener set edge --limits-message-size \"25 MB\"",
		"edge",
		[]string{"address", "kind", "tls", "sign_in", "allow"},
	},
	"domains": {
		"Domains whose mail is taken from anyone",
		"gull domain add skerryline.example --kind local",
		"gull domain set skerryline.example --generated-addresses \"{first}.{last}\" " +
			"--plus-addressing",
		"skerryline.example",
		[]string{"kind", "route", "generated_addresses", "catch_all", "outgoing"},
	},
	"relay_rules": {
		"Relay rules: who may send where; the first that matches decides",
		"gull relay add \"ticket machines\" --networks 127.20.1.0/24 --listeners inside --action " +
			"allow",
		"gull relay set people --limits-messages-per-day 300",
		"ticket machines",
		[]string{"action", "networks", "accounts", "listeners", "senders", "recipients"},
	},
	"routes": {
		"Routes: where mail goes next; the first that matches decides",
		"gull route add \"to the world\" --recipients \"*\" --next-hop mx",
		"gull route set \"by provider\" --sign-in-account skerryline --sign-in-secret harbourlight",
		"to the world",
		[]string{"recipients", "next_hop", "hosts", "port", "tls", "off"},
	},
	"peers": {
		"Peers: what was agreed with others' domains",
		"gull peer add \"saltmarsh ferries\" --domains saltmarsh.example --tls verified",
		"gull peer set \"dunlin post\" --messages-per-minute 60",
		"dunlin post",
		[]string{"domains", "tls", "connections", "automatic_replies"},
	},
	"lists": {
		"Lists: named sets that gates, relay rules, routes and peers refer to",
		"gull list add \"office hours\" --kind hours --zone Europe/Oslo --entries \"mon-fri " +
			"08:00-17:00\" --entries \"not 2026-12-25\"",
		"gull list set partners --entries kelpworks.example --entries \"*.kelpworks.example\"",
		"office hours",
		[]string{"kind", "entries", "source", "about"},
	},
	"gates": {
		"Gates: rules on whole messages, asked in order",
		"gull gate add \"no programs\" --when-direction in --when-attachment programs --then-refuse " +
			"\"programs are not taken here\" --severity serious",
		"gull gate set \"no programs\" --watch",
		"no programs",
		[]string{"off", "watch", "when", "then", "severity", "stop"},
	},
	"dns_lists": {
		"Lists that are asked by DNS about strangers (RFC 5782)",
		"gull dnslist add driftnet --zone strangers.driftnet.example --points 40",
		"gull dnslist set driftnet --answers 127.0.0.2 --answers 127.0.0.4",
		"driftnet",
		[]string{"zone", "kind", "asks", "points", "off"},
	},
	"scanners": {
		"Scanners beside us, asked by ICAP; gates ask for their verdict",
		"gull scanner add lookout --url icap://127.0.0.1:1344/scan",
		"gull scanner set lookout --timeout 5s --size-up-to \"10 MB\"",
		"lookout",
		[]string{"url", "off", "weight", "timeout", "size_up_to"},
	},
	"dns_servers": {
		"Servers of our zones that take changes (RFC 2136), for gull readiness publish",
		"gull dnsserver add customs --address 127.30.0.53:5353 --zones skerryline.example " +
			"--key-name gull.skerryline.example --secret customs",
		"gull dnsserver set customs --zones skerryline.example --zones lightkeepers.example",
		"customs",
		[]string{"address", "zones", "key_name", "algorithm", "secret"},
	},
	"certificates": {
		"Certificates that are kept here, and renewed (ACME, RFC 8555)",
		"gull certificate add mail --names mail.skerryline.example --names " +
			"mta-sts.skerryline.example --proof dns",
		"gull certificate set mail --key rsa-2048",
		"mail",
		[]string{"names", "from", "proof", "key"},
	},
	"service": {
		"What concerns the server as a whole",
		"",
		"gull service set --retry-expire-after 3d",
		"",
		nil,
	},
}

// sectionCommands are one group of commands for every section.
func (a sectionCommands) all() []*cobra.Command {
	out := []*cobra.Command{}
	for _, s := range config.Sections {
		commands := []*cobra.Command{
			a.itemList(s),
			a.itemShow(s),
			a.itemAdd(s),
			a.itemSet(s),
			a.itemRemove(s),
		}
		if s.Ordered {
			commands = append(commands, a.itemMove(s))
		}
		switch s.Key {
		case "lists":
			commands = append(commands, gateCommands{a}.listState(), gateCommands{a}.listAsk())
		case "certificates":
			commands = append(commands, certificateCommands{a}.all()...)
		case "gates":
			commands = append(commands, gateCommands{a}.proposalList(), gateCommands{a}.adopt())
		}
		out = append(out, group(s.Noun, sectionHelp[s.Key].short, commands...))
	}
	service := config.ServiceSection
	return append(
		out,
		group(service.Noun, sectionHelp[service.Key].short, a.itemShow(service),
			a.itemSet(service)),
	)
}

const inDraft = "The change collects in the draft and counts when it is applied: gull draft " +
	"rehearse, gull draft apply."

func (a sectionCommands) itemList(s config.Section) *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "All of them, as the draft has them, or in force if there is none",
		Args:    exactly(0),
		Example: fmt.Sprintf("  gull %s list\n  gull %s list -o yaml", s.Noun, s.Noun),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Items(c.Context(), s.Key)
			if err != nil {
				return err
			}
			if a.format != "table" {
				records := make([]map[string]any, len(list.Items))
				for i, it := range list.Items {
					records[i] = it.Fields
				}
				return printList(a.app, records, nil, "")
			}
			columns := []column[config.Item]{}
			if s.Ordered {
				columns = append(columns, column[config.Item]{
					"PLACE",
					true,
					func(it config.Item) string { return fmt.Sprint(it.Position) },
				})
			}
			columns = append(columns,
				column[config.Item]{"NAME", false, func(it config.Item) string { return it.Name }})
			for _, name := range sectionHelp[s.Key].columns {
				columns = append(columns, column[config.Item]{
					strings.ToUpper(strings.ReplaceAll(name, "_", " ")),
					false,
					func(it config.Item) string { return config.Words(it.Fields[name]) },
				})
			}
			if err := printList(
				a.app,
				list.Items,
				columns,
				"There is none yet. Add one: "+sectionHelp[s.Key].add,
			); err != nil {
				return err
			}
			if list.Draft {
				fmt.Fprintln(
					a.err,
					"This is the draft; see what differs from what is in force with: gull draft "+
						"show",
				)
			}
			return nil
		},
	}
}

// itemName is the name an item's command takes; the service has none.
func itemArgs(s config.Section) (use string, n int) {
	if s.Key == config.ServiceSection.Key {
		return "", 0
	}
	return " NAME", 1
}

func itemName(s config.Section, args []string) string {
	if len(args) == 0 {
		return s.Key
	}
	return args[0]
}

func quoted(name string) string {
	if strings.Contains(name, " ") {
		return `"` + name + `"`
	}
	return name
}

func (a sectionCommands) itemShow(s config.Section) *cobra.Command {
	use, n := itemArgs(s)
	return &cobra.Command{
		Use:   "show" + use,
		Short: "All its fields",
		Args:  exactly(n),
		Example: strings.TrimRight(
			fmt.Sprintf("  gull %s show %s", s.Noun, quoted(sectionHelp[s.Key].example)),
			" ",
		),
		ValidArgsFunction: a.completeNames(s),
		RunE: func(c *cobra.Command, args []string) error {
			it, err := a.client().Item(c.Context(), s.Key, itemName(s, args))
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(it.Fields)
			}
			a.showFields(form.FieldsOf(s.Type), it.Fields, config.Words)
			return nil
		},
	}
}

// completeNames completes the names of a section's items.
func (a sectionCommands) completeNames(s config.Section) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		list, err := a.client().Items(c.Context(), s.Key)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		var names []string
		for _, it := range list.Items {
			names = append(names, it.Name)
		}
		return names, cobra.ShellCompDirectiveNoFileComp
	}
}

func (a sectionCommands) itemAdd(s config.Section) *cobra.Command {
	var f fieldFlags
	var position int
	var dry bool
	c := &cobra.Command{
		Use:     "add NAME",
		Short:   "Add one, in the draft",
		Long:    "Add one. " + inDraft,
		Args:    exactly(1),
		Example: "  " + sectionHelp[s.Key].add,
		RunE: func(c *cobra.Command, args []string) error {
			fields, err := f.given(c.Flags(), nil)
			if err != nil {
				return err
			}
			fields["name"] = args[0]
			done, err := a.client().AddItem(c.Context(), s.Key, fields, position, dry)
			return a.edited(done, err)
		},
	}
	f.add(c, form.FieldsOf(s.Type), "name")
	if s.Ordered {
		c.Flags().
			IntVar(&position, "position", 0, "where in the order, from 1; the end if not given")
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "check it; change nothing")
	return c
}

func (a sectionCommands) edited(done api.Edited, err error) error {
	switch {
	case err != nil:
		return err
	case a.format != "table":
		return a.printValue(done)
	case done.Dry:
		fmt.Fprintf(a.out, "It would be: %s. Nothing was changed.\n", done.Text)
	default:
		fmt.Fprintf(a.out, "In the draft: %s. Next: gull draft rehearse, then gull draft apply.\n",
			done.Text)
	}
	return nil
}

func (a sectionCommands) itemSet(s config.Section) *cobra.Command {
	var f fieldFlags
	var dry bool
	var rename string
	use, n := itemArgs(s)
	c := &cobra.Command{
		Use:               "set" + use,
		Short:             "Change fields, in the draft",
		Long:              "Change the fields that are given; the others stay. " + inDraft,
		Args:              exactly(n),
		Example:           "  " + sectionHelp[s.Key].set,
		ValidArgsFunction: a.completeNames(s),
		RunE: func(c *cobra.Command, args []string) error {
			name := itemName(s, args)
			before, err := a.client().Item(c.Context(), s.Key, name)
			if err != nil {
				return err
			}
			fields, err := f.given(c.Flags(), before.Fields)
			if err != nil {
				return err
			}
			if rename != "" {
				fields["name"] = rename
			}
			if len(fields) == 0 {
				return usage("say what to change; see %s --help", c.CommandPath())
			}
			done, err := a.client().ChangeItem(c.Context(), s.Key, name, fields, dry)
			return a.edited(done, err)
		},
	}
	f.add(c, form.FieldsOf(s.Type), "name")
	c.Flags().StringArrayVar(&f.unset, "unset", nil, "field to take out; may be given again")
	if n > 0 {
		c.Flags().StringVar(&rename, "rename", "", "a new name; what mentions the old one follows")
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "check it; change nothing")
	return c
}

func (a sectionCommands) itemRemove(s config.Section) *cobra.Command {
	var dry bool
	c := &cobra.Command{
		Use:   "remove NAME",
		Short: "Take one out, in the draft",
		Long:  "Take one out. " + inDraft,
		Args:  exactly(1),
		Example: fmt.Sprintf(
			"  gull %s remove %s",
			s.Noun,
			quoted(sectionHelp[s.Key].example),
		),
		ValidArgsFunction: a.completeNames(s),
		RunE: func(c *cobra.Command, args []string) error {
			done, err := a.client().RemoveItem(c.Context(), s.Key, args[0], dry)
			return a.edited(done, err)
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "check it; change nothing")
	return c
}

func (a sectionCommands) itemMove(s config.Section) *cobra.Command {
	var dry bool
	var position int
	c := &cobra.Command{
		Use:   "move NAME --position N",
		Short: "Put one at another position in the order, in the draft",
		Long:  "Put one at another position. " + inDraft,
		Args:  exactly(1),
		Example: fmt.Sprintf("  gull %s move %s --position 1", s.Noun,
			quoted(sectionHelp[s.Key].example)),
		ValidArgsFunction: a.completeNames(s),
		RunE: func(c *cobra.Command, args []string) error {
			if position < 1 {
				return usage("say where with --position, from 1")
			}
			done, err := a.client().MoveItem(c.Context(), s.Key, args[0], position, dry)
			return a.edited(done, err)
		},
	}
	c.Flags().IntVar(&position, "position", 0, "where in the order, from 1")
	c.Flags().BoolVar(&dry, "dry-run", false, "check it; change nothing")
	return c
}
