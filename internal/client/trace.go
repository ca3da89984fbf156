package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"gullroute/internal/api"
	"gullroute/internal/core/archive"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
)

// RecordsCalls are those on what happened.
type RecordsCalls struct{ *conn }

// Search finds messages and what was refused.
func (c RecordsCalls) Search(ctx context.Context, filter url.Values) (api.FoundPage, error) {
	return call[api.FoundPage](ctx, c.conn, http.MethodGet, "/api/v1/trace", filter, nil)
}

// Refusal reads one refusal.
func (c RecordsCalls) Refusal(
	ctx context.Context,
	id string,
	from url.Values,
) (api.RefusalView, error) {
	return call[api.RefusalView](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/refusals/"+url.PathEscape(id),
		from,
		nil,
	)
}

// Sessions lists one page of sessions.
func (c RecordsCalls) Sessions(
	ctx context.Context,
	filter url.Values,
) (api.Page[mail.Session], error) {
	return call[api.Page[mail.Session]](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/sessions",
		filter,
		nil,
	)
}

// Session reads one session.
func (c RecordsCalls) Session(
	ctx context.Context,
	id string,
	from url.Values,
) (api.SessionView, error) {
	return call[api.SessionView](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/sessions/"+url.PathEscape(id),
		from,
		nil,
	)
}

// Watches lists whose sessions are recorded in full.
func (c RecordsCalls) Watches(ctx context.Context) ([]mail.Watch, error) {
	p, err := call[api.Page[mail.Watch]](ctx, c.conn, http.MethodGet, "/api/v1/watches", nil, nil)
	return p.Items, err
}

// Watch begins or ends a watch.
func (c RecordsCalls) Watch(ctx context.Context, what, forTime string) (mail.Watch, error) {
	return call[mail.Watch](ctx, c.conn, http.MethodPost, "/api/v1/watches", nil,
		map[string]string{"what": what, "for": forTime})
}

// Report reads a report.
func (c RecordsCalls) Report(ctx context.Context, q url.Values) (api.TrafficReport, error) {
	return call[api.TrafficReport](ctx, c.conn, http.MethodGet, "/api/v1/report", q, nil)
}

// ReportTable reads counts by value of a dimension.
func (c RecordsCalls) ReportTable(
	ctx context.Context,
	dim string,
	q url.Values,
) ([]report.Row, error) {
	p, err := call[api.Page[report.Row]](ctx, c.conn, http.MethodGet,
		"/api/v1/report/tables/"+url.PathEscape(dim), q, nil)
	return p.Items, err
}

// Movers reads what changed most against the same time before.
func (c RecordsCalls) Movers(ctx context.Context, q url.Values) (api.Movers, error) {
	return call[api.Movers](ctx, c.conn, http.MethodGet, "/api/v1/report/movers", q, nil)
}

// Figure lists the messages behind a figure.
func (c RecordsCalls) Figure(ctx context.Context, q url.Values) (api.Page[report.Behind], error) {
	return call[api.Page[report.Behind]](ctx, c.conn, http.MethodGet,
		"/api/v1/report/messages", q, nil)
}

// ReportHTML copies a report as a page to print to w.
func (c RecordsCalls) ReportHTML(ctx context.Context, q url.Values, w io.Writer) error {
	return c.copy(ctx, "/api/v1/report.html", q, w)
}

// ExportLog copies an archive of a period to w.
func (c RecordsCalls) ExportLog(ctx context.Context, q url.Values, w io.Writer) error {
	return c.copy(ctx, "/api/v1/log/export", q, w)
}

func (c *conn) copy(ctx context.Context, path string, q url.Values, w io.Writer) error {
	resp, err := c.do(ctx, http.MethodGet, path, q, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(w, resp.Body)
	return err
}

// OpenLog opens an archive.
func (c RecordsCalls) OpenLog(ctx context.Context, name string, r io.Reader) (archive.Info, error) {
	var out archive.Info
	resp, err := c.doRaw(ctx, http.MethodPost, "/api/v1/archives", url.Values{"name": {name}}, r,
		"application/octet-stream")
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	return out, decode(resp.Body, &out)
}

// ArchivedDays are those on the machine of the node which answers.
func (c RecordsCalls) ArchivedDays(ctx context.Context) ([]api.ArchivedDay, error) {
	p, err := call[api.Page[api.ArchivedDay]](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/archived-days",
		nil,
		nil,
	)
	return p.Items, err
}

// OpenArchivedDay opens one.
func (c RecordsCalls) OpenArchivedDay(ctx context.Context, day string) (archive.Info, error) {
	return call[archive.Info](
		ctx,
		c.conn,
		http.MethodPost,
		"/api/v1/archived-days/"+url.PathEscape(day),
		nil,
		struct{}{},
	)
}

// Archives lists the opened archives, or that with a hash.
func (c RecordsCalls) Archives(ctx context.Context, hash string) ([]archive.Info, error) {
	var q url.Values
	if hash != "" {
		q = url.Values{"hash": {hash}}
	}
	p, err := call[api.Page[archive.Info]](ctx, c.conn, http.MethodGet, "/api/v1/archives", q, nil)
	return p.Items, err
}

// CloseLog forgets an opened archive.
func (c RecordsCalls) CloseLog(ctx context.Context, id int64) error {
	resp, err := c.do(ctx, http.MethodDelete, "/api/v1/archives/"+strconv.FormatInt(id, 10), nil,
		nil)
	if err == nil {
		resp.Body.Close()
	}
	return err
}

// LogLevel reads the level of the service's log, or sets it.
func (c RecordsCalls) LogLevel(ctx context.Context, level string) (string, error) {
	type body struct {
		Level string `json:"level"`
	}
	if level == "" {
		b, err := call[body](ctx, c.conn, http.MethodGet, "/api/v1/log/level", nil, nil)
		return b.Level, err
	}
	b, err := call[body](ctx, c.conn, http.MethodPut, "/api/v1/log/level", nil, body{level})
	return b.Level, err
}
