package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/core/mail"
)

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "What flows, what waits, what is in trouble", Args: exactly(0),
		Example: "  gull status\n  gull status -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			st, err := a.client().Status(c.Context())
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(st)
			}
			a.printStatus(st)
			return nil
		},
	}
}

func (a *app) printStatus(st mail.Status) {
	w := a.out
	stuck := st.Resting + st.Stranded
	switch {
	case stuck > 0:
		fmt.Fprintf(w, "%d of %d lanes do not move (%d resting, %d stranded).\n\n", stuck, st.Lanes, st.Resting, st.Stranded)
	case st.Deferred > 0:
		fmt.Fprintf(w, "Mail moves; %d deliveries wait for another attempt.\n\n", st.Deferred)
	default:
		fmt.Fprint(w, "Mail moves and nothing is in trouble.\n\n")
	}
	fmt.Fprintf(w, "server     %s, node %s, up since %s (%s), configuration revision %d\n", st.HostName, st.Node, exact(st.StartedAt), ago(st.StartedAt), st.Revision)
	fmt.Fprintf(w, "queue      %d waiting, %d deferred, %d held, %d sending in %d lanes", st.Waiting, st.Deferred, st.Held, st.Sending, st.Lanes)
	if !st.OldestAt.IsZero() {
		fmt.Fprintf(w, "; the oldest came in %s", ago(st.OldestAt.Time))
	}
	fmt.Fprintln(w)
	var words []string
	for _, kind := range []string{"received", "delivered", "deferred", "bounced", "expired", "rejected"} {
		words = append(words, fmt.Sprintf("%d %s", st.Today[kind], kind))
	}
	fmt.Fprintf(w, "24 hours   %s\n", strings.Join(words, ", "))
	for i, l := range st.Listeners {
		label := "         "
		if i == 0 {
			label = "listeners"
		}
		fmt.Fprintf(w, "%s  %s (%s) at %s, %d sessions open\n", label, l.Name, l.Kind, l.Address, l.Sessions)
	}
	if len(st.Trouble) > 0 {
		fmt.Fprintln(w)
		printTable(w, st.Trouble, laneColumns())
	}
}

func laneColumns() []column[mail.Lane] {
	return []column[mail.Lane]{
		{"LANE", false, func(l mail.Lane) string { return l.ID.String() }},
		{"NEXT HOP", false, func(l mail.Lane) string { return shown(l.NextHop) }},
		{"ROUTE", false, func(l mail.Lane) string { return l.Route }},
		{"STATE", false, func(l mail.Lane) string { return string(l.State) }},
		{"WAIT", true, func(l mail.Lane) string { return fmt.Sprint(l.Waiting) }},
		{"DEFER", true, func(l mail.Lane) string { return fmt.Sprint(l.Deferred) }},
		{"HELD", true, func(l mail.Lane) string { return fmt.Sprint(l.Held) }},
		{"SIZE", true, func(l mail.Lane) string { return octets(l.Bytes) }},
		{"OLDEST", true, func(l mail.Lane) string { return ago(l.OldestAt.Time) }},
		{"NEXT TRY", true, func(l mail.Lane) string { return next(l.NextTryAt.Time) }},
		{"LAST ANSWER", false, func(l mail.Lane) string {
			if l.State == mail.LaneStranded {
				return l.Why
			}
			return lastText(l.Last)
		}},
	}
}

func (a *app) laneCommand() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "Lanes with mail waiting, those with most first", Args: exactly(0),
		Example: "  gull lane list\n  gull lane list -o jsonl",
		RunE: func(c *cobra.Command, _ []string) error {
			lanes, err := a.client().Lanes(c.Context())
			if err != nil {
				return err
			}
			return printList(a, lanes, laneColumns(), "Nothing waits: no lane holds mail.")
		},
	}
	return group("lane", "Lanes: what waits for the same next hop", list)
}

func (a *app) explainCommand() *cobra.Command {
	var q mail.Question
	c := &cobra.Command{
		Use: "explain --to ADDRESS", Short: "What would be decided for an envelope, and which rule says so; nothing is sent", Args: exactly(0),
		Example: "  gull explain --client 127.20.9.9 --listener inside --from tickets@skerryline.example --to x@saltmarsh.example\n" +
			"  gull explain --to crew@skerryline.example",
		RunE: func(c *cobra.Command, _ []string) error {
			if len(q.To) == 0 {
				return usage("say at least one recipient with --to")
			}
			answers, err := a.client().Explain(c.Context(), q)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return printList(a, answers, nil, "")
			}
			for i, ans := range answers {
				if i > 0 {
					fmt.Fprintln(a.out)
				}
				printAnswer(a.out, ans)
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&q.From, "from", "", "envelope sender; nothing is the null sender")
	f.StringArrayVar(&q.To, "to", nil, "recipient; may be given again")
	f.StringVar(&q.Client, "client", "127.0.0.1", "address of the client")
	f.StringVar(&q.Listener, "listener", "", "name of the listener; the first if not given")
	f.Int64Var(&q.Size, "size", 0, "size in octets")
	return c
}

func printAnswer(w io.Writer, ans mail.Answer) {
	word := "REFUSED"
	if ans.Allowed {
		word = "allowed"
	}
	fmt.Fprintf(w, "%s  %s\n", ans.Recipient, word)
	where := "built in"
	if ans.RuleLine > 0 {
		where = fmt.Sprintf("line %d", ans.RuleLine)
	}
	fmt.Fprintf(w, "  rule   %s (%s of revision %d): %s\n", ans.Rule, where, ans.Revision, ans.Why)
	fmt.Fprintf(w, "  reply  %s\n", ans.Reply)
	for _, way := range ans.Ways {
		for _, v := range way.Via {
			fmt.Fprintf(w, "  alias  %s\n", v)
		}
		fmt.Fprintf(w, "  way    %s by route %s to %s: %s\n", way.Recipient, way.Route, way.NextHop, way.Why)
		if way.Stranded {
			fmt.Fprintf(w, "         it would wait: add a route for it\n")
		}
	}
}

func (a *app) mailboxCommand() *cobra.Command {
	var limit int
	messages := &cobra.Command{
		Use: "messages ADDRESS", Short: "Letters in a mailbox, newest first", Args: exactly(1),
		Example: "  gull mailbox messages ines.harrow@skerryline.example",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.client().Mailbox(c.Context(), args[0], limit, "")
			if err != nil {
				return err
			}
			return printList(a, p.Items, []column[mail.MailboxItem]{
				{"ID", false, func(m mail.MailboxItem) string { return m.ID.String() }},
				{"CAME", true, func(m mail.MailboxItem) string { return ago(m.ReceivedAt) }},
				{"FROM", false, func(m mail.MailboxItem) string { return shown(m.Sender) }},
				{"SIZE", true, func(m mail.MailboxItem) string { return octets(m.Size) }},
				{"SUBJECT", false, func(m mail.MailboxItem) string { return m.Subject }},
			}, "The mailbox is empty.")
		},
	}
	messages.Flags().IntVar(&limit, "limit", 50, "at most so many")
	raw := &cobra.Command{
		Use: "raw ADDRESS ID", Short: "A letter in a mailbox, as it is", Args: exactly(2),
		Example: "  gull mailbox raw ines.harrow@skerryline.example 0B4Z7H8Q2M000 > letter.eml",
		RunE: func(c *cobra.Command, args []string) error {
			return a.client().MailboxRaw(c.Context(), args[0], args[1], a.out)
		},
	}
	return group("mailbox", "Mailboxes", messages, raw)
}

func (a *app) configCommand() *cobra.Command {
	check := &cobra.Command{
		Use: "check FILE", Short: "Check a configuration; nothing changes", Args: exactly(1),
		Example: "  gull config check demo/skerryline.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			return a.withText(args[0], func(text string) error {
				if err := a.client().CheckConfig(c.Context(), text); err != nil {
					return err
				}
				fmt.Fprintln(a.out, "The configuration is valid.")
				return nil
			})
		},
	}
	load := &cobra.Command{
		Use: "import FILE", Short: "Put a configuration in force at once", Args: exactly(1),
		Example: "  gull config import skerryline.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			return a.withText(args[0], func(text string) error {
				n, err := a.client().ImportConfig(c.Context(), text)
				if err != nil {
					return err
				}
				fmt.Fprintf(a.out, "Revision %d is in force.\n", n)
				return nil
			})
		},
	}
	export := &cobra.Command{
		Use: "export", Short: "Print the configuration in force", Args: exactly(0),
		Example: "  gull config export > skerryline.yaml",
		RunE: func(c *cobra.Command, _ []string) error {
			t, err := a.client().Config(c.Context())
			if err != nil {
				return err
			}
			if a.format != "table" && a.format != "yaml" {
				return a.printValue(t)
			}
			_, err = io.WriteString(a.out, t.Text)
			return err
		},
	}
	return group("config", "The configuration as one text", check, load, export)
}

// withText reads a file, or standard input for "-".
func (a *app) withText(name string, f func(string) error) error {
	text, err := a.readFile(name)
	if err != nil {
		return usage("%v", err)
	}
	return f(string(text))
}

func (a *app) follow(ctx context.Context, id string) error {
	return (&follower{app: a, id: id, shown: map[string]bool{}}).run(ctx)
}
