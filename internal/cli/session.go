package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// sessionCommands are those of gull session.
type sessionCommands struct{ *app }

func (a sessionCommands) command() *cobra.Command {
	return group("session", "SMTP and LMTP sessions, in and out, with their exact transcript",
		a.sessionList(), a.sessionShow(), a.sessionWatch())
}

func (a sessionCommands) sessionList() *cobra.Command {
	var limit int
	var since, until string
	words := map[string]*string{}
	c := &cobra.Command{
		Use:   "list",
		Short: "Sessions, newest first",
		Args:  exactly(0),
		Example: "  gull session list --direction out --peer saltmarsh.example\n  gull session " +
			"list --outcome trouble --since 2h\n  gull session list --peer 127.20.1.0/24 --sort " +
			"duration",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {strconv.Itoa(limit)}}
			setWords(q, words)
			if err := setTimes(q, since, until); err != nil {
				return err
			}
			p, err := a.client().Sessions(c.Context(), q)
			if err != nil {
				return err
			}
			if err := printList(
				a.app,
				p.Items,
				sessionColumns(),
				"No session matches.",
			); err != nil {
				return err
			}
			if p.Next != "" && a.format == "table" {
				fmt.Fprintf(a.err, "There may be more; go on with --after %s.\n", p.Next)
			}
			if len(p.Items) == 0 {
				return errNotFound
			}
			return nil
		},
	}
	f := c.Flags()
	for name, help := range map[string]string{
		"direction": "in or out",
		"protocol":  "SMTP or LMTP",
		"listener":  "of sessions in",
		"route":     "of sessions out",
		"peer":      "IP address, network, or a part of the other side's name",
		"account":   "who signed in",
		"outcome":   "passed, partly, refused, idle, broken, open; trouble is all but passed and idle",
		"longer":    "lasted at least so long, like 30s",
		"sort":      "time, duration, bytes or messages",
		"archive":   "look in an opened archive (gull log list)",
		"after":     "go on where the page before ended",
	} {
		words[name] = f.String(name, "", help)
	}
	f.StringVar(&since, "since", "",
		"begun from this time on: 2026-11-23T10:00:00Z, 2026-11-23, or 2h for two hours ago")
	f.StringVar(&until, "until", "", "begun before this time")
	f.IntVar(&limit, "limit", 50, "at most so many, up to 1000")
	return c
}

func sessionColumns() []column[mail.Session] {
	return []column[mail.Session]{
		{"ID", false, func(s mail.Session) string { return s.ID.String() }},
		{"BEGAN", true, func(s mail.Session) string { return ago(s.StartedAt) }},
		{"LASTED", true, func(s mail.Session) string { return lasted(s.Seconds) }},
		{
			"DIRECTION",
			false,
			func(s mail.Session) string { return s.Direction + " " + s.Listener + s.Route },
		},
		{"REMOTE", false, func(s mail.Session) string { return s.Address + " " + s.Name }},
		{
			"TLS",
			false,
			func(s mail.Session) string { v, _, _ := strings.Cut(s.TLS, " TLS_"); return dash(v) },
		},
		{"MESSAGES", true, func(s mail.Session) string { return strconv.Itoa(s.MessageCount) }},
		{"REFUSED", true, func(s mail.Session) string { return strconv.Itoa(s.Refused) }},
		{"OUTCOME", false, func(s mail.Session) string { return s.Outcome }},
		{"ENDED", false, func(s mail.Session) string { return s.Ended }},
	}
}

func lasted(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d < time.Second:
		return d.Round(time.Millisecond).String()
	case d < time.Minute:
		return d.Round(100 * time.Millisecond).String()
	}
	return d.Round(time.Second).String()
}

func (a sessionCommands) sessionShow() *cobra.Command {
	var archive, find string
	c := &cobra.Command{
		Use:     "show ID",
		Short:   "A session's exact transcript, without credentials and content",
		Args:    exactly(1),
		Example: "  gull session show 0B4Z7H8Q2M000\n  gull session show 0B4Z7H8Q2M000 --find 550",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client().Session(c.Context(), args[0], inArchive(archive))
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(s)
			}
			a.printSession(s, strings.ToLower(find))
			return nil
		},
	}
	c.Flags().StringVar(&archive, "archive", "", "look in an opened archive (gull log list)")
	c.Flags().StringVar(&find, "find", "", "only lines with this in them")
	return c
}

func (a sessionCommands) printSession(s api.SessionView, find string) {
	w := a.out
	direction := "from"
	if s.Direction == "out" {
		direction = "to"
	}
	fmt.Fprintf(w, "%s  %s %s %s [%s]:%d, %s%s\n", s.ID, s.Protocol, direction, s.Name, s.Address,
		s.Port, s.Listener, s.Route)
	fmt.Fprintf(w, "  began    %s (%s), lasted %s\n", exact(s.StartedAt), ago(s.StartedAt),
		lasted(s.Seconds))
	fmt.Fprintf(w, "  TLS      %s\n", dash(s.TLS))
	if s.Account != "" {
		fmt.Fprintf(w, "  account  %s\n", s.Account)
	}
	fmt.Fprintf(w, "  messages  %d to %d recipients, %d refused; %s in, %s out\n", s.MessageCount,
		s.Recipients, s.Refused, octets(s.BytesIn), octets(s.BytesOut))
	fmt.Fprintf(w, "  outcome  %s: %s\n\n", s.Outcome, dash(s.Ended))
	for _, l := range s.Lines {
		if find != "" && !strings.Contains(strings.ToLower(l.Text), find) {
			continue
		}
		mark := map[string]string{"client": "C:", "server": "S:", "note": "--"}[l.Who]
		cut := ""
		if l.Cut > 0 {
			cut = fmt.Sprintf(" … %d octets more", l.Cut)
		}
		fmt.Fprintf(w, "%9.3f %s %s%s\n", l.At, mark, l.Text, cut)
	}
	if s.Missing != "" {
		fmt.Fprintln(w, s.Missing)
	}
	for _, r := range s.Refusals {
		fmt.Fprintf(w, "\nRefused: %s to %s: %s (gull trace show %s)", shown(r.Sender),
			dash(r.Recipient), r.Reply(), r.ID)
	}
	for _, id := range s.Messages {
		fmt.Fprintf(w, "\nMessage: %s", id)
	}
	fmt.Fprintln(w)
}

func (a sessionCommands) sessionWatch() *cobra.Command {
	var forTime string
	var end bool
	c := &cobra.Command{
		Use: "watch [CLIENT|DOMAIN]",
		Short: "Record sessions of a client or domain in full for a while, whatever the " +
			"settings say",
		Args: cobra.MaximumNArgs(1),
		Long: "Record sessions of a client (an IP address or network) or with a domain in full " +
			"for a while, whatever the listener's, route's or peer's transcript setting says, and " +
			"up to 1 MB each.\n\nWithout an argument the watches are listed.",
		Example: "  gull session watch 127.20.1.5\n  gull session watch saltmarsh.example --for " +
			"30m\n  gull session watch saltmarsh.example --end",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				list, err := a.client().Watches(c.Context())
				if err != nil {
					return err
				}
				return printList(a.app, list, []column[mail.Watch]{
					{"WHAT", false, func(w mail.Watch) string { return w.What }},
					{"KIND", false, func(w mail.Watch) string { return w.Kind }},
					{"UNTIL", false, func(w mail.Watch) string { return exact(w.Until) }},
					{"BY", false, func(w mail.Watch) string { return w.Who }},
				}, "Nothing is watched.")
			}
			if end {
				forTime = "0s"
			}
			w, err := a.client().Watch(c.Context(), args[0], forTime)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(w)
			}
			if end {
				_, err = fmt.Fprintf(a.out, "%s %s is not watched any more.\n", w.Kind, w.What)
				return err
			}
			_, err = fmt.Fprintf(a.out, "Sessions with %s %s are recorded in full until %s.\n",
				w.Kind, w.What, exact(w.Until))
			return err
		},
	}
	c.Flags().StringVar(&forTime, "for", "1h", "how long, at most a day")
	c.Flags().BoolVar(&end, "end", false, "end it")
	return c
}
