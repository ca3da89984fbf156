package service

import (
	"context"
	"errors"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/form"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/rights"
	"gullroute/internal/core/snag"
)

// snagAPI serves snags.
type snagAPI struct{ *Service }

func (s snagAPI) register(api huma.API) {
	op := operation{}
	huma.Register(api,
		read("snags", "/api/v1/snags", "Troubles: the same cause at the same place, worst first"),
		s.listSnags)
	huma.Register(
		api,
		read("snag", "/api/v1/snags/{id}",
			"One trouble, with an example, its hours and what can be done"),
		s.showSnag,
	)
	huma.Register(
		api,
		read("snag-story", "/api/v1/snags/{id}/story",
			"What has to do with a trouble, in order of time, and troubles like it that are over"),
		s.snagStory,
	)
	huma.Register(api,
		op.patch("change-snag", "/api/v1/snags/{id}", "Note something, look after it, mute it"),
		s.changeSnag)
	huma.Register(
		api,
		op.post(
			"fix-snag",
			"/api/v1/snags/{id}/fix",
			"Do one of the things that are offered; what concerns the configuration goes into the "+
				"draft",
		),
		s.fixSnag,
	)
}

type snagsInput struct {
	State  string `query:"state" enum:"open,closed" default:"open"`
	Muted  bool   `query:"muted" doc:"Muted ones too"`
	Parts  bool   `query:"parts" doc:"Those too that are likely part of one of ours"`
	PartOf string `query:"part_of" doc:"Those that one of ours is made of"`
	Cause  string `query:"cause"`
	Place  string `query:"place" doc:"A part of a place's name"`
	Lane   string `query:"lane" doc:"A lane's id"`
	Paging
}

func (s snagAPI) listSnags(ctx context.Context, in *snagsInput) (*out[api.SnagPage], error) {
	f := snag.Filter{
		Closed: in.State == "closed",
		Muted:  in.Muted,
		Parts:  in.Parts,
		Cause:  in.Cause,
		Place:  in.Place,
		After:  in.After,
		Limit:  in.Limit,
	}
	for _, word := range []struct {
		name, text string
		into       *ident.ID
	}{{"part_of", in.PartOf, &f.PartOf}, {"lane", in.Lane, &f.Lane}, {"after", in.After,
		new(ident.ID)}} {
		if word.text == "" {
			continue
		}
		if err := word.into.UnmarshalText([]byte(word.text)); err != nil {
			return nil, huma.Error422UnprocessableEntity(word.name + ": " + err.Error())
		}
	}
	list, err := s.Insight.Snags.List(ctx, f)
	if err != nil {
		return nil, s.storeError(err, "snag")
	}
	body := api.SnagPage{Items: append([]snag.Snag{}, list...)}
	if len(list) == in.Limit {
		body.Next = list[len(list)-1].ID.String()
	}
	if body.Counts, err = s.Insight.Snags.Counts(ctx); err != nil {
		return nil, s.storeError(err, "snag")
	}
	return &out[api.SnagPage]{body}, nil
}

// SnagPath names a trouble in a path.
type SnagPath struct {
	ID string `path:"id"`
}

func (in SnagPath) id() (ident.ID, error) {
	id, err := ident.Parse(in.ID)
	if err != nil {
		return 0, huma.Error422UnprocessableEntity(err.Error())
	}
	return id, nil
}

func (s snagAPI) showSnag(ctx context.Context, in *SnagPath) (*out[snag.Snag], error) {
	id, err := in.id()
	if err != nil {
		return nil, err
	}
	x, err := s.Insight.Snags.One(ctx, id)
	if err != nil {
		return nil, s.storeError(err, "snag")
	}
	return &out[snag.Snag]{x}, nil
}

func (s snagAPI) snagStory(ctx context.Context, in *SnagPath) (*out[snag.Story], error) {
	id, err := in.id()
	if err != nil {
		return nil, err
	}
	st, err := s.Insight.Snags.Story(ctx, id)
	if err != nil {
		return nil, s.storeError(err, "snag")
	}
	return &out[snag.Story]{st}, nil
}

// snagChange is what a person says of a trouble.
type snagChange struct {
	Note *string `json:"note,omitempty" maxLength:"2000"`
	Mine *bool   `json:"mine,omitempty" doc:"Whether you look after it"`
	Mute *string `json:"mute,omitempty" doc:"Leave it out of lists for so long: 4h, 2d; nothing ends it"`
}

func (s snagAPI) changeSnag(ctx context.Context, in *struct {
	SnagPath
	Body snagChange
}) (*out[snag.Snag], error) {
	id, err := in.id()
	if err != nil {
		return nil, err
	}
	who := signedIn(ctx).Name
	change := snag.Change{Note: in.Body.Note}
	if m := in.Body.Mine; m != nil {
		change.Mine = new(string)
		if *m {
			change.Mine = &who
		}
	}
	if m := in.Body.Mute; m != nil {
		until := time.Unix(0, 0)
		if *m != "" {
			d, err := form.ParseDuration(*m)
			if err != nil || d <= 0 {
				return nil, huma.Error422UnprocessableEntity(
					"mute: write a time like 4h or 2d, or nothing to end it",
				)
			}
			until = time.Now().Add(d)
		}
		change.MutedUntil = &until
	}
	if err := s.Insight.Snags.Change(ctx, id, who, change); err != nil {
		return nil, s.storeError(err, "snag")
	}
	return s.showSnag(ctx, &in.SnagPath)
}

func (s snagAPI) fixSnag(ctx context.Context, in *struct {
	SnagPath
	Body snag.Order
}) (*out[api.Done], error) {
	id, err := in.id()
	if err != nil {
		return nil, err
	}
	settles := in.Body.Do != diagnose.FixFlush && in.Body.Do != diagnose.FixPause &&
		in.Body.Do != diagnose.FixReturn && in.Body.Do != diagnose.FixSmartHost &&
		in.Body.Do != diagnose.FixRecord
	if w := signedIn(ctx); settles && !rights.May(w.Role, rights.Settings) {
		return nil, huma.Error403Forbidden("this fix changes the settings, which needs the role " +
			rights.Who(rights.Settings) + "; " + w.Name + " has the role " + string(w.Role))
	}
	done, err := s.Control.Fixer.FixSnag(context.WithoutCancel(ctx), signedIn(ctx).Name, id,
		in.Body)
	s.Insight.Lanes.Forget()
	switch {
	case err == nil:
		return &out[api.Done]{done}, nil
	case errors.Is(err, config.ErrNoItem), errors.Is(err, config.ErrIsThere):
		return nil, huma.Error409Conflict(
			"the draft does not fit this fix any more: " + err.Error(),
		)
	}
	return nil, s.actionError(err)
}
