// Package client is the typed client of the service's HTTP interface.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/folder"
	"gullroute/internal/core/mail"
)

// MailCalls are those on what flows and waits.
type MailCalls struct{ *conn }

// Client calls one service. Its methods are those of its parts.
type Client struct {
	MailCalls
	KeysCalls
	ProbesCalls
	QueueCalls
	ReviewsCalls
	SetupCalls
	StrangerCalls
	HeldCalls
	DirectoryCalls
	SnagsCalls
	RecordsCalls
	PeopleCalls
}

// conn is the way to a service.
type conn struct {
	base  string
	token string
	http  *http.Client
}

// New makes a client of the service at base, such as http://127.0.0.1:8480.
func New(base, token string) *Client {
	c := &conn{base: strings.TrimRight(base, "/"), token: token, http: &http.Client{}}
	return &Client{
		MailCalls{c},
		KeysCalls{c},
		ProbesCalls{c},
		QueueCalls{c},
		ReviewsCalls{c},
		SetupCalls{c},
		StrangerCalls{c},
		HeldCalls{c},
		DirectoryCalls{c},
		SnagsCalls{c},
		RecordsCalls{c},
		PeopleCalls{c},
	}
}

// Unreachable is an error of the way to the service.
type Unreachable struct {
	Base string
	Err  error
}

// Error says what to do.
func (e *Unreachable) Error() string {
	return fmt.Sprintf(
		"the service at %s cannot be reached: %v; is it running, and is --url or GULL_URL right?",
		e.Base,
		e.Err,
	)
}

// Unwrap is the cause.
func (e *Unreachable) Unwrap() error { return e.Err }

// Problem is an answer of the service that is not a success (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Location string `json:"location"`
		Message  string `json:"message"`
		Value    any    `json:"value"`
	} `json:"errors"`
}

// Error is the detail, and every single fault on a line of its own.
func (p *Problem) Error() string {
	var b strings.Builder
	b.WriteString(p.Detail)
	for _, e := range p.Errors {
		b.WriteString("\n  ")
		if line, ok := e.Value.(float64); ok {
			fmt.Fprintf(&b, "line %.0f, ", line)
		}
		if at := e.Location; at != "" {
			// where it stood in the request is nobody's business
			for _, part := range []string{"query.", "path.", "body.", "header."} {
				at = strings.TrimPrefix(at, part)
			}
			b.WriteString(at + ": ")
		}
		b.WriteString(e.Message)
	}
	return b.String()
}

func (c *conn) do(
	ctx context.Context,
	method, path string,
	query url.Values,
	body any,
) (*http.Response, error) {
	if body == nil {
		return c.doRaw(ctx, method, path, query, nil, "")
	}
	text, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	return c.doRaw(ctx, method, path, query, bytes.NewReader(text), "application/json")
}

func (c *conn) doRaw(
	ctx context.Context,
	method, path string,
	query url.Values,
	r io.Reader,
	contentType string,
) (*http.Response, error) {
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, r)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "gull")
	if r != nil {
		req.Header.Set("Content-Type", contentType)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, &Unreachable{c.base, errors.Unwrap(err)}
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	p := &Problem{Status: resp.StatusCode}
	if json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(p) != nil || p.Detail == "" {
		p.Detail = resp.Status
	}
	p.Status = resp.StatusCode
	return nil, p
}

func call[T any](
	ctx context.Context,
	c *conn,
	method, path string,
	query url.Values,
	body any,
) (T, error) {
	var out T
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	resp, err := c.do(ctx, method, path, query, body)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	return out, decode(resp.Body, &out)
}

func decode(r io.Reader, out any) error {
	if err := json.NewDecoder(r).Decode(out); err != nil {
		return fmt.Errorf("the answer cannot be read: %w", err)
	}
	return nil
}

// Status is how the node does.
func (c MailCalls) Status(ctx context.Context) (api.Status, error) {
	return call[api.Status](ctx, c.conn, http.MethodGet, "/api/v1/status", nil, nil)
}

// Queue lists one page of deliveries that are not finished.
func (c MailCalls) Queue(ctx context.Context, filter url.Values) (api.Page[mail.QueueItem], error) {
	return call[api.Page[mail.QueueItem]](ctx, c.conn, http.MethodGet, "/api/v1/queue", filter, nil)
}

// Find lists one page of messages.
func (c MailCalls) Find(ctx context.Context, filter url.Values) (api.Page[mail.Message], error) {
	return call[api.Page[mail.Message]](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/messages",
		filter,
		nil,
	)
}

// Trace is a message's whole way.
func (c MailCalls) Trace(ctx context.Context, id string, from url.Values) (api.Trace, error) {
	return call[api.Trace](ctx, c.conn, http.MethodGet, "/api/v1/messages/"+url.PathEscape(id),
		from, nil)
}

// Explain says what would be decided.
func (c MailCalls) Explain(ctx context.Context, q api.Question) ([]api.Answer, error) {
	p, err := call[api.Page[api.Answer]](ctx, c.conn, http.MethodPost, "/api/v1/explain", nil, q)
	return p.Items, err
}

// Send submits a test message.
func (c MailCalls) Send(ctx context.Context, t api.TestMessage) (api.Submitted, error) {
	return call[api.Submitted](ctx, c.conn, http.MethodPost, "/api/v1/send", nil, t)
}

// Mailbox lists one page of a mailbox, or of one folder of it.
func (c MailCalls) Mailbox(
	ctx context.Context,
	address, folder string,
	limit int,
	after string,
) (api.Page[mail.MailboxItem], error) {
	q := url.Values{"limit": {strconv.Itoa(limit)}}
	if after != "" {
		q.Set("after", after)
	}
	if folder != "" {
		q.Set("folder", folder)
	}
	return call[api.Page[mail.MailboxItem]](ctx, c.conn, http.MethodGet,
		"/api/v1/mailboxes/"+url.PathEscape(address)+"/messages", q, nil)
}

// MailboxFolders are the folders of a mailbox.
func (c MailCalls) MailboxFolders(
	ctx context.Context,
	address string,
) (api.Page[folder.Folder], error) {
	return call[api.Page[folder.Folder]](ctx, c.conn, http.MethodGet,
		"/api/v1/mailboxes/"+url.PathEscape(address)+"/folders", nil, nil)
}

// MailboxMessage is a message in a mailbox, safe to look at. why goes on record.
func (c MailCalls) MailboxMessage(
	ctx context.Context,
	address, id, why string,
) (api.ContentView, error) {
	return call[api.ContentView](ctx, c.conn, http.MethodGet,
		"/api/v1/mailboxes/"+url.PathEscape(address)+"/messages/"+url.PathEscape(id)+"/view",
		url.Values{"why": {why}}, nil)
}

// AppPasswords are the passwords of a mailbox for one program each.
func (c DirectoryCalls) AppPasswords(
	ctx context.Context,
	address string,
) (api.Page[mail.AppPassword], error) {
	return call[api.Page[mail.AppPassword]](ctx, c.conn, http.MethodGet,
		"/api/v1/mailboxes/"+url.PathEscape(address)+"/app-passwords", nil, nil)
}

// AddAppPassword makes one.
func (c DirectoryCalls) AddAppPassword(
	ctx context.Context,
	address, name string,
) (api.NewAppPassword, error) {
	return call[api.NewAppPassword](ctx, c.conn, http.MethodPost,
		"/api/v1/mailboxes/"+url.PathEscape(address)+"/app-passwords", nil,
		map[string]string{"name": name})
}

// RevokeAppPassword takes one away.
func (c DirectoryCalls) RevokeAppPassword(ctx context.Context, address, name string) error {
	return c.send(ctx, http.MethodDelete, "/api/v1/mailboxes/"+url.PathEscape(address)+
		"/app-passwords/"+url.PathEscape(name), nil)
}

// MailboxRaw copies a message in a mailbox to w.
func (c MailCalls) MailboxRaw(ctx context.Context, address, id string, w io.Writer) error {
	resp, err := c.do(ctx, http.MethodGet,
		"/api/v1/mailboxes/"+url.PathEscape(address)+"/messages/"+url.PathEscape(id)+"/raw", nil,
		nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(w, resp.Body)
	return err
}

// LiveEvent is one event of the live stream.
type LiveEvent struct {
	mail.Event
	Sender    string     `json:"sender"`
	Recipient string     `json:"recipient"`
	State     mail.State `json:"state"`
	Lane      string     `json:"lane"`
	Client    string     `json:"client"`
}

// Live gives events as they happen, those of one message if an id is given,
// until f returns false, ctx ends or the stream breaks. ready is called once the
// service listens: nothing that happens afterwards is missed.
func (c MailCalls) Live(
	ctx context.Context,
	message string,
	ready func(),
	f func(LiveEvent) bool,
) error {
	q := url.Values{}
	if message != "" {
		q.Set("message", message)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	resp, err := c.do(ctx, http.MethodGet, "/api/v1/live", q, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	for lines.Scan() {
		if ready != nil {
			ready()
			ready = nil
		}
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var e LiveEvent
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return fmt.Errorf("the stream cannot be read: %w", err)
		}
		if !f(e) {
			return nil
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	return &Unreachable{c.base, errors.Join(lines.Err(), io.ErrUnexpectedEOF)}
}
