package cli

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"gullroute/internal/api"
	"gullroute/internal/client"
	"gullroute/internal/core/mail"
)

// verbCommands are those of gull verb.
type verbCommands struct{ *app }

// verb is an action on messages as a command.
type verb struct {
	name, short, long, example string
	flags                      func(*pflag.FlagSet, *api.ActionRequest)
}

var verbs = []verb{
	{
		mail.VerbHold,
		"Stop messages until they are released",
		"Held messages are not tried, and do not expire while they are held.",
		"  gull queue hold --sender tickets@skerryline.example --why \"wrong prices\"\n  gull " +
			"queue hold 0B4Z7H8Q2M000-1",
		nil,
	},
	{
		mail.VerbRelease,
		"Let held messages go on",
		"They are tried immediately.",
		"  gull queue release --sender tickets@skerryline.example\n  gull queue release --action " +
			"12",
		nil,
	},
	{
		mail.VerbFlush,
		"Try waiting messages now",
		"Within the limits of their lanes: a flush of very many is no flood. When they expire " +
			"does not change.",
		"  gull queue flush --domain greywacke.example\n  gull queue flush --all",
		nil,
	},
	{
		mail.VerbReroute,
		"Send messages by another route",
		"By another route or straight to a host: for one attempt, or with --keep until they are " +
			"gone.",
		"  gull queue reroute --domain homelines.example --by \"by provider\"\n  gull queue " +
			"reroute --lane 2XK4T9Q8R7Y1C --host mx2.dunlin.example:2530 --keep",
		func(f *pflag.FlagSet, r *api.ActionRequest) {
			f.StringVar(&r.Route, "by", "", "name of the route to send by")
			f.StringVar(&r.Host, "host", "", "host or host:port to send to")
			f.BoolVar(&r.Keep, "keep", false, "until they are gone, not for one attempt only")
		},
	},
	{
		mail.VerbExpire,
		"Change when messages expire",
		"Write 12h for twelve hours from now, +1d or -12h for later or earlier, or schedule for " +
			"what the schedule says.",
		"  gull queue expire --domain fogbank.example --in 2h\n  gull queue expire --domain " +
			"fogbank.example --in +2d",
		func(f *pflag.FlagSet, r *api.ActionRequest) {
			f.StringVar(&r.ExpireAfter, "in", "", "12h, +1d, -12h or schedule")
		},
	},
	{
		mail.VerbReturn,
		"Send messages back to their senders now",
		"Each sender gets a notice with your sentence.",
		"  gull queue return --domain sunkenpier.example --say \"the pier is closed for the " +
			"winter\"",
		func(f *pflag.FlagSet, r *api.ActionRequest) {
			f.StringVar(&r.Say, "say", "", "the sentence that the sender reads")
		},
	},
	{
		mail.VerbDrop,
		"Take messages out; nobody is told",
		"For a day they can be put back with gull queue restore. Needs two confirmations, or " +
			"--yes.",
		"  gull queue drop --sender spam@skerryline.example --why \"stolen password\"\n  gull " +
			"queue drop --sender spam@skerryline.example --dry-run",
		nil,
	},
	{mail.VerbChangeDomain, "Fix a wrong recipient domain", "",
		"  gull queue change-domain --domain saltmrsh.example --to-domain saltmarsh.example",
		func(f *pflag.FlagSet, r *api.ActionRequest) {
			f.StringVar(&r.Domain, "to-domain", "", "the right domain")
		}},
}

func (a verbCommands) all() []*cobra.Command {
	var out []*cobra.Command
	for _, v := range verbs {
		r := &api.ActionRequest{Verb: v.name}
		yes := false
		c := &cobra.Command{
			Use:   v.name + " [ID...]",
			Short: v.short,
			Long: v.short + ". " + v.long + "\n\nMessages are chosen by ids or by the same " +
				"words as in gull queue list.",
			Example: v.example,
			Args:    cobra.ArbitraryArgs,
			RunE: func(c *cobra.Command, args []string) error {
				var err error
				if r.Selection, err = selectionOf(c.Flags(), args); err != nil {
					return err
				}
				return a.act(c, *r, yes)
			},
		}
		f := c.Flags()
		addFilter(f)
		f.BoolVar(&r.All, "all", false, "everything that waits")
		f.StringVar(&r.Why, "why", "", "kept on record")
		f.BoolVar(&r.DryRun, "dry-run", false, "only say how many messages it would touch")
		f.BoolVar(&yes, "yes", false, "do not ask")
		if v.flags != nil {
			v.flags(f, r)
		}
		out = append(out, c)
	}
	return out
}

// act says how many messages it will touch, asks where a person sits at the
// terminal, and does it.
func (a verbCommands) act(c *cobra.Command, r api.ActionRequest, yes bool) error {
	if r.Selection.Everything() && !r.All {
		return usage(
			"say which messages with --lane, --domain or another filter or by their ids, or --all",
		)
	}
	probe := r
	probe.DryRun = true
	would, err := a.client().Act(c.Context(), probe, func(client.Progress) {})
	if err != nil {
		return err
	}
	if r.DryRun {
		return a.printDone(would)
	}
	asks := a.asks() && !yes
	switch {
	case would.Matched == 0:
		if a.format == "table" {
			fmt.Fprintln(a.out, "Nothing that waits matches.")
			return nil
		}
		return a.printValue(would)
	case r.Verb == mail.VerbDrop && !yes && !asks:
		return usage("dropping needs --yes where nobody can be asked; %s", would.Text)
	case asks && !a.confirm(would.Text+". Go on?"),
		asks && r.Verb == mail.VerbDrop && !a.confirm("Nobody will be told, and after a day they "+
			"are gone for good. Really drop them?"):
		fmt.Fprintln(a.err, "Nothing was done.")
		return nil
	}
	r.Sure = true
	tell, end := a.bar(int(would.Matched), r.Verb)
	done, err := a.client().Act(c.Context(), r, func(p client.Progress) { tell(p.Done, "") })
	end()
	if err != nil {
		return err
	}
	return a.printDone(done)
}

func (a *app) printDone(d api.Done) error {
	if a.format != "table" {
		return a.printValue(d)
	}
	text := strings.ToUpper(d.Text[:1]) + d.Text[1:] + "."
	if d.DryRun && d.Sending > 0 {
		text += fmt.Sprintf(" %d of them are being worked on now.", d.Sending)
	}
	if d.Action > 0 {
		text += fmt.Sprintf(" On record as action %d.", d.Action)
	}
	fmt.Fprintln(a.out, text)
	return nil
}

// asks reports whether somebody sits at the terminal.
func (a *app) asks() bool {
	f, ok := a.in.(*os.File)
	if !ok || a.format != "table" {
		return false
	}
	return term.IsTerminal(int(f.Fd()))
}

func (a *app) confirm(question string) bool {
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	line, _ := bufio.NewReader(a.in).ReadString('\n')
	switch strings.ToLower(strings.TrimSpace(line)) {
	case "y", "yes":
		return true
	}
	return false
}
