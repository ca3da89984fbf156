package client

import (
	"context"
	"net/http"
	"net/url"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// TLSPolicies lists one page of the domains' policies that are known.
func (c ProbesCalls) TLSPolicies(
	ctx context.Context,
	q url.Values,
) (api.Page[mail.TLSPolicy], error) {
	return call[api.Page[mail.TLSPolicy]](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/tls-policies",
		q,
		nil,
	)
}

// CheckTLSPolicy asks a domain for its policy now.
func (c ProbesCalls) CheckTLSPolicy(
	ctx context.Context,
	domain string,
) (api.TLSPolicyChecked, error) {
	return call[api.TLSPolicyChecked](ctx, c.conn, http.MethodPost,
		"/api/v1/tls-policies/"+url.PathEscape(domain)+"/check", nil, nil)
}
