package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// PlanPublishing says what would be published for a domain, for some points of readiness or all.
func (c ProbesCalls) PlanPublishing(
	ctx context.Context,
	domain string,
	points []string,
) (api.PublishPlan, error) {
	return call[api.PublishPlan](ctx, c.conn, http.MethodPost,
		"/api/v1/readiness/"+url.PathEscape(domain)+"/publish/plan", nil,
		map[string]any{"points": points})
}

// Publish makes the plan that was seen.
func (c ProbesCalls) Publish(
	ctx context.Context,
	domain string,
	points []string,
	mark string,
) (api.PublishPlan, error) {
	return call[api.PublishPlan](ctx, c.conn, http.MethodPost,
		"/api/v1/readiness/"+url.PathEscape(domain)+"/publish", nil,
		map[string]any{"points": points, "mark": mark})
}

// DNSChanges lists one page of the records that we published.
func (c ProbesCalls) DNSChanges(
	ctx context.Context,
	q url.Values,
) (api.Page[mail.DNSChange], error) {
	return call[api.Page[mail.DNSChange]](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/dns-changes",
		q,
		nil,
	)
}

// TakeBackDNSChange puts back what stood there before.
func (c ProbesCalls) TakeBackDNSChange(ctx context.Context, id int64) (mail.DNSChange, error) {
	return call[mail.DNSChange](ctx, c.conn, http.MethodPost,
		fmt.Sprintf("/api/v1/dns-changes/%d/take-back", id), nil, nil)
}
