package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"gullroute/internal/api"
	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rehearse"
)

// SetupCalls are those on the configuration and the directory.
type SetupCalls struct{ *conn }

func setupPath(section string, name ...string) string {
	p := "/api/v1/setup/" + section
	for _, n := range name {
		p += "/" + url.PathEscape(n)
	}
	return p
}

// Items lists a section of the configuration.
func (c SetupCalls) Items(ctx context.Context, section string) (api.SectionItems, error) {
	return call[api.SectionItems](ctx, c.conn, http.MethodGet, setupPath(section), nil, nil)
}

// Item is one item of a section.
func (c SetupCalls) Item(ctx context.Context, section, name string) (config.Item, error) {
	return call[config.Item](ctx, c.conn, http.MethodGet, setupPath(section, name), nil, nil)
}

// AddItem adds an item to the draft.
func (c SetupCalls) AddItem(
	ctx context.Context,
	section string,
	fields map[string]any,
	position int,
	dry bool,
) (api.Edited, error) {
	return call[api.Edited](ctx, c.conn, http.MethodPost, setupPath(section), nil,
		map[string]any{"fields": fields, "position": position, "dry_run": dry})
}

// ChangeItem changes fields of an item in the draft.
func (c SetupCalls) ChangeItem(
	ctx context.Context,
	section, name string,
	fields map[string]any,
	dry bool,
) (api.Edited, error) {
	return call[api.Edited](ctx, c.conn, http.MethodPatch, setupPath(section, name), nil,
		map[string]any{"fields": fields, "dry_run": dry})
}

// MoveItem puts an item elsewhere in the draft.
func (c SetupCalls) MoveItem(
	ctx context.Context,
	section, name string,
	position int,
	dry bool,
) (api.Edited, error) {
	return call[api.Edited](ctx, c.conn, http.MethodPost, setupPath(section, name)+"/move", nil,
		map[string]any{"position": position, "dry_run": dry})
}

// RemoveItem takes an item out of the draft.
func (c SetupCalls) RemoveItem(
	ctx context.Context,
	section, name string,
	dry bool,
) (api.Edited, error) {
	return call[api.Edited](ctx, c.conn, http.MethodDelete, setupPath(section, name),
		url.Values{"dry_run": {strconv.FormatBool(dry)}}, nil)
}

// Draft is the draft's state.
func (c SetupCalls) Draft(ctx context.Context, yaml bool) (api.Draft, error) {
	return call[api.Draft](ctx, c.conn, http.MethodGet, "/api/v1/draft",
		url.Values{"yaml": {strconv.FormatBool(yaml)}}, nil)
}

// ApplyDraft puts the draft in force.
func (c SetupCalls) ApplyDraft(ctx context.Context, body map[string]any) (api.Applied, error) {
	return call[api.Applied](ctx, c.conn, http.MethodPost, "/api/v1/draft/apply", nil, body)
}

// DiscardDraft forgets the draft.
func (c SetupCalls) DiscardDraft(ctx context.Context) error {
	return c.send(ctx, http.MethodDelete, "/api/v1/draft", nil)
}

// TakeBackDraft makes the draft that was discarded last the draft again.
func (c SetupCalls) TakeBackDraft(ctx context.Context) error {
	return c.send(ctx, http.MethodPost, "/api/v1/draft/take-back", nil)
}

// RebaseDraft makes the draft anew on what is in force, and says what it met.
func (c SetupCalls) RebaseDraft(ctx context.Context) ([]string, error) {
	r, err := call[struct {
		Met []string `json:"met"`
	}](ctx, c.conn, http.MethodPost, "/api/v1/draft/rebase", nil, nil)
	return r.Met, err
}

// Rehearse replays envelopes through the draft.
func (c SetupCalls) Rehearse(
	ctx context.Context,
	messages int,
	progress func(Progress),
) (rehearse.Report, error) {
	return streamed[rehearse.Report](ctx, c.conn, "/api/v1/draft/rehearse",
		url.Values{"messages": {strconv.Itoa(messages)}}, nil, progress)
}

// Progress is how far long work is.
type Progress struct {
	Part float64 `json:"progress"`
	Done int     `json:"done"`
	What string  `json:"what"`
}

// streamed calls an operation that tells of its progress.
func streamed[T any](
	ctx context.Context,
	c *conn,
	path string,
	query url.Values,
	body io.Reader,
	progress func(Progress),
) (T, error) {
	return streamedAs[T](ctx, c, path, query, body, "text/csv", progress)
}

// streamedAs is streamed with a body of a type.
func streamedAs[T any](
	ctx context.Context,
	c *conn,
	path string,
	query url.Values,
	body io.Reader,
	contentType string,
	progress func(Progress),
) (T, error) {
	var out T
	resp, err := c.doRaw(ctx, http.MethodPost, path, query, body, contentType)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	lines := bufio.NewReaderSize(resp.Body, 1<<20)
	dec := json.NewDecoder(lines)
	for {
		var l struct {
			Progress
			Result  *T       `json:"result"`
			Problem *Problem `json:"problem"`
		}
		if err := dec.Decode(&l); err != nil {
			return out, &Unreachable{c.base, fmt.Errorf("the answer broke off: %w", err)}
		}
		switch {
		case l.Problem != nil:
			return out, l.Problem
		case l.Result != nil:
			return *l.Result, nil
		}
		progress(l.Progress)
	}
}

// Revisions lists one page of them.
func (c SetupCalls) Revisions(ctx context.Context, limit int) ([]mail.Revision, error) {
	p, err := call[api.Page[mail.Revision]](ctx, c.conn, http.MethodGet, "/api/v1/revisions",
		url.Values{"limit": {strconv.Itoa(limit)}}, nil)
	return p.Items, err
}

// Revision is one revision, compared with another, or with the one before for 0.
func (c SetupCalls) Revision(ctx context.Context, number, against int) (api.RevisionView, error) {
	q := url.Values{}
	if against > 0 {
		q.Set("against", strconv.Itoa(against))
	}
	return call[api.RevisionView](ctx, c.conn, http.MethodGet,
		"/api/v1/revisions/"+strconv.Itoa(number), q, nil)
}

// Revert goes back to a revision.
func (c SetupCalls) Revert(ctx context.Context, number int, why string) (api.Applied, error) {
	return call[api.Applied](ctx, c.conn, http.MethodPost,
		"/api/v1/revisions/"+strconv.Itoa(number)+"/revert", nil, map[string]any{"why": why})
}

// Confirm keeps a revision that would go back by itself.
func (c SetupCalls) Confirm(ctx context.Context, number int) error {
	return c.send(ctx, http.MethodPost, "/api/v1/revisions/"+strconv.Itoa(number)+"/confirm", nil)
}

// Config is the configuration in force, with the directory if it is wanted.
func (c SetupCalls) Config(ctx context.Context, directory bool) (api.ConfigText, error) {
	return call[api.ConfigText](ctx, c.conn, http.MethodGet, "/api/v1/config",
		url.Values{"directory": {strconv.FormatBool(directory)}}, nil)
}

// ConfigWithSecrets is everything, hashes and passwords too.
func (c SetupCalls) ConfigWithSecrets(ctx context.Context) (api.ConfigText, error) {
	return call[api.ConfigText](ctx, c.conn, http.MethodPost, "/api/v1/config/with-secrets", nil, nil)
}

// ImportConfig takes a text as the draft.
func (c SetupCalls) ImportConfig(
	ctx context.Context,
	name, text string,
	dry bool,
) (api.Draft, error) {
	return call[api.Draft](ctx, c.conn, http.MethodPut, "/api/v1/config", nil,
		map[string]any{"text": text, "name": name, "dry_run": dry})
}
