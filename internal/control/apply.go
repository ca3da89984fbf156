package control

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/store"
)

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
func (s *Drafts) Apply(ctx context.Context, who string, a Apply) (api.Applied, error) {
	d, draft, err := s.Compiled(ctx)
	if err != nil {
		return api.Applied{}, err
	}
	switch {
	case a.Version != 0 && a.Version != d.Version:
		return api.Applied{}, ErrMark
	case d.Base != s.InForce.Config().Revision:
		return api.Applied{}, ErrStale
	case a.Force && strings.TrimSpace(a.Why) == "":
		return api.Applied{}, ErrNoWhy
	}
	report, err := s.rehearse(ctx, draft, messagesOfApply, func(float64) {})
	if err != nil {
		return api.Applied{}, err
	}
	if len(report.Blocks) > 0 && !a.Force {
		return api.Applied{}, &Blocked{report.Blocks}
	}
	n := store.NewRevision{
		Who:    who,
		Why:    a.Why,
		Base:   d.Base,
		Draft:  d.Version,
		Forced: a.Force && len(report.Blocks) > 0,
	}
	if n.Text, err = config.SplitDirectory(d.Text); err != nil {
		return api.Applied{}, err
	}
	if n.Directory, err = s.Directory.directoryOf(ctx, who, draft, draft.Config); err != nil {
		return api.Applied{}, err
	}
	if a.ConfirmWithin > 0 {
		by := time.Now().Add(a.ConfirmWithin)
		n.ConfirmBy = &by
	}
	return s.record(ctx, n)
}

// Revert goes back to a revision.
func (s *Drafts) Revert(
	ctx context.Context,
	who string,
	number int,
	why string,
) (api.Applied, error) {
	rev, err := s.Revisions.Revision(ctx, number)
	if err != nil {
		return api.Applied{}, err
	}
	if _, err := config.ParseStored([]byte(rev.Text)); err != nil {
		return api.Applied{}, err
	}
	return s.record(ctx, store.NewRevision{Who: who, Why: why, Text: rev.Text, Reverts: number})
}

// goBack reverts a revision that nobody confirmed in time.
func (s *Drafts) goBack(ctx context.Context) {
	number := s.InForce.Config().Revision
	rev, err := s.Revisions.Revision(ctx, number-1)
	if err == nil {
		_, err = s.record(ctx, store.NewRevision{
			Who:     "gull serve",
			Why:     fmt.Sprintf("revision %d was not confirmed in time", number),
			Text:    rev.Text,
			Reverts: rev.Number,
			Base:    number,
			// Somebody may have confirmed it a moment ago, and this node not heard of it.
			Unconfirmed: true,
		})
	}
	if err != nil && !errors.Is(err, store.ErrMoved) {
		s.Log.Error("the revision that was not confirmed could not be taken back",
			"revision", number, "error", err)
	}
}

// record puts a configuration on record and in force, here immediately and on the
// other nodes as they hear of it.
func (s *Drafts) record(ctx context.Context, n store.NewRevision) (api.Applied, error) {
	number, says, err := s.Revisions.AddRevision(ctx, n)
	if errors.Is(err, store.ErrMoved) {
		return api.Applied{}, ErrMark
	}
	if err != nil {
		return api.Applied{}, err
	}
	out := api.Applied{
		Revision:  number,
		Directory: append([]string{}, says...),
		Trouble:   []string{},
	}
	if n.Directory != nil || len(says) > 0 {
		if err := s.InForce.FollowDirectory(ctx, nil); err != nil {
			return out, err
		}
	}
	if err := s.InForce.FollowConfig(ctx); err != nil {
		return out, err
	}
	if t := s.InForce.Trouble(); t != "" {
		out.Trouble = strings.Split(t, "\n")
	}
	if err := s.Directory.regenerate(ctx, n.Who); err != nil {
		s.Log.Error("generated addresses could not be made", "error", err)
	}
	out.Rerouted, err = s.Rerouter.stranded(ctx)
	s.Rerouter.start()
	return out, err
}

// Confirm keeps a revision that would go back by itself. It reports false if it
// would not.
func (s *Drafts) Confirm(ctx context.Context, number int) (bool, error) {
	ok, err := s.Revisions.Confirm(ctx, number)
	if ok {
		s.InForce.Confirmed()
		s.Log.Info("revision confirmed", "revision", number)
	}
	return ok, err
}

// Adopt puts a whole text on record as the first configuration: what a server
// is begun with. It reports false if there is one already.
func (s *Drafts) Adopt(ctx context.Context, who, text string) (bool, error) {
	c, err := config.Parse([]byte(text))
	if err != nil {
		return false, err
	}
	if _, err := s.Revisions.LatestRevision(ctx); !errors.Is(err, fault.ErrNotFound) {
		return false, err
	}
	n := store.NewRevision{Who: who, Why: "the first start"}
	if n.Text, err = config.SplitDirectory(text); err != nil {
		return false, err
	}
	if n.Directory, err = s.Directory.directoryOf(
		ctx,
		who,
		config.Compile(c, 1, directory.New()),
		c,
	); err != nil {
		return false, err
	}
	_, _, err = s.Revisions.AddRevision(ctx, n)
	return true, err
}

// GoBackInTime goes back from a revision that nobody confirmed. Nothing that it waits for
// depends on the revision: it is what saves from a wrong one.
func (s *Drafts) GoBackInTime(ctx context.Context) error {
	if by := s.InForce.ConfirmBy(); !by.IsZero() && time.Now().After(by) {
		s.goBack(ctx)
	}
	return nil
}
