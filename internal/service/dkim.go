package service

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/address"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/keyfile"
)

// keysAPI serves the keys that sign.
type keysAPI struct{ *Service }

func (s keysAPI) register(api huma.API) {
	op := operation{}
	huma.Register(
		api,
		read("dkim-keys", "/api/v1/dkim",
			"Keys that sign messages (DKIM), with the records that publish them"),
		s.listKeys,
	)
	huma.Register(
		api,
		op.post(
			"dkim-make",
			"/api/v1/dkim",
			"Make a key, or take over one that was in use elsewhere; it signs nothing until its "+
				"record is in DNS",
		),
		s.makeKey,
	)
	huma.Register(api, read("dkim-key", "/api/v1/dkim/{domain}/{selector}", "One key"), s.showKey)
	huma.Register(
		api,
		op.post("dkim-check", "/api/v1/dkim/{domain}/{selector}/check",
			"Ask DNS for its record now"),
		s.checkKey,
	)
	huma.Register(
		api,
		op.post("dkim-use", "/api/v1/dkim/{domain}/{selector}/use",
			"Let it sign; the domain's key of the same kind before it retires"),
		s.useKey,
	)
	huma.Register(api,
		op.post("dkim-retire", "/api/v1/dkim/{domain}/{selector}/retire", "Let it sign no more"),
		s.retireKey)
	huma.Register(
		api,
		op.remove("dkim-remove", "/api/v1/dkim/{domain}/{selector}",
			"Forget a key that signs nothing"),
		s.removeKey,
	)
}

// KeyPath names a key in a path.
type KeyPath struct {
	Domain   string `path:"domain"`
	Selector string `path:"selector"`
}

func domainOf(text string) (string, error) {
	d, err := address.ParseDomain(text)
	if err != nil {
		return "", huma.Error422UnprocessableEntity("domain: " + err.Error())
	}
	return d, nil
}

func (s keysAPI) listKeys(ctx context.Context, in *struct {
	Domain string `query:"domain"`
}) (*out[api.Page[mail.DKIMKey]], error) {
	domain := ""
	if in.Domain != "" {
		var err error
		if domain, err = domainOf(in.Domain); err != nil {
			return nil, err
		}
	}
	keys, err := s.Control.Keys.List(ctx, domain)
	if err != nil {
		return nil, s.storeError(err, "key")
	}
	return &out[api.Page[mail.DKIMKey]]{api.Page[mail.DKIMKey]{Items: keys}}, nil
}

func (s keysAPI) makeKey(ctx context.Context, in *struct {
	Body struct {
		Domain    string `json:"domain"`
		Selector  string `json:"selector,omitempty" doc:"Chosen by kind and month if not given"`
		Algorithm string `json:"algorithm,omitempty" enum:"rsa-2048,rsa-3072,ed25519" default:"rsa-2048"`
		Private   string `json:"private,omitempty" doc:"A private key (PEM) that was in use elsewhere"`
		TakesOver bool   `json:"takes_over,omitempty" doc:"It begins to sign by itself once DNS has shown its record for the overlap"`
		Overlap   *int64 `json:"overlap,omitempty" minimum:"0" maximum:"2592000" doc:"Seconds; if not given an hour, or none if nothing signs yet"`
	}
}) (*out[mail.DKIMKey], error) {
	b := in.Body
	domain, err := domainOf(b.Domain)
	if err != nil {
		return nil, err
	}
	overlap := time.Hour
	keys, err := s.Control.Keys.List(ctx, domain)
	if err != nil {
		return nil, s.storeError(err, "key")
	}
	if !slices.ContainsFunc(keys, func(k mail.DKIMKey) bool { return k.State == mail.KeySigning }) {
		overlap = 0 // nothing signs yet that it could break
	}
	if b.Overlap != nil {
		overlap = time.Duration(*b.Overlap) * time.Second
	}
	k, err := s.Control.Keys.MakeKey(ctx, signedIn(ctx).Name, control.NewKey{
		Domain:    domain,
		Selector:  b.Selector,
		Algorithm: b.Algorithm,
		Private:   b.Private,
		TakesOver: b.TakesOver,
		Overlap:   overlap,
	})
	return s.keyAnswer(k, err)
}

// keyAnswer is a key, or what was wrong.
func (s keysAPI) keyAnswer(k mail.DKIMKey, err error) (*out[mail.DKIMKey], error) {
	name := k.Selector + " of " + k.Domain
	switch {
	case err == nil:
		return &out[mail.DKIMKey]{k}, nil
	case errors.Is(err, fault.ErrExists):
		return nil, huma.Error409Conflict(
			"there is a key " + name + " already; choose another selector",
		)
	case errors.Is(err, control.ErrNotPublished), errors.Is(err, keyfile.ErrNoKey):
		return nil, huma.Error409Conflict(err.Error())
	case errors.Is(err, fault.ErrNotFound):
		return nil, huma.Error404NotFound(
			"there is no such key, or it is in that state already; gull dkim list shows them",
		)
	case errors.Is(err, fault.ErrInput):
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return nil, s.storeError(err, "key")
}

func (s keysAPI) showKey(ctx context.Context, in *KeyPath) (*out[mail.DKIMKey], error) {
	return s.withKey(in, func(domain string) (mail.DKIMKey, error) {
		return s.Control.Keys.Key(ctx, domain,
			in.Selector)
	})
}

// withKey does something to the key of a path.
func (s keysAPI) withKey(
	in *KeyPath,
	f func(domain string) (mail.DKIMKey, error),
) (*out[mail.DKIMKey], error) {
	domain, err := domainOf(in.Domain)
	if err != nil {
		return nil, err
	}
	return s.keyAnswer(f(domain))
}

func (s keysAPI) checkKey(ctx context.Context, in *KeyPath) (*out[mail.DKIMKey], error) {
	return s.withKey(in, func(domain string) (mail.DKIMKey, error) {
		return s.Control.Keys.CheckKey(ctx, domain,
			in.Selector)
	})
}

func (s keysAPI) useKey(ctx context.Context, in *struct {
	KeyPath
	Body struct {
		Force bool `json:"force,omitempty" doc:"Even if its record is not in DNS: what it signs then fails everywhere"`
	}
}) (*out[mail.DKIMKey], error) {
	return s.withKey(&in.KeyPath, func(domain string) (mail.DKIMKey, error) {
		return s.Control.Keys.UseKey(ctx, signedIn(ctx).Name, domain, in.Selector, in.Body.Force)
	})
}

func (s keysAPI) retireKey(ctx context.Context, in *KeyPath) (*out[mail.DKIMKey], error) {
	return s.withKey(in, func(domain string) (mail.DKIMKey, error) {
		return s.Control.Keys.RetireKey(ctx, signedIn(ctx).Name, domain, in.Selector)
	})
}

func (s keysAPI) removeKey(ctx context.Context, in *KeyPath) (*struct{}, error) {
	domain, err := domainOf(in.Domain)
	if err != nil {
		return nil, err
	}
	k, err := s.Control.Keys.Key(ctx, domain, in.Selector)
	if err == nil && k.State == mail.KeySigning {
		return nil, huma.Error409Conflict(
			"messages are signed with this key; retire it first, or let another one take over",
		)
	}
	if err == nil {
		err = s.Control.Keys.Remove(ctx, signedIn(ctx).Name, domain, in.Selector)
	}
	if err != nil {
		_, err = s.keyAnswer(k, err)
	}
	return nil, err
}
