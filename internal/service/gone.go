package service

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/mail"
)

// goneAPI serves mailboxes that were taken out, and gives them back.
type goneAPI struct{ *Service }

func (s goneAPI) register(h huma.API) {
	op := operation{}
	huma.Register(h, read("mailboxes-removed", "/api/v1/removed-mailboxes",
		"Mailboxes that were taken out and can be given back, the latest first"), s.list)
	huma.Register(h, op.post("mailbox-give-back", "/api/v1/removed-mailboxes/{address}/give-back",
		"Give one back, the latest with its address, with password and mail"), s.giveBack)
}

func (s goneAPI) list(ctx context.Context, _ *struct{}) (*out[api.Page[mail.GoneMailbox]], error) {
	items, err := s.Control.Directory.Gone(ctx, boundsOf(ctx))
	if err != nil {
		return nil, s.storeError(err, "mailbox")
	}
	for i := range items {
		items[i].Address = displayed(items[i].Address)
	}
	return &out[api.Page[mail.GoneMailbox]]{api.Page[mail.GoneMailbox]{Items: items}}, nil
}

func (s goneAPI) giveBack(ctx context.Context, in *struct {
	EntryPath
	Body struct {
		As string `json:"as,omitempty" maxLength:"320" doc:"Another address, if its own is somebody's now"`
	}
}) (*out[api.GivenBack], error) {
	was, err := in.address()
	if err != nil {
		return nil, err
	}
	as := was
	if in.Body.As != "" {
		if as, err = address.Parse(in.Body.As); err != nil {
			return nil, huma.Error422UnprocessableEntity("as: " + err.Error())
		}
	}
	m, left, err := s.Control.Directory.GiveBack(ctx, signedIn(ctx).Name, boundsOf(ctx), was, as,
		func(m *directory.Mailbox) error { return mayGive(ctx, m) })
	var beyond huma.StatusError
	if errors.As(err, &beyond) {
		return nil, err
	}
	if err != nil {
		return nil, directoryAPI(s).entryError(err, "removed mailbox", was)
	}
	given := api.GivenBack{Address: m.Address.Display(), Left: []string{}}
	for _, a := range left {
		given.Left = append(given.Left, a.Display())
	}
	return &out[api.GivenBack]{given}, nil
}
