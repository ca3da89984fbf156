package service

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"image/png"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/audit"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
)

// operatorsAPI serves the people and programs that administer, and what everybody may do about
// himself.
type operatorsAPI struct{ *Service }

func (s operatorsAPI) register(api huma.API) {
	op := operation{}
	const people, one = "/api/v1/operators", "/api/v1/operators/{name}"
	huma.Register(api, read("operators", people, "Who administers, by name"), s.list)
	huma.Register(api, read("operator", one, "One of them"), s.show)
	huma.Register(api, op.post("operator-add", people, "Add somebody who administers"), s.add)
	huma.Register(api, op.patch("operator-change", one,
		"Change a role, switch off, or give a new password; sessions end"), s.change)
	huma.Register(
		api,
		op.remove("operator-remove", one, "Take somebody out, with his sessions"),
		s.remove,
	)
	huma.Register(api, read("operator-sessions", one+"/sessions", "His open sessions"), s.sessions)
	huma.Register(
		api,
		op.remove("operator-session-end", one+"/sessions/{id}", "End a session; 0 ends all"),
		s.endSession,
	)
	huma.Register(
		api,
		read("tokens", "/api/v1/tokens", "Tokens of programs, never their values"),
		s.tokens,
	)
	huma.Register(
		api,
		op.post("token-add", "/api/v1/tokens", "Let a program in; the token is shown once"),
		s.addToken,
	)
	huma.Register(
		api,
		op.remove("token-revoke", "/api/v1/tokens/{id}", "End a token for good"),
		s.revoke,
	)
	huma.Register(
		api,
		read("own-sessions", "/api/v1/me/sessions", "One's own open sessions"),
		s.ownSessions,
	)
	huma.Register(api, op.remove("own-session-end", "/api/v1/me/sessions/{id}",
		"End one of one's own sessions; 0 ends all"), s.endOwn)
	huma.Register(api, op.post("password-change", "/api/v1/me/password",
		"Choose a new password; all other sessions end"), s.changePassword)
	huma.Register(api, op.post("first-operator", firstPath,
		"Make the first administrator, by the link that the service says when it starts"), s.first)
	const second = "/api/v1/me/second-factor"
	huma.Register(api, read("second-factor", second, "Whether one has a second factor"), s.second)
	huma.Register(api, op.post(
		"second-factor-begin",
		second,
		"Make a secret for a program that makes codes (RFC 6238); a first code confirms it",
	), s.beginSecond)
	huma.Register(api, op.post("second-factor-confirm", second+"/confirm",
		"Turn it on with its first code; recovery codes are shown once"), s.confirmSecond)
	huma.Register(
		api,
		op.post("second-factor-remove", second+"/remove", "Take it away"),
		s.removeSecond,
	)
}

func (s operatorsAPI) list(ctx context.Context, _ *struct{}) (*out[api.Page[mail.Person]], error) {
	items, err := s.Control.Operators.People(ctx)
	if err != nil {
		return nil, s.storeError(err, "operator")
	}
	return &out[api.Page[mail.Person]]{api.Page[mail.Person]{Items: items}}, nil
}

// PersonPath names somebody in a path.
type PersonPath struct {
	Name string `path:"name"`
}

func (s operatorsAPI) show(ctx context.Context, in *PersonPath) (*out[mail.Person], error) {
	p, err := s.Control.Operators.Person(ctx, in.Name)
	if err != nil {
		return nil, s.storeError(err, "operator")
	}
	return &out[mail.Person]{p}, nil
}

func (s operatorsAPI) add(
	ctx context.Context,
	in *struct{ Body api.PersonNew },
) (*out[api.PersonMade], error) {
	made, err := s.Control.Operators.Add(ctx, signedIn(ctx).Name,
		mail.Person{Name: in.Body.Name, Role: in.Body.Role, Domains: in.Body.Domains,
			About: in.Body.About}, in.Body.Password)
	if err != nil {
		return nil, s.storeError(err, "operator")
	}
	p, err := s.Control.Operators.Person(ctx, in.Body.Name)
	if err != nil {
		return nil, s.storeError(err, "operator")
	}
	return &out[api.PersonMade]{api.PersonMade{Person: p, Password: made}}, nil
}

func (s operatorsAPI) change(ctx context.Context, in *struct {
	PersonPath
	Body api.PersonChange
}) (*out[api.PersonMade], error) {
	p, made, err := s.Control.Operators.Change(ctx, in.Name, control.PersonChange(in.Body))
	if err != nil {
		return nil, s.storeError(err, "operator")
	}
	if in.Body.Password != nil || p.Off || in.Body.Role != nil || in.Body.Domains != nil {
		s.live.endOfName(in.Name)
	}
	return &out[api.PersonMade]{api.PersonMade{Person: p, Password: made}}, nil
}

func (s operatorsAPI) remove(ctx context.Context, in *PersonPath) (*struct{}, error) {
	if err := s.Control.Operators.Remove(ctx, in.Name); err != nil {
		return nil, s.storeError(err, "operator")
	}
	s.live.endOfName(in.Name)
	return nil, nil
}

func (s operatorsAPI) sessions(
	ctx context.Context,
	in *PersonPath,
) (*out[api.Page[mail.PersonSession]], error) {
	if _, err := s.Control.Operators.Person(ctx, in.Name); err != nil {
		return nil, s.storeError(err, "operator")
	}
	return s.sessionsOf(ctx, in.Name)
}

func (s operatorsAPI) sessionsOf(
	ctx context.Context,
	name string,
) (*out[api.Page[mail.PersonSession]], error) {
	items, err := s.Control.Operators.Sessions(ctx, name)
	if err != nil {
		return nil, s.storeError(err, "session")
	}
	w := signedIn(ctx)
	for i := range items {
		items[i].Mine = items[i].ID == w.session && items[i].Name == w.Name
	}
	if items == nil {
		items = []mail.PersonSession{}
	}
	return &out[api.Page[mail.PersonSession]]{api.Page[mail.PersonSession]{Items: items}}, nil
}

func (s operatorsAPI) endSession(ctx context.Context, in *struct {
	PersonPath
	ID int64 `path:"id"`
}) (*struct{}, error) {
	return nil, s.end(ctx, in.Name, in.ID)
}

func (s operatorsAPI) end(ctx context.Context, name string, id int64) error {
	ended, err := s.Control.Operators.EndSession(ctx, name, id)
	if err == nil && ended == 0 && id != 0 {
		err = fault.ErrNotFound
	}
	if err != nil {
		return s.storeError(err, "session")
	}
	s.live.endOfName(name)
	return nil
}

func (s operatorsAPI) ownSessions(
	ctx context.Context,
	_ *struct{},
) (*out[api.Page[mail.PersonSession]], error) {
	w := signedIn(ctx)
	if w.Program {
		return &out[api.Page[mail.PersonSession]]{
			api.Page[mail.PersonSession]{Items: []mail.PersonSession{}},
		}, nil
	}
	return s.sessionsOf(ctx, w.Name)
}

func (s operatorsAPI) endOwn(ctx context.Context, in *struct {
	ID int64 `path:"id"`
}) (*struct{}, error) {
	w := signedIn(ctx)
	if w.Program {
		return nil, errNoPerson
	}
	return nil, s.end(ctx, w.Name, in.ID)
}

var errNoPerson = huma.Error409Conflict(
	"a token has no password and no sessions: sign in with your name " +
		"(gull login)",
)

func (s operatorsAPI) changePassword(ctx context.Context, in *struct {
	Body struct {
		Old string `json:"old_password" minLength:"1" maxLength:"1000"`
		New string `json:"new_password" minLength:"1" maxLength:"1000"`
	}
}) (*struct{}, error) {
	w := signedIn(ctx)
	if err := s.himself(ctx, w, in.Body.Old, "old_password"); err != nil {
		return nil, err
	}
	if err := s.Control.Operators.ChangeOwn(ctx, w.Name, in.Body.New, w.session); err != nil {
		return nil, s.storeError(err, "operator")
	}
	return nil, nil
}

type firstInput struct {
	client string
	Body   struct {
		Link     string `json:"link" minLength:"1" maxLength:"200" doc:"What stands behind the # of the link"`
		Name     string `json:"name" minLength:"1" maxLength:"61"`
		Password string `json:"password" minLength:"1" maxLength:"1000"`
	}
}

// Resolve notes who asks.
func (in *firstInput) Resolve(ctx huma.Context) []error {
	in.client = hostOf(ctx.RemoteAddr())
	return nil
}

func (s operatorsAPI) first(ctx context.Context, in *firstInput) (*struct{}, error) {
	if s.CertFile == "" && !onLoopback(s.listener) {
		return nil, errInClear
	}
	try, delay, ok := s.signIns.Begin(ctx, "first operator", in.client)
	if !ok {
		return nil, huma.Error429TooManyRequests("too many failed tries; wait a minute")
	}
	defer try.GiveBack()
	select {
	case <-time.After(delay):
	case <-ctx.Done():
		return nil, errDatabase
	}
	if err := s.Control.Operators.First(ctx, in.Body.Link, in.Body.Name, in.Body.Password); err != nil {
		try.Failed()
		return nil, s.storeError(err, "operator")
	}
	try.Passed(ctx)
	recorder(
		s,
	).enter(&audit.Deed{At: time.Now(), Who: in.Body.Name, Role: string(mail.Administrator),
		Client: in.client, Action: "first-operator", Target: in.Body.Name, Status: http.StatusOK}, nil, nil)
	return nil, nil
}

type secondInput struct {
	Body struct {
		Password string `json:"password" minLength:"1" maxLength:"1000" doc:"One's own: whoever sits down at an open console has not got it"`
	}
}

func (s operatorsAPI) second(ctx context.Context, _ *struct{}) (*out[api.SecondFactor], error) {
	w := signedIn(ctx)
	if w.Program {
		return &out[api.SecondFactor]{}, nil
	}
	x, err := s.Control.Operators.Second(ctx, w.Name)
	if err != nil {
		return nil, s.storeError(err, "operator")
	}
	return &out[api.SecondFactor]{api.SecondFactor{On: x.On, Recovery: x.Recovery}}, nil
}

func (s operatorsAPI) beginSecond(
	ctx context.Context,
	in *secondInput,
) (*out[api.SecondFactor], error) {
	w := signedIn(ctx)
	if err := s.himself(ctx, w, in.Body.Password, "password"); err != nil {
		return nil, err
	}
	key, err := s.Control.Operators.BeginSecond(
		ctx,
		w.Name,
		string(s.InForce.Config().Service.HostName),
	)
	if err != nil {
		return nil, s.storeError(err, "operator")
	}
	x := api.SecondFactor{Secret: key.Secret(), URI: key.URL()}
	if picture, err := key.Image(secondPicture, secondPicture); err == nil {
		var b bytes.Buffer
		if png.Encode(&b, picture) == nil {
			x.Picture = "data:image/png;base64," + base64.StdEncoding.EncodeToString(b.Bytes())
		}
	}
	return &out[api.SecondFactor]{x}, nil
}

// secondPicture is how wide and high the picture for a telephone is, in pixels.
const secondPicture = 220

func (s operatorsAPI) confirmSecond(ctx context.Context, in *struct {
	Body struct {
		Code string `json:"code" minLength:"6" maxLength:"7"`
	}
}) (*out[api.RecoveryCodes], error) {
	w := signedIn(ctx)
	if w.Program {
		return nil, errNoPerson
	}
	codes, err := s.Control.Operators.ConfirmSecond(ctx, w.Name, in.Body.Code)
	if err != nil {
		return nil, s.storeError(err, "operator")
	}
	return &out[api.RecoveryCodes]{api.RecoveryCodes{Codes: codes}}, nil
}

func (s operatorsAPI) removeSecond(ctx context.Context, in *secondInput) (*struct{}, error) {
	w := signedIn(ctx)
	if err := s.himself(ctx, w, in.Body.Password, "password"); err != nil {
		return nil, err
	}
	if err := s.Control.Operators.DropSecond(ctx, w.Name, false); err != nil {
		return nil, s.storeError(err, "operator")
	}
	return nil, nil
}

// himself refuses whoever does not know the password of the person who is signed in.
func (s operatorsAPI) himself(ctx context.Context, w who, password, field string) error {
	if w.Program {
		return errNoPerson
	}
	try, delay, ok := s.signIns.Begin(ctx, "operator "+w.Name, "")
	if !ok {
		return huma.Error429TooManyRequests("too many failed tries; wait a minute")
	}
	defer try.GiveBack()
	select {
	case <-time.After(delay):
	case <-ctx.Done():
		return errDatabase
	}
	if w.Way == mail.BySingleSignOn {
		if p, err := s.Control.Operators.Person(ctx, w.Name); err == nil && p.Issuer != "" {
			return huma.Error409Conflict(
				"you sign in by " + p.Issuer + ": there is no password of yours here",
			)
		}
	}
	_, err := signInAPI(s).proved(ctx, w.Name, password)
	if errors.Is(err, errWrong) {
		try.Failed()
		return huma.NewError(http.StatusUnprocessableEntity, field+": it is wrong")
	}
	if err == nil {
		try.Passed(ctx)
	}
	return err
}

func (s operatorsAPI) tokens(ctx context.Context, _ *struct{}) (*out[api.Page[mail.Token]], error) {
	items, err := s.Control.Operators.Tokens(ctx)
	if err != nil {
		return nil, s.storeError(err, "token")
	}
	if items == nil {
		items = []mail.Token{}
	}
	return &out[api.Page[mail.Token]]{api.Page[mail.Token]{Items: items}}, nil
}

func (s operatorsAPI) addToken(
	ctx context.Context,
	in *struct{ Body api.TokenNew },
) (*out[api.TokenMade], error) {
	t := mail.Token{
		Name:    in.Body.Name,
		Role:    in.Body.Role,
		Domains: in.Body.Domains,
		About:   in.Body.About,
		MadeBy:  signedIn(ctx).Name,
	}
	if in.Body.Ends != nil {
		t.EndsAt = mail.At(*in.Body.Ends)
	}
	secret, t, err := s.Control.Operators.NewToken(ctx, t)
	if err != nil {
		return nil, s.storeError(err, "operator")
	}
	return &out[api.TokenMade]{api.TokenMade{Token: t, Value: secret}}, nil
}

func (s operatorsAPI) revoke(ctx context.Context, in *struct {
	ID int64 `path:"id"`
}) (*struct{}, error) {
	name, err := s.Control.Operators.RevokeToken(ctx, in.ID)
	if err != nil {
		return nil, s.storeError(err, "token")
	}
	s.live.endOfName(name)
	return nil, nil
}
