package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rehearse"
	"gullroute/internal/engine/queue"
	"gullroute/internal/store"

	"gullroute/internal/core/address"
)

// The errors of changing the configuration.
var (
	ErrNoDraft = errors.New("there is no draft: nothing was changed since the last apply")
	ErrStale   = errors.New("another revision came into force since the draft was begun; rebase it: gull draft rebase")
	ErrMark    = errors.New("somebody changed it meanwhile; look at it again and make your change anew")
	ErrNoWhy   = errors.New("force needs a reason: say why with --why")
)

// Blocked reports that a draft is applied only by force.
type Blocked struct{ Why []string }

// Error is all the reasons.
func (b *Blocked) Error() string {
	return "this draft is not applied without force:\n  " + strings.Join(b.Why, "\n  ")
}

// document is what is edited: the draft, or what is in force if there is none.
func (e *Engine) document(ctx context.Context) (store.Draft, *config.Document, error) {
	d, err := e.Store.Draft(ctx)
	if errors.Is(err, store.ErrNotFound) {
		rev, err := e.Store.LatestRevision(ctx)
		if err != nil {
			return d, nil, err
		}
		d = store.Draft{Base: rev.Number, Text: rev.Text}
	} else if err != nil {
		return d, nil, err
	}
	doc, err := config.ParseDocument(d.Text)
	return d, doc, err
}

// Items lists a section as it stands in the draft, or in force.
func (e *Engine) Items(ctx context.Context, s config.Section) (items []config.Item, draft bool, err error) {
	d, doc, err := e.document(ctx)
	if err != nil {
		return nil, false, err
	}
	return doc.Items(s), d.Version != 0, nil
}

// WithWebhooks is a text with the paths of webhooks that were left out where it was
// read, as the draft and what is in force have them.
func (e *Engine) WithWebhooks(ctx context.Context, text string) string {
	var known []string
	if rev, err := e.Store.LatestRevision(ctx); err == nil {
		known = append(known, rev.Text)
	}
	if d, err := e.Store.Draft(ctx); err == nil {
		known = append(known, d.Text)
	}
	return config.RestoreWebhooks(text, known...)
}

// triesOfEdit is how often an edit is made anew when others edit at once.
const triesOfEdit = 8

// Edit changes the draft. edit may be called again if somebody else changed it
// at the same time; it says in words what it did. With dry nothing is written.
func (e *Engine) Edit(ctx context.Context, who string, dry bool, edit func(*config.Document) (string, error)) (what string, err error) {
	for range triesOfEdit {
		d, doc, err := e.document(ctx)
		if err != nil {
			return "", err
		}
		what, err := edit(doc)
		if err != nil {
			return "", err
		}
		d.Text = config.RestoreWebhooks(doc.String(), d.Text)
		if _, err := config.Parse([]byte(d.Text)); err != nil {
			return "", err
		}
		if dry {
			return what, nil
		}
		if _, err = e.Store.SaveDraft(ctx, d, who, what); !errors.Is(err, store.ErrMoved) {
			return what, err
		}
	}
	return "", ErrMark
}

// ReplaceDraft takes a whole text for the draft, as an import does.
func (e *Engine) ReplaceDraft(ctx context.Context, who, text, what string) error {
	if _, err := config.Parse([]byte(text)); err != nil {
		return err
	}
	for range triesOfEdit {
		d, err := e.Store.Draft(ctx)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		rev, err := e.Store.LatestRevision(ctx)
		if err != nil {
			return err
		}
		d.Base, d.Text = rev.Number, text
		if _, err := e.Store.SaveDraft(ctx, d, who, what); !errors.Is(err, store.ErrMoved) {
			return err
		}
	}
	return ErrMark
}

// Draft is the state of the draft.
func (e *Engine) Draft(ctx context.Context, withYAML bool) (mail.Draft, error) {
	rev, err := e.Store.LatestRevision(ctx)
	if err != nil {
		return mail.Draft{}, err
	}
	out := mail.Draft{InForce: rev.Number, Changes: []config.Change{}, Log: []mail.DraftChange{}, Hazards: []config.Hazard{}}
	d, err := e.Store.Draft(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Exists, out.Base, out.Stale, out.Version, out.ChangedAt = true, d.Base, d.Base != rev.Number, d.Version, mail.At(d.ChangedAt)
	before, err := config.ParseDocument(rev.Text)
	if err != nil {
		return out, err
	}
	after, err := config.ParseDocument(d.Text)
	if err != nil {
		return out, err
	}
	out.Changes = config.Diff(before, after)
	if out.Log, err = e.Store.DraftChanges(ctx); err != nil {
		return out, err
	}
	if c, err := config.Parse([]byte(d.Text)); err == nil {
		out.Hazards = config.Compile(c, rev.Number, e.Config().Directory).Hazards()
	}
	if withYAML {
		out.YAML, err = YAMLDiff(before.String(), after.String(), fmt.Sprintf("revision %d", rev.Number), "draft")
	}
	return out, err
}

// YAMLDiff is the difference of two texts as a unified diff.
func YAMLDiff(a, b, nameA, nameB string) (string, error) {
	return difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: difflib.SplitLines(a), B: difflib.SplitLines(b), FromFile: nameA, ToFile: nameB, Context: 2})
}

// Discard forgets the draft.
func (e *Engine) Discard(ctx context.Context, who string) error {
	if _, err := e.Store.Draft(ctx); errors.Is(err, store.ErrNotFound) {
		return ErrNoDraft
	}
	e.Log.Info("draft discarded", "who", who)
	return e.Store.DropDraft(ctx)
}

// Rebase makes the draft's changes anew on what is in force now, and says which
// of them met a change of somebody else's; there the draft's word counts.
func (e *Engine) Rebase(ctx context.Context, who string) ([]string, error) {
	d, err := e.Store.Draft(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoDraft
	}
	if err != nil {
		return nil, err
	}
	base, err := e.Store.Revision(ctx, d.Base)
	if err != nil {
		return nil, err
	}
	rev, err := e.Store.LatestRevision(ctx)
	if err != nil {
		return nil, err
	}
	var docs [3]*config.Document
	for i, text := range []string{base.Text, d.Text, rev.Text} {
		if docs[i], err = config.ParseDocument(text); err != nil {
			return nil, err
		}
	}
	met := config.Replay(config.Diff(docs[0], docs[1]), docs[2])
	d.Base, d.Text = rev.Number, docs[2].String()
	if _, err := config.Parse([]byte(d.Text)); err != nil {
		return nil, err
	}
	if _, err := e.Store.SaveDraft(ctx, d, who, fmt.Sprintf("rebased on revision %d", rev.Number)); err != nil {
		if errors.Is(err, store.ErrMoved) {
			return nil, ErrMark
		}
		return nil, err
	}
	return met, nil
}

// Compiled is the draft as it would be in force.
func (e *Engine) compiledDraft(ctx context.Context) (store.Draft, *config.Compiled, error) {
	d, err := e.Store.Draft(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return d, nil, ErrNoDraft
	}
	if err != nil {
		return d, nil, err
	}
	c, err := config.Parse([]byte(d.Text))
	if err != nil {
		return d, nil, err
	}
	dir := e.Config().Directory
	if len(c.Mailboxes)+len(c.Aliases) > 0 { // they will be there when it is in force
		dir = dir.Clone()
		for i := range c.Mailboxes {
			dir.Put(&c.Mailboxes[i])
		}
		for i := range c.Aliases {
			dir.PutAlias(&c.Aliases[i])
		}
	}
	return d, config.Compile(c, d.Base, dir), nil
}

// rehearsalPage is how many envelopes are read at once.
const rehearsalPage = 500

// Rehearse replays the last messages, as many of the waiting ones, and what this
// node refused lately, through what is in force and the draft. progress is told of parts between 0 and 1.
func (e *Engine) Rehearse(ctx context.Context, messages int, progress func(float64)) (rehearse.Report, error) {
	_, draft, err := e.compiledDraft(ctx)
	if err != nil {
		return rehearse.Report{}, err
	}
	return e.rehearse(ctx, draft, messages, progress)
}

func (e *Engine) rehearse(ctx context.Context, draft *config.Compiled, messages int, progress func(float64)) (rehearse.Report, error) {
	r := rehearse.New(e.Config(), draft)
	for _, refused := range e.Receive.Refused() {
		r.Add(refused)
	}
	done := 0
	for before := ident.ID(0); done < messages; {
		page, err := e.Store.RecentEnvelopes(ctx, before, min(rehearsalPage, messages-done))
		if err != nil {
			return rehearse.Report{}, err
		}
		for _, m := range page {
			r.Add(envelopeOf(m))
			before = m.ID
		}
		done += len(page)
		progress(0.5 * float64(done) / float64(messages))
		if len(page) < rehearsalPage {
			break
		}
	}
	after := mail.DeliveryID{}
	for waiting := 0; waiting < messages; {
		page, err := e.Store.PlannedBefore(ctx, 1<<30, after, rehearsalPage)
		if err != nil {
			return rehearse.Report{}, err
		}
		for i := range page {
			d := &page[i]
			to, err := address.Parse(d.Delivery.Recipient)
			if err != nil {
				continue
			}
			r.Add(rehearse.Envelope{Envelope: queue.Envelope(d.Sender, d.Account, d.Client, d.Listener, d.Size), ID: d.Delivery.ID().String(), Recipients: []address.Address{to}, Waiting: true})
			after = d.Delivery.ID()
		}
		waiting += len(page)
		progress(0.5 + 0.5*float64(waiting)/float64(messages))
		if len(page) < rehearsalPage {
			break
		}
	}
	progress(1)
	return r.Report(), nil
}

func envelopeOf(m store.Envelope) rehearse.Envelope {
	e := rehearse.Envelope{Envelope: queue.Envelope(m.Sender, m.Account, m.Client, m.Listener, m.Size), ID: m.ID.String()}
	for _, text := range m.Recipients {
		if strings.EqualFold(text, "postmaster") {
			e.Recipients = append(e.Recipients, address.Address{Local: "postmaster"})
		} else if a, err := address.Parse(text); err == nil {
			e.Recipients = append(e.Recipients, a)
		}
	}
	return e
}

// Apply is how a draft is applied.
type Apply struct {
	Force         bool
	Why           string
	ConfirmWithin time.Duration // 0 asks for no confirmation
	Version       int64         // of the draft that was seen; 0 does not ask
}

// messagesOfApply is how many envelopes an apply rehearses with.
const messagesOfApply = 2000

// Apply puts the draft in force, if its rehearsal finds nothing dangerous.
func (e *Engine) Apply(ctx context.Context, who string, a Apply) (mail.Applied, error) {
	d, draft, err := e.compiledDraft(ctx)
	if err != nil {
		return mail.Applied{}, err
	}
	switch {
	case a.Version != 0 && a.Version != d.Version:
		return mail.Applied{}, ErrMark
	case d.Base != e.Config().Revision:
		return mail.Applied{}, ErrStale
	case a.Force && strings.TrimSpace(a.Why) == "":
		return mail.Applied{}, ErrNoWhy
	}
	report, err := e.rehearse(ctx, draft, messagesOfApply, func(float64) {})
	if err != nil {
		return mail.Applied{}, err
	}
	if len(report.Blocks) > 0 && !a.Force {
		return mail.Applied{}, &Blocked{report.Blocks}
	}
	n := store.NewRevision{Who: who, Why: a.Why, Base: d.Base, Draft: d.Version, Forced: a.Force && len(report.Blocks) > 0}
	if n.Text, err = config.SplitDirectory(d.Text); err != nil {
		return mail.Applied{}, err
	}
	if n.Directory, err = e.directoryOf(ctx, who, draft, draft.Config); err != nil {
		return mail.Applied{}, err
	}
	if a.ConfirmWithin > 0 {
		by := time.Now().Add(a.ConfirmWithin)
		n.ConfirmBy = &by
	}
	return e.record(ctx, n)
}

// Revert goes back to a revision.
func (e *Engine) Revert(ctx context.Context, who string, number int, why string) (mail.Applied, error) {
	rev, err := e.Store.Revision(ctx, number)
	if err != nil {
		return mail.Applied{}, err
	}
	if _, err := config.ParseStored([]byte(rev.Text)); err != nil {
		return mail.Applied{}, err
	}
	return e.record(ctx, store.NewRevision{Who: who, Why: why, Text: rev.Text, Reverts: number})
}

// goBack reverts a revision that nobody confirmed in time.
func (e *Engine) goBack(ctx context.Context) {
	number := e.Config().Revision
	rev, err := e.Store.Revision(ctx, number-1)
	if err == nil {
		_, err = e.record(ctx, store.NewRevision{Who: "gull serve", Why: fmt.Sprintf("revision %d was not confirmed in time", number), Text: rev.Text, Reverts: rev.Number, Base: number})
	}
	if err != nil && !errors.Is(err, store.ErrMoved) {
		e.Log.Error("the revision that was not confirmed could not be taken back", "revision", number, "error", err)
	}
}

// record puts a configuration on record and in force, here at once and on the
// other nodes as they hear of it.
func (e *Engine) record(ctx context.Context, n store.NewRevision) (mail.Applied, error) {
	number, says, err := e.Store.AddRevision(ctx, n)
	if errors.Is(err, store.ErrMoved) {
		return mail.Applied{}, ErrMark
	}
	if err != nil {
		return mail.Applied{}, err
	}
	out := mail.Applied{Revision: number, Directory: append([]string{}, says...), Trouble: []string{}}
	if n.Directory != nil || len(says) > 0 {
		if err := e.followDirectory(ctx, nil); err != nil {
			return out, err
		}
	}
	if err := e.followConfig(ctx); err != nil {
		return out, err
	}
	if t := e.Trouble(); t != "" {
		out.Trouble = strings.Split(t, "\n")
	}
	if err := e.regenerate(ctx, n.Who); err != nil {
		e.Log.Error("generated addresses could not be made", "error", err)
	}
	out.Rerouted, err = e.rerouteStranded(ctx)
	e.reroute()
	return out, err
}

// reroutePage is how many waiting deliveries are looked at in one step.
const reroutePage = 1000

// reroute plans waiting deliveries anew in the background, so that those whose
// way changed leave their lane at once.
func (e *Engine) reroute() {
	e.applyMu.Lock()
	if e.rerouting != nil {
		e.rerouting() // a later revision is in force
	}
	ctx, cancel := context.WithCancel(e.running)
	e.rerouting = cancel
	cfg := e.Config()
	e.applyMu.Unlock()
	go func() {
		defer cancel()
		after, moved := mail.DeliveryID{}, int64(0)
		for ctx.Err() == nil {
			page, err := e.Store.PlannedBefore(ctx, cfg.Revision, after, reroutePage)
			if err == nil {
				var n int64
				n, after, err = e.reroutePage(ctx, cfg, page, after)
				moved += n
			}
			if err != nil {
				if ctx.Err() == nil {
					e.Log.Error("waiting letters could not be planned anew; they will be at their next attempt", "error", err)
				}
				return
			}
			if len(page) < reroutePage {
				break
			}
		}
		if moved > 0 {
			e.Log.Info("waiting letters go another way", "deliveries", moved, "revision", cfg.Revision)
			e.Queue.Wake()
		}
	}()
}

// rerouteStranded sends on what waited for a route and has one now. What has none still
// is left alone: an attempt would find out nothing new.
func (e *Engine) rerouteStranded(ctx context.Context) (moved int64, err error) {
	cfg, after := e.Config(), mail.DeliveryID{}
	for {
		page, err := e.Store.Stranded(ctx, config.RouteNone, after, reroutePage)
		if err != nil {
			return moved, err
		}
		var n int64
		if n, after, err = e.reroutePage(ctx, cfg, page, after); err != nil {
			return moved, err
		}
		if moved += n; len(page) < reroutePage {
			break
		}
	}
	if moved > 0 {
		e.Queue.Wake()
	}
	return moved, nil
}

func (e *Engine) reroutePage(ctx context.Context, cfg *config.Compiled, page []store.Due, after mail.DeliveryID) (int64, mail.DeliveryID, error) {
	var moved []*mail.Delivery
	for i := range page {
		d := &page[i].Delivery
		after = d.ID()
		leg, fault, ok := queue.Plan(cfg, &page[i])
		if !ok || fault != nil || ident.ID(leg.Lane()) == d.LaneID {
			continue
		}
		d.LaneID, d.Route, d.NextHop, d.RouteWhy, d.Revision = ident.ID(leg.Lane()), leg.Route.Name, leg.NextHop, leg.Why, cfg.Revision
		moved = append(moved, d)
	}
	n, err := e.Store.Reroute(ctx, moved)
	return n, after, err
}

// regenerate makes the generated addresses that the patterns in force ask for.
func (e *Engine) regenerate(ctx context.Context, who string) error {
	cfg := e.Config()
	var change store.DirectoryChange
	scratch := cfg.Directory.Clone()
	for _, m := range cfg.Directory.Mailboxes() {
		d := cfg.Domain(m.Address.Domain)
		if d == nil || len(d.Generated)+len(m.Generated) == 0 {
			continue
		}
		fresh := *m
		fresh.Generated = scratch.Generate(m, d.Generated)
		if !sameAddresses(fresh.Generated, m.Generated) {
			scratch.Put(&fresh)
			change.Mailboxes = append(change.Mailboxes, &fresh)
		}
	}
	if len(change.Mailboxes) == 0 {
		return nil
	}
	change.Who = who
	change.Records = []store.Record{{What: "mailbox", Name: "generated addresses", After: map[string]any{"mailboxes": len(change.Mailboxes)}}}
	return e.changeDirectory(ctx, change)
}

func sameAddresses(a, b []address.Address) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].Key() != b[i].Key() {
			return false
		}
	}
	return true
}

// changeDirectory writes a change and follows it here at once.
func (e *Engine) changeDirectory(ctx context.Context, c store.DirectoryChange) error {
	if err := e.Store.ChangeDirectory(ctx, c); err != nil {
		return err
	}
	dir := e.Config().Directory
	for _, m := range c.Mailboxes {
		kept := *m
		kept.Password, kept.Hash, kept.Scram = "", "", ""
		dir.Put(&kept)
	}
	for _, a := range c.Aliases {
		dir.PutAlias(a)
	}
	for _, k := range c.DropMailboxes {
		dir.RemoveKey(k)
	}
	for _, k := range c.DropAliases {
		dir.RemoveAliasKey(k)
	}
	return nil
}

// Confirm keeps a revision that would go back by itself. It reports false if it
// would not.
func (e *Engine) Confirm(ctx context.Context, number int) (bool, error) {
	ok, err := e.Store.Confirm(ctx, number)
	if ok {
		e.confirmBy.Store(nil)
		e.Log.Info("revision confirmed", "revision", number)
	}
	return ok, err
}
