package client

import (
	"context"
	"net/http"
	"net/url"

	"gullroute/internal/api"
	"gullroute/internal/core/gate"
)

// Lists are the lists in force.
func (c SetupCalls) Lists(ctx context.Context) (api.Page[api.ListState], error) {
	return call[api.Page[api.ListState]](ctx, c.conn, http.MethodGet, "/api/v1/lists", nil, nil)
}

// AskList asks a list in force about a value.
func (c SetupCalls) AskList(ctx context.Context, name, value string) (api.ListAnswer, error) {
	return call[api.ListAnswer](ctx, c.conn, http.MethodPost,
		"/api/v1/lists/"+url.PathEscape(name)+"/ask", nil, api.ListQuestion{Value: value})
}

// GateProposals are usual wishes.
func (c SetupCalls) GateProposals(ctx context.Context) (api.Page[gate.Proposal], error) {
	return call[api.Page[gate.Proposal]](ctx, c.conn, http.MethodGet, "/api/v1/gate-proposals", nil, nil)
}

// AddGateProposal adds one to the draft.
func (c SetupCalls) AddGateProposal(
	ctx context.Context,
	key string,
	x api.ProposalChoice,
) (api.Edited, error) {
	return call[api.Edited](ctx, c.conn, http.MethodPost,
		"/api/v1/gate-proposals/"+url.PathEscape(key), nil, x)
}
