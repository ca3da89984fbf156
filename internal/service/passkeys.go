package service

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/audit"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/signin"
)

// passkeyAPI lets people in by keys that they have in telephones, computers and sticks
// (WebAuthn): without a password, and nothing that can be typed into a wrong page.
type passkeyAPI struct{ *Service }

func (s passkeyAPI) register(h huma.API) {
	op := operation{}
	const mine = "/api/v1/me/passkeys"
	huma.Register(h, op.post("sign-in-passkey-ask", "/api/v1/sign-in/passkey",
		"Ask whoever signs in for a passkey"), s.ask)
	huma.Register(h, op.post("sign-in-passkey", "/api/v1/sign-in/passkey/answer",
		"Sign in by a passkey's answer"), s.signIn)
	huma.Register(h, read("passkeys", mine, "One's own passkeys"), s.list)
	huma.Register(h, op.post("passkey-ask", mine+"/ask", "Ask for a new one"), s.askNew)
	huma.Register(h, op.post("passkey-add", mine, "Keep what the browser answered"), s.add)
	huma.Register(h, op.post("passkey-remove", mine+"/{id}/remove", "Take one away"), s.remove)
}

// link is how people reach the console: as set, or on this machine.
func (s signInAPI) link() string {
	if link := s.InForce.Config().Service.Operators.Link; link != "" {
		return link
	}
	_, port, _ := net.SplitHostPort(s.Address())
	scheme := "http"
	if s.CertFile != "" {
		scheme = "https"
	}
	return scheme + "://localhost:" + port
}

func (s passkeyAPI) ask(_ context.Context, _ *struct{}) (*out[api.PasskeyAsked], error) {
	options, ceremony, err := s.Control.Passkeys.Ask(signInAPI(s).link())
	if err != nil {
		return nil, s.storeError(err, "passkey")
	}
	return &out[api.PasskeyAsked]{
		api.PasskeyAsked{Options: options.Response, Ceremony: ceremony},
	}, nil
}

type passkeySignIn struct {
	client, program string
	Body            struct {
		Ceremony string          `json:"ceremony" maxLength:"4000"`
		Answer   json.RawMessage `json:"answer" doc:"Of navigator.credentials.get, in its JSON form"`
	}
}

// Resolve notes who asks.
func (in *passkeySignIn) Resolve(ctx huma.Context) []error {
	in.client, in.program = hostOf(ctx.RemoteAddr()), inert.Clip(ctx.Header("User-Agent"), 200)
	return nil
}

func (s passkeyAPI) signIn(ctx context.Context, in *passkeySignIn) (*signInReply, error) {
	if s.CertFile == "" && !onLoopback(s.listener) {
		return nil, errInClear
	}
	try, ok := signInAPI(s).begun(ctx, "passkey", in.client)
	if !ok {
		return nil, huma.Error429TooManyRequests(
			"too many failed tries from this address; wait a minute")
	}
	defer try.GiveBack()
	p, err := s.Control.Passkeys.Of(ctx, signInAPI(s).link(), in.Body.Ceremony, in.Body.Answer)
	var no *fault.Refused
	if errors.As(err, &no) {
		try.Failed()
		if p.Name != "" {
			signInAPI(s).came(p, mail.ByPasskey, in.client, http.StatusUnauthorized, no.Error())
		}
		return nil, huma.Error401Unauthorized(no.Error())
	}
	if err != nil {
		return nil, errDatabase
	}
	try.Passed(ctx)
	signInAPI(s).came(p, mail.ByPasskey, in.client, http.StatusOK, "")
	return signInAPI(s).begin(ctx, p, mail.ByPasskey, in.client, in.program, false)
}

// begun begins a try to sign in by something that names nobody before it is checked: such tries
// are counted by where they come from alone, so that a stranger shuts nobody else out.
func (s signInAPI) begun(ctx context.Context, way, client string) (*signin.Try, bool) {
	try, delay, ok := s.signIns.Begin(ctx, way+" from "+client, client)
	if !ok {
		return nil, false
	}
	select {
	case <-time.After(delay):
	case <-ctx.Done():
	}
	return try, true
}

// came puts a sign-in on record that was not by password.
func (s signInAPI) came(p mail.Person, way mail.Way, client string, status int, why string) {
	recorder(s).enter(&audit.Deed{At: time.Now(), Who: p.Name, Role: string(p.Role), Client: client,
		Action: "sign-in", Target: p.Name, Status: status, Why: why}, map[string]any{"way": way}, nil)
}

func (s passkeyAPI) list(ctx context.Context, _ *struct{}) (*out[api.Page[mail.Passkey]], error) {
	w := signedIn(ctx)
	page := api.Page[mail.Passkey]{Items: []mail.Passkey{}}
	if w.Program {
		return &out[api.Page[mail.Passkey]]{page}, nil
	}
	list, err := s.Control.Passkeys.Store.Passkeys(ctx, w.Name)
	if err != nil {
		return nil, s.storeError(err, "passkey")
	}
	for _, p := range list {
		page.Items = append(page.Items, p.Passkey)
	}
	return &out[api.Page[mail.Passkey]]{page}, nil
}

func (s passkeyAPI) askNew(ctx context.Context, in *secondInput) (*out[api.PasskeyAsked], error) {
	w := signedIn(ctx)
	if err := operatorsAPI(s).himself(ctx, w, in.Body.Password, "password"); err != nil {
		return nil, err
	}
	options, ceremony, err := s.Control.Passkeys.Begin(ctx, w.Name, signInAPI(s).link())
	if err != nil {
		return nil, s.storeError(err, "operator")
	}
	return &out[api.PasskeyAsked]{
		api.PasskeyAsked{Options: options.Response, Ceremony: ceremony},
	}, nil
}

func (s passkeyAPI) add(ctx context.Context, in *struct {
	Body struct {
		Ceremony string          `json:"ceremony" maxLength:"4000"`
		Name     string          `json:"name" maxLength:"60" doc:"What you call it, like telephone"`
		Answer   json.RawMessage `json:"answer" doc:"Of navigator.credentials.create, in its JSON form"`
	}
}) (*out[api.PasskeyMade], error) {
	w := signedIn(ctx)
	if w.Program {
		return nil, errNoPerson
	}
	p, codes, err := s.Control.Passkeys.Add(ctx, w.Name, signInAPI(s).link(), in.Body.Name,
		in.Body.Ceremony, in.Body.Answer)
	if err != nil {
		return nil, s.storeError(err, "passkey")
	}
	return &out[api.PasskeyMade]{api.PasskeyMade{Passkey: p, Codes: codes}}, nil
}

func (s passkeyAPI) remove(ctx context.Context, in *struct {
	ID string `path:"id" maxLength:"2100"`
	secondInput
}) (*struct{}, error) {
	w := signedIn(ctx)
	if err := operatorsAPI(s).himself(ctx, w, in.Body.Password, "password"); err != nil {
		return nil, err
	}
	if err := s.Control.Passkeys.Drop(ctx, w.Name, in.ID); err != nil {
		return nil, s.storeError(err, "passkey")
	}
	return nil, nil
}
