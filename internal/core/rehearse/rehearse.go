// Package rehearse says what a draft of a configuration would change: it judges
// real envelopes, and a set of hostile ones, by the configuration in force and
// by the draft, and groups what comes out differently.
package rehearse

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	planning "gullroute/internal/core/plan"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/review"
	"gullroute/internal/core/route"
	"gullroute/internal/core/senderauth"
)

// Envelope is one that was really seen, or one that waits.
type Envelope struct {
	config.Envelope
	ID         string
	Recipients []address.Address
	// Waiting says that the message is in the queue now.
	Waiting bool
	// Content is nil where gates are not asked.
	Content  *Content
	Identity *senderauth.Assessment
	At       time.Time
}

// Outcome is what is decided for one recipient.
type Outcome struct {
	Allowed bool   `json:"allowed"`
	Rule    string `json:"rule"`
	Reply   string `json:"reply,omitempty" doc:"Of a refusal"`
	// Paths are "route → next hop", one for each delivery.
	Paths    []string `json:"paths"`
	Stranded bool     `json:"stranded"`
	// TLS is the least that is asked of a next hop on these paths, "" if there is none.
	Held bool `json:"held,omitempty" doc:"By a gate"`
	// Gates are what gates did, "gate no programs: refused" for each that decided.
	Gates []string `json:"gates,omitempty" doc:"What gates did"`
	TLS   string   `json:"tls,omitempty" doc:"off, offered, required or verified: the least asked of a next hop"`
}

// Judge decides an envelope's recipient, from the listener to the next hops.
func Judge(c *config.Compiled, e config.Envelope, to address.Address) Outcome {
	o := Outcome{Paths: []string{}}
	l := c.Listener(e.Listener)
	if l == nil {
		o.Rule, o.Reply = "listener", fmt.Sprintf("there is no listener %s any more", e.Listener)
		return o
	}
	if e.Size > int64(l.Limits.MessageSize) {
		o.Rule, o.Reply = "listener", fmt.Sprintf("552 5.3.4 listener %s takes at most %s", l.Name,
			l.Limits.MessageSize)
		return o
	}
	if l.Kind == config.Submission && e.Account.IsNull() {
		o.Rule, o.Reply = "listener", "530 5.7.0 sign in first"
		return o
	}
	e.Sender = c.RewriteSender(e.Sender)
	d := relay.Decide(c, e, to)
	o.Rule = d.Rule
	if !d.Allow {
		o.Reply = d.Reply.String()
		return o
	}
	return plan(c, e, to, o)
}

// gated adds what the gates say of an envelope whose content is known.
func gated(c *config.Compiled, e Envelope, to address.Address, o Outcome) Outcome {
	if !o.Allowed || e.Content == nil || c.Gates.Empty() {
		return o
	}
	legs, _ := route.Plan(c, e.Envelope, to)
	fate := c.Gates.Decide(GateMessage(c, e.Envelope, e.Content, e.Identity, e.At),
		GateRecipient(to, legs))
	for _, m := range fate.Met {
		if !m.Watching && len(m.Effects) > 0 {
			o.Gates = append(o.Gates, m.Gate+": "+strings.Join(m.Effects, ", "))
		}
	}
	switch {
	case fate.Refuse != nil:
		o.Allowed, o.Reply, o.Paths = false, fate.Refuse.String(), []string{}
		o.Rule = "gate " + fate.By
	case fate.Discard:
		o.Allowed, o.Reply, o.Paths = false, "discarded, and nobody is told", []string{}
		o.Rule = "gate " + fate.By
	}
	if !o.Allowed {
		return o
	}
	legs, lost := planning.ByGates(c, e.Envelope, to, legs, &fate)
	o.Held = fate.Hold || len(lost) > 0
	o.Paths, o.Stranded, o.TLS = []string{}, false, ""
	return by(c, legs, o)
}

// plan finds the ways of a recipient that the rules allow.
func plan(c *config.Compiled, e config.Envelope, to address.Address, o Outcome) Outcome {
	legs, refusal := route.Plan(c, e, to)
	if refusal != nil {
		o.Reply = refusal.String()
		return o
	}
	o.Allowed = true
	return by(c, legs, o)
}

// by adds the ways that legs are.
func by(c *config.Compiled, legs []route.Leg, o Outcome) Outcome {
	for _, leg := range legs {
		o.Paths = append(o.Paths, leg.Route.Name+" → "+address.DisplayDomain(leg.NextHop))
		o.Stranded = o.Stranded || leg.Stranded()
		if leg.Stranded() || leg.NextHop == "local" {
			continue
		}
		if tls := route.TermsOf(
			c,
			leg.Route,
			leg.NextHop,
		).TLS; o.TLS == "" ||
			asked(tls) < asked(o.TLS) {
			o.TLS = tls
		}
	}
	return o
}

// asked is how much of TLS is asked of a next hop, for comparing.
func asked(tls string) int {
	return slices.Index([]string{"off", "offered", "required", "verified"}, tls)
}

// The kinds of difference, in the order in which they are shown.
const (
	NewlyAllowed  = "newly_allowed"
	NewlyRefused  = "newly_refused"
	NewlyHeld     = "newly_held"
	NewlyStranded = "newly_stranded"
	LessTLS       = "less_tls"
	OtherWay      = "other_way"
	OtherGates    = "other_gates"
	OtherRule     = "other_rule"
)

var order = []string{NewlyRefused, NewlyHeld, NewlyAllowed, NewlyStranded, LessTLS, OtherWay,
	OtherGates, OtherRule}

// Group is envelopes that change in the same manner.
type Group struct {
	Kind    string  `json:"kind" enum:"newly_refused,newly_held,newly_allowed,newly_stranded,less_tls,other_way,other_gates,other_rule"`
	Before  Outcome `json:"before"`
	After   Outcome `json:"after"`
	Count   int     `json:"count" doc:"Recipients"`
	Waiting int     `json:"waiting" doc:"Of these, in the queue now"`
	Example Example `json:"example"`
}

// Example is one envelope of a group.
type Example struct {
	ID        string `json:"id,omitempty" doc:"Of the message"`
	Client    string `json:"client"`
	Listener  string `json:"listener"`
	Account   string `json:"account,omitempty"`
	Sender    string `json:"sender"`
	Recipient string `json:"recipient"`
	Size      int64  `json:"size,omitempty"`
}

// Report is what a rehearsal found.
type Report struct {
	Envelopes  int              `json:"envelopes"`
	Recipients int              `json:"recipients"`
	Contents   int              `json:"contents" doc:"Messages whose content the gates were asked about"`
	Changed    int              `json:"changed" doc:"Recipients decided differently"`
	Groups     []Group          `json:"groups"`
	Moves      int              `json:"moves" doc:"Waiting deliveries that would go by another route"`
	Stranded   int              `json:"stranded" doc:"Recipients that would newly wait without a route"`
	Hostile    []Attempt        `json:"hostile" doc:"Attempts to relay from outside that the draft would let through"`
	Attempts   int              `json:"attempts" doc:"How many were made"`
	Hazards    []config.Hazard  `json:"hazards"`
	Findings   []review.Finding `json:"findings" doc:"Those that the draft would bring"`
	Unused     []string         `json:"unused" doc:"Routes that none of these envelopes took"`
	Blocks     []string         `json:"blocks" doc:"Why the draft is applied only by force"`
}

// Rehearsal collects a report.
type Rehearsal struct {
	now, draft *config.Compiled
	report     Report
	groups     map[string]*Group
	used       map[string]bool
}

// New begins a rehearsal of draft against what is in force.
func New(now, draft *config.Compiled) *Rehearsal {
	return &Rehearsal{now: now, draft: draft, groups: map[string]*Group{}, used: map[string]bool{}}
}

// Add judges an envelope.
func (r *Rehearsal) Add(e Envelope) {
	r.report.Envelopes++
	if e.Content != nil {
		r.report.Contents++
	}
	for _, to := range e.Recipients {
		r.report.Recipients++
		var before, after Outcome
		if e.Waiting { // taken already: only its way is decided again
			before, after = plan(
				r.now,
				e.Envelope,
				to,
				Outcome{
					Paths: []string{},
				},
			), plan(r.draft, e.Envelope, to, Outcome{Paths: []string{}})
		} else {
			before = gated(r.now, e, to, Judge(r.now, e.Envelope, to))
			after = gated(r.draft, e, to, Judge(r.draft, e.Envelope, to))
		}
		for _, w := range after.Paths {
			name, _, _ := strings.Cut(w, " → ")
			r.used[name] = true
		}
		if kind := difference(before, after); kind != "" {
			r.note(kind, before, after, e, to)
		}
	}
}

func difference(before, after Outcome) string {
	switch {
	case before.Allowed && !after.Allowed:
		return NewlyRefused
	case !before.Allowed && after.Allowed:
		return NewlyAllowed
	case !before.Held && after.Held:
		return NewlyHeld
	case !before.Stranded && after.Stranded:
		return NewlyStranded
	case before.TLS != "" && after.TLS != "" && asked(after.TLS) < asked(before.TLS):
		return LessTLS
	case !slices.Equal(before.Paths, after.Paths):
		return OtherWay
	case !slices.Equal(before.Gates, after.Gates):
		return OtherGates
	case before.Rule != after.Rule:
		return OtherRule
	}
	return ""
}

func (r *Rehearsal) note(kind string, before, after Outcome, e Envelope, to address.Address) {
	r.report.Changed++
	if e.Waiting && kind != OtherRule {
		r.report.Moves++
	}
	if kind == NewlyStranded {
		r.report.Stranded++
	}
	key := strings.Join(
		[]string{
			kind,
			before.Rule,
			after.Rule,
			strings.Join(sorts(before), ","),
			strings.Join(sorts(after), ","),
			strings.Join(before.Gates, ";"),
			strings.Join(after.Gates, ";"),
		},
		"|",
	)
	g := r.groups[key]
	if g == nil {
		g = &Group{Kind: kind, Before: before, After: after, Example: example(e, to)}
		r.groups[key] = g
	}
	g.Count++
	if e.Waiting {
		g.Waiting++
	}
}

// sorts are an outcome's ways without the recipient's own domain: a thousand
// domains by another route are one group.
func sorts(o Outcome) []string {
	var out []string
	for _, w := range o.Paths {
		name, _, _ := strings.Cut(w, " → ")
		out = append(out, name)
	}
	if !o.Allowed {
		code, _, _ := strings.Cut(o.Reply, " ")
		out = append(out, code)
	}
	return out
}

func example(e Envelope, to address.Address) Example {
	x := Example{
		ID:        e.ID,
		Listener:  e.Listener,
		Sender:    e.Sender.Display(),
		Recipient: to.Display(),
		Size:      e.Size,
	}
	if e.Client.IsValid() {
		x.Client = e.Client.String()
	}
	if !e.Account.IsNull() {
		x.Account = e.Account.Display()
	}
	return x
}

// Report ends the rehearsal.
func (r *Rehearsal) Report() Report {
	out := r.report
	out.Groups, out.Unused, out.Blocks = []Group{}, []string{}, []string{}
	for _, g := range r.groups {
		out.Groups = append(out.Groups, *g)
	}
	slices.SortFunc(out.Groups, func(a, b Group) int {
		return cmp.Or(slices.Index(order, a.Kind)-slices.Index(order, b.Kind), b.Count-a.Count,
			cmp.Compare(a.Example.Recipient, b.Example.Recipient))
	})
	for _, rt := range r.draft.Routes {
		if !r.used[rt.Name] && !rt.Off {
			out.Unused = append(out.Unused, rt.Name)
		}
	}
	out.Hostile, out.Attempts = Attack(r.draft)
	out.Hazards = append(r.draft.Hazards(), r.draft.NeverUsed()...)
	out.Findings = append(
		[]review.Finding{},
		review.New(review.Settings(r.now), review.Settings(r.draft))...)
	before := r.now.Hazards()
	for _, h := range out.Hazards {
		// That a gate discards was agreed to when it was applied.
		agreed := h.Kind == "discards" && slices.Contains(before, h)
		if h.Blocks && !agreed {
			out.Blocks = append(out.Blocks, h.Text)
		}
	}
	if len(out.Hostile) > 0 && len(out.Blocks) == 0 {
		a := out.Hostile[0]
		out.Blocks = append(
			out.Blocks,
			fmt.Sprintf("a stranger could send outside (%s): %s lets <%s> through at listener %s",
				a.Form, a.Rule, a.Recipient, a.Listener),
		)
	}
	if out.Stranded > 0 {
		out.Blocks = append(
			out.Blocks,
			fmt.Sprintf("%d recipients that have a route now would be stranded without a route",
				out.Stranded),
		)
	}
	return out
}
