package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"gullroute/internal/api"
	"gullroute/internal/core/review"
)

// ReviewsCalls are those on the review of the settings.
type ReviewsCalls struct{ *conn }

// Review lists the findings of the settings in force, or of the draft.
func (c ReviewsCalls) Review(ctx context.Context, draft bool) ([]review.Finding, error) {
	p, err := call[api.Page[review.Finding]](ctx, c.conn, http.MethodGet, "/api/v1/review",
		url.Values{"draft": {strconv.FormatBool(draft)}}, nil)
	return p.Items, err
}

// FixFinding fixes a finding.
func (c ReviewsCalls) FixFinding(ctx context.Context, key string) (api.Done, error) {
	return call[api.Done](ctx, c.conn, http.MethodPost, "/api/v1/review/fix", nil,
		map[string]any{"key": key})
}

// AcceptFinding lives with a finding, for a reason.
func (c ReviewsCalls) AcceptFinding(ctx context.Context, key, because string) error {
	return c.send(ctx, http.MethodPost, "/api/v1/review/accept",
		map[string]any{"key": key, "because": because})
}

// ReopenFinding takes such a decision back.
func (c ReviewsCalls) ReopenFinding(ctx context.Context, key string) error {
	return c.send(ctx, http.MethodPost, "/api/v1/review/reopen", map[string]any{"key": key})
}

// Bundle writes a support bundle, a zip archive.
func (c ReviewsCalls) Bundle(ctx context.Context, q url.Values, w io.Writer) error {
	return c.copy(ctx, "/api/v1/bundle", q, w)
}
