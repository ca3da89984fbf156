package service

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/control"
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
		mail.Person{Name: in.Body.Name, Role: in.Body.Role, About: in.Body.About}, in.Body.Password)
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
	if in.Body.Password != nil || p.Off || in.Body.Role != nil {
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
	if w.Program {
		return nil, errNoPerson
	}
	try, delay, ok := s.signIns.Begin(ctx, "operator "+w.Name, "")
	if !ok {
		return nil, huma.Error429TooManyRequests("too many failed tries; wait a minute")
	}
	defer try.GiveBack()
	select {
	case <-time.After(delay):
	case <-ctx.Done():
		return nil, errDatabase
	}
	if _, err := signInAPI(s).proved(ctx, w.Name, in.Body.Old); err != nil {
		if err != errWrong {
			return nil, err
		}
		try.Failed()
		return nil, huma.NewError(http.StatusUnprocessableEntity, "old_password: it is wrong")
	}
	try.Passed(ctx)
	if err := s.Control.Operators.ChangeOwn(ctx, w.Name, in.Body.New, w.session); err != nil {
		return nil, s.storeError(err, "operator")
	}
	return nil, nil
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
		Name:   in.Body.Name,
		Role:   in.Body.Role,
		About:  in.Body.About,
		MadeBy: signedIn(ctx).Name,
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
