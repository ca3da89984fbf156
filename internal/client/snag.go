package client

import (
	"context"
	"net/http"
	"net/url"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/snag"
)

// SnagPage is a page of troubles.
type SnagPage struct {
	Items  []snag.Snag    `json:"items"`
	Next   string         `json:"next"`
	Counts map[string]int `json:"counts"`
}

// Snags lists one page of troubles.
func (c *Client) Snags(ctx context.Context, filter url.Values) (SnagPage, error) {
	return call[SnagPage](ctx, c, http.MethodGet, "/api/v1/snags", filter, nil)
}

// Snag reads one trouble.
func (c *Client) Snag(ctx context.Context, id string) (snag.Snag, error) {
	return call[snag.Snag](ctx, c, http.MethodGet, "/api/v1/snags/"+url.PathEscape(id), nil, nil)
}

// MendSnag does one of the things that are offered.
func (c *Client) MendSnag(ctx context.Context, id string, o snag.Order) (mail.Done, error) {
	return call[mail.Done](ctx, c, http.MethodPost, "/api/v1/snags/"+url.PathEscape(id)+"/mend", nil, o)
}

// ChangeSnag notes something, takes it on or mutes it.
func (c *Client) ChangeSnag(ctx context.Context, id string, change map[string]any) (snag.Snag, error) {
	return call[snag.Snag](ctx, c, http.MethodPatch, "/api/v1/snags/"+url.PathEscape(id), nil, change)
}
