package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"gullroute/internal/api"
	"gullroute/internal/core/audit"
	"gullroute/internal/core/mail"
)

// PeopleCalls are those on who administers, tokens and the record of who did what.
type PeopleCalls struct{ *conn }

const people = "/api/v1/operators"

func personPath(name string) string { return people + "/" + url.PathEscape(name) }

// People are all who administer.
func (c PeopleCalls) People(ctx context.Context) ([]mail.Person, error) {
	p, err := call[api.Page[mail.Person]](ctx, c.conn, http.MethodGet, people, nil, nil)
	return p.Items, err
}

// Person is one of them.
func (c PeopleCalls) Person(ctx context.Context, name string) (mail.Person, error) {
	return call[mail.Person](ctx, c.conn, http.MethodGet, personPath(name), nil, nil)
}

// AddPerson adds one.
func (c PeopleCalls) AddPerson(ctx context.Context, p api.PersonNew) (api.PersonMade, error) {
	return call[api.PersonMade](ctx, c.conn, http.MethodPost, people, nil, p)
}

// ChangePerson changes one.
func (c PeopleCalls) ChangePerson(
	ctx context.Context,
	name string,
	ch api.PersonChange,
) (api.PersonMade, error) {
	return call[api.PersonMade](ctx, c.conn, http.MethodPatch, personPath(name), nil, ch)
}

// RemovePerson takes one out.
func (c PeopleCalls) RemovePerson(ctx context.Context, name string) error {
	return c.send(ctx, http.MethodDelete, personPath(name), nil)
}

// PersonSessions are the open sessions of somebody, or one's own for "".
func (c PeopleCalls) PersonSessions(
	ctx context.Context,
	name string,
) ([]mail.PersonSession, error) {
	path := "/api/v1/me"
	if name != "" {
		path = personPath(name)
	}
	p, err := call[api.Page[mail.PersonSession]](
		ctx,
		c.conn,
		http.MethodGet,
		path+"/sessions",
		nil,
		nil,
	)
	return p.Items, err
}

// EndSession ends a session of somebody, or one's own for ""; 0 ends all.
func (c PeopleCalls) EndSession(ctx context.Context, name string, id int64) error {
	path := "/api/v1/me"
	if name != "" {
		path = personPath(name)
	}
	return c.send(ctx, http.MethodDelete, path+"/sessions/"+strconv.FormatInt(id, 10), nil)
}

// ChangePassword chooses a new password of one's own.
func (c PeopleCalls) ChangePassword(ctx context.Context, old, chosen string) error {
	return c.send(ctx, http.MethodPost, "/api/v1/me/password",
		map[string]string{"old_password": old, "new_password": chosen})
}

// Tokens are all of them.
func (c PeopleCalls) Tokens(ctx context.Context) ([]mail.Token, error) {
	p, err := call[api.Page[mail.Token]](ctx, c.conn, http.MethodGet, "/api/v1/tokens", nil, nil)
	return p.Items, err
}

// AddToken makes one.
func (c PeopleCalls) AddToken(ctx context.Context, t api.TokenNew) (api.TokenMade, error) {
	return call[api.TokenMade](ctx, c.conn, http.MethodPost, "/api/v1/tokens", nil, t)
}

// RevokeToken ends one.
func (c PeopleCalls) RevokeToken(ctx context.Context, id int64) error {
	return c.send(ctx, http.MethodDelete, "/api/v1/tokens/"+strconv.FormatInt(id, 10), nil)
}

// Me is who is signed in.
func (c PeopleCalls) Me(ctx context.Context) (api.Me, error) {
	return call[api.Me](ctx, c.conn, http.MethodGet, "/api/v1/me", nil, nil)
}

// SignIn begins a session of a program; code is of the second factor.
func (c PeopleCalls) SignIn(
	ctx context.Context,
	name, password, code string,
) (api.SignedIn, error) {
	return call[api.SignedIn](ctx, c.conn, http.MethodPost, "/api/v1/sign-in", nil,
		map[string]any{"name": name, "password": password, "code": code, "program": true})
}

// SignOut ends it.
func (c PeopleCalls) SignOut(ctx context.Context) error {
	return c.send(ctx, http.MethodPost, "/api/v1/sign-out", nil)
}

// Audit reads who did what, newest first.
func (c PeopleCalls) Audit(ctx context.Context, words url.Values) (api.Page[audit.Deed], error) {
	return call[api.Page[audit.Deed]](ctx, c.conn, http.MethodGet, "/api/v1/audit", words, nil)
}

// VerifyAudit inspects the record.
func (c PeopleCalls) VerifyAudit(ctx context.Context) (audit.Inspection, error) {
	return call[audit.Inspection](ctx, c.conn, http.MethodGet, "/api/v1/audit/verify", nil, nil)
}

const second = "/api/v1/me/second-factor"

// Second is one's own second factor.
func (c PeopleCalls) Second(ctx context.Context) (api.SecondFactor, error) {
	return call[api.SecondFactor](ctx, c.conn, http.MethodGet, second, nil, nil)
}

// BeginSecond makes a secret for one.
func (c PeopleCalls) BeginSecond(ctx context.Context, password string) (api.SecondFactor, error) {
	return call[api.SecondFactor](
		ctx,
		c.conn,
		http.MethodPost,
		second,
		nil,
		map[string]string{"password": password},
	)
}

// ConfirmSecond turns it on.
func (c PeopleCalls) ConfirmSecond(ctx context.Context, code string) (api.RecoveryCodes, error) {
	return call[api.RecoveryCodes](ctx, c.conn, http.MethodPost, second+"/confirm", nil,
		map[string]string{"code": code})
}

// RemoveSecond takes it away.
func (c PeopleCalls) RemoveSecond(ctx context.Context, password string) error {
	return c.send(ctx, http.MethodPost, second+"/remove", map[string]string{"password": password})
}

// SignInByPass trades the pass that came back from single sign-on for a session.
func (c PeopleCalls) SignInByPass(ctx context.Context, pass, proof string) (api.SignedIn, error) {
	return call[api.SignedIn](ctx, c.conn, http.MethodPost, "/api/v1/single-sign-on/program", nil,
		map[string]string{"pass": pass, "proof": proof})
}

// Passkeys are one's own.
func (c PeopleCalls) Passkeys(ctx context.Context) ([]mail.Passkey, error) {
	p, err := call[api.Page[mail.Passkey]](
		ctx,
		c.conn,
		http.MethodGet,
		"/api/v1/me/passkeys",
		nil,
		nil,
	)
	return p.Items, err
}

// RemovePasskey takes one away.
func (c PeopleCalls) RemovePasskey(ctx context.Context, id, password string) error {
	return c.send(ctx, http.MethodPost, "/api/v1/me/passkeys/"+url.PathEscape(id)+"/remove",
		map[string]string{"password": password})
}
