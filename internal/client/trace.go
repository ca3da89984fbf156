package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"gullroute/internal/core/archive"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
	"gullroute/internal/core/transcript"
)

// RecordsCalls are those on what happened.
type RecordsCalls struct{ *conn }

// FoundPage is one page of what a search found.
type FoundPage struct {
	Items      []mail.Found `json:"items"`
	Next       string       `json:"next"`
	Understood []string     `json:"understood"`
	Back       mail.OptTime `json:"looked_back_to"`
}

// Search finds messages and what was refused.
func (c RecordsCalls) Search(ctx context.Context, filter url.Values) (FoundPage, error) {
	return call[FoundPage](ctx, c.conn, http.MethodGet, "/api/v1/trace", filter, nil)
}

// RefusalView is a refusal as it is shown.
type RefusalView struct {
	Refusal mail.Refusal  `json:"refusal"`
	Meaning mail.Cause    `json:"meaning"`
	Session *mail.Session `json:"session"`
	ForUser string        `json:"for_user"`
}

// Refusal reads one refusal.
func (c RecordsCalls) Refusal(
	ctx context.Context,
	id string,
	from url.Values,
) (RefusalView, error) {
	return call[RefusalView](ctx, c.conn, http.MethodGet, "/api/v1/refusals/"+url.PathEscape(id),
		from, nil)
}

// Sessions lists one page of sessions.
func (c RecordsCalls) Sessions(ctx context.Context, filter url.Values) (Page[mail.Session], error) {
	return call[Page[mail.Session]](ctx, c.conn, http.MethodGet, "/api/v1/sessions", filter, nil)
}

// SessionView is a session with its transcript.
type SessionView struct {
	mail.Session
	Lines    []transcript.Line `json:"transcript"`
	Missing  string            `json:"missing,omitempty"`
	Refusals []mail.Refusal    `json:"refusals"`
}

// Session reads one session.
func (c RecordsCalls) Session(
	ctx context.Context,
	id string,
	from url.Values,
) (SessionView, error) {
	return call[SessionView](ctx, c.conn, http.MethodGet, "/api/v1/sessions/"+url.PathEscape(id),
		from, nil)
}

// Watches lists whose sessions are recorded in full.
func (c RecordsCalls) Watches(ctx context.Context) ([]mail.Watch, error) {
	p, err := call[Page[mail.Watch]](ctx, c.conn, http.MethodGet, "/api/v1/watches", nil, nil)
	return p.Items, err
}

// Watch begins or ends a watch.
func (c RecordsCalls) Watch(ctx context.Context, what, forTime string) (mail.Watch, error) {
	return call[mail.Watch](ctx, c.conn, http.MethodPost, "/api/v1/watches", nil,
		map[string]string{"what": what, "for": forTime})
}

// Report is what the traffic looks like.
type Report struct {
	Since     string                   `json:"since"`
	Until     string                   `json:"until"`
	Note      string                   `json:"note"`
	Zone      string                   `json:"zone"`
	Step      string                   `json:"step"`
	Totals    map[string]report.Figure `json:"totals"`
	Delay     *report.Delay            `json:"delay"`
	Before    map[string]report.Figure `json:"before,omitempty"`
	Series    []report.Point           `json:"series"`
	HourOfDay []report.Slot            `json:"hours_of_day"`
	Weekdays  []report.Slot            `json:"weekdays"`
	Tables    map[string][]report.Row  `json:"tables"`
	Reasons   map[string][]report.Row  `json:"reasons"`
}

// Report reads a report.
func (c RecordsCalls) Report(ctx context.Context, q url.Values) (Report, error) {
	return call[Report](ctx, c.conn, http.MethodGet, "/api/v1/report", q, nil)
}

// ReportTable reads counts by value of a dimension.
func (c RecordsCalls) ReportTable(
	ctx context.Context,
	dim string,
	q url.Values,
) ([]report.Row, error) {
	p, err := call[Page[report.Row]](ctx, c.conn, http.MethodGet,
		"/api/v1/report/tables/"+url.PathEscape(dim), q, nil)
	return p.Items, err
}

// Figure lists the messages behind a figure.
func (c RecordsCalls) Figure(ctx context.Context, q url.Values) (Page[report.Behind], error) {
	return call[Page[report.Behind]](ctx, c.conn, http.MethodGet, "/api/v1/report/messages", q, nil)
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

// Archives lists the opened archives, or that with a hash.
func (c RecordsCalls) Archives(ctx context.Context, hash string) ([]archive.Info, error) {
	var q url.Values
	if hash != "" {
		q = url.Values{"hash": {hash}}
	}
	p, err := call[Page[archive.Info]](ctx, c.conn, http.MethodGet, "/api/v1/archives", q, nil)
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
