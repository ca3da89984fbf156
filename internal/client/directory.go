package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// DirectoryCalls are those on mailboxes, aliases and secrets.
type DirectoryCalls struct{ *conn }

// Mailboxes lists one page of mailboxes.
func (c DirectoryCalls) Mailboxes(
	ctx context.Context,
	q url.Values,
) (api.Page[mail.MailboxLine], error) {
	return call[api.Page[mail.MailboxLine]](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/mailboxes",
		q,
		nil,
	)
}

// Aliases lists one page of aliases.
func (c DirectoryCalls) Aliases(
	ctx context.Context,
	q url.Values,
) (api.Page[api.AliasLine], error) {
	return call[api.Page[api.AliasLine]](ctx, c.conn, http.MethodGet, "/api/v1/aliases", q, nil)
}

// ShowEntry reads a mailbox or an alias; noun is mailboxes or aliases.
func (c DirectoryCalls) ShowEntry(ctx context.Context, noun, address string) (api.Entry, error) {
	return call[api.Entry](ctx, c.conn, http.MethodGet, "/api/v1/"+noun+"/"+url.PathEscape(address),
		nil, nil)
}

// AddEntry adds one.
func (c DirectoryCalls) AddEntry(
	ctx context.Context,
	noun string,
	fields map[string]any,
	dry bool,
) (api.Entry, error) {
	return call[api.Entry](ctx, c.conn, http.MethodPost, "/api/v1/"+noun, nil,
		map[string]any{"fields": fields, "dry_run": dry})
}

// ChangeEntry changes fields of one.
func (c DirectoryCalls) ChangeEntry(
	ctx context.Context,
	noun, address string,
	fields map[string]any,
	dry bool,
) (api.Entry, error) {
	return call[api.Entry](
		ctx,
		c.conn,
		http.MethodPatch,
		"/api/v1/"+noun+"/"+url.PathEscape(address),
		nil,
		map[string]any{"fields": fields, "dry_run": dry},
	)
}

// RemoveEntry takes one out.
func (c DirectoryCalls) RemoveEntry(ctx context.Context, noun, address string) error {
	return c.send(ctx, http.MethodDelete, "/api/v1/"+noun+"/"+url.PathEscape(address), nil)
}

// ImportEntries adds and changes from CSV.
func (c DirectoryCalls) ImportEntries(
	ctx context.Context,
	noun string,
	csv io.Reader,
	dry bool,
	progress func(Progress),
) (api.Imported, error) {
	return streamed[api.Imported](ctx, c.conn, "/api/v1/"+noun+"/import",
		url.Values{"dry_run": {strconv.FormatBool(dry)}}, csv, progress)
}

// ExportEntries copies all of them to w as CSV.
func (c DirectoryCalls) ExportEntries(ctx context.Context, noun string, w io.Writer) error {
	resp, err := c.do(ctx, http.MethodGet, "/api/v1/"+noun+".csv", nil, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(w, resp.Body)
	return err
}

// Changes lists what was changed in the directory, newest first.
func (c DirectoryCalls) Changes(ctx context.Context, q url.Values) ([]mail.Record, error) {
	p, err := call[api.Page[mail.Record]](ctx, c.conn, http.MethodGet, "/api/v1/changes", q, nil)
	return p.Items, err
}

// Secrets lists the names of kept passwords.
func (c DirectoryCalls) Secrets(ctx context.Context) ([]mail.SecretLine, error) {
	p, err := call[api.Page[mail.SecretLine]](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/secrets",
		nil,
		nil,
	)
	return p.Items, err
}

// SetSecret keeps a password.
func (c DirectoryCalls) SetSecret(ctx context.Context, name, value string) error {
	return c.send(ctx, http.MethodPut, "/api/v1/secrets/"+url.PathEscape(name),
		map[string]any{"value": value})
}

// RemoveSecret forgets a password.
func (c DirectoryCalls) RemoveSecret(ctx context.Context, name string) error {
	return c.send(ctx, http.MethodDelete, "/api/v1/secrets/"+url.PathEscape(name), nil)
}

// send calls an operation that answers with nothing.
func (c *conn) send(ctx context.Context, method, path string, body any) error {
	resp, err := c.do(ctx, method, path, nil, body)
	if err == nil {
		_ = resp.Body.Close()
	}
	return err
}

// RemovedMailboxes are those that can be given back.
func (c DirectoryCalls) RemovedMailboxes(ctx context.Context) ([]mail.GoneMailbox, error) {
	p, err := call[api.Page[mail.GoneMailbox]](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/removed-mailboxes",
		nil,
		nil,
	)
	return p.Items, err
}

// GiveBack gives one back, under another address if as is given.
func (c DirectoryCalls) GiveBack(ctx context.Context, address, as string) (api.GivenBack, error) {
	return call[api.GivenBack](
		ctx,
		c.conn,
		http.MethodPost,
		"/api/v1/removed-mailboxes/"+url.PathEscape(
			address,
		)+"/give-back",
		nil,
		map[string]string{"as": as},
	)
}
