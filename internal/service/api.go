package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

// newAPI registers every operation; the OpenAPI document is made from them.
func (s *Service) newAPI() huma.API {
	huma.DefaultArrayNullable = false
	cfg := huma.DefaultConfig("Gull Route", "1")
	cfg.Info.Description = "Configure a mail transfer server, look after its queue, trace messages and find out why they wait or bounce. Every error is a problem document (RFC 9457)."
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath = "/api/openapi", "", "/api/schemas"
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"session": {Type: "apiKey", In: "cookie", Name: Cookie},
	}
	cfg.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	cfg.CreateHooks = nil // no $schema links in answers
	cfg.Transformers = []huma.Transformer{s.maskAnswer}
	api := huma.NewAPI(cfg, fiberAdapter{s.app})
	s.api = api
	api.UseMiddleware(s.guard)

	open := operation{open: true}
	admin := operation{admin: true}
	huma.Register(api, open.post("sign-in", "/api/v1/sign-in", "Sign in at the console"), s.signIn)
	huma.Register(api, open.post("sign-out", "/api/v1/sign-out", "Sign out"), s.signOut)
	huma.Register(api, read("me", "/api/v1/me", "Who is signed in"), func(ctx context.Context, _ *struct{}) (*out[who], error) {
		return &out[who]{signedIn(ctx)}, nil
	})
	huma.Register(api, read("status", "/api/v1/status", "How the node does: what flows, waits and is in trouble"), s.status)
	huma.Register(api, read("lanes", "/api/v1/lanes", "Lanes with mail waiting, those with most first"), s.listLanes)
	huma.Register(api, read("lane", "/api/v1/lanes/{id}", "One lane with its last hour, also when nothing waits in it"), s.showLane)
	huma.Register(api, read("queue", "/api/v1/queue", "Deliveries that are not finished, oldest first"), s.listQueue)
	huma.Register(api, read("lane-groups", "/api/v1/lane-groups", "The lanes summed up by route, host, cause or state"), s.groupLanes)
	huma.Register(api, read("actions", "/api/v1/actions", "What people did with letters, lanes and nodes, newest first"), s.listActions)
	huma.Register(api, read("pauses", "/api/v1/pauses", "What people have stopped"), s.listPauses)
	huma.Register(api, admin.post("pause", "/api/v1/pauses", "Stop a lane, a route, a listener, a node or all delivery"), s.pause)
	huma.Register(api, admin.post("resume", "/api/v1/resume", "Let it go on"), s.resume)
	huma.Register(api, read("nodes", "/api/v1/nodes", "The services on this database"), s.listNodes)
	huma.Register(api, read("schedule-preview", "/api/v1/schedule/preview", "When a letter would be tried, its sender told and it be given up"), s.previewSchedule)
	huma.Register(api, admin.make(http.MethodGet, "letter", "/api/v1/messages/{id}/letter", "A letter's header, structure and text, safe to look at"), s.showLetter)
	huma.Register(api, read("trace", "/api/v1/trace", "Find letters, and what was refused before it was one"), s.search)
	huma.Register(api, read("messages", "/api/v1/messages", "The same, of messages only"), s.findMessages)
	huma.Register(api, read("message", "/api/v1/messages/{id}", "A message's whole way"), s.showMessage)
	huma.Register(api, read("refusal", "/api/v1/refusals/{id}", "What was refused, and why"), s.showRefusal)
	huma.Register(api, read("sessions", "/api/v1/sessions", "SMTP and LMTP sessions in and out, newest first; open ones on top"), s.listSessions)
	huma.Register(api, read("session", "/api/v1/sessions/{id}", "A session with its exact dialogue"), s.showSession)
	huma.Register(api, read("watches", "/api/v1/watches", "Whose sessions are recorded in full for now"), s.listWatches)
	huma.Register(api, admin.post("watch", "/api/v1/watches", "Record sessions of a client or domain in full for a while"), s.watch)
	huma.Register(api, read("report", "/api/v1/report", "What the traffic looks like in a period"), s.report)
	huma.Register(api, read("report-letters", "/api/v1/report/letters", "The letters behind a figure"), s.figure)
	huma.Register(api, read("report-table", "/api/v1/report/tables/{dim}", "Counts by value of a dimension, those with most first"), s.reportTable)
	huma.Register(api, operation{}.post("explain", "/api/v1/explain", "What would be decided for an envelope; nothing is sent"), s.explain)
	huma.Register(api, admin.post("send", "/api/v1/send", "Hand a test letter in at a listener"), s.send)
	huma.Register(api, read("mailbox-messages", "/api/v1/mailboxes/{address}/messages", "Letters in a mailbox, newest first"), s.listMailbox)
	huma.Register(api, read("archives", "/api/v1/archives", "Opened archives, newest first"), s.listArchives)
	huma.Register(api, admin.remove("archive-close", "/api/v1/archives/{id}", "Forget an opened archive"), s.closeArchive)
	huma.Register(api, read("log-level", "/api/v1/log/level", "How much the service writes to its log"), s.showLogLevel)
	huma.Register(api, admin.put("set-log-level", "/api/v1/log/level", "Change it while it runs"), s.setLogLevel)
	s.snagOperations(api)
	s.dkimOperations(api)
	s.probeOperations(api)
	s.reviewOperations(api)
	s.bundleOperation(api)
	s.readinessOperations(api)
	s.setupOperations(api)
	s.peopleOperations(api)
	describeStreams(api)
	describeLog(api)
	s.app.Get("/api/openapi.json", s.openAPI)
	return api
}

// out is an answer with a body only.
type out[T any] struct{ Body T }

// page is one page of a list.
type page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next" doc:"Give this as after to go on; empty at the end"`
}

// operation says who may call it.
type operation struct{ open, admin bool }

func (o operation) make(method, id, path, summary string) huma.Operation {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary,
		Errors: []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusServiceUnavailable}, Metadata: map[string]any{"open": o.open, "administrator": o.admin}}
	if o.open {
		op.Security = []map[string][]string{}
	}
	if o.admin {
		op.Description = "Needs the role administrator."
	}
	return op
}

func (o operation) post(id, path, summary string) huma.Operation {
	return o.make(http.MethodPost, id, path, summary)
}

func (o operation) patch(id, path, summary string) huma.Operation {
	return o.make(http.MethodPatch, id, path, summary)
}

func (o operation) remove(id, path, summary string) huma.Operation {
	return o.make(http.MethodDelete, id, path, summary)
}

func (o operation) put(id, path, summary string) huma.Operation {
	return o.make(http.MethodPut, id, path, summary)
}

func read(id, path, summary string) huma.Operation {
	op := operation{}.make(http.MethodGet, id, path, summary)
	op.Errors = append(op.Errors, http.StatusNotFound)
	return op
}
