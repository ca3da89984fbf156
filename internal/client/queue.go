package client

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/retry"
)

// QueueCalls are those on lanes and deliveries.
type QueueCalls struct{ *conn }

// Lanes is one page of lanes.
type Lanes struct {
	Page[mail.Lane]
	Total   int          `json:"total"`
	Verdict mail.Verdict `json:"verdict"`
	Pauses  []mail.Pause `json:"pauses"`
}

// Lanes lists one page of the lanes with mail waiting.
func (c QueueCalls) Lanes(ctx context.Context, filter url.Values) (Lanes, error) {
	return call[Lanes](ctx, c.conn, http.MethodGet, "/api/v1/lanes", filter, nil)
}

// LaneGroups sums up the lanes by route, host, cause or state.
func (c QueueCalls) LaneGroups(ctx context.Context, by string) ([]mail.LaneGroup, error) {
	p, err := call[Page[mail.LaneGroup]](ctx, c.conn, http.MethodGet, "/api/v1/lane-groups",
		url.Values{"by": {by}}, nil)
	return p.Items, err
}

// Lane is one lane with its last hour.
func (c QueueCalls) Lane(ctx context.Context, id string) (mail.LaneDetail, error) {
	return call[mail.LaneDetail](ctx, c.conn, http.MethodGet, "/api/v1/lanes/"+url.PathEscape(id),
		nil, nil)
}

// Act does something with messages.
func (c QueueCalls) Act(
	ctx context.Context,
	r mail.ActionRequest,
	progress func(Progress),
) (mail.Done, error) {
	text, err := json.Marshal(r)
	if err != nil {
		return mail.Done{}, err
	}
	return streamedAs[mail.Done](ctx, c.conn, "/api/v1/queue/act", nil, bytes.NewReader(text),
		"application/json", progress)
}

// Undo takes an action back.
func (c QueueCalls) Undo(
	ctx context.Context,
	id int64,
	why string,
	progress func(Progress),
) (mail.Done, error) {
	text, err := json.Marshal(map[string]string{"why": why})
	if err != nil {
		return mail.Done{}, err
	}
	return streamedAs[mail.Done](ctx, c.conn, "/api/v1/actions/"+strconv.FormatInt(id, 10)+"/undo",
		nil, bytes.NewReader(text), "application/json", progress)
}

// Actions lists one page of what people did.
func (c QueueCalls) Actions(ctx context.Context, limit int) ([]mail.Action, error) {
	p, err := call[Page[mail.Action]](ctx, c.conn, http.MethodGet, "/api/v1/actions",
		url.Values{"limit": {strconv.Itoa(limit)}}, nil)
	return p.Items, err
}

// Stop is something to be paused or to go on.
type Stop struct {
	Kind string `json:"kind"`
	Name string `json:"name,omitempty"`
	Why  string `json:"why,omitempty"`
	For  string `json:"for,omitempty"`
}

// Pause stops something.
func (c QueueCalls) Pause(ctx context.Context, s Stop) (mail.Done, error) {
	return call[mail.Done](ctx, c.conn, http.MethodPost, "/api/v1/pauses", nil, s)
}

// Resume lets something go on.
func (c QueueCalls) Resume(ctx context.Context, s Stop) (mail.Done, error) {
	return call[mail.Done](ctx, c.conn, http.MethodPost, "/api/v1/resume", nil, s)
}

// Nodes lists the services on the database.
func (c QueueCalls) Nodes(ctx context.Context) ([]mail.Node, error) {
	p, err := call[Page[mail.Node]](ctx, c.conn, http.MethodGet, "/api/v1/nodes", nil, nil)
	return p.Items, err
}

// SchedulePreview plays a schedule through.
func (c QueueCalls) SchedulePreview(ctx context.Context, q url.Values) (retry.Preview, error) {
	return call[retry.Preview](ctx, c.conn, http.MethodGet, "/api/v1/schedule/preview", q, nil)
}

// Message is a message's header, structure and text.
func (c QueueCalls) Message(ctx context.Context, id string) (mail.ContentView, error) {
	return call[mail.ContentView](ctx, c.conn, http.MethodGet,
		"/api/v1/messages/"+url.PathEscape(id)+"/view", nil, nil)
}
