package control

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/review"
)

// Finding is the one of a key, in the draft.
func (s *Fixer) Finding(ctx context.Context, key string) (review.Finding, error) {
	list, err := s.ReviewDraft(ctx)
	if err != nil {
		return review.Finding{}, err
	}
	i := slices.IndexFunc(list, func(w review.Finding) bool { return w.Key == key })
	if i < 0 {
		return review.Finding{}, fault.ErrNotFound
	}
	return list[i], nil
}

// FixFinding does what fixes a finding. What concerns the configuration goes into
// the draft; an alias takes effect immediately.
func (s *Fixer) FixFinding(ctx context.Context, who, key string) (api.Done, error) {
	w, err := s.Finding(ctx, key)
	if err != nil {
		return api.Done{}, err
	}
	m := w.Fix
	if m == nil {
		return api.Done{}, fault.Refuse("key", "this is fixed by hand: %s", w.ByHand)
	}
	if m.Section == "aliases" {
		return s.fixByAlias(ctx, who, m)
	}
	what, err := s.Drafts.Edit(ctx, who, false, func(d *config.Document) (string, error) {
		words := strings.ToLower(m.Says[:1]) + m.Says[1:]
		if w.Where != "the server" {
			words = w.Where + ": " + words
		}
		if m.Add {
			return words, d.Add(section(m.Section), m.Fields, 0)
		}
		if m.Remove {
			return words, d.Remove(section(m.Section), m.Name)
		}
		return words, d.Set(section(m.Section), m.Name, m.Fields, false)
	})
	if err != nil {
		return api.Done{}, err
	}
	return api.Done{
		Text: "In the draft now: " + what + "; rehearse and apply it (gull draft rehearse, gull " +
			"draft apply)",
	}, nil
}

func (s *Fixer) fixByAlias(ctx context.Context, who string, m *review.Remedy) (api.Done, error) {
	a := &directory.Alias{About: "from the review of the settings"}
	var err error
	if a.Address, err = address.Parse(m.Name); err != nil {
		return api.Done{}, err
	}
	for _, text := range words(m.Fields["to"]) {
		to, err := address.Parse(fmt.Sprint(text))
		if err != nil {
			return api.Done{}, err
		}
		a.To = append(a.To, to)
	}
	if err := s.Directory.PutAlias(ctx, who, a, true, false); err != nil {
		return api.Done{}, err
	}
	return api.Done{
		Text: fmt.Sprintf("%s goes on to %s now", a.Address.Display(), a.To[0].Display()),
	}, nil
}

// ReviewDraft are the findings in the draft, in what is in force if there is none.
func (s *Fixer) ReviewDraft(ctx context.Context) ([]review.Finding, error) {
	_, draft, err := s.Drafts.Compiled(ctx)
	if errors.Is(err, ErrNoDraft) {
		draft, err = s.InForce.Config(), nil
	}
	if err != nil {
		return nil, err
	}
	return s.Review.Review(ctx, draft)
}
