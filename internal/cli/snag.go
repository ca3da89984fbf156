package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/retry"
	"gullroute/internal/core/snag"
)

// snagCommands are those of gull snag.
type snagCommands struct{ *app }

func (a snagCommands) command() *cobra.Command {
	return group("snag",
		"Snags: the same trouble at the same place, whatever the number of messages", a.snagList(),
		a.snagShow(), a.snagFix(), a.snagNote(), a.snagMine(), a.snagMute())
}

func (a snagCommands) snagList() *cobra.Command {
	var limit int
	var muted, parts bool
	words := map[string]*string{}
	c := &cobra.Command{
		Use:   "list",
		Short: "What is wrong, worst first",
		Args:  exactly(0),
		Example: "  gull snag list\n  gull snag list --place strandwatch\n  gull snag list " +
			"--state closed",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {strconv.Itoa(limit)}}
			setWords(q, words)
			for name, set := range map[string]bool{"muted": muted, "parts": parts} {
				if set {
					q.Set(name, "true")
				}
			}
			p, err := a.client().Snags(c.Context(), q)
			if err != nil {
				return err
			}
			if err := printList(
				a.app,
				p.Items,
				snagColumns(),
				"Nothing is in trouble.",
			); err != nil {
				return err
			}
			if p.Next != "" && a.format == "table" {
				fmt.Fprintf(a.err, "There may be more; go on with --after %s.\n", p.Next)
			}
			return nil
		},
	}
	f := c.Flags()
	for name, help := range map[string]string{"state": "open or closed",
		"cause": "a cause, such as block-listed", "place": "a part of a place's name",
		"lane": "a lane's id", "part-of": "those that one of ours is made of",
		"after": "go on where the page before ended"} {
		words[name] = f.String(name, "", help)
	}
	f.BoolVar(&muted, "muted", false, "muted ones too")
	f.BoolVar(&parts, "parts", false, "those too that are likely part of one of ours")
	f.IntVar(&limit, "limit", 50, "at most so many, up to 1000")
	return c
}

func snagColumns() []column[snag.Snag] {
	return []column[snag.Snag]{
		{"ID", false, func(s snag.Snag) string { return s.ID.String() }},
		{
			"SEVERITY",
			false,
			func(s snag.Snag) string { text, _ := s.Severity.MarshalText(); return string(text) },
		},
		{"WHAT", false, func(s snag.Snag) string { return s.Title }},
		{"WHERE", false, func(s snag.Snag) string { return s.Place.Where() }},
		{"WAITING", true, func(s snag.Snag) string { return strconv.FormatInt(s.Waiting, 10) }},
		{"FAILED", true, func(s snag.Snag) string { return strconv.FormatInt(s.Failed, 10) }},
		{"SINCE", true, func(s snag.Snag) string { return ago(s.Since) }},
		{"LAST", true, func(s snag.Snag) string { return ago(s.LastAt) }},
		{"WHO CAN FIX IT", false, func(s snag.Snag) string { return s.WhoCanFix }},
		{"NEXT", false, nextStep},
	}
}

// nextStep is what to do first.
func nextStep(s snag.Snag) string {
	switch {
	case s.State == "closed":
		return "over: " + s.Ended
	case len(s.Fixes) > 0 && s.Fixes[0].First && !(s.WaitingHelps.Yes &&
		s.WhoCanFix == diagnose.Nobody):
		return s.Fixes[0].Says
	case s.WaitingHelps.Yes:
		return "wait: " + s.Usually
	}
	return firstPart(s.Advice)
}

// firstPart is a sentence up to where it goes on; gull snag show has all of it.
func firstPart(s string) string {
	if i := strings.IndexAny(s, ";:"); i > 0 {
		s = s[:i]
	}
	s, _, _ = strings.Cut(s, ". ")
	return strings.TrimSuffix(s, ".")
}

func (a snagCommands) snagShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show ID",
		Short:   "One snag: what it means, an example, and what can be done",
		Args:    exactly(1),
		Example: "  gull snag show 0B4Z7H8Q2M000",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client().Snag(c.Context(), args[0])
			if err != nil {
				return err
			}
			if err := a.showSnag(s); err != nil || a.format != "table" {
				return err
			}
			st, err := a.client().SnagStory(c.Context(), args[0])
			if err == nil {
				a.printStory(st)
			}
			return err
		},
	}
}

// printStory prints what has to do with a snag, for people.
func (a snagCommands) printStory(st snag.Story) {
	fmt.Fprintln(a.out, "\nIn order of time:")
	for _, m := range st.Moments {
		mark := " "
		if m.Before {
			mark = "!"
		}
		fmt.Fprintf(a.out, "%s %s  %s\n", mark, exact(m.At), m.Text)
	}
	if len(st.Similar) > 0 {
		fmt.Fprintln(a.out, "\nThe same before, and what ended it:")
	}
	for _, p := range st.Similar {
		fmt.Fprintf(a.out, "  %s  %s, for %s: %s (gull snag show %s)\n", exact(p.Since),
			p.Place.Where(), retry.Words(p.Until.Sub(p.Since).Round(time.Minute)), p.Ended, p.ID)
	}
}

// showSnag prints one snag, for people or programs.
func (a snagCommands) showSnag(s snag.Snag) error {
	if a.format != "table" {
		return a.printValue(s)
	}
	a.printSnag(s)
	return nil
}

func (a snagCommands) printSnag(s snag.Snag) {
	w := a.out
	severity, _ := s.Severity.MarshalText()
	fmt.Fprintf(w, "%s: %s (%s, %s)\n%s\n\n", s.Place.Where(), s.Title, severity, s.Cause, s.Means)
	line := func(name, format string, args ...any) {
		fmt.Fprintf(w, "%-12s %s\n", name, fmt.Sprintf(format, args...))
	}
	line("since", "%s (%s), last seen %s", exact(s.Since), ago(s.Since), ago(s.LastAt))
	if s.State == "closed" {
		line("over", "%s (%s): %s", exact(s.ClosedAt.Time), ago(s.ClosedAt.Time), s.Ended)
	}
	if s.Refused > 0 {
		line("effect", "%d refused; met %d times", s.Refused, s.Attempts)
	} else {
		line("effect", "%d messages wait, %d have failed; met %d times", s.Waiting, s.Failed,
			s.Attempts)
	}
	if s.Fix != "" {
		how := "it was met again since"
		switch {
		case s.State == "closed":
			how = "and it ended"
		case s.Checking:
			how = "it is being checked"
		}
		line("done", "%s, %s; %s", s.Fix, ago(s.FixedAt.Time), how)
	}
	if s.Parts > 0 {
		line("places", "%d: %s", s.Parts, some(s.Domains))
	}
	line("senders", "%s", some(s.Senders))
	waiting := "waiting does not help"
	switch {
	case s.WaitingHelps.Yes:
		waiting = "waiting helps: " + s.Usually
	case s.WaitingHelps.Unknown:
		waiting = "whether waiting helps is not known"
	}
	line("fixed by", "%s; %s", s.WhoCanFix, waiting)
	if s.Doubt != "" {
		line("but", "%s", s.Doubt)
	}
	line("advice", "%s", s.Advice)
	e := s.Evidence
	fmt.Fprintf(w, "\nAn example, %s:\n", exact(e.At))
	what := e.MessageID.String()
	if e.MessageID == 0 { // it was refused before it became one
		what = "none, refused before"
	}
	line("  message", "%s from %s to %s", what, dash(e.Sender), dash(e.Recipient))
	line("  reply", "at %s, %s %s: %s", e.Last.Stage, dash(e.Last.Host), e.Last.Address,
		e.Last.String())
	if v := e.Verdict; v != nil && v.Sure != "" {
		line(
			"  read as",
			"%s, %.0f %%: %s",
			v.Sure,
			100*v.Certainty,
			strings.Join(v.Evidence, ", "),
		)
		if len(v.Against) > 0 {
			line("  against", "%s", strings.Join(v.Against, ", "))
		}
		if v.Contradiction != "" {
			line("  but", "%s", v.Contradiction)
		}
	}
	if e.SessionID != 0 {
		line("  transcript", "gull session show %s", e.SessionID)
	}
	if s.Note != "" {
		line("note", "%s (%s)", s.Note, s.NoteBy)
	}
	if s.Mine != "" {
		line("looked after", "by %s", s.Mine)
	}
	if !s.MutedUntil.IsZero() {
		line("muted", "until %s", exact(s.MutedUntil.Time))
	}
	if len(s.Fixes) > 0 {
		fmt.Fprintln(w, "\nWhat can be done from here:")
		for _, m := range s.Fixes {
			route := ""
			if m.Route != "" {
				route = " --route " + strconv.Quote(m.Route)
			}
			if m.Alias != "" {
				route = " --alias " + m.Alias
			}
			says := m.Says
			if m.Draft {
				says += " (goes into the draft)"
			}
			fmt.Fprintf(w, "  %-52s gull snag fix %s --do %s%s\n", says, s.ID, m.Do, route)
			if m.Costs != "" {
				fmt.Fprintf(w, "    it costs: %s\n", m.Costs)
			}
		}
	}
}

// some is a list that may be long.
func some(list []string) string {
	if len(list) == 0 {
		return "–"
	}
	if len(list) > 5 {
		return strings.Join(list[:5], ", ") + fmt.Sprintf(" and %d more", len(list)-5)
	}
	return strings.Join(list, ", ")
}

func (a snagCommands) snagFix() *cobra.Command {
	var o snag.Order
	var do string
	c := &cobra.Command{
		Use:   "fix ID",
		Short: "Do what is offered for a snag: the first thing, or the one named",
		Args:  exactly(1),
		Long: "Do what is offered for a snag. Without --do it is the first thing that gull " +
			"snag show lists. What concerns the configuration goes into the draft, to be " +
			"rehearsed and applied.",
		Example: "  gull snag fix 0B4Z7H8Q2M000 --dry-run\n  gull snag fix 0B4Z7H8Q2M000 --do smart-host\n  " +
			"gull snag fix 0B4Z7H8Q2M000 --do return --say \"the mailbox has been full for a " +
			"week\"",
		RunE: func(c *cobra.Command, args []string) error {
			if o.Do = diagnose.Fix(do); do == "" {
				s, err := a.client().Snag(c.Context(), args[0])
				if err != nil {
					return err
				}
				if len(s.Fixes) == 0 {
					return fmt.Errorf("nothing can be done about this snag from here: %s", s.Advice)
				}
				if !s.Fixes[0].First {
					return usage("this costs something, so name it: --do %s (%s; %s)",
						s.Fixes[0].Do, s.Fixes[0].Says, s.Fixes[0].Costs)
				}
				o.Do, o.Route = s.Fixes[0].Do, s.Fixes[0].Route
				if a.format == "table" {
					fmt.Fprintf(a.err, "%s.\n", s.Fixes[0].Says)
				}
			}
			done, err := a.client().FixSnag(c.Context(), args[0], o)
			if err != nil {
				return err
			}
			return a.printDone(done)
		},
	}
	f := c.Flags()
	f.StringVar(
		&do,
		"do",
		"",
		"flush, smart-host, route, add-route, slower, pause, return, tls, record or alias, of those that are "+
			"offered",
	)
	f.StringVar(&o.Route, "route", "", "of several that are offered, the one by this route")
	f.StringVar(&o.Alias, "alias", "", "of several that are offered, the one out of this alias")
	f.BoolVar(&o.DryRun, "dry-run", false, "only say what would be done")
	f.StringVar(&o.Why, "why", "", "kept on record")
	f.StringVar(&o.Say, "say", "", "return: the sentence that the senders read")
	return c
}

func (a snagCommands) changeSnag(c *cobra.Command, id string, change map[string]any) error {
	s, err := a.client().ChangeSnag(c.Context(), id, change)
	if err != nil {
		return err
	}
	return a.showSnag(s)
}

func (a snagCommands) snagNote() *cobra.Command {
	return &cobra.Command{
		Use: "note ID TEXT", Short: "Note something for the others", Args: exactly(2),
		Example: "  gull snag note 0B4Z7H8Q2M000 \"asked driftnet.example on Monday\"",
		RunE: func(c *cobra.Command, args []string) error {
			return a.changeSnag(c, args[0], map[string]any{"note": args[1]})
		},
	}
}

func (a snagCommands) snagMine() *cobra.Command {
	var no bool
	c := &cobra.Command{
		Use: "mine ID", Short: "Say that you look after it", Args: exactly(1),
		Example: "  gull snag mine 0B4Z7H8Q2M000\n  gull snag mine 0B4Z7H8Q2M000 --no",
		RunE: func(c *cobra.Command, args []string) error {
			return a.changeSnag(c, args[0], map[string]any{"mine": !no})
		},
	}
	c.Flags().BoolVar(&no, "no", false, "you do not any more")
	return c
}

func (a snagCommands) snagMute() *cobra.Command {
	var long string
	c := &cobra.Command{
		Use:   "mute ID",
		Short: "Leave it out of the list for a while",
		Args:  exactly(1),
		Example: "  gull snag mute 0B4Z7H8Q2M000 --for 2d\n  gull snag mute 0B4Z7H8Q2M000 --for " +
			"\"\"",
		RunE: func(c *cobra.Command, args []string) error {
			return a.changeSnag(c, args[0], map[string]any{"mute": long})
		},
	}
	c.Flags().StringVar(&long, "for", "1d", "so long: 4h, 2d; nothing ends it")
	return c
}
