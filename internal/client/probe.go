package client

import (
	"context"
	"net/http"
	"net/url"

	"gullroute/internal/api"
	"gullroute/internal/core/probe"
	"gullroute/internal/core/readiness"
)

// ProbesCalls are those on probes and readiness.
type ProbesCalls struct{ *conn }

// Probe converses live with a host, or with our own listeners.
func (c ProbesCalls) Probe(ctx context.Context, order map[string]any) (probe.Probe, error) {
	return call[probe.Probe](ctx, c.conn, http.MethodPost, "/api/v1/probe", nil, order)
}

// AllReadiness is how ready our domains are, at the last check of each.
func (c ProbesCalls) AllReadiness(ctx context.Context) ([]readiness.Readiness, error) {
	p, err := call[api.Page[readiness.Readiness]](ctx, c.conn, http.MethodGet, "/api/v1/readiness", nil,
		nil)
	return p.Items, err
}

// Readiness is the last look at a domain, and what changed.
func (c ProbesCalls) Readiness(ctx context.Context, domain string) (readiness.Looks, error) {
	return call[readiness.Looks](ctx, c.conn, http.MethodGet,
		"/api/v1/readiness/"+url.PathEscape(domain), nil, nil)
}

// CheckReadiness looks at a domain now.
func (c ProbesCalls) CheckReadiness(
	ctx context.Context,
	domain string,
) (readiness.Readiness, error) {
	return call[readiness.Readiness](ctx, c.conn, http.MethodPost,
		"/api/v1/readiness/"+url.PathEscape(domain)+"/check", nil, nil)
}
