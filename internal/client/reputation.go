package client

import (
	"context"
	"net/http"
	"net/url"

	"gullroute/internal/api"
)

// StrangerCalls are those on what is known and said of strangers.
type StrangerCalls struct{ *conn }

// Weighing is how strangers are weighed.
func (c StrangerCalls) Weighing(ctx context.Context) (api.Weighing, error) {
	return call[api.Weighing](ctx, c.conn, http.MethodGet, "/api/v1/reputation", nil, nil)
}

// Reputation is what is known of an IP address or a domain.
func (c StrangerCalls) Reputation(ctx context.Context, about string) (api.Reputation, error) {
	return call[api.Reputation](ctx, c.conn, http.MethodGet,
		"/api/v1/reputation/"+url.PathEscape(about), nil, nil)
}

// Except allows or denies somebody.
func (c StrangerCalls) Except(ctx context.Context, r api.ExceptionRequest) (api.Done, error) {
	return call[api.Done](ctx, c.conn, http.MethodPost, "/api/v1/reputation/exceptions", nil, r)
}

// ForgetException takes an exception back.
func (c StrangerCalls) ForgetException(ctx context.Context, r api.ExceptionRequest) (api.Done, error) {
	return call[api.Done](ctx, c.conn, http.MethodPost, "/api/v1/reputation/forget", nil, r)
}
