package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/client"
	"gullroute/internal/core/mail"
)

func (a *app) traceCommand() *cobra.Command {
	show := &cobra.Command{
		Use: "show ID", Short: "A message's whole way", Args: exactly(1),
		Example: "  gull trace show 0B4Z7H8Q2M000",
		RunE: func(c *cobra.Command, args []string) error {
			t, err := a.client().Trace(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printTrace(t)
		},
	}
	follow := &cobra.Command{
		Use: "follow [ID]", Short: "Follow a message until it ends, or everything as it happens", Args: cobra.MaximumNArgs(1),
		Example: "  gull trace follow 0B4Z7H8Q2M000\n  gull trace follow",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				return a.follow(c.Context(), args[0])
			}
			return a.followAll(c.Context())
		},
	}
	return group("trace", "What happened to messages", a.traceFind(), show, follow)
}

func (a *app) traceFind() *cobra.Command {
	var limit int
	var since, until string
	words := map[string]*string{}
	c := &cobra.Command{
		Use: "find", Short: "Find messages, newest first", Args: exactly(0),
		Example: "  gull trace find --to ines.harrow@skerryline.example\n  gull trace find --state bounced --since 24h\n  gull trace find --subject \"night boat\" -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			filter := url.Values{"limit": {strconv.Itoa(limit)}}
			for name, v := range words {
				if *v != "" {
					filter.Set(name, *v)
				}
			}
			for name, text := range map[string]string{"since": since, "until": until} {
				if text == "" {
					continue
				}
				t, err := parseTime(text, time.Now())
				if err != nil {
					return usage("--%s: %w", name, err)
				}
				filter.Set(name, t.UTC().Format(time.RFC3339))
			}
			p, err := a.client().Find(c.Context(), filter)
			if err != nil {
				return err
			}
			if err := printList(a, p.Items, messageColumns(), "No message matches."); err != nil {
				return err
			}
			if len(p.Items) == 0 {
				return errNotFound
			}
			if p.Next != "" && a.format == "table" {
				fmt.Fprintf(a.err, "There may be more; these are the %d newest (--limit).\n", limit)
			}
			return nil
		},
	}
	f := c.Flags()
	for name, help := range map[string]string{"from": "sender: an address, a part of one, or <>", "to": "recipient: an address or a part of one", "subject": "a part of the subject",
		"id": "our id, or a Message-ID", "client": "IP address of the client", "state": "a delivery's state"} {
		words[name] = f.String(name, "", help)
	}
	f.StringVar(&since, "since", "", "from this time on: 2026-11-23T10:00:00Z, 2026-11-23, or 2h for two hours ago")
	f.StringVar(&until, "until", "", "before this time")
	f.IntVar(&limit, "limit", 50, "at most so many, up to 1000")
	return c
}

// parseTime reads a time as people give it.
func parseTime(text string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil {
		return now.Add(-d), nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil {
			return now.AddDate(0, 0, -n), nil
		}
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02 15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time; write 2026-11-23T10:00:00Z, 2026-11-23, or 2h for two hours ago", text)
}

func messageColumns() []column[mail.Message] {
	return []column[mail.Message]{
		{"ID", false, func(m mail.Message) string { return m.ID.String() }},
		{"CAME", true, func(m mail.Message) string { return ago(m.ReceivedAt) }},
		{"FROM", false, func(m mail.Message) string { return shown(m.Sender) }},
		{"TO", false, func(m mail.Message) string {
			if len(m.Deliveries) == 0 {
				return "-"
			}
			text := shown(m.Deliveries[0].Recipient)
			if n := len(m.Deliveries) - 1; n > 0 {
				text += fmt.Sprintf(" and %d more", n)
			}
			return text
		}},
		{"STATE", false, func(m mail.Message) string { return states(m) }},
		{"SIZE", true, func(m mail.Message) string { return octets(m.Size) }},
		{"SUBJECT", false, func(m mail.Message) string { return m.Subject }},
	}
}

// states sums up a message's deliveries.
func states(m mail.Message) string {
	count := map[mail.State]int{}
	for _, d := range m.Deliveries {
		count[d.State]++
	}
	var words []string
	for _, s := range mail.States {
		switch n := count[s]; {
		case n == 0:
		case n == len(m.Deliveries):
			return string(s)
		default:
			words = append(words, fmt.Sprintf("%d %s", n, s))
		}
	}
	return strings.Join(words, ", ")
}

func (a *app) printTrace(t mail.Trace) error {
	if a.format != "table" {
		return a.printValue(t)
	}
	m, w := t.Message, a.out
	fmt.Fprintf(w, "%s  %s\n", m.ID, states(m))
	fmt.Fprintf(w, "  from     %s\n", shown(m.Sender))
	fmt.Fprintf(w, "  subject  %s\n", m.Subject)
	fmt.Fprintf(w, "  came     %s (%s), %s\n", exact(m.ReceivedAt), ago(m.ReceivedAt), octets(m.Size))
	for i := range m.Deliveries {
		d := &m.Deliveries[i]
		fmt.Fprintf(w, "  to       %s: %s", shown(d.Recipient), d.State)
		if !d.State.Final() {
			fmt.Fprintf(w, ", tried %d times, next %s, given up %s (%s)", d.Attempts, next(d.NextTryAt.Time), ago(d.ExpiresAt.Time), exact(d.ExpiresAt.Time))
		}
		fmt.Fprintln(w)
	}
	fmt.Fprintln(w)
	for _, e := range t.Events {
		printEvent(w, e)
	}
	for _, c := range t.Causes {
		fmt.Fprintf(w, "\n%s (%s). %s\n", c.Title, c.Cause, c.Mend)
	}
	for _, id := range t.Notices {
		fmt.Fprintf(w, "\nThe sender was told by notice %s.\n", id)
	}
	if m.NoticeOf != 0 {
		fmt.Fprintf(w, "\nThis is a notice about %s.\n", m.NoticeOf)
	}
	return nil
}

func printEvent(w interface{ Write([]byte) (int, error) }, e mail.Event) {
	who := ""
	if e.N > 0 || e.Delivery != "" {
		_, n, _ := strings.Cut(e.Delivery, "-")
		who = "#" + n
	}
	fmt.Fprintf(w, "%s  %-3s %-10s %s\n", e.At.UTC().Format("15:04:05.000"), who, e.Kind, e.Text)
}

// follower prints what happens to one message until it ends.
type follower struct {
	app   *app
	id    string
	shown map[string]bool
}

func (f *follower) run(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	changed := make(chan struct{}, 1)
	poke := func() {
		select {
		case changed <- struct{}{}:
		default:
		}
	}
	broken := make(chan error, 1)
	go func() {
		broken <- f.app.client().Live(ctx, f.id, poke, func(client.LiveEvent) bool { poke(); return true })
	}()
	// The stream says that something happened; the trace says what. Looking again
	// now and then covers what is recorded a moment after it is told.
	look := time.NewTicker(500 * time.Millisecond)
	defer look.Stop()
	for {
		ended, err := f.look(ctx)
		if err != nil || ended {
			return err
		}
		select {
		case <-changed:
		case <-look.C:
		case err := <-broken:
			return err
		}
	}
}

// look prints what is new and reports whether all deliveries have ended.
func (f *follower) look(ctx context.Context) (bool, error) {
	t, err := f.app.client().Trace(ctx, f.id)
	if err != nil {
		return false, err
	}
	for _, e := range t.Events {
		key := fmt.Sprint(e.At, e.Kind, e.Delivery)
		if f.shown[key] {
			continue
		}
		f.shown[key] = true
		if f.app.format == "table" {
			printEvent(f.app.out, e)
		} else if err := f.app.printValue(e); err != nil {
			return false, err
		}
	}
	for _, d := range t.Message.Deliveries {
		if !d.State.Final() {
			return false, nil
		}
	}
	if f.app.format == "table" {
		fmt.Fprintf(f.app.out, "It has ended: %s.\n", states(t.Message))
	}
	return true, nil
}

func (a *app) followAll(ctx context.Context) error {
	return a.client().Live(ctx, "", nil, func(e client.LiveEvent) bool {
		if a.format != "table" {
			return a.printValue(e) == nil
		}
		who := ""
		if e.Recipient != "" {
			who = shown(e.Sender) + " → " + shown(e.Recipient) + "  "
		}
		id := "-"
		if e.MessageID != 0 {
			id = e.MessageID.String()
		}
		fmt.Fprintf(a.out, "%s  %-13s  %-10s %s%s\n", e.At.UTC().Format("15:04:05.000"), id, e.Kind, who, e.Text)
		return true
	})
}

func (a *app) sendCommand() *cobra.Command {
	var t mail.TestLetter
	var detach bool
	c := &cobra.Command{
		Use: "send --to ADDRESS", Short: "Send a test letter through a real listener and follow it until it ends", Args: exactly(0),
		Example: "  gull send --from tickets@skerryline.example --to x@saltmarsh.example --listener inside --client 127.20.1.5\n" +
			"  gull send --from someone@saltmarsh.example --to ines.harrow@skerryline.example",
		RunE: func(c *cobra.Command, _ []string) error {
			if len(t.To) == 0 {
				return usage("say at least one recipient with --to")
			}
			h, err := a.client().Send(c.Context(), t)
			if err != nil {
				return err
			}
			if a.format == "table" {
				for _, s := range h.Steps {
					if s.Said != "" {
						fmt.Fprintf(a.out, "> %s\n", s.Said)
					}
					fmt.Fprintf(a.out, "< %s\n", s.Heard)
				}
				fmt.Fprintln(a.out)
			} else if err := a.printValue(h); err != nil {
				return err
			}
			if h.ID == "" {
				return fmt.Errorf("the letter was refused at listener %s; see which rule says so with gull explain", h.Listener)
			}
			if detach || a.format != "table" {
				return nil
			}
			return a.follow(c.Context(), h.ID)
		},
	}
	f := c.Flags()
	f.StringVar(&t.From, "from", "", "envelope sender; nothing is the null sender")
	f.StringArrayVar(&t.To, "to", nil, "recipient; may be given again")
	f.StringVar(&t.Subject, "subject", "", "subject")
	f.StringVar(&t.Text, "text", "", "text")
	f.StringVar(&t.Listener, "listener", "", "name of the listener; the first if not given")
	f.StringVar(&t.Client, "client", "", "address of this machine to send from")
	f.BoolVar(&detach, "detach", false, "do not follow the letter")
	return c
}
