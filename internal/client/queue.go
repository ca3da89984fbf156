package client

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/retry"
)

// QueueCalls are those on lanes and deliveries.
type QueueCalls struct{ *conn }

// Lanes lists one page of the lanes with mail waiting.
func (c QueueCalls) Lanes(ctx context.Context, filter url.Values) (api.LanePage, error) {
	return call[api.LanePage](ctx, c.conn, http.MethodGet, "/api/v1/lanes", filter, nil)
}

// LaneGroups sums up the lanes by route, host, cause or state.
func (c QueueCalls) LaneGroups(ctx context.Context, by string) ([]api.LaneGroup, error) {
	p, err := call[api.Page[api.LaneGroup]](ctx, c.conn, http.MethodGet, "/api/v1/lane-groups",
		url.Values{"by": {by}}, nil)
	return p.Items, err
}

// Lane is one lane with its last hour.
func (c QueueCalls) Lane(ctx context.Context, id string) (api.LaneDetail, error) {
	return call[api.LaneDetail](ctx, c.conn, http.MethodGet, "/api/v1/lanes/"+url.PathEscape(id),
		nil, nil)
}

// Act does something with messages.
func (c QueueCalls) Act(
	ctx context.Context,
	r api.ActionRequest,
	progress func(Progress),
) (api.Done, error) {
	text, err := json.Marshal(r)
	if err != nil {
		return api.Done{}, err
	}
	return streamedAs[api.Done](ctx, c.conn, "/api/v1/queue/act", nil, bytes.NewReader(text),
		"application/json", progress)
}

// Undo takes an action back.
func (c QueueCalls) Undo(
	ctx context.Context,
	id int64,
	why string,
	progress func(Progress),
) (api.Done, error) {
	text, err := json.Marshal(map[string]string{"why": why})
	if err != nil {
		return api.Done{}, err
	}
	return streamedAs[api.Done](ctx, c.conn, "/api/v1/actions/"+strconv.FormatInt(id, 10)+"/undo",
		nil, bytes.NewReader(text), "application/json", progress)
}

// Actions lists one page of what people did.
func (c QueueCalls) Actions(ctx context.Context, limit int) ([]mail.Action, error) {
	p, err := call[api.Page[mail.Action]](ctx, c.conn, http.MethodGet, "/api/v1/actions",
		url.Values{"limit": {strconv.Itoa(limit)}}, nil)
	return p.Items, err
}

// Pause stops something.
func (c QueueCalls) Pause(ctx context.Context, s api.StopRequest) (api.Done, error) {
	return call[api.Done](ctx, c.conn, http.MethodPost, "/api/v1/pauses", nil, s)
}

// Resume lets something go on.
func (c QueueCalls) Resume(ctx context.Context, s api.StopRequest) (api.Done, error) {
	return call[api.Done](ctx, c.conn, http.MethodPost, "/api/v1/resume", nil, s)
}

// Nodes lists the services on the database.
func (c QueueCalls) Nodes(ctx context.Context) ([]mail.Node, error) {
	p, err := call[api.Page[mail.Node]](ctx, c.conn, http.MethodGet, "/api/v1/nodes", nil, nil)
	return p.Items, err
}

// RestartNode lets a node end in order and begin anew.
func (c QueueCalls) RestartNode(ctx context.Context, name, why string) (api.Restarting, error) {
	return call[api.Restarting](ctx, c.conn, http.MethodPost,
		"/api/v1/nodes/"+url.PathEscape(name)+"/restart", nil, api.Restart{Why: why})
}

// Doctor looks at all that the node which answers runs on.
func (c QueueCalls) Doctor(ctx context.Context) (api.Doctor, error) {
	return call[api.Doctor](ctx, c.conn, http.MethodGet, "/api/v1/doctor", nil, nil)
}

// DoctorDatabase says what to change on the database server, whose memory is given in
// octets; 0 is not known.
func (c QueueCalls) DoctorDatabase(ctx context.Context, memory int64) (api.DatabaseCheck, error) {
	q := url.Values{}
	if memory > 0 {
		q.Set("memory", strconv.FormatInt(memory, 10))
	}
	return call[api.DatabaseCheck](ctx, c.conn, http.MethodGet, "/api/v1/doctor/database", q, nil)
}

// Upkeep says what ends or fills up by itself.
func (c QueueCalls) Upkeep(ctx context.Context) (api.Upkeep, error) {
	return call[api.Upkeep](ctx, c.conn, http.MethodGet, "/api/v1/upkeep", nil, nil)
}

// SchedulePreview plays a schedule through.
func (c QueueCalls) SchedulePreview(ctx context.Context, q url.Values) (retry.Preview, error) {
	return call[retry.Preview](ctx, c.conn, http.MethodGet, "/api/v1/schedule/preview", q, nil)
}

// Message is a message's header, structure and text.
func (c QueueCalls) Message(ctx context.Context, id string) (api.ContentView, error) {
	return call[api.ContentView](ctx, c.conn, http.MethodGet,
		"/api/v1/messages/"+url.PathEscape(id)+"/view", nil, nil)
}
