package service

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/probe"
	"gullroute/internal/core/rehearse"
)

// Some operations tell of their progress: the answer is JSON Lines, each with progress, and
// the last with result or problem.

// describeStreams writes them into the description of the interface.
func describeStreams(described huma.API) {
	lines := func(schema *huma.Schema) map[string]*huma.Response {
		return map[string]*huma.Response{
			"200": {Description: "JSON Lines: progress, and at the end result or problem",
				Content: map[string]*huma.MediaType{"application/jsonl": {Schema: schema}}},
		}
	}
	reg := described.OpenAPI().Components.Schemas
	result := func(s *huma.Schema) *huma.Schema {
		return &huma.Schema{
			Type: "object",
			Properties: map[string]*huma.Schema{
				"progress": {Type: "number"},
				"what":     {Type: "string"},
				"done":     {Type: "integer"},
				"result":   s,
				"problem":  {Type: "object", AdditionalProperties: true},
			},
		}
	}
	text := func() map[string]*huma.Response {
		return map[string]*huma.Response{
			"200": {
				Description: "CSV",
				Content: map[string]*huma.MediaType{
					"text/csv": {Schema: &huma.Schema{Type: "string"}},
				},
			},
		}
	}
	csvBody := &huma.RequestBody{
		Required: true,
		Content:  map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: "string"}}},
	}
	dry := []*huma.Param{{Name: "dry_run", In: "query", Schema: &huma.Schema{Type: "boolean"}}}
	done := reg.Schema(reflect.TypeFor[api.Done](), true, "")
	imported := reg.Schema(reflect.TypeFor[api.Imported](), true, "")
	ops := []huma.Operation{
		{
			OperationID: "draft-rehearse",
			Method:      http.MethodPost,
			Path:        "/api/v1/draft/rehearse",
			Summary:     "Replay real and hostile envelopes through the draft; nothing changes",
			Parameters: []*huma.Param{
				{Name: "messages", In: "query", Schema: &huma.Schema{Type: "integer"}},
			},
			Responses: lines(result(reg.Schema(reflect.TypeFor[rehearse.Report](), true, ""))),
		},
		{
			OperationID: "act",
			Method:      http.MethodPost,
			Path:        "/api/v1/queue/act",
			Summary:     "Hold, release, flush, reroute, return, drop messages and more",
			RequestBody: &huma.RequestBody{
				Required: true,
				Content: map[string]*huma.MediaType{
					"application/json": {
						Schema: reg.Schema(reflect.TypeFor[api.ActionRequest](), true, ""),
					},
				},
			},
			Responses: lines(result(done)),
		},
		{
			OperationID: "undo",
			Method:      http.MethodPost,
			Path:        "/api/v1/actions/{id}/undo",
			Summary:     "Take an action back",
			Parameters: []*huma.Param{
				{Name: "id", In: "path", Required: true, Schema: &huma.Schema{Type: "integer"}},
			},
			Responses: lines(result(done)),
		},
		{
			OperationID: "mailbox-import",
			Method:      http.MethodPost,
			Path:        "/api/v1/mailboxes/import",
			Summary:     "Add and change mailboxes from CSV, all or none",
			Parameters:  dry,
			RequestBody: csvBody,
			Responses:   lines(result(imported)),
		},
		{
			OperationID: "alias-import",
			Method:      http.MethodPost,
			Path:        "/api/v1/aliases/import",
			Summary:     "Add and change aliases from CSV, all or none",
			Parameters:  dry,
			RequestBody: csvBody,
			Responses:   lines(result(imported)),
		},
		{
			OperationID: "mailbox-export",
			Method:      http.MethodGet,
			Path:        "/api/v1/mailboxes.csv",
			Summary:     "All mailboxes as CSV, without passwords",
			Responses:   text(),
		},
		{
			OperationID: "alias-export",
			Method:      http.MethodGet,
			Path:        "/api/v1/aliases.csv",
			Summary:     "All aliases as CSV",
			Responses:   text(),
		},
	}
	ops = append(ops, huma.Operation{
		OperationID: "probe-live", Method: http.MethodPost, Path: "/api/v1/probe/live",
		Summary: "The same as probe, told step by step as it goes",
		RequestBody: &huma.RequestBody{Content: map[string]*huma.MediaType{"application/json": {
			Schema: reg.Schema(reflect.TypeFor[ProbeBody](), true, "ProbeBody"),
		}}},
		Responses: lines(result(reg.Schema(reflect.TypeFor[probe.Probe](), true, "Probe"))),
	})
	whole := map[string]*huma.Response{"200": {
		Description: "The message as it was stored",
		Content: map[string]*huma.MediaType{
			"message/rfc822": {Schema: &huma.Schema{Type: "string"}},
		},
	}}
	ops = append(ops, huma.Operation{
		OperationID: "message-content", Method: http.MethodGet, Path: "/api/v1/messages/{id}/content",
		Summary: "A message as it was stored", Responses: whole,
	}, huma.Operation{
		OperationID: "mailbox-content", Method: http.MethodGet,
		Path:    "/api/v1/mailboxes/{address}/messages/{id}/raw",
		Summary: "A message in a mailbox as it was stored", Responses: whole,
	})
	for _, t := range tables {
		name := strings.ReplaceAll(t.path, "/", "-")
		ops = append(ops, huma.Operation{
			OperationID: name + "-csv", Method: http.MethodGet, Path: "/api/v1/" + t.path + ".csv",
			Summary:   "All that match of /api/v1/" + t.path + " as CSV; it takes the same words",
			Responses: text(),
		}, huma.Operation{
			OperationID: name + "-jsonl", Method: http.MethodGet, Path: "/api/v1/" + t.path + ".jsonl",
			Summary:   "All that match of /api/v1/" + t.path + " as JSON Lines; it takes the same words",
			Responses: lines(&huma.Schema{Type: "object", AdditionalProperties: true}),
		})
	}
	for i := range ops {
		described.OpenAPI().AddOperation(&ops[i])
	}
}

// line is one line of a stream.
type line struct {
	Progress float64          `json:"progress,omitempty"`
	Done     int              `json:"done,omitempty"`
	What     string           `json:"what,omitempty"`
	Step     *heardStep       `json:"step,omitempty"`
	Result   any              `json:"result,omitempty"`
	Problem  *huma.ErrorModel `json:"problem,omitempty"`
}

// stream answers somebody with JSON Lines. work tells of its progress and returns
// the result; it ends when the client goes away.
func (s *Service) stream(
	c fiber.Ctx,
	w who,
	work func(ctx context.Context, tell func(line)) (any, error),
) error {
	c.Set("Content-Type", "application/jsonl")
	c.Set("Cache-Control", "no-store")
	return c.SendStreamWriter(func(bw *bufio.Writer) {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Minute)
		defer cancel()
		var mu sync.Mutex
		hide := s.maskFor(w)
		last := time.Time{}
		write := func(l line, now bool) {
			mu.Lock()
			defer mu.Unlock()
			if !now && time.Since(last) < 50*time.Millisecond {
				return
			}
			last = time.Now()
			text, err := json.Marshal(l)
			if err == nil {
				_, err = bw.Write(append(hide.json(text), '\n'))
			}
			if err != nil || bw.Flush() != nil {
				cancel()
			}
		}
		result, err := work(ctx, func(l line) { write(l, l.Step != nil) })
		if err == nil {
			write(line{Progress: 1, Result: result}, true)
			return
		}
		var se huma.StatusError
		if !errors.As(err, &se) {
			se = huma.Error500InternalServerError(err.Error())
		}
		problem := &huma.ErrorModel{
			Status: se.GetStatus(),
			Title:  statusText(se.GetStatus()),
			Detail: se.Error(),
		}
		if m, ok := se.(*huma.ErrorModel); ok {
			problem = m
		}
		write(line{Problem: problem}, true)
	})
}

// Bounds of a rehearsal's real envelopes.
const (
	defaultRehearsal = 5000
	maxRehearsal     = 100_000
)

func (s draftAPI) streamRehearsal(c fiber.Ctx) error {
	w, err := s.require(c, "draft-rehearse")
	if err != nil {
		return err
	}
	n := defaultRehearsal
	if text := c.Query("messages"); text != "" {
		if n, err = strconv.Atoi(text); err != nil || n < 1 || n > maxRehearsal {
			return fiber.NewError(fiber.StatusUnprocessableEntity,
				"messages: write a number from 1 to "+strconv.Itoa(maxRehearsal))
		}
	}
	return s.stream(c, w, func(ctx context.Context, tell func(line)) (any, error) {
		report, err := s.Control.Drafts.Rehearse(ctx, n,
			func(part float64) { tell(line{Progress: part}) })
		if err != nil {
			return nil, s.setupError(err, config.ServiceSection, "")
		}
		return report, nil
	})
}

func (s directoryAPI) streamImport(c fiber.Ctx, what string) error {
	w, err := s.require(c, what+"-import")
	if err != nil {
		return err
	}
	body := bytes.Clone(c.Body())
	dry := c.Query("dry_run") == "true"
	return s.stream(c, w, func(ctx context.Context, tell func(line)) (any, error) {
		done, err := s.Control.Directory.Import(ctx, w.Name, what, bytes.NewReader(body), dry,
			func(n int, doing string) { tell(line{Done: n, What: doing}) })
		if err != nil {
			return nil, s.storeError(err, what)
		}
		return done, nil
	})
}

// exportCSV writes the directory row by row.
func (s directoryAPI) exportCSV(c fiber.Ctx, what string) error {
	w, err := s.require(c, what+"-export")
	if err != nil {
		return err
	}
	hide := s.maskFor(w)
	row := func(cells []string) []string {
		for i := range cells {
			cells[i] = hide.text(cells[i])
		}
		return cells
	}
	dir := s.InForce.Config().Directory
	c.Set("Content-Type", "text/csv; charset=utf-8")
	c.Set("Content-Disposition", `attachment; filename="`+what+`.csv"`)
	return c.SendStreamWriter(func(bw *bufio.Writer) {
		out := csv.NewWriter(bw)
		if what == "alias" {
			_ = out.Write(directory.AliasColumns)
			for _, a := range dir.Aliases() {
				if !w.Domains.Has(a.Address.Domain) {
					continue
				}
				_ = out.Write(row(a.Row()))
			}
		} else {
			_ = out.Write(directory.MailboxColumns)
			for _, m := range dir.Mailboxes() {
				if !w.Domains.Has(m.Address.Domain) {
					continue
				}
				_ = out.Write(row(m.Row()))
			}
		}
		out.Flush()
	})
}

// decodeStrict reads a JSON body whose every field must be known.
func decodeStrict(body []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(body))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return fmt.Errorf("the request cannot be read: %s",
			strings.TrimPrefix(err.Error(), "json: "))
	}
	return nil
}
