package client

import (
	"context"
	"net/http"
	"net/url"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// HeldCalls are those on what is held.
type HeldCalls struct{ *conn }

// Held is what is held, newest first.
func (c HeldCalls) Held(ctx context.Context, words url.Values) (api.Page[mail.HeldItem], error) {
	return call[api.Page[mail.HeldItem]](ctx, c.conn, http.MethodGet, "/api/v1/held", words, nil)
}

// ReleaseHeld lets held messages go on.
func (c HeldCalls) ReleaseHeld(ctx context.Context, r api.HeldRelease) (api.Done, error) {
	return call[api.Done](ctx, c.conn, http.MethodPost, "/api/v1/held/release", nil, r)
}
