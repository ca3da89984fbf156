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

	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rehearse"
)

func setupPath(section string, name ...string) string {
	p := "/api/v1/setup/" + section
	for _, n := range name {
		p += "/" + url.PathEscape(n)
	}
	return p
}

// Items lists a section of the configuration.
func (c *Client) Items(ctx context.Context, section string) (mail.SectionItems, error) {
	return call[mail.SectionItems](ctx, c, http.MethodGet, setupPath(section), nil, nil)
}

// Item is one item of a section.
func (c *Client) Item(ctx context.Context, section, name string) (config.Item, error) {
	return call[config.Item](ctx, c, http.MethodGet, setupPath(section, name), nil, nil)
}

// Edited is what an edit of the draft did.
type Edited struct {
	Text string      `json:"text"`
	Dry  bool        `json:"dry_run"`
	Item config.Item `json:"item"`
}

// AddItem adds an item to the draft.
func (c *Client) AddItem(ctx context.Context, section string, fields map[string]any, place int, dry bool) (Edited, error) {
	return call[Edited](ctx, c, http.MethodPost, setupPath(section), nil, map[string]any{"fields": fields, "place": place, "dry_run": dry})
}

// ChangeItem changes fields of an item in the draft.
func (c *Client) ChangeItem(ctx context.Context, section, name string, fields map[string]any, dry bool) (Edited, error) {
	return call[Edited](ctx, c, http.MethodPatch, setupPath(section, name), nil, map[string]any{"fields": fields, "dry_run": dry})
}

// MoveItem puts an item elsewhere in the draft.
func (c *Client) MoveItem(ctx context.Context, section, name string, place int, dry bool) (Edited, error) {
	return call[Edited](ctx, c, http.MethodPost, setupPath(section, name)+"/move", nil, map[string]any{"place": place, "dry_run": dry})
}

// RemoveItem takes an item out of the draft.
func (c *Client) RemoveItem(ctx context.Context, section, name string, dry bool) (Edited, error) {
	return call[Edited](ctx, c, http.MethodDelete, setupPath(section, name), url.Values{"dry_run": {strconv.FormatBool(dry)}}, nil)
}

// Draft is the draft's state.
func (c *Client) Draft(ctx context.Context, yaml bool) (mail.Draft, error) {
	return call[mail.Draft](ctx, c, http.MethodGet, "/api/v1/draft", url.Values{"yaml": {strconv.FormatBool(yaml)}}, nil)
}

// ApplyDraft puts the draft in force.
func (c *Client) ApplyDraft(ctx context.Context, body map[string]any) (mail.Applied, error) {
	return call[mail.Applied](ctx, c, http.MethodPost, "/api/v1/draft/apply", nil, body)
}

// DiscardDraft forgets the draft.
func (c *Client) DiscardDraft(ctx context.Context) error {
	return c.send(ctx, http.MethodDelete, "/api/v1/draft", nil)
}

// RebaseDraft makes the draft anew on what is in force, and says what it met.
func (c *Client) RebaseDraft(ctx context.Context) ([]string, error) {
	r, err := call[struct {
		Met []string `json:"met"`
	}](ctx, c, http.MethodPost, "/api/v1/draft/rebase", nil, nil)
	return r.Met, err
}

// Rehearse replays envelopes through the draft.
func (c *Client) Rehearse(ctx context.Context, messages int, progress func(Progress)) (rehearse.Report, error) {
	return streamed[rehearse.Report](ctx, c, "/api/v1/draft/rehearse", url.Values{"messages": {strconv.Itoa(messages)}}, nil, progress)
}

// Progress is how far long work is.
type Progress struct {
	Part float64 `json:"progress"`
	Done int     `json:"done"`
	What string  `json:"what"`
}

// streamed calls an operation that tells of its progress.
func streamed[T any](ctx context.Context, c *Client, path string, query url.Values, body io.Reader, progress func(Progress)) (T, error) {
	return streamedAs[T](ctx, c, path, query, body, "text/csv", progress)
}

// streamedAs is streamed with a body of a type.
func streamedAs[T any](ctx context.Context, c *Client, path string, query url.Values, body io.Reader, contentType string, progress func(Progress)) (T, error) {
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
func (c *Client) Revisions(ctx context.Context, limit int) ([]mail.Revision, error) {
	p, err := call[Page[mail.Revision]](ctx, c, http.MethodGet, "/api/v1/revisions", url.Values{"limit": {strconv.Itoa(limit)}}, nil)
	return p.Items, err
}

// RevisionView is a revision and what it changed.
type RevisionView struct {
	Revision mail.Revision   `json:"revision"`
	Changes  []config.Change `json:"changes"`
	Against  int             `json:"against"`
	YAML     string          `json:"yaml"`
}

// Revision is one revision, compared with another, or with the one before for 0.
func (c *Client) Revision(ctx context.Context, number, against int) (RevisionView, error) {
	q := url.Values{}
	if against > 0 {
		q.Set("against", strconv.Itoa(against))
	}
	return call[RevisionView](ctx, c, http.MethodGet, "/api/v1/revisions/"+strconv.Itoa(number), q, nil)
}

// Revert goes back to a revision.
func (c *Client) Revert(ctx context.Context, number int, why string) (mail.Applied, error) {
	return call[mail.Applied](ctx, c, http.MethodPost, "/api/v1/revisions/"+strconv.Itoa(number)+"/revert", nil, map[string]any{"why": why})
}

// Confirm keeps a revision that would go back by itself.
func (c *Client) Confirm(ctx context.Context, number int) error {
	return c.send(ctx, http.MethodPost, "/api/v1/revisions/"+strconv.Itoa(number)+"/confirm", nil)
}

// ConfigText is a configuration and its revision.
type ConfigText struct {
	Revision int    `json:"revision"`
	Text     string `json:"text"`
}

// Config is the configuration in force, with the directory if it is wanted.
func (c *Client) Config(ctx context.Context, directory bool) (ConfigText, error) {
	return call[ConfigText](ctx, c, http.MethodGet, "/api/v1/config", url.Values{"directory": {strconv.FormatBool(directory)}}, nil)
}

// ConfigWithSecrets is everything, hashes and passwords too.
func (c *Client) ConfigWithSecrets(ctx context.Context) (ConfigText, error) {
	return call[ConfigText](ctx, c, http.MethodPost, "/api/v1/config/with-secrets", nil, nil)
}

// ImportConfig takes a text as the draft.
func (c *Client) ImportConfig(ctx context.Context, name, text string, dry bool) (mail.Draft, error) {
	return call[mail.Draft](ctx, c, http.MethodPut, "/api/v1/config", nil, map[string]any{"text": text, "name": name, "dry_run": dry})
}

// Mailboxes lists one page of mailboxes.
func (c *Client) Mailboxes(ctx context.Context, q url.Values) (Page[mail.MailboxLine], error) {
	return call[Page[mail.MailboxLine]](ctx, c, http.MethodGet, "/api/v1/mailboxes", q, nil)
}

// AliasLine is an alias as it is listed.
type AliasLine struct {
	Address string   `json:"address"`
	To      []string `json:"to"`
	About   string   `json:"about"`
}

// Aliases lists one page of aliases.
func (c *Client) Aliases(ctx context.Context, q url.Values) (Page[AliasLine], error) {
	return call[Page[AliasLine]](ctx, c, http.MethodGet, "/api/v1/aliases", q, nil)
}

// Entry is a mailbox or an alias as it is written.
type Entry struct {
	Fields    map[string]any `json:"fields"`
	Generated []string       `json:"generated"`
}

// ShowEntry reads a mailbox or an alias; noun is mailboxes or aliases.
func (c *Client) ShowEntry(ctx context.Context, noun, address string) (Entry, error) {
	return call[Entry](ctx, c, http.MethodGet, "/api/v1/"+noun+"/"+url.PathEscape(address), nil, nil)
}

// AddEntry adds one.
func (c *Client) AddEntry(ctx context.Context, noun string, fields map[string]any, dry bool) (Entry, error) {
	return call[Entry](ctx, c, http.MethodPost, "/api/v1/"+noun, nil, map[string]any{"fields": fields, "dry_run": dry})
}

// ChangeEntry changes fields of one.
func (c *Client) ChangeEntry(ctx context.Context, noun, address string, fields map[string]any, dry bool) (Entry, error) {
	return call[Entry](ctx, c, http.MethodPatch, "/api/v1/"+noun+"/"+url.PathEscape(address), nil, map[string]any{"fields": fields, "dry_run": dry})
}

// RemoveEntry takes one out.
func (c *Client) RemoveEntry(ctx context.Context, noun, address string) error {
	return c.send(ctx, http.MethodDelete, "/api/v1/"+noun+"/"+url.PathEscape(address), nil)
}

// ImportEntries adds and changes from CSV.
func (c *Client) ImportEntries(ctx context.Context, noun string, csv io.Reader, dry bool, progress func(Progress)) (mail.Imported, error) {
	return streamed[mail.Imported](ctx, c, "/api/v1/"+noun+"/import", url.Values{"dry_run": {strconv.FormatBool(dry)}}, csv, progress)
}

// ExportEntries copies all of them to w as CSV.
func (c *Client) ExportEntries(ctx context.Context, noun string, w io.Writer) error {
	resp, err := c.do(ctx, http.MethodGet, "/api/v1/"+noun+".csv", nil, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(w, resp.Body)
	return err
}

// Changes lists what was changed in the directory, newest first.
func (c *Client) Changes(ctx context.Context, q url.Values) ([]mail.Record, error) {
	p, err := call[Page[mail.Record]](ctx, c, http.MethodGet, "/api/v1/changes", q, nil)
	return p.Items, err
}

// Secrets lists the names of kept passwords.
func (c *Client) Secrets(ctx context.Context) ([]mail.SecretLine, error) {
	p, err := call[Page[mail.SecretLine]](ctx, c, http.MethodGet, "/api/v1/secrets", nil, nil)
	return p.Items, err
}

// SetSecret keeps a password.
func (c *Client) SetSecret(ctx context.Context, name, value string) error {
	return c.send(ctx, http.MethodPut, "/api/v1/secrets/"+url.PathEscape(name), map[string]any{"value": value})
}

// RemoveSecret forgets a password.
func (c *Client) RemoveSecret(ctx context.Context, name string) error {
	return c.send(ctx, http.MethodDelete, "/api/v1/secrets/"+url.PathEscape(name), nil)
}

// send calls an operation that answers with nothing.
func (c *Client) send(ctx context.Context, method, path string, body any) error {
	resp, err := c.do(ctx, method, path, nil, body)
	if err == nil {
		_ = resp.Body.Close()
	}
	return err
}
