package service

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
)

// reputationAPI serves what is known and said of strangers.
type reputationAPI struct{ *Service }

func (s reputationAPI) register(api huma.API) {
	huma.Register(api, read("reputation", "/api/v1/reputation",
		"How strangers are weighed: lists and how they do, greylisting, exceptions"), s.state)
	huma.Register(api, read("reputation-of", "/api/v1/reputation/{about}",
		"What is known of an IP address or a domain: lists, names, what we saw of it"), s.look)
	huma.Register(
		api,
		operation{}.post("reputation-except", "/api/v1/reputation/exceptions",
			"Allow or deny a network, a sender or a recipient, for a time or for good"),
		s.except,
	)
	huma.Register(api, operation{}.post("reputation-forget", "/api/v1/reputation/forget",
		"Take an exception back"), s.forget)
}

func (s reputationAPI) state(ctx context.Context, _ *struct{}) (*out[api.Weighing], error) {
	x, err := s.Control.Reputation.State(ctx)
	if err != nil {
		return nil, s.storeError(err, "reputation")
	}
	return &out[api.Weighing]{x}, nil
}

func (s reputationAPI) look(ctx context.Context, in *struct {
	About string `path:"about" doc:"An IP address or a domain"`
}) (*out[api.Reputation], error) {
	x, err := s.Control.Reputation.Look(ctx, in.About)
	if err != nil {
		return nil, s.actionError(err)
	}
	return &out[api.Reputation]{x}, nil
}

func (s reputationAPI) except(
	ctx context.Context,
	in *struct{ Body api.ExceptionRequest },
) (*out[api.Done], error) {
	done, err := s.Control.Reputation.Except(ctx, signedIn(ctx).Name, in.Body)
	if err != nil {
		return nil, s.actionError(err)
	}
	return &out[api.Done]{done}, nil
}

func (s reputationAPI) forget(
	ctx context.Context,
	in *struct{ Body api.ExceptionRequest },
) (*out[api.Done], error) {
	done, err := s.Control.Reputation.Forget(ctx, signedIn(ctx).Name, in.Body)
	if err != nil {
		return nil, s.actionError(err)
	}
	return &out[api.Done]{done}, nil
}
