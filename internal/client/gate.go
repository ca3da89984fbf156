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

// GateTemplates are usual wishes.
func (c SetupCalls) GateTemplates(ctx context.Context) (api.Page[gate.Template], error) {
	return call[api.Page[gate.Template]](ctx, c.conn, http.MethodGet, "/api/v1/gate-templates", nil, nil)
}

// AddGateTemplate adds one to the draft.
func (c SetupCalls) AddGateTemplate(
	ctx context.Context,
	key string,
	x api.TemplateChoice,
) (api.Edited, error) {
	return call[api.Edited](ctx, c.conn, http.MethodPost,
		"/api/v1/gate-templates/"+url.PathEscape(key), nil, x)
}
