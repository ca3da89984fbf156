package service

import (
	"context"
	"encoding/json"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
)

// keptAPI serves what people keep of how they look at things. Whoever may look may keep
// things of their own; what everybody sees is for administrators.
type keptAPI struct{ *Service }

func (s keptAPI) register(api huma.API) {
	huma.Register(api,
		read("kept", "/api/v1/kept", "Your views, columns and choices, and shared views"),
		s.list)
	huma.Register(api,
		operation{}.put("keep", "/api/v1/kept/{kind}/{name}", "Keep a view, columns or a choice"),
		s.keep)
	huma.Register(api,
		operation{}.remove("drop-kept", "/api/v1/kept/{kind}/{name}", "Remove what is kept"),
		s.drop)
}

// KeptPath names what is kept in a path.
type KeptPath struct {
	Kind   string `path:"kind"    enum:"view,table,choice"`
	Name   string `path:"name"    minLength:"1"            maxLength:"100"`
	Shared bool   `query:"shared" doc:"That which everybody sees"`
}

// maxKeptValue bounds one thing that is kept, in octets of JSON.
const maxKeptValue = 16 << 10

func (s keptAPI) list(ctx context.Context, _ *struct{}) (*out[api.Page[mail.Kept]], error) {
	items, err := s.Control.Kept.List(ctx, signedIn(ctx).Name)
	if err != nil {
		return nil, s.storeError(err, "kept")
	}
	return &out[api.Page[mail.Kept]]{api.Page[mail.Kept]{Items: items}}, nil
}

func (s keptAPI) keep(ctx context.Context, in *struct {
	KeptPath
	Body struct {
		Value map[string]any `json:"value"`
	}
}) (*struct{}, error) {
	who := signedIn(ctx)
	if err := mayShare(who, in.Shared); err != nil {
		return nil, err
	}
	if text, err := json.Marshal(in.Body.Value); err != nil || len(text) > maxKeptValue {
		refused := fault.Refuse("value", "it is larger than the %d octets that are kept",
			maxKeptValue)
		return nil, s.storeError(refused, "kept")
	}
	err := s.Control.Kept.Keep(ctx, who.Name,
		mail.Kept{Kind: in.Kind, Name: in.Name, Shared: in.Shared, Value: in.Body.Value})
	if err != nil {
		return nil, s.storeError(err, "kept")
	}
	return nil, nil
}

func (s keptAPI) drop(ctx context.Context, in *KeptPath) (*struct{}, error) {
	who := signedIn(ctx)
	if err := mayShare(who, in.Shared); err != nil {
		return nil, err
	}
	if err := s.Control.Kept.Drop(ctx, who.Name, in.Kind, in.Name, in.Shared); err != nil {
		return nil, s.storeError(err, in.Kind)
	}
	return nil, nil
}

func mayShare(w who, shared bool) error {
	if shared && !rights.May(w.Role, rights.Settings) {
		return huma.Error403Forbidden(
			"what everybody sees needs the role administrator; keep it for yourself")
	}
	return nil
}
