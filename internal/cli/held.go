package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// heldCommands are on messages that are held.
type heldCommands struct{ *app }

func (a heldCommands) command() *cobra.Command {
	return group("held", "Messages that gates, the score, identity or people hold",
		a.list(), a.show(), a.release(),
		a.end(mail.VerbReturn, "Send held messages back to their senders",
			"gull held return 0B4Z7H8Q2M000-1 --say \"write to the harbour office\""),
		a.end(mail.VerbDrop, "Take held messages out; nobody is told",
			"gull held drop --gate \"cannot be looked into\" --yes"))
}

// heldFlags choose what is held.
type heldFlags struct {
	by, gate, severity, find string
	limit                    int
}

func (f *heldFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.by, "by", "", "who holds it: gate, score, identity, person or other")
	c.Flags().StringVar(&f.gate, "gate", "", "held by the gate of this name")
	c.Flags().StringVar(&f.severity, "severity", "", "at least that: minor, serious or critical")
	c.Flags().StringVar(&f.find, "find", "", "a part of sender, From, recipient or subject")
	_ = c.RegisterFlagCompletionFunc("by", cobra.FixedCompletions([]string{mail.HeldByGate,
		mail.HeldByScore, mail.HeldByIdentity, mail.HeldByLimit, mail.HeldByPerson, mail.HeldByOther},
		cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("severity", cobra.FixedCompletions(
		[]string{"minor", "serious", "critical"}, cobra.ShellCompDirectiveNoFileComp))
}

func (f *heldFlags) given() bool { return f.by+f.gate+f.severity+f.find != "" }

func (f *heldFlags) words() url.Values {
	v := url.Values{}
	for name, text := range map[string]string{"by": f.by, "name": f.gate, "severity": f.severity,
		"find": f.find} {
		if text != "" {
			v.Set(name, text)
		}
	}
	if f.gate != "" {
		v.Set("by", mail.HeldByGate)
	}
	return v
}

// read reads what is held, up to limit; more says that there is more.
func (a heldCommands) read(
	c *cobra.Command,
	f *heldFlags,
	limit int,
) (items []mail.HeldItem, more bool, err error) {
	words := f.words()
	for len(items) < limit {
		words.Set("limit", strconv.Itoa(min(1000, limit-len(items))))
		p, err := a.client().Held(c.Context(), words)
		if err != nil {
			return nil, false, err
		}
		items = append(items, p.Items...)
		if more = p.Next != ""; !more {
			break
		}
		words.Set("after", p.Next)
	}
	return items, more, nil
}

func (a heldCommands) list() *cobra.Command {
	var f heldFlags
	c := &cobra.Command{
		Use:   "list",
		Short: "What is held, newest first, and why",
		Args:  exactly(0),
		Example: "  gull held list\n  gull held list --by score --severity serious\n" +
			"  gull held list --find undertow.example -o csv",
		RunE: func(c *cobra.Command, _ []string) error {
			items, more, err := a.read(c, &f, f.limit)
			if err != nil {
				return err
			}
			if err := printList(a.app, items, []column[mail.HeldItem]{
				{"ID", false, func(h mail.HeldItem) string { return h.ID.String() }},
				{"HELD", true, func(h mail.HeldItem) string { return ago(h.Since) }},
				{"BY", false, heldBy},
				{"SEVERITY", false, func(h mail.HeldItem) string { return string(h.Severity) }},
				{"SCORE", true, func(h mail.HeldItem) string {
					if h.Score == nil {
						return ""
					}
					return fmt.Sprint(*h.Score)
				}},
				{"FROM", false, func(h mail.HeldItem) string { return shown(h.Sender) }},
				{"TO", false, func(h mail.HeldItem) string { return shown(h.Recipient) }},
				{"ENDS", true, func(h mail.HeldItem) string { return ago(h.Expires.Time) }},
				{"SUBJECT", false, func(h mail.HeldItem) string { return h.Subject }},
			}, "Nothing is held."); err != nil {
				return err
			}
			if more && a.format == "table" {
				fmt.Fprintf(a.err, "There are more; these are the %d newest (--limit).\n", f.limit)
			}
			return nil
		},
	}
	f.add(c)
	c.Flags().IntVar(&f.limit, "limit", 100, "at most so many")
	return c
}

func heldBy(h mail.HeldItem) string {
	if h.Name != "" {
		return h.By + " " + h.Name
	}
	return h.By
}

func (a heldCommands) show() *cobra.Command {
	return &cobra.Command{
		Use:     "show ID",
		Short:   "Why a message is held, and what is in it, safely: its fields, parts and text",
		Args:    exactly(1),
		Example: "  gull held show 0B4Z7H8Q2M000-1",
		RunE: func(c *cobra.Command, args []string) error {
			id, _, _ := strings.Cut(args[0], "-")
			t, err := a.client().Trace(c.Context(), id, url.Values{})
			if err != nil {
				return err
			}
			v, err := a.client().Message(c.Context(), id)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(
					map[string]any{"message": t.Message, "events": t.Events, "content": v},
				)
			}
			held := 0
			for _, d := range t.Message.Deliveries {
				if d.State == mail.Held {
					held++
					fmt.Fprintf(a.out, "held       %s to %s\n", d.Key, shown(d.Recipient))
				}
			}
			if held == 0 {
				fmt.Fprintln(a.out, "Nothing of this message is held any more.")
			}
			for _, e := range t.Events {
				if e.Kind == mail.EventHeld || e.Kind == mail.EventGate ||
					e.Kind == mail.EventScore {
					fmt.Fprintf(a.out, "why        %s\n", e.Text)
				}
			}
			for _, f := range v.Fields {
				fmt.Fprintf(a.out, "%-10s %s\n", strings.ToLower(f.Name), f.Value)
			}
			for _, p := range v.Parts {
				fmt.Fprintf(a.out, "part       %s %s, %s\n", p.Type, p.Name, octets(p.Size))
			}
			fmt.Fprintf(a.out, "\n%s\n", v.Text)
			return nil
		},
	}
}

// How many held messages a filter may choose, and how many are asked for at once.
const (
	maxChosen  = 100_000
	heldAtOnce = 1_000
)

// chosen are the ids that are given, or those of all that the flags choose.
func (a heldCommands) chosen(c *cobra.Command, f *heldFlags, args []string) ([]string, error) {
	if len(args) > 0 {
		return args, nil
	}
	if !f.given() {
		return nil, usage("say which: ids, or --gate, --by, --severity or --find")
	}
	items, more, err := a.read(c, f, maxChosen)
	if err != nil {
		return nil, err
	}
	if more {
		return nil, usage("more than %d are chosen; choose fewer", maxChosen)
	}
	var ids []string
	for _, h := range items {
		ids = append(ids, h.ID.String())
	}
	return ids, nil
}

func (a heldCommands) release() *cobra.Command {
	var f heldFlags
	var r api.HeldRelease
	yes := false
	c := &cobra.Command{
		Use:   "release [ID...]",
		Short: "Let held messages go on",
		Long: "Let held messages go on: with their senders allowed for a time, or without their " +
			"attachments, of which the original stays on record.",
		Example: "  gull held release 0B4Z7H8Q2M000-1\n  gull held release 0B4Z7H8Q2M000-1 " +
			"--allow-sender 30d --why \"the office knows them\"\n  gull held release --find " +
			"kelpworks.example --without-attachments",
		RunE: func(c *cobra.Command, args []string) error {
			var err error
			if r.Deliveries, err = a.chosen(c, &f, args); err != nil {
				return err
			}
			if len(r.Deliveries) == 0 {
				fmt.Fprintln(a.err, "Nothing that is held matches.")
				return nil
			}
			if len(args) == 0 && a.asks() && !yes &&
				!a.confirm(fmt.Sprintf("%d held deliveries go on. Go on?", len(r.Deliveries))) {
				fmt.Fprintln(a.err, "Nothing was done.")
				return nil
			}
			all := r.Deliveries
			tell, end := a.bar(len(all), "release")
			defer end()
			gone := 0
			for ids := range slices.Chunk(all, heldAtOnce) {
				r.Deliveries = ids
				done, err := a.client().ReleaseHeld(c.Context(), r)
				if err != nil {
					return err
				}
				gone += len(ids)
				tell(gone, "")
				if err := a.printDone(done); err != nil {
					return err
				}
			}
			return nil
		},
	}
	f.add(c)
	c.Flags().StringVar(&r.AllowSender, "allow-sender", "",
		"allow their senders too, so long: 30d, or \"for good\"; it counts where SPF or DMARC "+
			"proves them")
	c.Flags().
		BoolVar(&r.WithoutAttachments, "without-attachments", false, "a note stands in their place")
	c.Flags().StringVar(&r.Why, "why", "", "kept on record")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// end returns or drops what is held, as gull queue does with what waits.
func (a heldCommands) end(verb, short, example string) *cobra.Command {
	var f heldFlags
	r := api.ActionRequest{Verb: verb}
	yes := false
	c := &cobra.Command{
		Use:     verb + " [ID...]",
		Short:   short,
		Example: "  " + example,
		RunE: func(c *cobra.Command, args []string) error {
			ids, err := a.chosen(c, &f, args)
			if err != nil {
				return err
			}
			if len(ids) == 0 {
				fmt.Fprintln(a.err, "Nothing that is held matches.")
				return nil
			}
			many := len(ids) > heldAtOnce
			if many && !r.DryRun && !yes && a.asks() &&
				!a.confirm(fmt.Sprintf("%s %d held deliveries, in steps of %d. Go on?", verb, len(ids), heldAtOnce)) {
				fmt.Fprintln(a.err, "Nothing was done.")
				return nil
			}
			for some := range slices.Chunk(ids, heldAtOnce) {
				r.Selection = mail.Selection{State: mail.Held, Deliveries: some}
				if err := verbCommands(a).act(c, r, yes || many && a.asks()); err != nil {
					return err
				}
			}
			return nil
		},
	}
	f.add(c)
	if verb == mail.VerbReturn {
		c.Flags().StringVar(&r.Say, "say", "", "the sentence that the sender reads")
	}
	c.Flags().StringVar(&r.Why, "why", "", "kept on record")
	c.Flags().BoolVar(&r.DryRun, "dry-run", false, "only say how many it would touch")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
