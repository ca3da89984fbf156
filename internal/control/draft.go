package control

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"

	"github.com/pmezard/go-difflib/difflib"

	"gullroute/internal/api"
	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rehearse"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// The errors of changing the configuration.
var (
	ErrNoDraft = errors.New("there is no draft: nothing was changed since the last apply")
	ErrStale   = errors.New(
		"another revision came into force since the draft was begun; rebase it: gull draft rebase",
	)
	ErrMark = errors.New(
		"somebody changed it meanwhile; look at it again and make your change anew",
	)
	ErrNoWhy = errors.New("force needs a reason: say why with --why")
)

// Blocked reports that a draft is applied only by force.
type Blocked struct{ Why []string }

// Error is all the reasons.
func (b *Blocked) Error() string {
	return "this draft is not applied without force:\n  " + strings.Join(b.Why, "\n  ")
}

// Drafts collects changes of the configuration, rehearses them and puts them in force.
type Drafts struct {
	Revisions store.Revisions
	Messages  store.Messages
	Waiting   store.Queue
	Directory *Directory
	InForce   *inforce.State
	Rerouter  *Rerouter
	Refused   func() []rehearse.Envelope // that listeners refused lately
	Log       *slog.Logger
}

// document is what is edited: the draft, or what is in force if there is none.
func (s *Drafts) document(ctx context.Context) (store.Draft, *config.Document, error) {
	d, err := s.Revisions.Draft(ctx)
	if errors.Is(err, fault.ErrNotFound) {
		rev, err := s.Revisions.LatestRevision(ctx)
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
func (s *Drafts) Items(
	ctx context.Context,
	section config.Section,
) (items []config.Item, draft bool, err error) {
	d, doc, err := s.document(ctx)
	if err != nil {
		return nil, false, err
	}
	return doc.Items(section), d.Version != 0, nil
}

// WithWebhooks is a text with the paths of webhooks that were left out where it was
// read, as the draft and what is in force have them.
func (s *Drafts) WithWebhooks(ctx context.Context, text string) string {
	var known []string
	if rev, err := s.Revisions.LatestRevision(ctx); err == nil {
		known = append(known, rev.Text)
	}
	if d, err := s.Revisions.Draft(ctx); err == nil {
		known = append(known, d.Text)
	}
	return config.RestoreWebhooks(text, known...)
}

// attemptsOfEdit is how often an edit is made anew when others edit at the same time.
const attemptsOfEdit = 8

// Edit changes the draft. edit may be called again if somebody else changed it
// at the same time; it says in words what it did. With dry nothing is written.
func (s *Drafts) Edit(
	ctx context.Context,
	who string,
	dry bool,
	edit func(*config.Document) (string, error),
) (what string, err error) {
	for range attemptsOfEdit {
		d, doc, err := s.document(ctx)
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
		if _, err = s.Revisions.SaveDraft(ctx, d, who, what); !errors.Is(err, store.ErrMoved) {
			return what, err
		}
	}
	return "", ErrMark
}

// ReplaceDraft takes a whole text for the draft, as an import does.
func (s *Drafts) ReplaceDraft(ctx context.Context, who, text, what string) error {
	if _, err := config.Parse([]byte(text)); err != nil {
		return err
	}
	for range attemptsOfEdit {
		d, err := s.Revisions.Draft(ctx)
		if err != nil && !errors.Is(err, fault.ErrNotFound) {
			return err
		}
		rev, err := s.Revisions.LatestRevision(ctx)
		if err != nil {
			return err
		}
		d.Base, d.Text = rev.Number, text
		if _, err := s.Revisions.SaveDraft(ctx, d, who, what); !errors.Is(err, store.ErrMoved) {
			return err
		}
	}
	return ErrMark
}

// State is the state of the draft.
func (s *Drafts) State(ctx context.Context, withYAML bool) (api.Draft, error) {
	rev, err := s.Revisions.LatestRevision(ctx)
	if err != nil {
		return api.Draft{}, err
	}
	out := api.Draft{
		InForce: rev.Number,
		Changes: []config.Change{},
		Log:     []mail.DraftChange{},
		Hazards: []config.Hazard{},
	}
	d, err := s.Revisions.Draft(ctx)
	if errors.Is(err, fault.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Exists, out.Base, out.Stale, out.Version, out.ChangedAt = true, d.Base,
		d.Base != rev.Number, d.Version, mail.At(d.ChangedAt)
	before, err := config.ParseDocument(rev.Text)
	if err != nil {
		return out, err
	}
	after, err := config.ParseDocument(d.Text)
	if err != nil {
		return out, err
	}
	out.Changes = config.Diff(before, after)
	if out.Log, err = s.Revisions.DraftChanges(ctx); err != nil {
		return out, err
	}
	if c, err := config.Parse([]byte(d.Text)); err == nil {
		out.Hazards = config.Compile(c, rev.Number, s.InForce.Config().Directory).Hazards()
	}
	if withYAML {
		out.YAML, err = YAMLDiff(before.String(), after.String(),
			fmt.Sprintf("revision %d", rev.Number), "draft")
	}
	return out, err
}

// YAMLDiff is the difference of two texts as a unified diff.
func YAMLDiff(a, b, nameA, nameB string) (string, error) {
	return difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
		A:        difflib.SplitLines(a),
		B:        difflib.SplitLines(b),
		FromFile: nameA,
		ToFile:   nameB,
		Context:  2,
	})
}

// Discard sets the draft aside, if it is still of the version that was seen; 0 is any.
func (s *Drafts) Discard(ctx context.Context, who string, version int64) error {
	if _, err := s.Revisions.Draft(ctx); errors.Is(err, fault.ErrNotFound) {
		return ErrNoDraft
	}
	s.Log.Info("draft discarded", "who", who)
	err := s.Revisions.DiscardDraft(ctx, who, version)
	if errors.Is(err, store.ErrMoved) {
		return ErrMark
	}
	return err
}

// TakeBack makes the draft that was discarded last the draft again, if there is no other.
func (s *Drafts) TakeBack(ctx context.Context, who string) error {
	d, err := s.Revisions.Discarded(ctx)
	if errors.Is(err, fault.ErrNotFound) {
		return ErrNoDraft
	}
	if err != nil {
		return err
	}
	_, err = s.Revisions.SaveDraft(ctx, d, who, "the discarded draft is taken back")
	if errors.Is(err, store.ErrMoved) {
		return ErrMark
	}
	return err
}

// Rebase makes the draft's changes anew on what is in force now, and says which
// of them met a change of somebody else's; there the draft's word counts.
func (s *Drafts) Rebase(ctx context.Context, who string) ([]string, error) {
	d, err := s.Revisions.Draft(ctx)
	if errors.Is(err, fault.ErrNotFound) {
		return nil, ErrNoDraft
	}
	if err != nil {
		return nil, err
	}
	base, err := s.Revisions.Revision(ctx, d.Base)
	if err != nil {
		return nil, err
	}
	rev, err := s.Revisions.LatestRevision(ctx)
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
	if _, err := s.Revisions.SaveDraft(
		ctx,
		d,
		who,
		fmt.Sprintf("rebased on revision %d", rev.Number),
	); err != nil {
		if errors.Is(err, store.ErrMoved) {
			return nil, ErrMark
		}
		return nil, err
	}
	return met, nil
}

// Compiled is the draft as it would be in force.
func (s *Drafts) Compiled(ctx context.Context) (store.Draft, *config.Compiled, error) {
	d, err := s.Revisions.Draft(ctx)
	if errors.Is(err, fault.ErrNotFound) {
		return d, nil, ErrNoDraft
	}
	if err != nil {
		return d, nil, err
	}
	c, err := config.Parse([]byte(d.Text))
	if err != nil {
		return d, nil, err
	}
	dir := s.InForce.Config().Directory
	if len(c.Mailboxes)+len(c.Aliases) > 0 { // they will be there when it is in force
		dir = dir.Clone()
		for i := range c.Mailboxes {
			dir.Put(&c.Mailboxes[i])
		}
		for i := range c.Aliases {
			dir.PutAlias(&c.Aliases[i])
		}
	}
	compiled := config.Compile(c, d.Base, dir)
	compiled.CarryLists(s.InForce.Config())
	return d, compiled, nil
}

// Latest is the revision in force, as it was written.
func (s *Drafts) Latest(ctx context.Context) (mail.Revision, error) {
	return s.Revisions.LatestRevision(ctx)
}

// Revision is one revision.
func (s *Drafts) Revision(ctx context.Context, number int) (mail.Revision, error) {
	return s.Revisions.Revision(ctx, number)
}

// History lists revisions, newest first.
func (s *Drafts) History(ctx context.Context, after, limit int) ([]mail.Revision, error) {
	return s.Revisions.List(ctx, after, limit)
}
