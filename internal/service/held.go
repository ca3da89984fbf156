package service

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// heldAPI serves what is held.
type heldAPI struct{ *Service }

func (s heldAPI) register(api huma.API) {
	huma.Register(api, read("held-list", "/api/v1/held",
		"Messages that gates, the score, identity or people hold, newest first, with why"), s.list)
	huma.Register(api, operation{}.post(
		"held-release",
		"/api/v1/held/release",
		"Let held messages go on: with their senders allowed, or without their attachments",
	), s.release)
}

type heldInput struct {
	By       string        `query:"by" enum:"gate,score,identity,limit,person,other"`
	Name     string        `query:"name" doc:"Of the gate or the person"`
	Severity mail.Severity `query:"severity" enum:"none,minor,serious,critical" doc:"At least that"`
	Find     string        `query:"find" doc:"A part of sender, From, recipient or subject"`
	Limit    int           `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	After    string        `query:"after" doc:"The next of the page before"`
}

func (s heldAPI) list(ctx context.Context, in *heldInput) (*out[api.Page[mail.HeldItem]], error) {
	f := mail.HeldFilter{
		By:       in.By,
		Name:     in.Name,
		Severity: in.Severity,
		Find:     in.Find,
		Within:   boundsOf(ctx),
		Limit:    in.Limit + 1,
	}
	if in.After != "" {
		after, err := mail.ParseDeliveryID(in.After)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("after: write the next of the page before")
		}
		f.After = after
	}
	list, err := s.Control.Held.List(ctx, f)
	if err != nil {
		return nil, s.storeError(err, "message")
	}
	page := api.Page[mail.HeldItem]{Items: list}
	if len(list) > in.Limit {
		page.Items = list[:in.Limit]
		page.Next = list[in.Limit-1].ID.String()
	}
	if page.Items == nil {
		page.Items = []mail.HeldItem{}
	}
	return &out[api.Page[mail.HeldItem]]{page}, nil
}

func (s heldAPI) release(
	ctx context.Context,
	in *struct{ Body api.HeldRelease },
) (*out[api.Done], error) {
	if b := boundsOf(ctx); !b.None() {
		if in.Body.AllowSender != "" {
			return nil, huma.Error403Forbidden(
				"whom the server trusts is for those who look after all of it; release without allowing",
			)
		}
		f, err := filterOf(mail.Selection{Deliveries: in.Body.Deliveries, Within: b})
		if err != nil {
			return nil, err
		}
		f.Limit = len(in.Body.Deliveries)
		list, err := s.Insight.Lanes.Deliveries(ctx, f)
		if err != nil {
			return nil, s.storeError(err, "delivery")
		}
		if len(list) < len(in.Body.Deliveries) {
			return nil, errBeyond("held message")
		}
	}
	done, err := s.Control.Held.Release(ctx, signedIn(ctx).Name, in.Body)
	s.Insight.Lanes.Forget()
	if err != nil {
		return nil, s.actionError(err)
	}
	return &out[api.Done]{done}, nil
}
