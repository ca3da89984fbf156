package cli

import (
	"bufio"
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"gullroute/internal/client"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// filterFlags are the words by which deliveries are selected, the same as in the
// HTTP interface and the console.
var filterFlags = []struct{ name, help string }{
	{"lane", "a lane's id"},
	{"route", "a route's name"},
	{"message", "a message's id"},
	{"state", "waiting, deferred or held"},
	{"sender", "an address, a part of one, or <> for the null sender"},
	{"recipient", "an address or a part of one"},
	{"domain", "the recipient's domain"},
	{"older", "came in longer ago than this: 2h, 3d; or before this time"},
	{"newer", "came in less long ago than this: 2h, 3d; or since this time"},
	{"larger", "larger than this: 1 MB"},
	{"smaller", "smaller than this: 10 KB"},
	{"cause", "why it waits: greylisted, mailbox-full, …"},
	{"attempts", "at least so many attempts"},
	{"subject", "a part of the subject"},
	{"client", "IP address of the client that handed it in"},
	{"account", "account that handed it in"},
	{"action", "number of the action that touched it last"},
}

func addFilter(f *pflag.FlagSet) {
	for _, w := range filterFlags {
		f.String(w.name, "", w.help)
	}
	f.StringArray("delivery", nil, "a delivery's id; may be given again")
}

func filterOf(f *pflag.FlagSet) url.Values {
	v := url.Values{}
	for _, w := range filterFlags {
		if text, _ := f.GetString(w.name); text != "" {
			v.Set(w.name, text)
		}
	}
	if ids, _ := f.GetStringArray("delivery"); len(ids) > 0 {
		v.Set("delivery", strings.Join(ids, ","))
	}
	return v
}

// selectionOf reads the words, and ids of messages or deliveries as arguments.
func selectionOf(f *pflag.FlagSet, args []string) (mail.Selection, error) {
	word := filterOf(f).Get
	s := mail.Selection{Lane: word("lane"), Route: word("route"), Message: word("message"), State: mail.State(word("state")), Sender: word("sender"),
		Recipient: word("recipient"), Domain: word("domain"), Older: word("older"), Newer: word("newer"), Larger: word("larger"), Smaller: word("smaller"),
		Cause: word("cause"), Subject: word("subject"), Client: word("client"), Account: word("account")}
	for name, into := range map[string]func(int64){"attempts": func(n int64) { s.Attempts = int(n) }, "action": func(n int64) { s.Action = n }} {
		if text := word(name); text != "" {
			n, err := strconv.ParseInt(text, 10, 32)
			if err != nil || n < 0 {
				return s, usage("--%s: %q is not a number", name, text)
			}
			into(n)
		}
	}
	s.Deliveries, _ = f.GetStringArray("delivery")
	for _, id := range args {
		if strings.Contains(id, "-") {
			s.Deliveries = append(s.Deliveries, id)
			continue
		}
		if s.Message != "" {
			return s, usage("give one message, or deliveries of several like %s-1", id)
		}
		if _, err := ident.Parse(id); err != nil {
			return s, usage("%w", err)
		}
		s.Message = id
	}
	return s, nil
}

func (a *app) queueCommand() *cobra.Command {
	return group("queue", "Deliveries that are not finished: look, and act on them", append([]*cobra.Command{a.queueList(), a.queueShow(), a.actionsCommand(), a.undoCommand("undo"), a.undoCommand("restore"),
		a.pauseCommand(mail.PauseDelivery, "pause", "Stop all delivery; mail is still taken in"), a.resumeCommand(mail.PauseDelivery, "Let delivery go on")}, a.verbCommands()...)...)
}

func (a *app) queueList() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "Deliveries that are not finished, oldest first", Args: exactly(0),
		Example: "  gull queue list --domain greywacke.example\n  gull queue list --state deferred --older 4h -o jsonl",
		RunE: func(c *cobra.Command, _ []string) error {
			var items []mail.QueueItem
			filter := filterOf(c.Flags())
			more := false
			for len(items) < limit {
				filter.Set("limit", strconv.Itoa(min(1000, limit-len(items))))
				p, err := a.client().Queue(c.Context(), filter)
				if err != nil {
					return err
				}
				items = append(items, p.Items...)
				if more = p.Next != ""; !more {
					break
				}
				filter.Set("after", p.Next)
			}
			if a.format != "table" {
				return printList(a, deliveriesOf(items), nil, "")
			}
			if err := printList(a, items, queueColumns(), "Nothing waits."); err != nil {
				return err
			}
			if more {
				fmt.Fprintf(a.err, "There are more; these are the %d oldest (--limit).\n", limit)
			}
			return nil
		},
	}
	addFilter(c.Flags())
	c.Flags().IntVar(&limit, "limit", 100, "at most so many")
	return c
}

// queuedDelivery is a delivery with what one wants to know of its message.
type queuedDelivery struct {
	mail.Delivery
	Sender     string `json:"sender"`
	Subject    string `json:"subject"`
	Size       int64  `json:"size"`
	ReceivedAt string `json:"received_at"`
}

func deliveriesOf(items []mail.QueueItem) []queuedDelivery {
	out := make([]queuedDelivery, len(items))
	for i, it := range items {
		out[i] = queuedDelivery{it.Delivery, it.Sender, it.Subject, it.Size, it.ReceivedAt.UTC().Format("2006-01-02T15:04:05.999Z")}
	}
	return out
}

func queueColumns() []column[mail.QueueItem] {
	return []column[mail.QueueItem]{
		{"DELIVERY", false, func(q mail.QueueItem) string { return q.Delivery.Key.String() }},
		{"STATE", false, func(q mail.QueueItem) string { return string(q.Delivery.State) }},
		{"CAME", true, func(q mail.QueueItem) string { return ago(q.ReceivedAt) }},
		{"FROM", false, func(q mail.QueueItem) string { return shown(q.Sender) }},
		{"TO", false, func(q mail.QueueItem) string { return shown(q.Delivery.Recipient) }},
		{"SIZE", true, func(q mail.QueueItem) string { return octets(q.Size) }},
		{"TRIES", true, func(q mail.QueueItem) string { return fmt.Sprint(q.Delivery.Attempts) }},
		{"NEXT TRY", true, func(q mail.QueueItem) string {
			if q.Delivery.State == mail.Held {
				return "held"
			}
			return next(q.Delivery.NextTryAt.Time)
		}},
		{"TOLD", true, func(q mail.QueueItem) string { return ago(q.Delivery.WarnedAt.Time) }},
		{"GIVEN UP", true, func(q mail.QueueItem) string { return ago(q.Delivery.ExpiresAt.Time) }},
		{"LAST ANSWER", false, func(q mail.QueueItem) string { return lastText(q.Delivery.Last) }},
	}
}

func (a *app) queueShow() *cobra.Command {
	text := false
	c := &cobra.Command{
		Use: "show ID", Short: "One waiting message or delivery with all that is known of it", Args: exactly(1),
		Example: "  gull queue show 0B4Z7H8Q2M000\n  gull queue show 0B4Z7H8Q2M000 --text\n  gull queue show 0B4Z7H8Q2M000-1 -o json",
		RunE: func(c *cobra.Command, args []string) error {
			id, _, _ := strings.Cut(args[0], "-")
			if _, err := ident.Parse(id); err != nil {
				return usage("%w", err)
			}
			if text {
				return a.showLetter(c, id)
			}
			t, err := a.client().Trace(c.Context(), id, nil)
			if err != nil {
				return err
			}
			return a.printTrace(t)
		},
	}
	c.Flags().BoolVar(&text, "text", false, "the letter itself: its header, structure and text")
	return c
}

func (a *app) showLetter(c *cobra.Command, id string) error {
	l, err := a.client().Letter(c.Context(), id)
	if err != nil {
		return err
	}
	if a.format != "table" {
		return a.printValue(l)
	}
	for _, f := range l.Fields {
		fmt.Fprintf(a.out, "%s: %s\n", f.Name, f.Value)
	}
	fmt.Fprintln(a.out)
	printTable(a.out, l.Parts, []column[mail.LetterPart]{
		{"PART", false, func(p mail.LetterPart) string { return p.Path }},
		{"TYPE", false, func(p mail.LetterPart) string { return p.Type }},
		{"NAME", false, func(p mail.LetterPart) string { return p.Name }},
		{"SIZE", true, func(p mail.LetterPart) string { return octets(p.Size) }},
	})
	fmt.Fprintf(a.out, "\n%s\n", l.Text)
	return nil
}

// verb is an action on letters as a command.
type verb struct {
	name, short, long, example string
	flags                      func(*pflag.FlagSet, *mail.ActionRequest)
}

var verbs = []verb{
	{mail.VerbHold, "Stop letters until they are released", "Held letters are not tried, and not given up while they are held.",
		"  gull queue hold --sender tickets@skerryline.example --why \"wrong prices\"\n  gull queue hold 0B4Z7H8Q2M000-1", nil},
	{mail.VerbRelease, "Let held letters go on", "They are tried at once.", "  gull queue release --sender tickets@skerryline.example\n  gull queue release --action 12", nil},
	{mail.VerbFlush, "Try waiting letters now", "Within the limits of their lanes: a flush of very many is no flood. When they are given up does not change.",
		"  gull queue flush --domain greywacke.example\n  gull queue flush --all", nil},
	{mail.VerbReroute, "Send letters another way", "By another route or straight to a host: for one attempt, or with --keep until they are gone.",
		"  gull queue reroute --domain homelines.example --by \"by provider\"\n  gull queue reroute --lane 2XK4T9Q8R7Y1C --host mx2.dunlin.example:2530 --keep",
		func(f *pflag.FlagSet, r *mail.ActionRequest) {
			f.StringVar(&r.Route, "by", "", "name of the route to send by")
			f.StringVar(&r.Host, "host", "", "host or host:port to send to")
			f.BoolVar(&r.Keep, "keep", false, "until they are gone, not for one attempt only")
		}},
	{mail.VerbGiveUp, "Change when letters are given up", "Write 12h for twelve hours from now, +1d or -12h for later or earlier, or schedule for what the schedule says.",
		"  gull queue give-up --domain fogbank.example --in 2h\n  gull queue give-up --domain fogbank.example --in +2d",
		func(f *pflag.FlagSet, r *mail.ActionRequest) {
			f.StringVar(&r.GiveUp, "in", "", "12h, +1d, -12h or schedule")
		}},
	{mail.VerbReturn, "Send letters back to their senders now", "Each sender gets a notice with your sentence.",
		"  gull queue return --domain sunkenpier.example --say \"the pier is closed for the winter\"",
		func(f *pflag.FlagSet, r *mail.ActionRequest) {
			f.StringVar(&r.Say, "say", "", "the sentence that the sender reads")
		}},
	{mail.VerbDrop, "Take letters out; nobody is told", "For a day they can be put back with gull queue restore. Needs two confirmations, or --yes.",
		"  gull queue drop --sender spam@skerryline.example --why \"stolen password\"\n  gull queue drop --sender spam@skerryline.example --dry-run", nil},
	{mail.VerbReaddress, "Mend a wrong recipient domain", "",
		"  gull queue readdress --domain saltmrsh.example --to-domain saltmarsh.example",
		func(f *pflag.FlagSet, r *mail.ActionRequest) {
			f.StringVar(&r.Domain, "to-domain", "", "the right domain")
		}},
}

func (a *app) verbCommands() []*cobra.Command {
	var out []*cobra.Command
	for _, v := range verbs {
		r := &mail.ActionRequest{Verb: v.name}
		yes := false
		c := &cobra.Command{Use: v.name + " [ID...]", Short: v.short, Long: v.short + ". " + v.long + "\n\nLetters are chosen by ids or by the same words as in gull queue list.", Example: v.example, Args: cobra.ArbitraryArgs,
			RunE: func(c *cobra.Command, args []string) error {
				var err error
				if r.Selection, err = selectionOf(c.Flags(), args); err != nil {
					return err
				}
				return a.act(c, *r, yes)
			}}
		f := c.Flags()
		addFilter(f)
		f.BoolVar(&r.All, "all", false, "everything that waits")
		f.StringVar(&r.Why, "why", "", "kept on record")
		f.BoolVar(&r.DryRun, "dry-run", false, "only say how many letters it would touch")
		f.BoolVar(&yes, "yes", false, "do not ask")
		if v.flags != nil {
			v.flags(f, r)
		}
		out = append(out, c)
	}
	return out
}

// act says how many letters it will touch, asks where a person sits at the
// terminal, and does it.
func (a *app) act(c *cobra.Command, r mail.ActionRequest, yes bool) error {
	if r.Selection.Everything() && !r.All {
		return usage("say which letters with --lane, --domain or another filter or by their ids, or --all")
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
	case asks && !a.confirm(would.Text+". Go on?"), asks && r.Verb == mail.VerbDrop && !a.confirm("Nobody will be told, and after a day they are gone for good. Really drop them?"):
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

func (a *app) printDone(d mail.Done) error {
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

func (a *app) actionsCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "actions", Short: "What people did with letters, lanes and nodes, newest first", Args: exactly(0),
		Example: "  gull queue actions\n  gull queue actions --limit 5 -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Actions(c.Context(), limit)
			if err != nil {
				return err
			}
			return printList(a, list, []column[mail.Action]{
				{"ACTION", true, func(x mail.Action) string { return fmt.Sprint(x.ID) }},
				{"WHEN", true, func(x mail.Action) string { return ago(x.At) }},
				{"WHO", false, func(x mail.Action) string { return x.Who }},
				{"WHAT", false, func(x mail.Action) string { return x.Verb }},
				{"ON", false, func(x mail.Action) string { return x.On }},
				{"LETTERS", true, func(x mail.Action) string { return fmt.Sprint(x.Touched) }},
				{"UNDO", false, undoText},
				{"WHY", false, func(x mail.Action) string { return x.Why }},
			}, "Nobody has done anything yet.")
		},
	}
	c.Flags().IntVar(&limit, "limit", 30, "at most so many")
	return c
}

func undoText(x mail.Action) string {
	switch {
	case x.UndoneBy > 0:
		return fmt.Sprintf("taken back by %d", x.UndoneBy)
	case x.CanUndo:
		return "can be"
	}
	return "-"
}

// undoCommand takes an action back; restore is its name after a drop.
func (a *app) undoCommand(name string) *cobra.Command {
	why := ""
	short, example := "Take an action back, where that makes sense", "  gull queue undo 12"
	if name == "restore" {
		short, example = "Put back what an action dropped, within a day", "  gull queue restore 12"
	}
	c := &cobra.Command{
		Use: name + " ACTION", Short: short, Args: exactly(1), Example: example,
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage("%q is no number of an action; see gull queue actions", args[0])
			}
			tell, end := a.bar(1_000_000, name)
			done, err := a.client().Undo(c.Context(), id, why, func(p client.Progress) { tell(p.Done, "") })
			end()
			if err != nil {
				return err
			}
			return a.printDone(done)
		},
	}
	c.Flags().StringVar(&why, "why", "", "kept on record")
	return c
}

func (a *app) readFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(a.in)
	}
	return os.ReadFile(name)
}
