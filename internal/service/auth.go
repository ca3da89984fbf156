package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
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

	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/signin"
)

// Cookie is the name of the console's session cookie.
const Cookie = "gull_session"

// sessionTime is how long a console session lasts.
const sessionTime = 12 * time.Hour

// HashToken is the form in which a token is kept: tokens are long and random, so
// a plain hash is enough.
func HashToken(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// who is somebody who is signed in.
type who struct {
	Name string    `json:"name"`
	Role mail.Role `json:"role" enum:"administrator,viewer"`
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
func (s *Service) identify(ctx context.Context, authorization, cookie string) (who, error) {
	var w who
	var err error
	var key string
	switch token, isBearer := strings.CutPrefix(authorization, "Bearer "); {
	case isBearer:
		key = string(HashToken(token))
		w.Name, w.Role, err = s.Control.Operators.Token(ctx, []byte(key))
	case cookie != "":
		key = string(HashToken(cookie))
		w.Name, w.Role, err = s.Control.Operators.SignedIn(ctx, []byte(key))
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

// guard is the typed handlers' middleware: every operation needs sign-in, and
// those that change something need the administrator, unless they say
// otherwise.
func (s *Service) guard(ctx huma.Context, next func(huma.Context)) {
	op := ctx.Operation()
	if op.Metadata["open"] == true {
		next(ctx)
		return
	}
	cookie := ""
	if c, err := huma.ReadCookie(ctx, Cookie); err == nil {
		cookie = c.Value
	}
	w, known := localWho(ctx)
	var err error
	if !known {
		w, err = s.identify(ctx.Context(), ctx.Header("Authorization"), cookie)
	}
	if err != nil {
		writeError(s.api, ctx, err)
		return
	}
	if err := mayCall(
		w,
		op.Method,
		ctx.Header("Authorization"),
		ctx.Header("X-Gull-Console"),
		op.Metadata["administrator"] == true,
	); err != nil {
		writeError(s.api, ctx, err)
		return
	}
	next(huma.WithValue(ctx, whoKey{}, w))
}

// mayCall reports why somebody signed in may not call an operation all the same.
func mayCall(w who, method, authorization, console string, administrator bool) error {
	if method != http.MethodGet && !strings.HasPrefix(authorization, "Bearer ") && console == "" {
		// A form on a strange page cannot set this header.
		return huma.Error403Forbidden("changes by cookie need the header X-Gull-Console")
	}
	if administrator && w.Role != mail.Administrator {
		return huma.Error403Forbidden(
			"this needs the role administrator; " + w.Name + " is a viewer",
		)
	}
	return nil
}

func writeError(api huma.API, ctx huma.Context, err error) {
	var se huma.StatusError
	if !errors.As(err, &se) {
		se = huma.Error500InternalServerError(err.Error())
	}
	_ = huma.WriteErr(api, ctx, se.GetStatus(), se.Error())
}

// require is guard for handlers outside the typed interface.
func (s *Service) require(c fiber.Ctx, administrator bool) (who, error) {
	w, known := c.Locals(whoLocal).(who)
	var err error
	if !known {
		w, err = s.identify(c.Context(), c.Get("Authorization"), c.Cookies(Cookie))
	}
	if err == nil {
		err = mayCall(w, c.Method(), c.Get("Authorization"), c.Get("X-Gull-Console"), administrator)
	}
	return w, err
}

// signInAPI signs operators in and out.
type signInAPI struct{ *Service }

func (s signInAPI) register(api huma.API) {
	open := operation{open: true}
	huma.Register(api, open.post("sign-in", "/api/v1/sign-in", "Sign in at the console"), s.signIn)
	huma.Register(api, open.post("sign-out", "/api/v1/sign-out", "Sign out"), s.signOut)
	huma.Register(
		api,
		read("me", "/api/v1/me", "Who is signed in"),
		func(ctx context.Context, _ *struct{}) (*out[who], error) {
			return &out[who]{signedIn(ctx)}, nil
		},
	)
}

type signInBody struct {
	client string
	Body   struct {
		Name     string `json:"name" minLength:"1" maxLength:"200"`
		Password string `json:"password" minLength:"1" maxLength:"1000"`
	}
}

// Resolve notes who asks.
func (in *signInBody) Resolve(ctx huma.Context) []error {
	in.client, _, _ = net.SplitHostPort(ctx.RemoteAddr())
	return nil
}

type signInReply struct {
	SetCookie string `header:"Set-Cookie"`
	Body      who
}

// noAccount is checked against when the name is unknown, so that the time of an
// answer does not tell which names exist.
var noAccount = sync.OnceValue(
	func() string { h, _ := signin.Hash("nobody has this password"); return h },
)

func (s signInAPI) signIn(ctx context.Context, in *signInBody) (*signInReply, error) {
	if s.CertFile == "" && !onLoopback(s.listener) {
		return nil, huma.Error403Forbidden(
			"sign-in is offered under TLS only; start the service with --tls-cert and --tls-key",
		)
	}
	try, delay, ok := s.signIns.Begin(ctx, "operator "+strings.ToLower(in.Body.Name), in.client)
	if !ok {
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
	role, hash, err := s.Control.Operators.Account(ctx, in.Body.Name)
	if err != nil && !errors.Is(err, fault.ErrNotFound) {
		return nil, errDatabase
	}
	if err != nil {
		hash = noAccount()
	}
	fits, busy := s.SignIn.Gate.Check(ctx, hash, in.Body.Password)
	if busy != nil {
		return nil, huma.Error503ServiceUnavailable(
			"too many sign in just now; try again in a moment",
		)
	}
	if !fits || err != nil {
		try.Failed()
		return nil, huma.Error401Unauthorized("name or password is wrong")
	}
	try.Passed(ctx)
	token := rand.Text() + rand.Text()
	if err := s.Control.Operators.SignIn(
		ctx,
		HashToken(token),
		in.Body.Name,
		time.Now().Add(sessionTime),
	); err != nil {
		return nil, errDatabase
	}
	return &signInReply{SetCookie: s.cookie(token, sessionTime), Body: who{in.Body.Name, role}}, nil
}

func (s signInAPI) cookie(token string, life time.Duration) string {
	c := http.Cookie{
		Name:     Cookie,
		Value:    token,
		Path:     "/",
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
		Secure:   s.CertFile != "",
		MaxAge:   int(life.Seconds()),
	}
	return c.String()
}

type cookieInput struct {
	Session string `cookie:"gull_session"`
}

func (s signInAPI) signOut(ctx context.Context, in *cookieInput) (*struct {
	SetCookie string `header:"Set-Cookie"`
}, error) {
	if in.Session != "" {
		if err := s.Control.Operators.SignOut(ctx, HashToken(in.Session)); err != nil {
			return nil, errDatabase
		}
		s.known.drop(string(HashToken(in.Session)))
		s.live.endOf(string(HashToken(in.Session)))
	}
	return &struct {
		SetCookie string `header:"Set-Cookie"`
	}{s.cookie("", -time.Second)}, nil
}

func tlsListener(l net.Listener, certFile, keyFile string) (net.Listener, error) {
	cert, err := tls.LoadX509KeyPair(certFile, keyFile)
	if err != nil {
		return nil, fmt.Errorf("certificate: %w", err)
	}
	return tls.NewListener(l,
		&tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}), nil
}

func statusText(status int) string { return http.StatusText(status) }
