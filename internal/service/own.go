package service

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/engine/signin"
)

// ownCookie is the name of the cookie of one's own page.
const ownCookie = "gull_mailbox"

// ownPath is where the page of one's own mailbox asks.
const ownPath = "/api/v1/own"

// ownAPI serves people the page of their own mailbox. None of it is for operators, and none of
// theirs is for people.
type ownAPI struct{ *Service }

func (s ownAPI) register(h huma.API) {
	op := operation{}
	const at = ownPath
	huma.Register(h, op.post("own-sign-in", at+"/sign-in",
		"Sign in to the page of one's own mailbox, with its password"), s.signIn)
	huma.Register(h, op.post("own-sign-out", at+"/sign-out", "Leave it"), s.signOut)
	huma.Register(h, read("own-mailbox", at, "One's own mailbox"), s.show)
	huma.Register(
		h,
		op.patch("own-mailbox-change", at, "Change one's reply and forwards"),
		s.change,
	)
	huma.Register(h, op.post("own-password", at+"/password",
		"Choose a new password; all other sessions end"), s.password)
	huma.Register(h, op.post("own-app-password-add", at+"/app-passwords",
		"Make a password for one program; it is shown this once"), s.addApp)
	huma.Register(h, op.remove("own-app-password-revoke", at+"/app-passwords/{name}",
		"Take it away; its sessions end at once"), s.revokeApp)
}

// owner is whose page it is.
type owner struct {
	box    *directory.Mailbox
	secret string
}

type ownerKey struct{}

func ownerOf(ctx context.Context) owner {
	o, _ := ctx.Value(ownerKey{}).(owner)
	return o
}

var errNotOwner = huma.Error401Unauthorized("sign in with your mailbox's address and password")

// offered reports whether people have pages here.
func (s ownAPI) offered() error {
	if s.InForce.Config().Service.PeoplePage == "off" {
		return huma.Error404NotFound("people have no page of their own on this server")
	}
	return nil
}

// guardOwn lets the owner of a mailbox through.
func (s ownAPI) guardOwn(ctx huma.Context, next func(huma.Context)) {
	op := ctx.Operation()
	err := s.offered()
	cookie, missing := huma.ReadCookie(ctx, ownCookie)
	var o owner
	switch {
	case err != nil:
	case missing != nil:
		err = errNotOwner
	case op.Method != http.MethodGet && ctx.Header("X-Gull-Console") == "":
		err = huma.Error403Forbidden("changes by cookie need the header X-Gull-Console")
	default:
		o.secret = cookie.Value
		o.box, err = s.Control.Own.Owner(ctx.Context(), cookie.Value)
		if errors.Is(err, fault.ErrNotFound) {
			err = errNotOwner
		} else if err != nil {
			err = errDatabase
		}
	}
	if err != nil {
		writeError(s.api, ctx, err)
		return
	}
	note(ctx, op.OperationID, who{api.Me{Name: o.box.Address.Display(), Role: "owner"}, 0})
	next(huma.WithValue(ctx, ownerKey{}, o))
}

// cookieReply sets or takes away a cookie.
type cookieReply struct {
	SetCookie string `header:"Set-Cookie"`
}

type ownSignIn struct {
	client string
	Body   struct {
		Address  string `json:"address" minLength:"3" maxLength:"320"`
		Password string `json:"password" minLength:"1" maxLength:"1000"`
	}
}

// Resolve notes who asks.
func (in *ownSignIn) Resolve(ctx huma.Context) []error {
	in.client = hostOf(ctx.RemoteAddr())
	return nil
}

func (s ownAPI) signIn(ctx context.Context, in *ownSignIn) (*cookieReply, error) {
	if err := s.offered(); err != nil {
		return nil, err
	}
	if s.CertFile == "" && !onLoopback(s.listener) {
		return nil, errInClear
	}
	passed, err := s.SignIn.Plain(ctx, s.InForce.Config().Directory, signin.Own, in.Body.Address,
		in.Body.Password, in.client)
	switch {
	case errors.Is(err, signin.ErrWrong):
		return nil, huma.Error401Unauthorized("address or password is wrong")
	case errors.Is(err, signin.ErrSlow):
		return nil, huma.Error429TooManyRequests(err.Error())
	case err != nil:
		return nil, errDatabase
	}
	secret, err := s.Control.Own.Begin(ctx, passed.Account)
	if err != nil {
		return nil, errDatabase
	}
	return &cookieReply{SetCookie: s.sessionCookie(ownCookie, secret, control.OwnTime)}, nil
}

func (s ownAPI) signOut(ctx context.Context, _ *struct{}) (*cookieReply, error) {
	if err := s.Control.Own.End(ctx, ownerOf(ctx).secret); err != nil {
		return nil, errDatabase
	}
	return &cookieReply{SetCookie: s.sessionCookie(ownCookie, "", -time.Second)}, nil
}

func (s ownAPI) show(ctx context.Context, _ *struct{}) (*out[api.OwnMailbox], error) {
	v, err := s.Control.Own.View(ctx, ownerOf(ctx).box)
	if err != nil {
		return nil, s.storeError(err, "mailbox")
	}
	return &out[api.OwnMailbox]{v}, nil
}

func (s ownAPI) change(ctx context.Context, in *struct{ Body api.OwnChange }) (*struct{}, error) {
	box := ownerOf(ctx).box
	if err := s.Control.Own.Change(ctx, box, in.Body); err != nil {
		return nil, directoryAPI(s).entryError(err, "mailbox", box.Address)
	}
	return nil, nil
}

func (s ownAPI) password(ctx context.Context, in *struct {
	Body struct {
		Old string `json:"old_password" minLength:"1" maxLength:"1000"`
		New string `json:"new_password" minLength:"1" maxLength:"1000"`
	}
}) (*struct{}, error) {
	o := ownerOf(ctx)
	_, err := s.SignIn.Plain(ctx, s.InForce.Config().Directory, signin.Own, o.box.Address.String(),
		in.Body.Old, "own page")
	switch {
	case errors.Is(err, signin.ErrWrong):
		return nil, huma.Error403Forbidden("the old password is wrong")
	case errors.Is(err, signin.ErrSlow):
		return nil, huma.Error429TooManyRequests(err.Error())
	case err != nil:
		return nil, errDatabase
	}
	if err := s.Control.Own.NewPassword(ctx, o.box, o.secret, in.Body.New); err != nil {
		return nil, directoryAPI(s).entryError(err, "mailbox", o.box.Address)
	}
	return nil, nil
}

func (s ownAPI) addApp(ctx context.Context, in *struct {
	Body struct {
		Name string `json:"name" minLength:"1" maxLength:"60" doc:"Of the program, like phone"`
	}
}) (*out[api.NewAppPassword], error) {
	box := ownerOf(ctx).box
	return boxesAPI(s).newApp(ctx, box.Address.Display(), box, in.Body.Name)
}

func (s ownAPI) revokeApp(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"60"`
}) (*struct{}, error) {
	if err := s.Control.Directory.RevokeAppPassword(ctx, ownerOf(ctx).box, in.Name); err != nil {
		return nil, s.storeError(err, "app password "+in.Name)
	}
	return nil, nil
}
