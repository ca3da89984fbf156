package service

import (
	"context"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/rights"
	"gullroute/internal/core/search"
	"gullroute/internal/insight"
)

// traceAPI serves messages.
type traceAPI struct{ *Service }

func (s traceAPI) register(api huma.API) {
	const view = "/api/v1/messages/{id}/view"
	op := operation{}
	huma.Register(
		api,
		op.make(http.MethodGet, "content-view", view,
			"A message's header, structure and text, safe to look at"),
		s.showContent,
	)
	huma.Register(api,
		read("trace", "/api/v1/trace", "Find messages, and what was refused before it was one"),
		s.search)
	huma.Register(api, read("messages", "/api/v1/messages", "The same, of messages only"),
		s.findMessages)
	huma.Register(api, read("message", "/api/v1/messages/{id}", "A message's whole path"),
		s.showMessage)
	huma.Register(api, read("refusal", "/api/v1/refusals/{id}", "What was refused, and why"),
		s.showRefusal)
	s.app.Get("/api/v1/messages/:id/content", s.serveContent)
	s.app.Get("/api/v1/mailboxes/:address/messages/:id/raw", s.serveMailboxContent)
}

// From says which records to look in.
type From struct {
	Archive int64 `query:"archive" doc:"Look in this opened archive instead of the service's own records"`
}

// Zone is the time zone of words of time and of days.
type Zone struct {
	Zone string `query:"zone" doc:"Time zone, like Europe/Oslo" default:"UTC"`
}

func (z Zone) location() (*time.Location, error) {
	l, err := time.LoadLocation(z.Zone)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(
			"zone: " + z.Zone + " is no time zone; write one like Europe/Oslo or UTC",
		)
	}
	return l, nil
}

type searchInput struct {
	Q        string    `query:"q" doc:"As people type it: an address or a part of one, a domain, a subject, an id, a network, a host, a state, a cause, times"`
	Sender   string    `query:"from" doc:"Sender: an address, a part of one, a domain, or <>"`
	To       string    `query:"to" doc:"Recipient: an address, a part of one, or a domain"`
	Subject  string    `query:"subject" doc:"A part of the subject"`
	ID       string    `query:"id" doc:"Our id, or a Message-ID"`
	Client   string    `query:"client" doc:"IP address or network of the client"`
	Host     string    `query:"host" doc:"Remote host by name"`
	State    string    `query:"state" enum:"waiting,sending,deferred,held,delivered,bounced,expired,discarded,refused"`
	Cause    string    `query:"cause"`
	Listener string    `query:"listener"`
	Route    string    `query:"route"`
	Account  string    `query:"account"`
	Gate     string    `query:"gate" doc:"A gate that it met, also one that only watches"`
	Severity string    `query:"severity" enum:"minor,serious,critical" doc:"At least so bad, by the gates that it met"`
	Since    time.Time `query:"since"`
	Until    time.Time `query:"until"`
	Order    string    `query:"order" enum:"newest,oldest" default:"newest" doc:"Which come first"`
	From
	Zone
	Paging
}

// questionOf puts the box and the fields together.
func questionOf(in *searchInput, now time.Time) (search.Query, error) {
	zone, err := in.location()
	if err != nil {
		return search.Query{}, err
	}
	q, err := search.Parse(in.Q, now, zone)
	if err != nil {
		return q, huma.Error422UnprocessableEntity(err.Error())
	}
	for _, f := range []struct{ field, value string }{{"from", in.Sender}, {"to", in.To},
		{"subject", in.Subject}, {"id", in.ID}, {"client", in.Client}, {"host", in.Host},
		{"state", in.State}, {"cause", in.Cause}, {"listener", in.Listener}, {"route", in.Route},
		{"account", in.Account}, {"gate", in.Gate}, {"severity", in.Severity}} {
		if err := q.Add(f.field, f.value); err != nil {
			return q, huma.Error422UnprocessableEntity(err.Error())
		}
	}
	q.SetPeriod(in.Since, in.Until, zone)
	return q, nil
}

// search finds messages, and what was refused before it was one.
func (s traceAPI) search(ctx context.Context, in *searchInput) (*out[api.FoundPage], error) {
	return s.find(ctx, in, false)
}

// findMessages leaves out what was refused.
func (s traceAPI) findMessages(ctx context.Context, in *searchInput) (*out[api.FoundPage], error) {
	return s.find(ctx, in, true)
}

func (s traceAPI) find(
	ctx context.Context,
	in *searchInput,
	messagesOnly bool,
) (*out[api.FoundPage], error) {
	q, err := questionOf(in, time.Now())
	if err != nil {
		return nil, err
	}
	if err := s.mayLookFor(ctx, q); err != nil {
		return nil, err
	}
	q.MessagesOnly, q.OldestFirst = messagesOnly, in.Order == "oldest"
	b := boundsOf(ctx)
	q.Within = b
	if !b.None() && in.Archive != 0 {
		return nil, errBeyond("archive")
	}
	var after ident.ID
	if in.After != "" {
		if err := after.UnmarshalText([]byte(in.After)); err != nil {
			return nil, huma.Error422UnprocessableEntity("after: " + err.Error())
		}
	}
	r, err := pastOf(ctx, s.Service, in.From)
	if err != nil {
		return nil, err
	}
	p, err := r.Search(ctx, q, after, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "message")
	}
	for i := range p.Items {
		trim(b, &p.Items[i].Message)
	}
	body := api.FoundPage{Items: p.Items, Understood: q.Understood(), Back: insight.OptAt(p.Back),
		AsOf: insight.OptAt(r.AsOf())}
	if p.Next != 0 {
		body.Next = p.Next.String()
	}
	if in.Archive == 0 {
		for i := range body.Items {
			s.Insight.Trace.Mark(&body.Items[i].Message)
		}
	}
	return &out[api.FoundPage]{body}, nil
}

type oneOf struct {
	ID string `path:"id"`
	From
}

func (in *oneOf) id() (ident.ID, error) {
	id, err := ident.Parse(in.ID)
	if err != nil {
		return 0, huma.Error422UnprocessableEntity(err.Error())
	}
	return id, nil
}

func (s traceAPI) showMessage(ctx context.Context, in *oneOf) (*out[api.Trace], error) {
	id, err := in.id()
	if err != nil {
		return nil, err
	}
	t, err := s.Insight.Trace.Message(ctx, in.Archive, id)
	if err != nil {
		return nil, s.storeError(err, "message; its day may be past the retention time")
	}
	if b := boundsOf(ctx); !b.None() && in.Archive != 0 || !trimTrace(b, &t) {
		return nil, errBeyond("message")
	}
	return &out[api.Trace]{t}, nil
}

func (s traceAPI) showRefusal(ctx context.Context, in *oneOf) (*out[api.RefusalView], error) {
	id, err := in.id()
	if err != nil {
		return nil, err
	}
	v, err := s.Insight.Trace.Refusal(ctx, in.Archive, id)
	if err != nil {
		return nil, s.storeError(err, "refusal; its day may be past the retention time")
	}
	if b := boundsOf(ctx); !b.None() {
		if v.Session = nil; in.Archive != 0 || !trimRefusal(b, &v.Refusal) {
			return nil, errBeyond("refusal")
		}
	}
	return &out[api.RefusalView]{v}, nil
}

func (s traceAPI) showContent(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*out[api.ContentView], error) {
	id, err := ident.Parse(in.ID)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if err := s.mayRead(ctx, boundsOf(ctx), id); err != nil {
		return nil, err
	}
	l, err := s.Insight.Trace.View(ctx, id)
	if err != nil {
		return nil, s.storeError(err, "message; its day may be past the retention time")
	}
	return &out[api.ContentView]{l}, nil
}

// serveContent streams a message as it was stored. Content is people's own: only
// the administrator may read it.
func (s traceAPI) serveContent(c fiber.Ctx) error {
	w, err := s.require(c, "message-content")
	if err != nil {
		return err
	}
	id, err := ident.Parse(c.Params("id"))
	if err != nil {
		return fiber.NewError(fiber.StatusUnprocessableEntity, err.Error())
	}
	if err := s.mayRead(c.Context(), w.Domains, id); err != nil {
		return err
	}
	content, err := s.Insight.Trace.OpenContent(context.WithoutCancel(c.Context()), id)
	if err != nil {
		return s.storeError(err, "message")
	}
	return sendContent(c, content, id)
}

// mayRead reports a message that is beyond somebody's bounds.
func (s traceAPI) mayRead(ctx context.Context, b rights.Bounds, id ident.ID) error {
	if b.None() {
		return nil
	}
	t, err := s.Insight.Trace.Message(ctx, 0, id)
	if err != nil {
		return s.storeError(err, "message; its day may be past the retention time")
	}
	if !trim(b, &t.Message) {
		return errBeyond("message")
	}
	return nil
}

func sendContent(c fiber.Ctx, content io.Reader, id ident.ID) error {
	c.Set("Content-Type", "message/rfc822")
	c.Set("Content-Disposition", `attachment; filename="`+id.String()+`.eml"`)
	return c.SendStream(content)
}

func (s traceAPI) serveMailboxContent(c fiber.Ctx) error {
	w, err := s.require(c, "mailbox-content")
	if err != nil {
		return err
	}
	f := fiberContext{c: c}
	box, err := boxesAPI(
		s,
	).mailboxAddress(context.WithValue(c.Context(), whoKey{}, w), f.Param("address"))
	if err != nil {
		return err
	}
	id, err := ident.Parse(c.Params("id"))
	if err != nil {
		return fiber.NewError(fiber.StatusUnprocessableEntity, err.Error())
	}
	content, err := s.Insight.Trace.MailboxContent(context.WithoutCancel(c.Context()), box, id)
	if err != nil {
		return s.storeError(err, "message in this mailbox")
	}
	return sendContent(c, content, id)
}
