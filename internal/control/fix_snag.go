package control

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/readiness"
	"gullroute/internal/core/review"
	"gullroute/internal/core/snag"
	"gullroute/internal/inforce"
)

// Snags are the troubles on record, with what is offered.
type Snags interface {
	One(ctx context.Context, id ident.ID) (snag.Snag, error)
	Parts(ctx context.Context, id ident.ID) ([]ident.ID, error)
	Fixed(ctx context.Context, id ident.ID, what string) error
}

// Readiness checks a domain of ours from outside.
type Readiness interface {
	Check(ctx context.Context, domain string) (readiness.Readiness, error)
}

// Findings are what the review of the settings finds.
type Findings interface {
	Review(ctx context.Context, c *config.Compiled) ([]review.Finding, error)
}

// Fixer does what is offered for snags and findings. What concerns the configuration goes
// into the draft.
type Fixer struct {
	Snags     Snags
	InForce   *inforce.State
	Drafts    *Drafts
	Directory *Directory
	Actions   *Actions
	Pauses    *Pauses
	Readiness Readiness
	Review    Findings
}

// pauseFor is how long a lane rests by the fix.
const pauseFor = 2 * time.Hour

// FixSnag does what is offered for a trouble. What concerns the configuration goes
// into the draft; what is done at once is noted, so that the trouble tells whether it helped.
func (s *Fixer) FixSnag(
	ctx context.Context,
	who string,
	id ident.ID,
	m snag.Order,
) (api.Done, error) {
	x, err := s.Snags.One(ctx, id)
	if err != nil {
		return api.Done{}, err
	}
	var o snag.Fix
	done, err := s.do(ctx, who, x, m, &o)
	if err != nil || m.DryRun || o.Draft || m.Do == diagnose.FixRecord {
		return done, err
	}
	if s.Snags.Fixed(ctx, id, o.Says) != nil { // it is done all the same
		done.Text += "; the snag could not be told of it"
	}
	return done, nil
}

// do does what was ordered, and puts the offer that it was into chosen.
func (s *Fixer) do(
	ctx context.Context,
	who string,
	x snag.Snag,
	m snag.Order,
	chosen *snag.Fix,
) (_ api.Done, err error) {
	at := slices.IndexFunc(x.Fixes, func(o snag.Fix) bool {
		return o.Do == m.Do && (m.Route == "" || o.Route == m.Route) &&
			(m.Alias == "" || o.Alias == m.Alias)
	})
	if at < 0 {
		var offered []string
		for _, o := range x.Fixes {
			offered = append(offered, string(o.Do))
		}
		if len(offered) == 0 {
			return api.Done{}, fault.Refuse("do",
				"nothing can be done about this snag from here: %s", x.Advice)
		}
		return api.Done{}, fault.Refuse("do", "%s is not offered for this snag; %s is", m.Do,
			strings.Join(offered, ", "))
	}
	o := x.Fixes[at]
	*chosen = o
	if m.Why == "" {
		m.Why = fmt.Sprintf("snag %s: %s at %s", x.ID, x.Title, x.Place.Where())
	}
	switch m.Do {
	case diagnose.FixRoute:
		return s.draftFix(ctx, who, m.DryRun, func(d *config.Document) (string, error) {
			return routeThrough(d, o.Route,
				x.Place.Name)
		})
	case diagnose.FixAddRoute:
		return s.draftFix(ctx, who, m.DryRun, func(d *config.Document) (string, error) {
			return newRoute(d, o.Domain)
		})
	case diagnose.FixSlower:
		return s.draftFix(ctx, who, m.DryRun, func(d *config.Document) (string, error) {
			return agree(d, x.Place.Name, snag.Slower(x.Cause))
		})
	case diagnose.FixTLS:
		return s.draftFix(ctx, who, m.DryRun,
			func(d *config.Document) (string, error) { return lessTLS(d, x.Place.Name, x.Cause) })
	case diagnose.FixAlias:
		return s.leaveAlias(ctx, who, o.Alias, x.Place.Name, m.DryRun)
	case diagnose.FixRecord:
		r, err := s.Readiness.Check(ctx, o.Domain)
		return api.Done{Text: r.ToDo()}, err
	case diagnose.FixPause:
		if m.DryRun {
			return api.Done{DryRun: true, Text: fmt.Sprintf(
				"%d lanes would stop for two hours; nothing is lost", len(x.Lanes))}, nil
		}
		var done api.Done
		for _, lane := range x.Lanes {
			if done, err = s.Pauses.Pause(ctx, mail.Pause{
				Kind:  mail.PauseLane,
				Name:  lane.String(),
				Who:   who,
				Why:   m.Why,
				Since: time.Now().UTC(),
				Until: mail.At(time.Now().Add(pauseFor)),
			}); err != nil {
				return done, err
			}
		}
		return done, nil
	}
	return s.actOn(ctx, who, x, o, m)
}

// leaveAlias takes an address out of an alias that names others too.
func (s *Fixer) leaveAlias(
	ctx context.Context,
	who, alias, out string,
	dry bool,
) (api.Done, error) {
	at, err := address.Parse(alias)
	if err != nil {
		return api.Done{}, err
	}
	old := s.InForce.Config().Directory.Alias(at)
	if old == nil {
		return api.Done{}, fault.ErrNotFound
	}
	back := "; to have it back: " + aliasCommand(old)
	if strings.EqualFold(at.Key(), out) { // its messages come round: it goes
		if dry {
			return api.Done{DryRun: true, Text: "the alias " + at.Display() +
				" would go; what comes there would be refused"}, nil
		}
		return api.Done{
			Text: "the alias " + at.Display() + " is gone; what comes there is refused" + back,
		}, s.Directory.RemoveAlias(ctx, who, at)
	}
	fresh := *old
	fresh.To = slices.DeleteFunc(slices.Clone(old.To),
		func(a address.Address) bool { return strings.EqualFold(a.Key(), out) })
	if dry {
		return api.Done{DryRun: true,
			Text: fmt.Sprintf("%s would no longer go on to %s", at.Display(), out)}, nil
	}
	if err := s.Directory.PutAlias(ctx, who, &fresh, false, false); err != nil {
		return api.Done{}, err
	}
	return api.Done{Text: fmt.Sprintf("%s no longer goes on to %s%s", at.Display(), out, back)}, nil
}

// aliasCommand is the command that makes an alias as it was.
func aliasCommand(a *directory.Alias) string {
	to := make([]string, len(a.To))
	for i, t := range a.To {
		to[i] = t.String()
	}
	return "gull alias set " + a.Address.String() + " --to " + strings.Join(to, ",")
}

// actOn does something to the messages that a trouble holds up.
func (f *Fixer) actOn(
	ctx context.Context,
	who string,
	x snag.Snag,
	o snag.Fix,
	m snag.Order,
) (api.Done, error) {
	r := api.ActionRequest{Why: m.Why, DryRun: m.DryRun}
	switch m.Do {
	case diagnose.FixFlush:
		r.Verb = "flush"
	case diagnose.FixSmartHost:
		r.Verb, r.Route, r.Keep = "reroute", o.Route, true
	case diagnose.FixReturn:
		if r.Verb, r.Say = "return", m.Say; r.Say == "" {
			r.Say = diagnose.ForSender(x.Cause).Why
		}
	}
	var selections []mail.Selection
	switch x.Place.Kind {
	case snag.Address:
		selections = []mail.Selection{{Recipient: x.Place.Name, Cause: string(x.Cause)}}
	default:
		lanes := x.Lanes
		if x.Parts > 0 {
			var err error
			if lanes, err = f.Snags.Parts(ctx, x.ID); err != nil {
				return api.Done{}, err
			}
		}
		for _, lane := range lanes {
			s := mail.Selection{Lane: lane.String()}
			if !snag.HoldsAll(x.Cause) {
				s.Cause = string(x.Cause)
			}
			selections = append(selections, s)
		}
	}
	var all api.Done
	for _, s := range selections {
		r.Selection = s
		done, err := f.Actions.Act(ctx, who, r, func(int64, int64) {})
		if err != nil {
			return all, err
		}
		all.Action, all.Text = done.Action, done.Text
		all.Matched, all.Touched, all.Sending = all.Matched+done.Matched, all.Touched+done.Touched,
			all.Sending+done.Sending
	}
	if len(selections) > 1 {
		all.Text = fmt.Sprintf("%d messages of %d lanes: %s", all.Touched, len(selections), o.Says)
	}
	return all, nil
}

func (s *Fixer) draftFix(
	ctx context.Context,
	who string,
	dry bool,
	edit func(*config.Document) (string, error),
) (api.Done, error) {
	what, err := s.Drafts.Edit(ctx, who, dry, edit)
	if err != nil {
		return api.Done{}, err
	}
	if dry {
		return api.Done{DryRun: true, Text: "would go into the draft: " + what}, nil
	}
	return api.Done{
		Text: "In the draft now: " + what + "; rehearse and apply it (gull draft rehearse, gull " +
			"draft apply)",
	}, nil
}

func section(key string) config.Section {
	s, _ := config.FindSection(key)
	return s
}

// routeThrough lets a domain's mail go by a route, before any other takes it. A
// route without recipients takes nothing by itself.
func routeThrough(d *config.Document, name, domain string) (string, error) {
	routes := section("routes")
	item, err := d.Item(routes, name)
	if err != nil {
		return "", err
	}
	recipients := words(item.Fields["recipients"])
	if slices.Contains(recipients, any(domain)) {
		return "", fault.Refuse("do", "route %s takes mail for %s already, in the draft", name,
			domain)
	}
	if err := d.Set(
		routes,
		name,
		map[string]any{"recipients": append(recipients, domain)},
		false,
	); err != nil {
		return "", err
	}
	what := fmt.Sprintf("route %s takes %s", name, domain)
	for i, other := range d.Items(routes) {
		if other.Name == name {
			break
		}
		if slices.ContainsFunc(
			words(other.Fields["recipients"]),
			func(p any) bool { return takes(p, domain) },
		) {
			return what, d.Move(routes, name, i+1)
		}
	}
	return what, nil
}

// newRoute makes a route to a domain's own hosts, last, so that no other loses mail to it.
func newRoute(d *config.Document, domain string) (string, error) {
	name := "to " + domain
	if _, err := d.Item(section("routes"), name); err == nil {
		return "", fault.Refuse("do", "route %s is in the draft already", name)
	}
	return "a route for " + domain + " to its own hosts", d.Add(section("routes"), map[string]any{
		"name": name, "recipients": []any{domain}, "next_hop": config.HopMX}, 0)
}

// takes reports whether a pattern, as it is written, takes a domain.
func takes(pattern any, domain string) bool {
	p, err := address.ParsePattern(fmt.Sprint(pattern))
	return err == nil && p.Match(address.Address{Local: "x", Domain: domain})
}

func words(v any) []any {
	switch list := v.(type) {
	case []any:
		return slices.Clone(list)
	case []string:
		out := make([]any, len(list))
		for i, s := range list {
			out[i] = s
		}
		return out
	case string:
		return []any{list}
	}
	return nil
}

// lessTLS sets what is agreed with a domain about TLS: what its host can do.
func lessTLS(d *config.Document, domain string, c diagnose.Cause) (string, error) {
	if c == diagnose.PolicyNotKept {
		return agree(d, domain, map[string]any{"ignore_policies": true})
	}
	terms := map[diagnose.Cause]string{diagnose.TLSRequired: "required",
		diagnose.CertificateBad: "required"}[c]
	if terms == "" {
		terms = "offered"
	}
	return agree(d, domain, map[string]any{"tls": terms})
}

// agree sets terms of the peer that a domain belongs to, or makes one for it.
func agree(d *config.Document, domain string, terms map[string]any) (string, error) {
	var said []string
	for name, v := range terms {
		said = append(said, fmt.Sprintf("%s %v", strings.ReplaceAll(name, "_", " "), v))
	}
	slices.Sort(said)
	what := fmt.Sprintf("agreed with %s: %s", domain, strings.Join(said, ", "))
	peers := section("peers")
	for _, p := range d.Items(peers) {
		if slices.ContainsFunc(
			words(p.Fields["domains"]),
			func(p any) bool { return takes(p, domain) },
		) {
			return what, d.Set(peers, p.Name, terms, false)
		}
	}
	terms["name"], terms["domains"] = domain, []any{domain}
	return what, d.Add(peers, terms, 0)
}
