package client

import (
	"context"
	"net/http"
	"net/url"

	"gullroute/internal/api"
	"gullroute/internal/core/snag"
)

// SnagsCalls are those on snags.
type SnagsCalls struct{ *conn }

// Snags lists one page of troubles.
func (c SnagsCalls) Snags(ctx context.Context, filter url.Values) (api.SnagPage, error) {
	return call[api.SnagPage](ctx, c.conn, http.MethodGet, "/api/v1/snags", filter, nil)
}

// Snag reads one trouble.
func (c SnagsCalls) Snag(ctx context.Context, id string) (snag.Snag, error) {
	return call[snag.Snag](ctx, c.conn, http.MethodGet, "/api/v1/snags/"+url.PathEscape(id), nil,
		nil)
}

// SnagStory is what has to do with a trouble, in order of time.
func (c SnagsCalls) SnagStory(ctx context.Context, id string) (snag.Story, error) {
	return call[snag.Story](ctx, c.conn, http.MethodGet,
		"/api/v1/snags/"+url.PathEscape(id)+"/story", nil, nil)
}

// FixSnag does one of the things that are offered.
func (c SnagsCalls) FixSnag(ctx context.Context, id string, o snag.Order) (api.Done, error) {
	return call[api.Done](ctx, c.conn, http.MethodPost, "/api/v1/snags/"+url.PathEscape(id)+"/fix",
		nil, o)
}

// ChangeSnag notes something, takes it on or mutes it.
func (c SnagsCalls) ChangeSnag(
	ctx context.Context,
	id string,
	change map[string]any,
) (snag.Snag, error) {
	return call[snag.Snag](ctx, c.conn, http.MethodPatch, "/api/v1/snags/"+url.PathEscape(id), nil,
		change)
}
