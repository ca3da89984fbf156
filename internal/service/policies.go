package service

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/mail"
)

// policiesAPI serves what domains say of TLS for mail to them.
type policiesAPI struct{ *Service }

func (s policiesAPI) register(h huma.API) {
	op := operation{}
	const at = "/api/v1/tls-policies"
	huma.Register(h, read("tls-policies", at,
		"The TLS policies of domains (MTA-STS) that are known, by domain"), s.list)
	huma.Register(h, op.post("tls-policy-check", at+"/{domain}/check",
		"Ask a domain for its policy now, and how each of its hosts is to be known"), s.check)
}

func (s policiesAPI) list(
	ctx context.Context,
	in *struct{ Paging },
) (*out[api.Page[mail.TLSPolicy]], error) {
	items, err := s.Insight.Policies.Store.Policies(ctx, in.After, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "policy")
	}
	page := api.Page[mail.TLSPolicy]{Items: items}
	if len(items) == in.Limit {
		page.Next = items[len(items)-1].Domain
	}
	if page.Items == nil {
		page.Items = []mail.TLSPolicy{}
	}
	return &out[api.Page[mail.TLSPolicy]]{page}, nil
}

func (s policiesAPI) check(ctx context.Context, in *struct {
	Domain string `path:"domain" maxLength:"255"`
}) (*out[api.TLSPolicyChecked], error) {
	domain, err := address.ParseDomain(in.Domain)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("domain: " + err.Error())
	}
	return &out[api.TLSPolicyChecked]{s.Insight.Policies.Check(ctx, domain)}, nil
}
