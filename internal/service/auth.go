package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"golang.org/x/crypto/argon2"

	"gullroute/internal/store"
)

// Cookie is the name of the console's session cookie.
const Cookie = "gull_session"

// sessionTime is how long a console session lasts.
const sessionTime = 12 * time.Hour

// Parameters of argon2id: 64 MiB, one pass, two lanes.
const (
	argonTime, argonMemory, argonLanes, argonKey = 1, 64 << 10, 2, 32
)

// HashPassword is the form in which a password is kept.
func HashPassword(password string) (string, error) {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonLanes, argonKey)
	enc := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonLanes, enc(salt), enc(key)), nil
}

func checkPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	var memory, passes uint32
	var lanes uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &lanes); err != nil {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || err2 != nil {
		return false
	}
	got := argon2.IDKey([]byte(password), salt, passes, memory, lanes, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// HashToken is the form in which a token is kept: tokens are long and random, so
// a plain hash is enough.
func HashToken(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// who is somebody who is signed in.
type who struct {
	Name string     `json:"name"`
	Role store.Role `json:"role" enum:"administrator,viewer"`
}

type whoKey struct{}

func signedIn(ctx context.Context) who {
	w, _ := ctx.Value(whoKey{}).(who)
	return w
}

var errNotSignedIn = huma.Error401Unauthorized("sign in first: send a bearer token, or sign in at the console")

// identify finds who makes a request, by token or by cookie.
func (s *Service) identify(ctx context.Context, authorization, cookie string) (who, error) {
	var w who
	var err error
	switch token, isBearer := strings.CutPrefix(authorization, "Bearer "); {
	case isBearer:
		w.Name, w.Role, err = s.Store.Token(ctx, HashToken(token))
	case cookie != "":
		w.Name, w.Role, err = s.Store.SignedIn(ctx, HashToken(cookie))
	default:
		return w, errNotSignedIn
	}
	switch {
	case errors.Is(err, store.ErrNotFound):
		return w, huma.Error401Unauthorized("this token or session is not known, or has ended; sign in again")
	case err != nil:
		return w, errDatabase
	}
	return w, nil
}

var errDatabase = huma.Error503ServiceUnavailable("the database does not answer; mail is put off with 451 until it does")

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
	w, err := s.identify(ctx.Context(), ctx.Header("Authorization"), cookie)
	if err != nil {
		writeError(s.api, ctx, err)
		return
	}
	if op.Method != http.MethodGet && !strings.HasPrefix(ctx.Header("Authorization"), "Bearer ") && ctx.Header("X-Gull-Console") == "" {
		// A form on a strange page cannot set this header.
		writeError(s.api, ctx, huma.Error403Forbidden("changes by cookie need the header X-Gull-Console"))
		return
	}
	if op.Metadata["administrator"] == true && w.Role != store.Administrator {
		writeError(s.api, ctx, huma.Error403Forbidden("this needs the role administrator; "+w.Name+" is a viewer"))
		return
	}
	next(huma.WithValue(ctx, whoKey{}, w))
}

func writeError(api huma.API, ctx huma.Context, err error) {
	var se huma.StatusError
	if !errors.As(err, &se) {
		se = huma.Error500InternalServerError(err.Error())
	}
	_ = huma.WriteErr(api, ctx, se.GetStatus(), se.Error())
}

// require is guard for handlers outside the typed interface.
func (s *Service) require(c fiber.Ctx) (who, error) {
	return s.identify(c.Context(), c.Get("Authorization"), c.Cookies(Cookie))
}

type signInBody struct {
	Body struct {
		Name     string `json:"name" minLength:"1" maxLength:"200"`
		Password string `json:"password" minLength:"1" maxLength:"1000"`
	}
}

type signInReply struct {
	SetCookie string `header:"Set-Cookie"`
	Body      who
}

// noAccount is checked against when the name is unknown, so that the time of an
// answer does not tell which names exist.
var noAccount = sync.OnceValue(func() string { h, _ := HashPassword("nobody has this password"); return h })

func (s *Service) signIn(ctx context.Context, in *signInBody) (*signInReply, error) {
	if s.CertFile == "" && !s.onLoopback() {
		return nil, huma.Error403Forbidden("sign-in is offered under TLS only; start the service with --tls-cert and --tls-key")
	}
	if !s.signIns.allow(in.Body.Name, time.Now()) {
		return nil, huma.Error429TooManyRequests("too many failed tries for this name; wait a minute")
	}
	role, hash, err := s.Store.Account(ctx, in.Body.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, errDatabase
	}
	if err != nil {
		hash = noAccount()
	}
	if !checkPassword(hash, in.Body.Password) || err != nil {
		s.signIns.failed(in.Body.Name, time.Now())
		return nil, huma.Error401Unauthorized("name or password is wrong")
	}
	token := rand.Text() + rand.Text()
	if err := s.Store.SignIn(ctx, HashToken(token), in.Body.Name, time.Now().Add(sessionTime)); err != nil {
		return nil, errDatabase
	}
	return &signInReply{SetCookie: s.cookie(token, sessionTime), Body: who{in.Body.Name, role}}, nil
}

func (s *Service) cookie(token string, life time.Duration) string {
	c := http.Cookie{Name: Cookie, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.CertFile != "", MaxAge: int(life.Seconds())}
	return c.String()
}

type cookieInput struct {
	Session string `cookie:"gull_session"`
}

func (s *Service) signOut(ctx context.Context, in *cookieInput) (*struct {
	SetCookie string `header:"Set-Cookie"`
}, error) {
	if in.Session != "" {
		if err := s.Store.SignOut(ctx, HashToken(in.Session)); err != nil {
			return nil, errDatabase
		}
	}
	return &struct {
		SetCookie string `header:"Set-Cookie"`
	}{s.cookie("", -time.Second)}, nil
}

// limiter slows down guessing: five failures a minute for a name.
type limiter struct {
	mu    sync.Mutex
	tries map[string][]time.Time
}

const maxFailures = 5

func (l *limiter) allow(name string, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	recent := l.tries[name][:0]
	for _, t := range l.tries[name] {
		if now.Sub(t) < time.Minute {
			recent = append(recent, t)
		}
	}
	if len(recent) == 0 {
		delete(l.tries, name)
		return true
	}
	l.tries[name] = recent
	return len(recent) < maxFailures
}

func (l *limiter) failed(name string, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.tries == nil || len(l.tries) > 10_000 {
		l.tries = map[string][]time.Time{}
	}
	l.tries[name] = append(l.tries[name], now)
}

func tlsListener(l net.Listener, certFile, keyFile string) (net.Listener, error) {
	cert, err := tls.LoadX509KeyPair(certFile, keyFile)
	if err != nil {
		return nil, fmt.Errorf("certificate: %w", err)
	}
	return tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}), nil
}

func statusText(status int) string { return http.StatusText(status) }
