package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
	"gullroute/internal/engine/door"
	"gullroute/internal/engine/signin"
)

// Cookie is the name of the console's session cookie.
const Cookie = "gull_session"

// sessionTime is how long a console session lasts.
const sessionTime = 12 * time.Hour

// who is somebody who is signed in.
type who struct {
	api.Me
	session int64
}

type whoKey struct{}

func signedIn(ctx context.Context) who {
	w, _ := ctx.Value(whoKey{}).(who)
	return w
}

var errNotSignedIn = huma.Error401Unauthorized(
	"sign in first: send a bearer token, or sign in at the console",
)

// identify finds who makes a request, by token or by cookie.
func (s *Service) identify(ctx context.Context, authorization, cookie, from string) (who, error) {
	var w who
	var err error
	var key string
	switch token, isBearer := strings.CutPrefix(authorization, "Bearer "); {
	case isBearer:
		key = string(control.HashSecret(token))
		w.Program = true
		var t mail.Token
		t, err = s.Control.Operators.Token(ctx, []byte(key), from)
		w.Name, w.Role, w.Domains = t.Name, t.Role, t.Domains
		if errors.Is(err, fault.ErrNotFound) { // it may be a person's session in a program
			w, err = signInAPI{s}.ofSession(ctx, key)
		}
	case cookie != "":
		key = string(control.HashSecret(cookie))
		w, err = signInAPI{s}.ofSession(ctx, key)
	default:
		return w, errNotSignedIn
	}
	switch {
	case err == nil:
		s.known.add(key, w, time.Now())
	case errors.Is(err, fault.ErrNotFound):
		s.known.drop(key)
		return w, huma.Error401Unauthorized(
			"this token or session is not known, or has ended; sign in again",
		)
	default:
		if known, ok := s.known.of(key, time.Now()); ok {
			return known, nil
		}
		return w, errDatabase
	}
	return w, nil
}

func (s signInAPI) ofSession(ctx context.Context, key string) (who, error) {
	p, x, err := s.Control.Operators.SignedIn(ctx, []byte(key))
	return who{s.meOf(p, x.Way), x.ID}, err
}

// meOf is somebody who signed in.
func (s signInAPI) meOf(p mail.Person, way mail.Way) api.Me {
	must := s.InForce.Config().Service.Operators.NeedsSecond(p.Role)
	return api.Me{
		Name:       p.Name,
		Role:       p.Role,
		MustChange: p.MustChange,
		Domains:    p.Domains,
		Way:        way,
		MustSecond: must && way == mail.ByPassword && !p.Second && p.Passkeys == 0,
	}
}

// knownFor is how long somebody who was identified is still known while the database
// does not answer: that is when metrics and status are needed most.
const (
	knownFor = time.Hour
	maxKnown = 1000
)

// acquaintances are those who were identified lately, by what they showed, hashed.
type acquaintances struct {
	mu  sync.Mutex
	who map[string]acquaintance
}

type acquaintance struct {
	who
	at time.Time
}

func (a *acquaintances) add(key string, w who, now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.who == nil || len(a.who) > maxKnown {
		a.who = map[string]acquaintance{}
	}
	a.who[key] = acquaintance{w, now}
}

func (a *acquaintances) drop(key string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.who, key)
}

func (a *acquaintances) of(key string, now time.Time) (who, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	one, ok := a.who[key]
	return one.who, ok && now.Sub(one.at) < knownFor
}

var errDatabase = huma.Error503ServiceUnavailable(
	"the database does not answer; mail is deferred with 451 until it does",
)

// guard is the typed handlers' middleware: it asks whether whoever is signed in may call the
// operation.
func (s *Service) guard(ctx huma.Context, next func(huma.Context)) {
	op := ctx.Operation()
	area := rights.Of(op.OperationID, op.Method == http.MethodGet)
	if area == rights.Open {
		next(ctx)
		return
	}
	if area == rights.Mailbox {
		ownAPI{s}.guardOwn(ctx, next)
		return
	}
	cookie := ""
	if c, err := huma.ReadCookie(ctx, Cookie); err == nil {
		cookie = c.Value
	}
	w, known := localWho(ctx)
	var err error
	if !known {
		w, err = s.identify(
			ctx.Context(),
			ctx.Header("Authorization"),
			cookie,
			hostOf(ctx.RemoteAddr()),
		)
	}
	if err == nil {
		err = mayCall(w, op.Method, ctx.Header("Authorization"), ctx.Header("X-Gull-Console"), area)
	}
	if err == nil {
		err = withinBounds(w, op.OperationID)
	}
	note(ctx, op.OperationID, w)
	if err != nil {
		writeError(s.api, ctx, err)
		return
	}
	next(huma.WithValue(ctx, whoKey{}, w))
}

// mayCall reports why somebody signed in may not call an operation all the same.
func mayCall(w who, method, authorization, console string, area rights.Area) error {
	if method != http.MethodGet && !strings.HasPrefix(authorization, "Bearer ") && console == "" {
		// A form on a strange page cannot set this header.
		return huma.Error403Forbidden("changes by cookie need the header X-Gull-Console")
	}
	if !rights.May(w.Role, area) {
		return huma.Error403Forbidden(fmt.Sprintf("this needs the role %s; %s has the role %s",
			rights.Who(area), w.Name, w.Role))
	}
	if w.MustChange && area != rights.Own {
		return huma.Error403Forbidden("choose a new password first (gull password)")
	}
	if w.MustSecond && area != rights.Own {
		return huma.Error403Forbidden("here a second factor is asked for: set one up first " +
			"(gull second-factor on, or a passkey on your account's page)")
	}
	return nil
}

// withinBounds reports why somebody who is bounded to domains may not call an operation.
func withinBounds(w who, operation string) error {
	if w.Domains.None() || rights.Heeds(operation) {
		return nil
	}
	return huma.Error403Forbidden(fmt.Sprintf(
		"this is about the whole server; %s sees and does only what is about %s", w.Name,
		strings.Join(w.Domains, ", ")))
}

// boundsOf are the domains to which whoever asks is bounded.
func boundsOf(ctx context.Context) rights.Bounds { return signedIn(ctx).Domains }

func writeError(api huma.API, ctx huma.Context, err error) {
	var se huma.StatusError
	if !errors.As(err, &se) {
		se = huma.Error500InternalServerError(err.Error())
	}
	_ = huma.WriteErr(api, ctx, se.GetStatus(), se.Error())
}

// require is guard for handlers outside the typed interface.
func (s *Service) require(c fiber.Ctx, operation string) (who, error) {
	w, known := c.Locals(whoLocal).(who)
	var err error
	if !known {
		w, err = s.identify(c.Context(), c.Get("Authorization"), c.Cookies(Cookie), c.IP())
	}
	if err == nil {
		err = mayCall(w, c.Method(), c.Get("Authorization"), c.Get("X-Gull-Console"),
			rights.Of(operation, c.Method() == http.MethodGet))
	}
	if err == nil {
		err = withinBounds(w, operation)
	}
	c.Locals(calledLocal, called{operation, w})
	return w, err
}

// signInAPI signs operators in and out.
type signInAPI struct{ *Service }

func (s signInAPI) register(h huma.API) {
	open := operation{}
	huma.Register(h, open.post("sign-in", "/api/v1/sign-in", "Sign in at the console"), s.signIn)
	huma.Register(h, read("sign-in-ways", "/api/v1/sign-in", "How one may sign in here"), s.ways)
	huma.Register(h, open.post("sign-out", "/api/v1/sign-out", "Sign out"), s.signOut)
	huma.Register(
		h,
		read("me", "/api/v1/me", "Who is signed in"),
		func(ctx context.Context, _ *struct{}) (*out[api.Me], error) {
			me := signedIn(ctx).Me
			me.May = rights.Areas(me.Role)
			return &out[api.Me]{me}, nil
		},
	)
}

type signInBody struct {
	client, program string
	Body            struct {
		Name     string `json:"name" minLength:"1" maxLength:"200"`
		Password string `json:"password" minLength:"1" maxLength:"1000"`
		Code     string `json:"code,omitempty" maxLength:"20" doc:"Of the second factor, or one for recovery"`
		Program  bool   `json:"program,omitempty" doc:"The session is for a program: it gets a token in place of a cookie"`
	}
}

// Resolve notes who asks.
func (in *signInBody) Resolve(ctx huma.Context) []error {
	in.client, in.program = hostOf(ctx.RemoteAddr()), inert.Clip(ctx.Header("User-Agent"), 200)
	return nil
}

func hostOf(addr string) string {
	host, _, _ := net.SplitHostPort(addr)
	return host
}

type signInReply struct {
	SetCookie string `header:"Set-Cookie"`
	Body      api.SignedIn
}

// noAccount is checked against when the name is unknown, so that the time of an
// answer does not tell which names exist.
var noAccount = sync.OnceValue(
	func() string { h, _ := signin.Hash("nobody has this password"); return h },
)

func (s signInAPI) signIn(ctx context.Context, in *signInBody) (*signInReply, error) {
	if s.CertFile == "" && !onLoopback(s.listener) {
		return nil, errInClear
	}
	try, delay, ok := s.signIns.Begin(ctx, "operator "+strings.ToLower(in.Body.Name), in.client)
	if !ok { // not on record: strangers could fill it
		return nil, huma.Error429TooManyRequests(
			"too many failed tries for this name or from this address; wait a minute",
		)
	}
	defer try.GiveBack()
	select {
	case <-time.After(delay):
	case <-ctx.Done():
		return nil, errDatabase
	}
	role, err := s.proved(ctx, in.Body.Name, in.Body.Password)
	if errors.Is(err, errWrong) {
		try.Failed()
		recorder(s).signIn(in, "", http.StatusUnauthorized, errWrong.Error())
		return nil, huma.Error401Unauthorized(errWrong.Error())
	}
	if err != nil {
		return nil, err
	}
	needed, fits, err := s.Control.Operators.SecondFits(ctx, in.Body.Name, in.Body.Code)
	switch {
	case err != nil:
		return nil, s.storeError(err, "operator")
	case needed && in.Body.Code == "":
		return nil, huma.Error401Unauthorized(needsCode)
	case needed && !fits:
		try.Failed()
		recorder(s).signIn(in, role, http.StatusUnauthorized, "the code is wrong")
		return nil, huma.Error401Unauthorized(
			"the code is wrong, or was used already; wait for the next one",
		)
	}
	try.Passed(ctx)
	p, err := s.Control.Operators.Person(ctx, in.Body.Name)
	if err != nil {
		return nil, errDatabase
	}
	recorder(s).signIn(in, role, http.StatusOK, "")
	return s.begin(ctx, p, mail.ByPassword, in.client, in.program, in.Body.Program)
}

// begin begins a session of somebody who has shown who he is: in a program it gets a token.
func (s signInAPI) begin(
	ctx context.Context,
	p mail.Person,
	way mail.Way,
	client, program string,
	inProgram bool,
) (*signInReply, error) {
	token := control.NewSecret()
	x := mail.PersonSession{Name: p.Name, ExpiresAt: time.Now().Add(sessionTime).UTC(),
		Client: client, Program: program, Way: way}
	if err := s.Control.Operators.SignIn(ctx, control.HashSecret(token), x); err != nil {
		return nil, errDatabase
	}
	body := api.SignedIn{Me: s.meOf(p, way)}
	body.May = rights.Areas(p.Role)
	if inProgram {
		body.Token, body.Ends = token, &x.ExpiresAt
		return &signInReply{Body: body}, nil
	}
	return &signInReply{SetCookie: s.cookie(token, sessionTime), Body: body}, nil
}

var errInClear = huma.Error403Forbidden(
	"sign-in is offered under TLS only; start the service with --tls-cert and --tls-key",
)

// needsCode asks for a code of the second factor, of somebody who knows the password.
const needsCode = "a code of your second factor is needed"

// errWrong is all that is said of a sign-in that fails.
var errWrong = errors.New("name or password is wrong")

// proved checks somebody's password.
func (s signInAPI) proved(ctx context.Context, name, password string) (mail.Role, error) {
	role, hash, err := s.Control.Operators.Password(ctx, name)
	if err != nil && !errors.Is(err, fault.ErrNotFound) {
		return "", errDatabase
	}
	known := err == nil && hash != ""
	if !known {
		hash = noAccount()
	}
	fits, busy := s.SignIn.Gate.Check(ctx, hash, password)
	if busy != nil {
		return "", huma.Error503ServiceUnavailable(
			"too many sign in just now; try again in a moment",
		)
	}
	if !fits || !known {
		return "", errWrong
	}
	return role, nil
}

func (s signInAPI) cookie(token string, life time.Duration) string {
	return s.sessionCookie(Cookie, token, life)
}

// sessionCookie is a cookie that keeps a session.
func (o Options) sessionCookie(name, token string, life time.Duration) string {
	c := http.Cookie{
		Name:     name,
		Value:    token,
		Path:     "/",
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
		Secure:   o.CertFile != "",
		MaxAge:   int(life.Seconds()),
	}
	return c.String()
}

type cookieInput struct {
	Session       string `cookie:"gull_session"`
	Authorization string `header:"Authorization" hidden:"true"`
}

func (s signInAPI) signOut(ctx context.Context, in *cookieInput) (*struct {
	SetCookie string `header:"Set-Cookie"`
}, error) {
	if token, ok := strings.CutPrefix(in.Authorization, "Bearer "); ok && in.Session == "" {
		in.Session = token // of a person's session in a program; a token of its own is none
	}
	if in.Session != "" {
		if err := s.Control.Operators.SignOut(ctx, control.HashSecret(in.Session)); err != nil {
			return nil, errDatabase
		}
		s.known.drop(string(control.HashSecret(in.Session)))
		s.live.endOf(string(control.HashSecret(in.Session)))
	}
	return &struct {
		SetCookie string `header:"Set-Cookie"`
	}{s.cookie("", -time.Second)}, nil
}

// tlsListener puts TLS under a listener, by a certificate that is read again when its files
// change: a renewed one counts without a new start.
func tlsListener(s *Service, l net.Listener, certFile, keyFile string) (net.Listener, error) {
	files := &door.Certificates{Kept: s.Control.Certificates.Shown.Of}
	of := &config.Listener{Certificate: certFile, Key: keyFile,
		GreetingName: s.InForce.Config().Service.HostName}
	if _, err := files.Of(of); err != nil {
		return nil, fmt.Errorf("certificate: %w", err)
	}
	return tls.NewListener(l, proving(s, &tls.Config{MinVersion: tls.VersionTLS12,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			return files.Of(of)
		}})), nil
}

func statusText(status int) string { return http.StatusText(status) }
