package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/core/audit"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
)

// auditAPI serves the record of who did what.
type auditAPI struct{ *Service }

func (s auditAPI) register(api huma.API) {
	huma.Register(api, read("audit", "/api/v1/audit", "Who did what, newest first"), s.list)
	huma.Register(api, read("audit-verify", "/api/v1/audit/verify",
		"Whether the record was tampered with, and its head to keep elsewhere"), s.verify)
}

func (s auditAPI) list(ctx context.Context, in *struct {
	Who    string    `query:"who"`
	Action string    `query:"action" doc:"An operation, like mailbox-change or sign-in"`
	Target string    `query:"target" doc:"A part of what it was done to"`
	Since  time.Time `query:"since"`
	Until  time.Time `query:"until"`
	Limit  int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	After  int64     `query:"after,string" doc:"The next of the page before"`
}) (*out[api.Page[audit.Deed]], error) {
	list, err := s.Control.Operators.Audit.List(
		ctx,
		audit.Filter{Who: in.Who, Action: in.Action,
			Target: in.Target, Since: in.Since, Until: in.Until, After: in.After, Limit: in.Limit},
	)
	if err != nil {
		return nil, s.storeError(err, "entry")
	}
	page := api.Page[audit.Deed]{Items: list}
	if len(list) == in.Limit {
		page.Next = jsonNumber(list[len(list)-1].ID)
	}
	if page.Items == nil {
		page.Items = []audit.Deed{}
	}
	return &out[api.Page[audit.Deed]]{page}, nil
}

func jsonNumber(n int64) string { b, _ := json.Marshal(n); return string(b) }

func (s auditAPI) verify(ctx context.Context, _ *struct{}) (*out[audit.Inspection], error) {
	check, err := s.Control.Operators.Audit.Inspect(ctx)
	if err != nil {
		return nil, s.storeError(err, "entry")
	}
	return &out[audit.Inspection]{check}, nil
}

// called is what a request asked for, and who.
type called struct {
	operation string
	who       who
}

// calledLocal is where a request keeps what it asked for.
const calledLocal = "called"

// note tells the record which operation a request is.
func note(ctx huma.Context, operation string, w who) {
	if f, ok := ctx.(*fiberContext); ok {
		f.c.Locals(calledLocal, called{operation, w})
	}
}

// recorder keeps the record.
type recorder struct{ *Service }

// recorded puts on record what people and programs do, once it is done or refused.
func (s recorder) recorded(c fiber.Ctx) error {
	notes := &audit.Notebook{}
	c.SetContext(audit.With(c.Context(), notes))
	err := c.Next()
	x, ok := c.Locals(calledLocal).(called)
	if !ok || x.who.Name == "" || !rights.Recorded(x.operation, c.Method() == http.MethodGet) {
		return err
	}
	e := audit.Deed{
		At:     time.Now(),
		Who:    x.who.Name,
		Role:   string(x.who.Role),
		Client: c.IP(),
		Action: x.operation,
		Target: targetOf(c),
		Status: c.Response().StatusCode(),
	}
	var se huma.StatusError
	var fe *fiber.Error
	switch {
	case errors.As(err, &se):
		e.Status = se.GetStatus()
	case errors.As(err, &fe):
		e.Status = fe.Code
	case err != nil:
		e.Status = http.StatusInternalServerError
	}
	s.enter(&e, asked(c, &e), notes)
	return err
}

// enter writes an entry. What was done stays done if that fails; the log says so.
func (s recorder) enter(e *audit.Deed, asked any, notes *audit.Notebook) {
	detail := map[string]any{}
	if asked != nil {
		detail["asked"] = asked
	}
	if notes != nil {
		if changed := notes.Records(); len(changed) > 0 {
			text, _ := json.Marshal(changed)
			var plain any
			if json.Unmarshal(text, &plain) == nil {
				detail["changed"] = audit.Clean(plain)
			}
			if e.Target == "" {
				e.Target = changed[0].Name
			}
		}
	}
	e.Detail, _ = json.Marshal(detail)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := s.Control.Operators.Audit.Add(ctx, e); err != nil {
		s.Log.Error("what somebody did is not on record", "who", e.Who, "action", e.Action,
			"target", e.Target, "error", err)
	}
}

// targetOf is what an operation is done to, by its path.
func targetOf(c fiber.Ctx) string {
	var words []string
	for _, name := range c.Route().Params {
		words = append(words, fiberContext{c: c}.param(name))
	}
	return strings.Join(words, " ")
}

// maxAsked bounds the body of a request that stands on record, in octets.
const maxAsked = 64 << 10

// unread are operations whose body is no description of what is asked for: it is not read, and
// of an archive it was read already, as it came.
var unread = map[string]bool{"mailbox-import": true, "alias-import": true, "archive-open": true}

// asked is what a request asked for, without what is secret; it finds the reason in it.
func asked(c fiber.Ctx, e *audit.Deed) any {
	out := map[string]any{}
	for name, value := range c.Queries() {
		out[name] = value
	}
	e.Why = c.Query("why")
	if unread[e.Action] || strings.HasPrefix(e.Action, "second-factor") {
		return audit.Clean(out)
	}
	if body := c.Body(); len(body) > 0 && len(body) <= maxAsked {
		var asked map[string]any
		if json.Unmarshal(body, &asked) == nil {
			if why, ok := asked["why"].(string); ok {
				e.Why = why
			}
			if name, ok := asked["name"].(string); ok && e.Target == "" {
				e.Target = name
			}
			for k, v := range asked {
				out[k] = v
			}
		}
	}
	if len(out) == 0 {
		return nil
	}
	return audit.Clean(out)
}

// signIn puts a sign-in on record, or one that failed.
func (s recorder) signIn(in *signInBody, role mail.Role, status int, why string) {
	s.enter(&audit.Deed{
		At:     time.Now(),
		Who:    inert.Clip(in.Body.Name, 60),
		Role:   string(role),
		Client: in.client,
		Action: "sign-in",
		Status: status,
		Why:    why,
	}, map[string]any{"with": in.program}, nil)
}
