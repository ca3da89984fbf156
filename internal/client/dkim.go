package client

import (
	"context"
	"net/http"
	"net/url"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// KeysCalls are those on the keys that sign.
type KeysCalls struct{ *conn }

func keyPath(domain, selector, verb string) string {
	path := "/api/v1/dkim/" + url.PathEscape(domain) + "/" + url.PathEscape(selector)
	if verb != "" {
		path += "/" + verb
	}
	return path
}

// Keys lists keys that sign messages, of one domain or of all.
func (c KeysCalls) Keys(ctx context.Context, domain string) ([]mail.DKIMKey, error) {
	p, err := call[api.Page[mail.DKIMKey]](ctx, c.conn, http.MethodGet, "/api/v1/dkim",
		url.Values{"domain": {domain}}, nil)
	return p.Items, err
}

// Key reads one key.
func (c KeysCalls) Key(ctx context.Context, domain, selector string) (mail.DKIMKey, error) {
	return call[mail.DKIMKey](ctx, c.conn, http.MethodGet, keyPath(domain, selector, ""), nil, nil)
}

// MakeKey makes a key.
func (c KeysCalls) MakeKey(ctx context.Context, fields map[string]any) (mail.DKIMKey, error) {
	return call[mail.DKIMKey](ctx, c.conn, http.MethodPost, "/api/v1/dkim", nil, fields)
}

// DoKey does something to a key: check, use or retire.
func (c KeysCalls) DoKey(
	ctx context.Context,
	domain, selector, verb string,
	force bool,
) (mail.DKIMKey, error) {
	var body any
	if verb == "use" {
		body = map[string]any{"force": force}
	}
	return call[mail.DKIMKey](ctx, c.conn, http.MethodPost, keyPath(domain, selector, verb), nil,
		body)
}

// RemoveKey forgets a key.
func (c KeysCalls) RemoveKey(ctx context.Context, domain, selector string) error {
	return c.send(ctx, http.MethodDelete, keyPath(domain, selector, ""), nil)
}
