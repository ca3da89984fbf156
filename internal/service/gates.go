package service

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/gate"
)

// gateAPI serves what gates and lists have beyond their fields.
type gateAPI struct{ *Service }

func (s gateAPI) register(api huma.API) {
	huma.Register(api, read("lists", "/api/v1/lists",
		"Lists in force: how many entries, what refers to them, how their sources do"), s.lists)
	huma.Register(api, operation{}.post("list-ask", "/api/v1/lists/{name}/ask",
		"Whether a list in force has something"), s.ask)
	huma.Register(api, read("gate-proposals", "/api/v1/gate-proposals",
		"Usual wishes, as gates that can be added to the draft"), s.proposals)
	huma.Register(api, operation{}.post("gate-proposal-add", "/api/v1/gate-proposals/{key}",
		"Add a usual wish as a gate to the draft"), s.addProposal)
}

func (s gateAPI) lists(ctx context.Context, _ *struct{}) (*out[api.Page[api.ListState]], error) {
	items, err := s.Control.Gates.Lists(ctx)
	if err != nil {
		return nil, s.storeError(err, "list")
	}
	return &out[api.Page[api.ListState]]{api.Page[api.ListState]{Items: items}}, nil
}

func (s gateAPI) ask(_ context.Context, in *struct {
	Name string `path:"name"`
	Body api.ListQuestion
}) (*out[api.ListAnswer], error) {
	a, err := s.Control.Gates.Ask(in.Name, in.Body.Value)
	switch {
	case errors.Is(err, fault.ErrNotFound):
		return nil, huma.Error404NotFound("no list of that name is in force")
	case err != nil:
		return nil, huma.Error422UnprocessableEntity("value: " + err.Error())
	}
	return &out[api.ListAnswer]{a}, nil
}

func (s gateAPI) proposals(context.Context, *struct{}) (*out[api.Page[gate.Proposal]], error) {
	return &out[api.Page[gate.Proposal]]{api.Page[gate.Proposal]{Items: gate.Proposals}}, nil
}

func (s gateAPI) addProposal(ctx context.Context, in *struct {
	Key  string `path:"key"`
	Body api.ProposalChoice
}) (*out[api.Edited], error) {
	sec, _ := config.FindSection("gates")
	done, err := s.Control.Gates.AddProposal(ctx, signedIn(ctx).Name, in.Key, in.Body)
	switch {
	case errors.Is(err, fault.ErrNotFound):
		return nil, huma.Error404NotFound("there is no such proposal")
	case err != nil:
		return nil, draftAPI(s).setupError(err, sec, done.Item.Name)
	}
	return &out[api.Edited]{done}, nil
}
