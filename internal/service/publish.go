package service

import (
	"context"
	"errors"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
)

// publishAPI puts records into DNS, and takes them back.
type publishAPI struct{ *Service }

func (s publishAPI) register(h huma.API) {
	op := operation{}
	huma.Register(h, op.post(
		"publish-plan",
		"/api/v1/readiness/{domain}/publish/plan",
		"What would be published for a domain: each change as a difference, and what has to "+
			"be put in "+
			"by hand",
	), s.plan)
	huma.Register(h, op.post(
		"publish",
		"/api/v1/readiness/{domain}/publish",
		"Publish the plan that was seen at the DNS servers that take changes from us, and "+
			"wait until "+
			"the zones' servers show it",
	), s.publish)
	huma.Register(h, read("dns-changes", "/api/v1/dns-changes",
		"Records that we published, the latest first"), s.list)
	huma.Register(h, op.post("dns-change-take-back", "/api/v1/dns-changes/{id}/take-back",
		"Put back what stood there before, unless others changed it since"), s.takeBack)
}

// PublishWhat names points of readiness.
type PublishWhat struct {
	Points []string `json:"points,omitempty" maxItems:"32" doc:"Points of readiness like spf and mx; all if not given"`
}

func (s publishAPI) failed(err error, what string) error {
	switch {
	case errors.Is(err, fault.ErrInput):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.Is(err, control.ErrPlanChanged):
		return huma.Error409Conflict(err.Error())
	}
	return s.storeError(err, what)
}

func (s publishAPI) plan(ctx context.Context, in *struct {
	Domain string `path:"domain"`
	Body   PublishWhat
}) (*out[api.PublishPlan], error) {
	domain, err := readinessAPI(s).ownDomain(in.Domain)
	if err != nil {
		return nil, err
	}
	plan, err := s.Control.Publisher.Plan(ctx, domain, in.Body.Points)
	if err != nil {
		return nil, s.failed(err, "domain")
	}
	return &out[api.PublishPlan]{plan}, nil
}

func (s publishAPI) publish(ctx context.Context, in *struct {
	Domain string `path:"domain"`
	Body   struct {
		PublishWhat
		Mark string `json:"mark" minLength:"1" maxLength:"64" doc:"Of the plan that was seen"`
	}
}) (*out[api.PublishPlan], error) {
	domain, err := readinessAPI(s).ownDomain(in.Domain)
	if err != nil {
		return nil, err
	}
	plan, err := s.Control.Publisher.Publish(ctx, signedIn(ctx).Name, domain, in.Body.Points,
		in.Body.Mark)
	if err != nil {
		return nil, s.failed(err, "domain")
	}
	return &out[api.PublishPlan]{plan}, nil
}

func (s publishAPI) list(
	ctx context.Context,
	in *struct {
		Paging
		Domain string `query:"domain" maxLength:"255" doc:"Of ours; all if not given"`
	},
) (*out[api.Page[mail.DNSChange]], error) {
	before, err := strconv.ParseInt("0"+in.After, 10, 64)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("after: write the id of a change")
	}
	domain := ""
	if in.Domain != "" {
		if domain, err = domainOf(in.Domain); err != nil {
			return nil, err
		}
	}
	items, err := s.Control.Publisher.Store.List(ctx, domain, before, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "change")
	}
	page := api.Page[mail.DNSChange]{Items: append([]mail.DNSChange{}, items...)}
	if len(items) == in.Limit {
		page.Next = strconv.FormatInt(items[len(items)-1].ID, 10)
	}
	return &out[api.Page[mail.DNSChange]]{page}, nil
}

func (s publishAPI) takeBack(ctx context.Context, in *struct {
	ID int64 `path:"id"`
}) (*out[mail.DNSChange], error) {
	c, err := s.Control.Publisher.TakeBack(ctx, signedIn(ctx).Name, in.ID)
	if err != nil {
		return nil, s.failed(err, "change")
	}
	return &out[mail.DNSChange]{c}, nil
}
