package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/client"
	"gullroute/internal/core/config"
	"gullroute/internal/core/rehearse"
)

// draftCommands are those of gull draft.
type draftCommands struct{ *app }

func (a draftCommands) command() *cobra.Command {
	return group("draft", "The draft: changes that are not in force yet", a.draftShow(),
		a.draftDiff(), a.draftRehearse(), a.draftApply(), a.draftRebase(), a.draftDiscard())
}

func (a draftCommands) draftShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show",
		Short:   "What differs from what is in force, and who changed it",
		Args:    exactly(0),
		Example: "  gull draft show\n  gull draft show -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			d, err := a.client().Draft(c.Context(), false)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(d)
			}
			if !d.Exists {
				fmt.Fprintf(a.out, "There is no draft. Revision %d is in force.\n", d.InForce)
				return nil
			}
			a.printChanges(d.Changes)
			for _, l := range d.Log {
				fmt.Fprintf(a.out, "%10s  %s: %s\n", ago(l.At), l.Who, l.Text)
			}
			a.printHazards(d.Hazards)
			if d.Stale {
				fmt.Fprintf(
					a.out,
					"\nRevision %d came into force since it was begun from %d. Next: gull draft "+
						"rebase\n",
					d.InForce,
					d.Base,
				)
			} else {
				fmt.Fprintln(a.out,
					"\nNext: gull draft rehearse, then gull draft apply (or gull draft discard).")
			}
			return nil
		},
	}
}

func (a *app) printChanges(changes []config.Change) {
	if len(changes) == 0 {
		fmt.Fprintln(a.out, "Nothing differs from what is in force.")
	}
	for _, ch := range changes {
		fmt.Fprintf(a.out, "%s %s\n",
			map[string]string{"added": "+", "removed": "-", "changed": "~", "moved": "↕"}[ch.Kind],
			ch.Text)
		if ch.Kind == "added" {
			for _, f := range ch.Fields {
				fmt.Fprintf(a.out, "    %s: %s\n", f.Field, f.After)
			}
		}
	}
	fmt.Fprintln(a.out)
}

func (a *app) printHazards(hazards []config.Hazard) {
	for _, h := range hazards {
		word := "note"
		if h.Blocks {
			word = "DANGER"
		}
		fmt.Fprintf(a.out, "%s: %s\n        %s\n", word, h.Text, h.Fix)
	}
}

func (a draftCommands) draftDiff() *cobra.Command {
	return &cobra.Command{
		Use: "diff", Short: "The difference of the texts", Args: exactly(0),
		Example: "  gull draft diff",
		RunE: func(c *cobra.Command, _ []string) error {
			d, err := a.client().Draft(c.Context(), true)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(d)
			}
			if d.YAML == "" {
				fmt.Fprintln(a.out, "Nothing differs from what is in force.")
			}
			_, err = io.WriteString(a.out, d.YAML)
			return err
		},
	}
}

// bar tells of long work: as a bar on a terminal, else as a line now and then.
func (a *app) bar(total int, what string) (tell func(done int, doing string), end func()) {
	if f, ok := a.rawErr.(*os.File); ok {
		if info, err := f.Stat(); err == nil && info.Mode()&os.ModeCharDevice != 0 {
			b := progressbar.NewOptions(total, progressbar.OptionSetWriter(f),
				progressbar.OptionSetDescription(what), progressbar.OptionShowCount(),
				progressbar.OptionThrottle(80*time.Millisecond), progressbar.OptionClearOnFinish(),
				progressbar.OptionSetWidth(30))
			return func(done int, doing string) {
				if doing != "" {
					b.Describe(what + ": " + doing)
				}
				_ = b.Set(min(done, total))
			}, func() { _ = b.Finish() }
		}
	}
	last := time.Now()
	return func(done int, doing string) {
		if time.Since(last) > time.Second {
			last = time.Now()
			fmt.Fprintf(a.err, "%s: %d of %d %s\n", what, done, total, doing)
		}
	}, func() {}
}

func (a draftCommands) draftRehearse() *cobra.Command {
	var messages int
	c := &cobra.Command{
		Use:   "rehearse",
		Short: "Replay recent and hostile envelopes through the draft: what would change?",
		Args:  exactly(0),
		Long: "Replay the last messages, what waits in the queue, and attempts to relay from " +
			"outside in every classical form, through what is in force and through the draft. " +
			"Nothing is sent and nothing changes.",
		Example: "  gull draft rehearse\n  gull draft rehearse --messages 20000 -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			tell, end := a.bar(1000, "rehearsing")
			r, err := a.client().Rehearse(c.Context(), messages,
				func(p client.Progress) { tell(int(1000*p.Part), "") })
			end()
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(r)
			}
			a.printReport(r)
			return nil
		},
	}
	c.Flags().IntVar(&messages, "messages", 5000, "how many of the last messages")
	return c
}

var kindWords = map[string]string{
	rehearse.NewlyRefused:  "newly REFUSED",
	rehearse.NewlyHeld:     "newly HELD",
	rehearse.NewlyAllowed:  "newly ALLOWED",
	rehearse.NewlyStranded: "newly STRANDED",
	rehearse.LessTLS:       "less TLS",
	rehearse.OtherWay:      "another route",
	rehearse.OtherGates:    "other gates",
	rehearse.OtherRule:     "by another rule",
}

func (a draftCommands) printReport(r rehearse.Report) {
	w := a.out
	for _, b := range r.Blocks {
		fmt.Fprintf(w, "DANGER: %s\n", b)
	}
	if len(r.Blocks) > 0 {
		fmt.Fprint(w, "It is applied only with --force and --why.\n\n")
	}
	fmt.Fprintf(w,
		"%d envelopes with %d recipients were replayed: %d would be decided differently.\n",
		r.Envelopes, r.Recipients, r.Changed)
	if r.Contents > 0 {
		fmt.Fprintf(w, "The gates were asked about the content of %d messages.\n", r.Contents)
	}
	for _, g := range r.Groups {
		fmt.Fprintf(w, "\n%s: %d recipients", kindWords[g.Kind], g.Count)
		if g.Waiting > 0 {
			fmt.Fprintf(w, ", %d of them waiting now", g.Waiting)
		}
		terms := g.Before.TLS != g.After.TLS // told only where they differ
		fmt.Fprintf(w, "\n  before   %s\n  after    %s\n", outcomeWords(g.Before, terms),
			outcomeWords(g.After, terms))
		x := g.Example
		fmt.Fprintf(w, "  example  %s from %s at %s: %s to %s\n", x.ID, x.Client, x.Listener,
			shown(x.Sender), x.Recipient)
	}
	fmt.Fprintf(w, "\n%d attempts to relay from outside were made; ", r.Attempts)
	if len(r.Hostile) == 0 {
		fmt.Fprintln(w, "none came through.")
	} else {
		fmt.Fprintf(w, "%d CAME THROUGH:\n", len(r.Hostile))
		seen := map[string]bool{}
		for _, h := range r.Hostile { // one of each form at each listener
			if key := h.Form + h.Listener + h.Rule; !seen[key] {
				seen[key] = true
				fmt.Fprintf(w, "  %s: %s at %s, %s to %s, by rule %s\n", h.Form, h.Client,
					h.Listener, shown(h.Sender), h.Recipient, h.Rule)
			}
		}
	}
	if len(r.Unused) > 0 {
		fmt.Fprintf(w, "No envelope took these routes: %s\n", strings.Join(r.Unused, ", "))
	}
	a.printHazards(r.Hazards)
	for _, w := range r.Findings {
		fmt.Fprintf(a.out, "New finding (%s): %s, %s: %s.\n", w.Severity, w.Title, w.Where, w.Text)
	}
}

// outcomeWords tells a decision in a line, with what is asked of TLS if that is wanted.
func outcomeWords(o rehearse.Outcome, terms bool) string {
	if !o.Allowed {
		if o.Rule == "" {
			return "refused: " + o.Reply
		}
		return "refused by " + o.Rule + ": " + o.Reply
	}
	text := strings.Join(o.Paths, ", ")
	if o.Held {
		text += ", held"
	}
	if len(o.Gates) > 0 {
		text += " (gate " + strings.Join(o.Gates, "; gate ") + ")"
	}
	if o.Stranded {
		text += " (stranded)"
	}
	if terms && o.TLS != "" {
		text += ", TLS " + o.TLS
	}
	if o.Rule != "" {
		text += ", allowed by " + o.Rule
	}
	return text
}

func (a draftCommands) draftApply() *cobra.Command {
	var force bool
	var why string
	var within time.Duration
	c := &cobra.Command{
		Use:   "apply",
		Short: "Put the draft in force, without a restart",
		Args:  exactly(0),
		Long: "Put the draft in force on all nodes. What would open a relay, take passwords in " +
			"the clear or strand mail is applied only with --force and a reason.\n\n" +
			"With --confirm-within it goes back by itself unless it is confirmed in time, so that " +
			"a change that cuts you off fixes itself.",
		Example: "  gull draft apply\n  gull draft apply --confirm-within 5m\n  gull draft apply " +
			"--force --why \"the auditors test it until noon\"",
		RunE: func(c *cobra.Command, _ []string) error {
			done, err := a.client().ApplyDraft(c.Context(),
				map[string]any{"force": force, "why": why, "confirm_within": int(within.Seconds())})
			if err != nil {
				return err
			}
			if err := a.applied(done); err != nil || within == 0 || a.format != "table" {
				return err
			}
			fmt.Fprintf(a.out,
				"It goes back by itself in %s unless you keep it: gull revision confirm %d\n",
				within, done.Revision)
			return nil
		},
	}
	c.Flags().BoolVar(&force, "force", false,
		"apply what the rehearsal finds dangerous; needs --why")
	c.Flags().StringVar(&why, "why", "", "the reason, for the record")
	c.Flags().DurationVar(&within, "confirm-within", 0,
		"go back unless confirmed within this time, like 5m")
	return c
}

func (a *app) applied(done api.Applied) error {
	if a.format != "table" {
		return a.printValue(done)
	}
	fmt.Fprintf(a.out, "Revision %d is in force.\n", done.Revision)
	if done.Rerouted > 0 {
		fmt.Fprintf(a.out, "%d deliveries that were without a route have one and are tried now.\n",
			done.Rerouted)
	}
	for _, t := range done.Directory {
		fmt.Fprintf(a.out, "%s\n", strings.ToUpper(t[:1])+t[1:])
	}
	for _, t := range done.Trouble {
		fmt.Fprintf(a.out, "BUT: %s\n", t)
	}
	return nil
}

func (a draftCommands) draftRebase() *cobra.Command {
	return &cobra.Command{
		Use:     "rebase",
		Short:   "Make the draft's changes anew on what is in force now",
		Args:    exactly(0),
		Example: "  gull draft rebase",
		RunE: func(c *cobra.Command, _ []string) error {
			met, err := a.client().RebaseDraft(c.Context())
			if err != nil {
				return err
			}
			for _, m := range met {
				fmt.Fprintln(a.out, m)
			}
			fmt.Fprintln(a.out, "The draft is made anew. See it with: gull draft show")
			return nil
		},
	}
}

func (a draftCommands) draftDiscard() *cobra.Command {
	var back bool
	c := &cobra.Command{
		Use: "discard", Short: "Forget the draft, or take the last one back", Args: exactly(0),
		Example: "  gull draft discard\n  gull draft discard --take-back",
		RunE: func(c *cobra.Command, _ []string) error {
			if back {
				if err := a.client().TakeBackDraft(c.Context()); err != nil {
					return err
				}
				fmt.Fprintln(a.out, "The draft that was discarded last is the draft again.")
				return nil
			}
			if err := a.client().DiscardDraft(c.Context()); err != nil {
				return err
			}
			fmt.Fprintln(
				a.out,
				"The draft is forgotten. To have it back: gull draft discard --take-back",
			)
			return nil
		},
	}
	c.Flags().
		BoolVar(&back, "take-back", false, "make the draft that was discarded last the draft again")
	return c
}
