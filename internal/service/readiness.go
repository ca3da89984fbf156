package service

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/readiness"
)

// readinessAPI serves readiness.
type readinessAPI struct{ *Service }

func (s readinessAPI) register(api huma.API) {
	huma.Register(
		api,
		read("readiness-list", "/api/v1/readiness",
			"How ready our domains are, at the last check of each"),
		s.listReadiness,
	)
	huma.Register(
		api,
		read("readiness", "/api/v1/readiness/{domain}",
			"What the world sees of one of our domains, at the last look, and what changed"),
		s.showReadiness,
	)
	huma.Register(
		api,
		operation{}.post("readiness-check", "/api/v1/readiness/{domain}/check",
			"Look at one of our domains now: its DNS, hosts, identity and reputation"),
		s.checkReadiness,
	)
}

func (s readinessAPI) listReadiness(
	ctx context.Context,
	_ *struct{},
) (*out[api.Page[readiness.Readiness]], error) {
	all, err := s.Insight.Readiness.All(ctx)
	if err != nil {
		return nil, s.storeError(err, "readiness")
	}
	cfg := s.InForce.Config()
	items := []readiness.Readiness{}
	looked := map[string]bool{}
	for _, r := range all {
		if cfg.Domain(r.Domain) != nil {
			items, looked[r.Domain] = append(items, r), true
		}
	}
	for _, d := range cfg.Domains {
		if !looked[string(d.Name)] {
			items = append(items, readiness.Readiness{
				Domain:  string(d.Name),
				Name:    address.DisplayDomain(string(d.Name)),
				Kind:    d.Kind,
				Verdict: "Not looked at yet.",
				Points:  []readiness.Aspect{},
			})
		}
	}
	return &out[api.Page[readiness.Readiness]]{api.Page[readiness.Readiness]{Items: items}}, nil
}

func (s readinessAPI) showReadiness(ctx context.Context, in *struct {
	Domain string `path:"domain"`
}) (*out[readiness.Looks], error) {
	domain, err := s.ownDomain(in.Domain)
	if err != nil {
		return nil, err
	}
	h, err := s.Insight.Readiness.History(ctx, domain)
	if err != nil {
		return nil, s.storeError(err, "readiness")
	}
	return &out[readiness.Looks]{*h}, nil
}

func (s readinessAPI) ownDomain(text string) (string, error) {
	domain, err := domainOf(text)
	if err == nil && s.InForce.Config().Domain(domain) == nil {
		err = huma.Error404NotFound(text + " is not among our domains; gull probe checks others")
	}
	return domain, err
}

func (s readinessAPI) checkReadiness(ctx context.Context, in *struct {
	Domain string `path:"domain"`
}) (*out[readiness.Readiness], error) {
	domain, err := s.ownDomain(in.Domain)
	if err != nil {
		return nil, err
	}
	r, err := s.Insight.Readiness.Check(ctx, domain)
	if errors.Is(err, fault.ErrInput) {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if err != nil {
		return nil, s.storeError(err, "readiness")
	}
	return &out[readiness.Readiness]{r}, nil
}
