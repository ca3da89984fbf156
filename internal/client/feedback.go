package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

const feedbackPath = "/api/v1/feedback"

// FeedbackState is where reports of others are read, and how that goes.
func (c ProbesCalls) FeedbackState(ctx context.Context) (api.FeedbackState, error) {
	return call[api.FeedbackState](ctx, c.conn, http.MethodGet, feedbackPath, nil, nil)
}

// Feedback is what others report of a domain.
func (c ProbesCalls) Feedback(ctx context.Context, domain string, days int) (api.Feedback, error) {
	return call[api.Feedback](
		ctx,
		c.conn,
		http.MethodGet,
		feedbackPath+"/domains/"+url.PathEscape(
			domain,
		),
		url.Values{"days": {fmt.Sprint(days)}},
		nil,
	)
}

// FeedbackReports lists one page of the reports that were received.
func (c ProbesCalls) FeedbackReports(
	ctx context.Context,
	q url.Values,
) (api.Page[mail.FeedbackReport], error) {
	return call[api.Page[mail.FeedbackReport]](
		ctx,
		c.conn,
		http.MethodGet,
		feedbackPath+"/reports",
		q,
		nil,
	)
}

// NameSender names a sender in our name.
func (c ProbesCalls) NameSender(ctx context.Context, source, name string) error {
	return c.send(ctx, http.MethodPut,
		feedbackPath+"/sources/"+url.PathEscape(strings.Replace(source, "/", "-", 1)),
		map[string]string{"name": name})
}
