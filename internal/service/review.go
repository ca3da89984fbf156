package service

import (
	"context"
	"errors"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/review"
)

// reviewAPI serves the review of the settings.
type reviewAPI struct{ *Service }

func (s reviewAPI) register(api huma.API) {
	op := operation{}
	huma.Register(api, read("review", "/api/v1/review", "Findings of the settings, worst first"),
		s.review)
	huma.Register(api,
		read("upkeep", "/api/v1/upkeep", "What ends or fills up by itself, and when"), s.upkeep)
	huma.Register(
		api,
		op.post("review-fix", "/api/v1/review/fix",
			"Fix a finding: into the draft, or immediately for aliases"),
		s.fixFinding,
	)
	huma.Register(api,
		op.post("review-accept", "/api/v1/review/accept", "Live with a finding, for a reason"),
		s.acceptFinding)
	huma.Register(api,
		op.post("review-reopen", "/api/v1/review/reopen", "Take such a decision back"),
		s.reopenFinding)
}

func (s reviewAPI) review(ctx context.Context, in *struct {
	Draft bool `query:"draft" doc:"Of the draft, not of what is in force"`
}) (*out[api.ReviewPage], error) {
	var list []review.Finding
	var err error
	if in.Draft {
		list, err = s.Control.Fixer.ReviewDraft(ctx)
	} else {
		list, err = s.Insight.Reviewer.Review(ctx, s.InForce.Config())
	}
	if err != nil {
		return nil, s.storeError(err, "review")
	}
	return &out[api.ReviewPage]{api.ReviewPage{Items: list, Rules: review.Rules()}}, nil
}

func (s reviewAPI) upkeep(ctx context.Context, _ *struct{}) (*out[api.Upkeep], error) {
	u, err := s.Insight.Reviewer.Upkeep(ctx)
	if err != nil {
		return nil, s.storeError(err, "upkeep")
	}
	return &out[api.Upkeep]{u}, nil
}

// findingKey names a finding.
type findingKey struct {
	Key string `json:"key" minLength:"1" maxLength:"500"`
}

func (s reviewAPI) findingError(err error) error {
	var bad *fault.Refused
	switch {
	case errors.Is(err, fault.ErrNotFound):
		return huma.Error404NotFound("there is no such finding (any more); gull review lists them")
	case errors.As(err, &bad):
		return huma.Error409Conflict(bad.Text)
	case errors.Is(err, control.ErrMark), errors.Is(err, fault.ErrExists):
		return huma.Error409Conflict(err.Error())
	}
	return s.storeError(err, "finding")
}

func (s reviewAPI) fixFinding(
	ctx context.Context,
	in *struct{ Body findingKey },
) (*out[api.Done], error) {
	done, err := s.Control.Fixer.FixFinding(ctx, signedIn(ctx).Name, in.Body.Key)
	if err != nil {
		return nil, s.findingError(err)
	}
	return &out[api.Done]{done}, nil
}

func (s reviewAPI) acceptFinding(ctx context.Context, in *struct {
	Body struct {
		Key     string `json:"key" minLength:"1" maxLength:"500"`
		Because string `json:"because" minLength:"3" maxLength:"500"`
	}
}) (*struct{}, error) {
	if strings.TrimSpace(in.Body.Because) == "" {
		return nil, huma.Error422UnprocessableEntity(
			"because: say why, for those who come after you",
		)
	}
	if _, err := s.Control.Fixer.Finding(ctx, in.Body.Key); err != nil {
		return nil, s.findingError(err)
	}
	if err := s.Insight.Reviewer.Accept(
		ctx,
		signedIn(ctx).Name,
		in.Body.Key,
		strings.TrimSpace(in.Body.Because),
	); err != nil {
		return nil, s.storeError(err, "finding")
	}
	return nil, nil
}

func (s reviewAPI) reopenFinding(
	ctx context.Context,
	in *struct{ Body findingKey },
) (*struct{}, error) {
	if err := s.Insight.Reviewer.Reopen(ctx, signedIn(ctx).Name, in.Body.Key); err != nil {
		return nil, s.findingError(err)
	}
	return nil, nil
}
