package service

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
)

// newAPI registers every operation; the OpenAPI document is made from them.
func (s *Service) newAPI() huma.API {
	huma.DefaultArrayNullable = false
	cfg := huma.DefaultConfig("Gull Route", "1")
	cfg.Info.Description = "Configure a mail transfer server, look after its queue, trace " +
		"messages and find out why they wait or bounce. Every error is a problem document (RFC " +
		"9457)."
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

	for _, part := range s.parts() {
		part.register(api)
	}
	describeStreams(api)
	describeLog(api)
	s.open = strangersPaths(api.OpenAPI().Paths)
	describeRights(api.OpenAPI().Paths)
	describeHelps(api.OpenAPI().Components.Schemas)
	s.app.Get("/api/openapi.json", func(c fiber.Ctx) error { return c.JSON(api.OpenAPI()) })
	return api
}

// describeRights says of each operation that not everybody may call who may.
func describeRights(paths map[string]*huma.PathItem) {
	for _, item := range paths {
		for method, op := range map[string]*huma.Operation{
			http.MethodGet: item.Get, http.MethodPost: item.Post, http.MethodPut: item.Put,
			http.MethodPatch: item.Patch, http.MethodDelete: item.Delete,
		} {
			if op == nil {
				continue
			}
			area := rights.Of(op.OperationID, method == http.MethodGet)
			if !rights.May(mail.Viewer, area) {
				op.Description = "Needs the role " + rights.Who(area) + "."
			}
		}
	}
}

// describeHelps says of whether waiting helps what is written: true, false or "unknown".
func describeHelps(schemas huma.Registry) {
	for _, schema := range schemas.Map() {
		if p := schema.Properties["waiting_helps"]; p != nil {
			p.Type, p.OneOf = "", []*huma.Schema{{Type: huma.TypeBoolean},
				{Type: huma.TypeString, Enum: []any{"unknown"}}}
		}
	}
}

// part is a part of the interface: its typed operations, and routes that stream.
type part interface{ register(api huma.API) }

// parts are all of them.
func (s *Service) parts() []part {
	return []part{
		signInAPI{s},
		passkeyAPI{s},
		singleSignOnAPI{s},
		operatorsAPI{s},
		auditAPI{s},
		statusAPI{s},
		queueAPI{s},
		traceAPI{s},
		boxesAPI{s},
		goneAPI{s},
		ownAPI{s},
		sessionAPI{s},
		reportAPI{s},
		archivesAPI{s},
		snagAPI{s},
		keptAPI{s},
		tableAPI{s},
		keysAPI{s},
		probeAPI{s},
		reviewAPI{s},
		bundleAPI{s},
		readinessAPI{s},
		publishAPI{s},
		feedbackAPI{s},
		certificatesAPI{s},
		policiesAPI{s},
		doctorAPI{s},
		draftAPI{s},
		gateAPI{s},
		reputationAPI{s},
		heldAPI{s},
		configAPI{s},
		directoryAPI{s},
	}
}

// out is an answer with a body only.
type out[T any] struct{ Body T }

// operation makes descriptions of operations. Who may call them is in core/rights.
type operation struct{}

func (o operation) make(method, id, path, summary string) huma.Operation {
	op := huma.Operation{
		OperationID: id,
		Method:      method,
		Path:        path,
		Summary:     summary,
		Errors: []int{
			http.StatusUnauthorized,
			http.StatusForbidden,
			http.StatusServiceUnavailable,
		},
	}
	if rights.Of(id, method == http.MethodGet) == rights.Open {
		op.Security = []map[string][]string{}
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
