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

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// filterFlags are the words by which deliveries are selected, the same as in the
// HTTP interface and the console.
var filterFlags = []struct{ name, help string }{
	{"lane", "a lane's id"},
	{"route", "a route's name"},
	{"message", "a message's id"},
	{"delivery", "a delivery's id"},
	{"state", "waiting, deferred or held"},
	{"sender", "an address or a part of one"},
	{"recipient", "an address or a part of one"},
}

func addFilter(f *pflag.FlagSet) {
	for _, w := range filterFlags {
		f.String(w.name, "", w.help)
	}
}

func filterOf(f *pflag.FlagSet) url.Values {
	v := url.Values{}
	for _, w := range filterFlags {
		if text, _ := f.GetString(w.name); text != "" {
			v.Set(w.name, text)
		}
	}
	return v
}

func (a *app) queueCommand() *cobra.Command {
	return group("queue", "Deliveries that are not finished", a.queueList(), a.queueShow(), a.queueFlush())
}

func (a *app) queueList() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "Deliveries that are not finished, oldest first", Args: exactly(0),
		Example: "  gull queue list --recipient greywacke.example\n  gull queue list --state deferred -o jsonl",
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
		{"NEXT TRY", true, func(q mail.QueueItem) string { return next(q.Delivery.NextTryAt.Time) }},
		{"GIVEN UP", true, func(q mail.QueueItem) string { return ago(q.Delivery.ExpiresAt.Time) }},
		{"LAST ANSWER", false, func(q mail.QueueItem) string { return lastText(q.Delivery.Last) }},
	}
}

func (a *app) queueShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "One waiting message or delivery with all that is known of it", Args: exactly(1),
		Example: "  gull queue show 0B4Z7H8Q2M000\n  gull queue show 0B4Z7H8Q2M000-1 -o json",
		RunE: func(c *cobra.Command, args []string) error {
			id, _, _ := strings.Cut(args[0], "-")
			if _, err := ident.Parse(id); err != nil {
				return usage("%w", err)
			}
			t, err := a.client().Trace(c.Context(), id)
			if err != nil {
				return err
			}
			return a.printTrace(t)
		},
	}
}

func (a *app) queueFlush() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "flush", Short: "Try waiting deliveries now", Args: exactly(0),
		Long:    "Try waiting deliveries now, within the limits of their lanes. When they are given up does not change.",
		Example: "  gull queue flush --recipient greywacke.example\n  gull queue flush --all",
		RunE: func(c *cobra.Command, _ []string) error {
			filter := filterOf(c.Flags())
			if len(filter) == 0 && !all {
				return usage("say what to flush with --lane, --recipient or another filter, or --all")
			}
			body := map[string]any{}
			for k := range filter {
				body[k] = filter.Get(k)
			}
			if all {
				body["all"] = true
			}
			f, err := a.client().Flush(c.Context(), body)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(f)
			}
			if f.Deliveries == 0 {
				fmt.Fprintln(a.out, "Nothing that waits for a later attempt matches; what is due is being tried already.")
				return nil
			}
			fmt.Fprintf(a.out, "%d deliveries are tried now. See how they go with: gull queue list\n", f.Deliveries)
			return nil
		},
	}
	addFilter(c.Flags())
	c.Flags().BoolVar(&all, "all", false, "everything that waits")
	return c
}

func (a *app) readFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(a.in)
	}
	return os.ReadFile(name)
}
