package cli

import (
	"cmp"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/client"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/senderauth"
)

// traceCommands are those of gull trace.
type traceCommands struct{ *app }

func (a traceCommands) command() *cobra.Command {
	var archive, tell string
	show := &cobra.Command{
		Use: "show ID", Short: "A message's whole path, or why it was refused", Args: exactly(1),
		Example: "  gull trace show 0B4Z7H8Q2M000\n  gull trace show 0B4Z7H8Q2M000 --for user",
		RunE: func(c *cobra.Command, args []string) error {
			if tell != "" && tell != "user" && tell != "remote" {
				return usage("--for: there are user and remote")
			}
			t, err := a.client().Trace(c.Context(), args[0], inArchive(archive))
			var p *client.Problem
			if errors.As(err, &p) && p.Status == 404 {
				if r, refusedErr := a.client().Refusal(
					c.Context(),
					args[0],
					inArchive(archive),
				); refusedErr == nil {
					return a.printRefusal(r, tell)
				}
			}
			if err != nil {
				return err
			}
			if tell != "" {
				words := map[string]string{"user": t.ForUser, "remote": t.ForRemote}[tell]
				_, err := fmt.Fprintln(a.out, strings.TrimRight(words, "\n"))
				return err
			}
			return a.printTrace(t)
		},
	}
	show.Flags().StringVar(&archive, "archive", "", "look in an opened archive (gull log list)")
	show.Flags().StringVar(&tell, "for", "",
		"words to pass on: user (whoever asks) or remote (the remote administrator)")
	f := followFilter{}
	follow := &cobra.Command{
		Use:   "follow [ID]",
		Short: "Follow a message until it ends, or everything as it happens",
		Args:  cobra.MaximumNArgs(1),
		Long: "Follow a message until it ends, or everything that happens on the node, as it " +
			"happens.\n\nWithout an id, --with keeps to events that have a text anywhere in " +
			"them (an address, a lane, a client), --kind to kinds: received, delivered, " +
			"deferred, bounced, expired, rejected. What is missed because this program was " +
			"too slow is said, never left out silently.",
		Example: "  gull trace follow 0B4Z7H8Q2M000\n  gull trace follow --with saltmarsh.example " +
			"--kind deferred --kind bounced",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				return a.follow(c.Context(), args[0])
			}
			return a.followAll(c.Context(), f)
		},
	}
	follow.Flags().StringArrayVar(&f.kinds, "kind", nil,
		"only this kind of event; may be given again")
	follow.Flags().StringVar(&f.with, "with", "", "only events with this in them")
	return group("trace", "What happened to messages", a.traceFind(), show, follow)
}

// inArchive asks for an opened archive.
func inArchive(id string) url.Values {
	if id == "" {
		return nil
	}
	return url.Values{"archive": {id}}
}

func (a traceCommands) traceFind() *cobra.Command {
	var limit int
	var oldest bool
	var since, until string
	words := map[string]*string{}
	c := &cobra.Command{
		Use:   "find [WORDS…]",
		Short: "Find messages, and what was refused before it was one, newest first",
		Args:  cobra.ArbitraryArgs,
		Long: "Find messages, and what was refused before it was one, newest first.\n\nThe words " +
			"are understood as in the console's search box: an address or a part of one, a " +
			"domain, a subject (in quotes if it has words of time), our id, a Message-ID, " +
			"an IP address or network, a remote host, a state (refused too), a cause, and times: " +
			"today 10:00, since yesterday, last 2h, between 9:00 and 11:00, 2026-11-23. How " +
			"they were understood goes to standard error. The flags ask for the same one " +
			"by one.",
		Example: "  gull trace find ines.harrow@skerryline.example since yesterday\n  gull trace " +
			"find saltmarsh.example bounced last week\n  gull trace find \"night boat\" today " +
			"10:00\n  gull trace find --state refused --client 127.20.9.0/24 -o json",
		RunE: func(c *cobra.Command, args []string) error {
			filter := url.Values{"limit": {strconv.Itoa(limit)}, "zone": {localZone()}}
			for i, w := range args { // what the shell kept together stays together
				if strings.Contains(w, " ") && !strings.Contains(w, "\"") && len(args) > 1 {
					args[i] = strconv.Quote(w)
				}
			}
			if q := strings.Join(args, " "); q != "" {
				filter.Set("q", q)
			}
			setWords(filter, words)
			if err := setTimes(filter, since, until); err != nil {
				return err
			}
			first := "newest"
			if oldest {
				first = "oldest"
				filter.Set("order", first)
			}
			p, err := a.client().Search(c.Context(), filter)
			if err != nil {
				return err
			}
			if len(args) > 0 && a.format == "table" {
				fmt.Fprintf(a.err, "Understood: %s.\n", strings.Join(p.Understood, "; "))
			}
			if err := printList(a.app, p.Items, foundColumns(), "Nothing matches."); err != nil {
				return err
			}
			a.readFrom(p.AsOf)
			switch {
			case p.Next != "" && !p.Back.IsZero() && a.format == "table":
				fmt.Fprintf(a.err, "Searched as far as %s; go on with --after %s.\n",
					exact(p.Back.Time), p.Next)
			case p.Next != "" && a.format == "table":
				fmt.Fprintf(a.err,
					"There may be more; these are the %d %s. Go on with --after %s.\n",
					len(p.Items), first, p.Next)
			}
			if len(p.Items) == 0 {
				return errNotFound
			}
			return nil
		},
	}
	f := c.Flags()
	for name, help := range map[string]string{
		"from":     "sender: an address, a part of one, a domain, or <>",
		"to":       "recipient: an address, a part of one, or a domain",
		"subject":  "a part of the subject",
		"id":       "our id, or a Message-ID",
		"client":   "IP address or network of the client",
		"host":     "remote host",
		"state":    "a delivery's state, or refused",
		"cause":    "a cause, such as greylisted",
		"listener": "it was received by this listener",
		"route":    "it goes by this route",
		"account":  "sent by this account",
		"gate":     "it met this gate, also one that only watches",
		"severity": "at least so bad, by the gates that it met: minor, serious or critical",
		"archive":  "look in an opened archive (gull log list)",
		"after":    "go on where the page before ended",
	} {
		words[name] = f.String(name, "", help)
	}
	f.StringVar(&since, "since", "",
		"from this time on: 2026-11-23T10:00:00Z, 2026-11-23, or 2h for two hours ago")
	f.StringVar(&until, "until", "", "before this time")
	f.IntVar(&limit, "limit", 50, "at most so many, up to 1000")
	f.BoolVar(&oldest, "oldest-first", false, "the oldest first")
	return c
}

// setTimes adds a period to a query.
func setTimes(q url.Values, since, until string) error {
	for name, text := range map[string]string{"since": since, "until": until} {
		if text == "" {
			continue
		}
		t, err := parseTime(text, time.Now())
		if err != nil {
			return usage("--%s: %w", name, err)
		}
		q.Set(name, t.UTC().Format(time.RFC3339))
	}
	return nil
}

// setWords sets the parameters of flags that were given.
func setWords(q url.Values, words map[string]*string) {
	for name, v := range words {
		if *v != "" {
			q.Set(strings.ReplaceAll(name, "-", "_"), *v)
		}
	}
}

// localZone is the time zone that people mean: that of TZ, else the machine's.
func localZone() string {
	if time.Local == time.UTC { // --utc
		return "UTC"
	}
	names := []string{strings.TrimPrefix(os.Getenv("TZ"), ":")}
	if target, err := os.Readlink("/etc/localtime"); err == nil {
		_, name, _ := strings.Cut(target, "zoneinfo/")
		names = append(names, name)
	}
	for _, name := range names {
		if _, err := time.LoadLocation(name); err == nil && name != "" {
			return name
		}
	}
	return "UTC"
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
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02 15:04",
		"2006-01-02"} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf(
		"%q is not a time; write 2026-11-23T10:00:00Z, 2026-11-23, or 2h for two hours ago",
		text,
	)
}

func foundColumns() []column[mail.Found] {
	return []column[mail.Found]{
		{"ID", false, func(f mail.Found) string { return f.ID.String() }},
		{"RECEIVED", true, func(f mail.Found) string { return ago(f.ReceivedAt) }},
		{"FROM", false, func(f mail.Found) string { return shown(f.Sender) }},
		{"TO", false, func(f mail.Found) string {
			if f.Refused != nil {
				return cmp.Or(f.Refused.Recipient, "-")
			}
			if len(f.Deliveries) == 0 {
				return "-"
			}
			text := shown(f.Deliveries[0].Recipient)
			if n := len(f.Deliveries) - 1; n > 0 {
				text += fmt.Sprintf(" and %d more", n)
			}
			return text
		}},
		{"STATE", false, func(f mail.Found) string {
			if f.Refused != nil {
				return "refused: " + string(f.Refused.Cause)
			}
			return states(f.Message)
		}},
		{"SIZE", true, func(f mail.Found) string { return octets(f.Size) }},
		{"SUBJECT", false, func(f mail.Found) string { return f.Subject }},
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

func (a traceCommands) printTrace(t api.Trace) error {
	if a.format != "table" {
		return a.printValue(t)
	}
	m, w := t.Message, a.out
	fmt.Fprintf(w, "%s  %s\n", m.ID, states(m))
	fmt.Fprintf(w, "  from     %s\n", shown(m.Sender))
	fmt.Fprintf(w, "  subject  %s\n", m.Subject)
	fmt.Fprintf(w, "  received %s (%s), %s\n", exact(m.ReceivedAt), ago(m.ReceivedAt),
		octets(m.Size))
	if s := t.Session; s != nil {
		fmt.Fprintf(w, "  by       listener %s, session %s from %s (%s)%s\n", s.Listener, s.ID,
			s.Address, s.Name, under(s.TLS))
	}
	if m.Account != "" {
		fmt.Fprintf(w, "  account  %s\n", m.Account)
	}
	if f := m.Identity; f != nil {
		fmt.Fprintf(w, "  proves   SPF %s for %s, DKIM %s, DMARC %s for %s\n", f.SPF.Result,
			f.SPF.Domain, signatureWords(f.DKIM), f.DMARC.Result, f.DMARC.Domain)
		if f.Chain != nil {
			fmt.Fprintf(
				w,
				"           sealed results (ARC) %s: %s\n",
				f.Chain.Result,
				chainWords(f.Chain),
			)
		}
		if f.Reason != "" {
			fmt.Fprintf(w, "           %s\n", f.Reason)
		}
	}
	for i := range m.Deliveries {
		d := &m.Deliveries[i]
		fmt.Fprintf(w, "  to       %s: %s", shown(d.Recipient), d.State)
		if !d.State.Final() {
			fmt.Fprintf(w, ", %d attempts, next %s, expires %s (%s)", d.Attempts,
				next(d.NextAttemptAt.Time), ago(d.ExpiresAt.Time), exact(d.ExpiresAt.Time))
		}
		fmt.Fprintln(w)
		if len(d.Via) > 0 {
			fmt.Fprintf(w, "           by way of %s\n",
				strings.Join(append([]string{d.Original}, d.Via...), " → "))
		}
	}
	for _, b := range t.Boxes {
		fmt.Fprintf(w, "  mailbox  %s holds %d messages, %s", b.Address, b.Messages, octets(b.Used))
		if b.Quota > 0 {
			fmt.Fprintf(w, " of %s (%d%%)", octets(b.Quota), b.Used*100/b.Quota)
		}
		fmt.Fprintln(w)
	}
	fmt.Fprintln(w)
	for _, e := range t.Events {
		printEvent(w, e)
	}
	for _, c := range t.Causes {
		fmt.Fprintf(w, "\n%s (%s). %s\n", c.Title, c.Cause, c.Fix)
	}
	for _, s := range t.Sessions {
		fmt.Fprintf(w, "\nTried in session %s at %s [%s]%s: %s, %s.\n", s.ID, s.Name, s.Address,
			under(s.TLS), s.Outcome, s.Ended)
	}
	for _, b := range t.Generated {
		fmt.Fprintf(w, "\nIt generated the %s %s “%s” to %s: %s.\n", kindOf(b), b.ID, b.Subject,
			recipientsOf(b), states(b))
	}
	if t.About != nil {
		fmt.Fprintf(w, "\nIt is a %s about %s “%s” from %s: %s.\n", kindOf(m), t.About.ID,
			t.About.Subject, shown(t.About.Sender), states(*t.About))
	}
	return nil
}

func under(tls string) string {
	if tls == "" {
		return ", without TLS"
	}
	return ", " + tls
}

func kindOf(m mail.Message) string {
	if m.MadeHere() {
		return m.Protocol
	}
	return "notice from elsewhere"
}

func recipientsOf(m mail.Message) string {
	var out []string
	for i := range m.Deliveries {
		out = append(out, shown(m.Deliveries[i].Recipient))
	}
	return strings.Join(out, ", ")
}

func (a traceCommands) printRefusal(r api.RefusalView, tell string) error {
	if tell != "" {
		_, err := fmt.Fprintln(a.out, r.ForUser)
		return err
	}
	if a.format != "table" {
		return a.printValue(r)
	}
	x, w := r.Refusal, a.out
	fmt.Fprintf(w,
		"%s  refused at stage %s\n  when     %s (%s)\n  client   %s (%s) at listener %s\n", x.ID,
		x.Stage, exact(x.At), ago(x.At), x.ClientAddress, x.Helo, x.Listener)
	if x.Account != "" {
		fmt.Fprintf(w, "  account  %s\n", x.Account)
	}
	fmt.Fprintf(w, "  from     %s\n  to       %s\n  told     %s\n", shown(x.Sender),
		cmp.Or(x.Recipient, "-"), x.Reply())
	if x.Rule != "" {
		fmt.Fprintf(w, "  rule     %s, revision %d\n", x.Rule, x.Revision)
	}
	fmt.Fprintf(w, "\n%s (%s). %s\n", r.Meaning.Title, r.Meaning.Cause, r.Meaning.Fix)
	if r.Session != nil {
		fmt.Fprintf(w, "\nThe transcript: gull session show %s\n", r.Session.ID)
	}
	return nil
}

func printEvent(w interface{ Write([]byte) (int, error) }, e mail.Event) {
	who := ""
	if e.N > 0 || e.Delivery != "" {
		_, n, _ := strings.Cut(e.Delivery, "-")
		who = "#" + n
	}
	fmt.Fprintf(w, "%s  %-3s %-10s %s\n", fine(e.At), who, e.Kind, e.Text)
	if reply, ok := e.Reply(); ok {
		for _, told := range reply.Written {
			fmt.Fprintf(w, "%*s as agreed: %s\n", len(fine(e.At))+2+3+1+10, "", told)
		}
	}
}

func signatureWords(list []senderauth.Signature) string {
	if len(list) == 0 {
		return "none"
	}
	var out []string
	for _, s := range list {
		out = append(out, fmt.Sprintf("%s for %s", s.Result, s.Domain))
	}
	return strings.Join(out, " and ")
}

// chainWords say who sealed a message, and what is wrong with that.
func chainWords(c *senderauth.Chain) string {
	var names []string
	for _, l := range c.Links {
		names = append(names, l.Domain)
	}
	words := strings.Join(names, ", then ")
	if c.Why != "" {
		words = strings.TrimPrefix(words+"; "+c.Why, "; ")
	}
	return words
}
