package service

import (
	"context"
	"errors"
	"fmt"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
)

// configAPI serves revisions and whole configurations.
type configAPI struct{ *Service }

func (s configAPI) register(api huma.API) {
	op := operation{}
	huma.Register(api,
		read("revisions", "/api/v1/revisions", "Configurations that were applied, newest first"),
		s.listRevisions)
	huma.Register(api,
		read("revision", "/api/v1/revisions/{number}", "One revision, and what it changed"),
		s.showRevision)
	huma.Register(
		api,
		op.post("revision-revert", "/api/v1/revisions/{number}/revert",
			"Go back to a revision; it is in force immediately"),
		s.revert,
	)
	huma.Register(
		api,
		op.post("revision-confirm", "/api/v1/revisions/{number}/confirm",
			"Keep a revision that would go back by itself"),
		s.confirm,
	)
	huma.Register(
		api,
		read("config", "/api/v1/config",
			"Configuration and directory as one text, secrets removed"),
		s.exportConfig,
	)
	huma.Register(
		api,
		op.post("config-export-secrets", "/api/v1/config/with-secrets",
			"Configuration and directory as one text, hashes and passwords included"),
		s.exportSecrets,
	)
	huma.Register(
		api,
		operation{}.post("config-check", "/api/v1/config/check",
			"Check a configuration; nothing changes"),
		s.checkConfig,
	)
	huma.Register(api,
		op.put("config-import", "/api/v1/config", "Take a whole text as the draft"),
		s.importConfig)
	s.app.Get("/api/v1/config/schema.json",
		func(c fiber.Ctx) error { return c.JSON(config.Schema()) })
}

func (s configAPI) listRevisions(ctx context.Context, in *struct {
	Limit int `query:"limit" default:"50" minimum:"1" maximum:"500"`
	After int `query:"after"`
}) (*out[api.Page[mail.Revision]], error) {
	list, err := s.Control.Drafts.History(ctx, in.After, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "revision")
	}
	body := api.Page[mail.Revision]{Items: list}
	if len(list) == in.Limit {
		body.Next = fmt.Sprint(list[len(list)-1].Number)
	}
	return &out[api.Page[mail.Revision]]{body}, nil
}

func (s configAPI) showRevision(ctx context.Context, in *struct {
	Number  int `path:"number"`
	Against int `query:"against" doc:"Another revision to compare with; the one before if not given"`
}) (*out[api.RevisionView], error) {
	rev, err := s.Control.Drafts.Revision(ctx, in.Number)
	if err != nil {
		return nil, s.storeError(err, "revision")
	}
	v := api.RevisionView{Revision: rev, Changes: []config.Change{}, Against: in.Against}
	if v.Against == 0 {
		v.Against = in.Number - 1
	}
	if v.Against > 0 {
		old, err := s.Control.Drafts.Revision(ctx, v.Against)
		if err != nil {
			return nil, s.storeError(err, "revision to compare with")
		}
		before, err1 := config.ParseDocument(old.Text)
		after, err2 := config.ParseDocument(rev.Text)
		if err := errors.Join(err1, err2); err != nil {
			return nil, huma.Error500InternalServerError(err.Error())
		}
		v.Changes = config.Diff(before, after)
		v.YAML, _ = control.YAMLDiff(before.String(), after.String(),
			fmt.Sprintf("revision %d", v.Against), fmt.Sprintf("revision %d", rev.Number))
	}
	return &out[api.RevisionView]{v}, nil
}

func (s configAPI) revert(ctx context.Context, in *struct {
	Number int `path:"number"`
	Body   struct {
		Why string `json:"why,omitempty" maxLength:"500"`
	}
}) (*out[api.Applied], error) {
	a, err := s.Control.Drafts.Revert(ctx, signedIn(ctx).Name, in.Number, in.Body.Why)
	if err != nil {
		return nil, s.storeOr(err, "revision")
	}
	s.Insight.Lanes.Forget()
	return &out[api.Applied]{a}, nil
}

func (s configAPI) confirm(ctx context.Context, in *struct {
	Number int `path:"number"`
}) (*struct{}, error) {
	ok, err := s.Control.Drafts.Confirm(ctx, in.Number)
	if err != nil {
		return nil, s.storeError(err, "revision")
	}
	if !ok {
		return nil, huma.Error409Conflict(
			fmt.Sprintf("revision %d does not wait for confirmation", in.Number),
		)
	}
	return nil, nil
}

func (s configAPI) exportConfig(ctx context.Context, in *struct {
	Directory bool `query:"directory" default:"true" doc:"With mailboxes and aliases"`
}) (*out[api.ConfigText], error) {
	return s.export(ctx, in.Directory, false)
}

func (s configAPI) exportSecrets(ctx context.Context, _ *struct{}) (*out[api.ConfigText], error) {
	return s.export(ctx, true, true)
}

func (s configAPI) export(ctx context.Context, directory, secrets bool) (*out[api.ConfigText], error) {
	rev, err := s.Control.Drafts.Latest(ctx)
	if err != nil {
		return nil, s.storeError(err, "configuration")
	}
	if directory {
		if rev.Text, err = s.Control.Directory.Export(ctx, rev.Text, secrets); err != nil {
			return nil, s.storeError(err, "directory")
		}
	}
	return &out[api.ConfigText]{api.ConfigText{Revision: rev.Number, Text: rev.Text}}, nil
}

type configInput struct {
	Body struct {
		Text string `json:"text" doc:"YAML" maxLength:"32000000"`
		Name string `json:"name,omitempty" doc:"Of the file" maxLength:"200"`
		Dry  bool   `json:"dry_run,omitempty"`
	}
}

func (s configAPI) checkConfig(ctx context.Context, in *configInput) (*out[api.ConfigText], error) {
	in.Body.Text = s.Control.Drafts.WithWebhooks(ctx, in.Body.Text)
	if _, err := config.Parse([]byte(in.Body.Text)); err != nil {
		return nil, configProblem(err)
	}
	text := api.ConfigText{Revision: s.InForce.Config().Revision, Text: in.Body.Text}
	return &out[api.ConfigText]{text}, nil
}

func (s configAPI) importConfig(ctx context.Context, in *configInput) (*out[api.Draft], error) {
	in.Body.Text = s.Control.Drafts.WithWebhooks(ctx, in.Body.Text)
	if _, err := config.Parse([]byte(in.Body.Text)); err != nil {
		return nil, configProblem(err)
	}
	if !in.Body.Dry {
		what := "import of a whole text"
		if in.Body.Name != "" {
			what = "import of " + in.Body.Name
		}
		if err := s.Control.Drafts.ReplaceDraft(
			ctx,
			signedIn(ctx).Name,
			in.Body.Text,
			what,
		); err != nil {
			return nil, s.setupError(err, config.ServiceSection, "")
		}
	}
	d, err := s.Control.Drafts.State(ctx, false)
	if err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	return &out[api.Draft]{d}, nil
}

// configProblem lists what is wrong, each with its line and field.
func configProblem(err error) error {
	var problems config.Problems
	errors.As(err, &problems)
	var details []error
	for _, p := range problems {
		details = append(details,
			&huma.ErrorDetail{Location: p.Field, Message: p.Text, Value: p.Line})
	}
	return huma.Error422UnprocessableEntity(
		"the configuration is not valid; nothing was changed",
		details...)
}
