package cli

import (
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"gullroute/internal/api"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// queueCommands are those of gull queue.
type queueCommands struct{ *app }

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
	{"older", "received longer ago than this: 2h, 3d; or before this time"},
	{"newer", "received less long ago than this: 2h, 3d; or since this time"},
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
	s := mail.Selection{
		Lane:      word("lane"),
		Route:     word("route"),
		Message:   word("message"),
		State:     mail.State(word("state")),
		Sender:    word("sender"),
		Recipient: word("recipient"),
		Domain:    word("domain"),
		Older:     word("older"),
		Newer:     word("newer"),
		Larger:    word("larger"),
		Smaller:   word("smaller"),
		Cause:     word("cause"),
		Subject:   word("subject"),
		Client:    word("client"),
		Account:   word("account"),
	}
	for name, into := range map[string]func(int64){
		"attempts": func(n int64) { s.Attempts = int(n) },
		"action":   func(n int64) { s.Action = n },
	} {
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

func (a queueCommands) command() *cobra.Command {
	return group(
		"queue",
		"Deliveries that are not finished: look, and act on them",
		append([]*cobra.Command{
			a.queueList(),
			a.queueShow(),
			actionCommands(a).list(),
			actionCommands(a).undo("undo"),
			actionCommands(a).undo("restore"),
			pauseCommands(a).pauseCommand(mail.PauseDelivery, "pause",
				"Stop all delivery; mail is still taken in"),
			pauseCommands(a).resumeCommand(mail.PauseDelivery, "Let delivery go on"),
		}, verbCommands(a).all()...)...)
}

func (a queueCommands) queueList() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use:   "list",
		Short: "Deliveries that are not finished, oldest first",
		Args:  exactly(0),
		Example: "  gull queue list --domain greywacke.example\n  gull queue list --state " +
			"deferred --older 4h -o jsonl",
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
				return printList(a.app, deliveriesOf(items), nil, "")
			}
			if err := printList(a.app, items, queueColumns(), "Nothing waits."); err != nil {
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
		out[i] = queuedDelivery{
			it.Delivery,
			it.Sender,
			it.Subject,
			it.Size,
			it.ReceivedAt.UTC().Format("2006-01-02T15:04:05.999Z"),
		}
	}
	return out
}

func queueColumns() []column[mail.QueueItem] {
	return []column[mail.QueueItem]{
		{"DELIVERY", false, func(q mail.QueueItem) string { return q.Delivery.Key.String() }},
		{"STATE", false, func(q mail.QueueItem) string { return string(q.Delivery.State) }},
		{"RECEIVED", true, func(q mail.QueueItem) string { return ago(q.ReceivedAt) }},
		{"FROM", false, func(q mail.QueueItem) string { return shown(q.Sender) }},
		{"TO", false, func(q mail.QueueItem) string { return shown(q.Delivery.Recipient) }},
		{"SIZE", true, func(q mail.QueueItem) string { return octets(q.Size) }},
		{"ATTEMPTS", true, func(q mail.QueueItem) string { return fmt.Sprint(q.Delivery.Attempts) }},
		{"NEXT ATTEMPT", true, func(q mail.QueueItem) string {
			if q.Delivery.State == mail.Held {
				return "held"
			}
			return next(q.Delivery.NextAttemptAt.Time)
		}},
		{"DELAY NOTICE", true, func(q mail.QueueItem) string { return ago(q.Delivery.WarnedAt.Time) }},
		{"EXPIRES", true, func(q mail.QueueItem) string { return ago(q.Delivery.ExpiresAt.Time) }},
		{"LAST REPLY", false, func(q mail.QueueItem) string { return lastText(q.Delivery.Last) }},
	}
}

func (a queueCommands) queueShow() *cobra.Command {
	text := false
	c := &cobra.Command{
		Use:   "show ID",
		Short: "One waiting message or delivery with all that is known of it",
		Args:  exactly(1),
		Example: "  gull queue show 0B4Z7H8Q2M000\n  gull queue show 0B4Z7H8Q2M000 --text\n  gull " +
			"queue show 0B4Z7H8Q2M000-1 -o json",
		RunE: func(c *cobra.Command, args []string) error {
			id, _, _ := strings.Cut(args[0], "-")
			if _, err := ident.Parse(id); err != nil {
				return usage("%w", err)
			}
			if text {
				return a.showContent(c, id)
			}
			t, err := a.client().Trace(c.Context(), id, nil)
			if err != nil {
				return err
			}
			return traceCommands(a).printTrace(t)
		},
	}
	c.Flags().BoolVar(&text, "text", false, "the message itself: its header, structure and text")
	return c
}

func (a queueCommands) showContent(c *cobra.Command, id string) error {
	l, err := a.client().Message(c.Context(), id)
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
	printTable(a.out, l.Parts, []column[api.ContentPart]{
		{"PART", false, func(p api.ContentPart) string { return p.Path }},
		{"TYPE", false, func(p api.ContentPart) string { return p.Type }},
		{"NAME", false, func(p api.ContentPart) string { return p.Name }},
		{"SIZE", true, func(p api.ContentPart) string { return octets(p.Size) }},
	})
	fmt.Fprintf(a.out, "\n%s\n", l.Text)
	return nil
}

func (a *app) readFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(a.in)
	}
	return os.ReadFile(name)
}
