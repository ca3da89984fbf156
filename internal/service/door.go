package service

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/core/inert"
	"gullroute/internal/core/rights"
	"gullroute/internal/engine/signin"
)

// What a request must be before anything looks into it: from somebody who is known if
// it has a body, of a bounded size, and of text that can be kept.

// maxSignIn bounds the bodies that are read of strangers: of a sign-in, and of the page of
// somebody's own mailbox, who is asked for after that.
const maxSignIn = 64 << 10

const (
	signInPath  = "/api/v1/sign-in"
	firstPath   = "/api/v1/first-operator"
	signOutPath = "/api/v1/sign-out"
)

// whoLocal keeps who was identified before the body was read.
const whoLocal = "who"

// entrance is where requests come in.
type entrance struct{ *Service }

// identified sees that the body of a request is read only of somebody who is signed
// in: reading costs memory.
func (s entrance) identified(c fiber.Ctx) error {
	if asks(c) || !strings.HasPrefix(c.Path(), "/api/") || s.forStrangers(c.Path()) {
		return c.Next()
	}
	w, err := s.identify(c.Context(), c.Get("Authorization"), c.Cookies(Cookie), c.IP())
	if err != nil {
		c.RequestCtx().SetConnectionClose() // what was not read is not waited for
		return err
	}
	c.Locals(whoLocal, w)
	return c.Next()
}

// strangersPaths are those whose bodies are read of whoever asks: of the operations that need no
// sign-in.
func strangersPaths(paths map[string]*huma.PathItem) map[string]bool {
	open := map[string]bool{}
	for path, item := range paths {
		for _, op := range []*huma.Operation{item.Post, item.Put, item.Patch, item.Delete} {
			if op != nil && rights.Of(op.OperationID, false) == rights.Open {
				open[path] = true
			}
		}
	}
	return open
}

// forStrangers reports a path whose body is read of whoever asks, or of the owner of a mailbox,
// who is asked for after that.
func (s entrance) forStrangers(path string) bool {
	return s.open[path] || path == ownPath || strings.HasPrefix(path, ownPath+"/")
}

// asks reports a request whose body, if it has one, means nothing.
func asks(c fiber.Ctx) bool {
	return c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead
}

// bounded refuses bodies that are too large, but of archives, which are read as
// they come in.
func (s entrance) bounded(c fiber.Ctx) error {
	r := c.Request()
	limit := maxBody
	switch {
	case c.Path() == archivesPath && !asks(c):
		return c.Next()
	case asks(c), s.forStrangers(c.Path()):
		limit = maxSignIn
	}
	tooLarge := fiber.NewError(fiber.StatusRequestEntityTooLarge,
		fmt.Sprintf("the request has more than %d octets", limit))
	if r.Header.ContentLength() > limit {
		c.RequestCtx().SetConnectionClose()
		return tooLarge
	}
	if body := r.BodyStream(); body != nil {
		text, err := io.ReadAll(io.LimitReader(body, int64(limit)+1))
		if err != nil {
			return fiber.NewError(fiber.StatusBadRequest,
				"the request could not be read: "+err.Error())
		}
		if len(text) > limit {
			c.RequestCtx().SetConnectionClose()
			return tooLarge
		}
		r.SetBodyRaw(text)
	}
	return c.Next()
}

// readable refuses text that nothing of ours could keep, and times that no calendar of
// ours has, and names the field.
func readable(c fiber.Ctx) error {
	if path, err := url.PathUnescape(c.Path()); err != nil || badText(path) != "" {
		return unreadable("path", "it holds a NUL or octets that are no UTF-8")
	}
	for k, v := range c.Request().URI().QueryArgs().All() {
		if why := badText(string(k)); why != "" {
			return unreadable("query", why)
		}
		if why := badText(string(v)); why != "" {
			return unreadable("query."+inert.Line(string(k), 100), why)
		}
	}
	if c.Path() == archivesPath && !asks(c) {
		return c.Next()
	}
	body := c.Request().Body()
	if !utf8.Valid(body) {
		return unreadable("body", "it holds octets that are no UTF-8")
	}
	if bytes.IndexByte(body, 0) >= 0 {
		return unreadable("body", "it holds a NUL")
	}
	if strings.Contains(c.Get("Content-Type"), "json") && bytes.Contains(body, []byte(`\u`)) {
		var v any
		if json.Unmarshal(body, &v) == nil {
			if at := badField("body", v); at != "" {
				return unreadable(at, "it holds a NUL")
			}
		}
	}
	return c.Next()
}

// Years outside of which no time of ours lies: ids and partitions hold no others.
const firstYear, lastYear = 1970, 2200

func badText(s string) string {
	switch {
	case !utf8.ValidString(s):
		return "it holds octets that are no UTF-8"
	case strings.IndexByte(s, 0) >= 0:
		return "it holds a NUL"
	}
	if len(s) >= len("2026-11-23T10:00:00Z") && len(s) < 40 && s[0] >= '0' && s[0] <= '9' {
		if t, err := time.Parse(time.RFC3339, s); err == nil &&
			(t.Year() < firstYear || t.Year() > lastYear) {
			return fmt.Sprintf("the year must be between %d and %d", firstYear, lastYear)
		}
	}
	return ""
}

// badField finds the first text in a JSON value that holds a NUL.
func badField(at string, v any) string {
	switch v := v.(type) {
	case string:
		if strings.IndexByte(v, 0) >= 0 {
			return at
		}
	case []any:
		for i, x := range v {
			if bad := badField(fmt.Sprintf("%s[%d]", at, i), x); bad != "" {
				return bad
			}
		}
	case map[string]any:
		for k, x := range v {
			if strings.IndexByte(k, 0) >= 0 {
				return at
			}
			if bad := badField(at+"."+inert.Line(k, 100), x); bad != "" {
				return bad
			}
		}
	}
	return ""
}

func unreadable(field, why string) error {
	return huma.Error422UnprocessableEntity(field+": "+why,
		&huma.ErrorDetail{Location: field, Message: why})
}

// Bounds on connections to console and API.
const (
	maxConnections    = 1024
	maxFromOneAddress = 256
)

// guardedListener bounds the connections in all and from one address: those beyond are
// closed, so that nobody takes all of them.
type guardedListener struct {
	net.Listener
	mu  sync.Mutex
	all int
	per map[string]int
}

func guard(l net.Listener) net.Listener {
	return &guardedListener{Listener: l, per: map[string]int{}}
}

// Accept waits for a connection that is welcome.
func (g *guardedListener) Accept() (net.Conn, error) {
	for {
		conn, err := g.Listener.Accept()
		if err != nil {
			return nil, err
		}
		host, _, _ := net.SplitHostPort(conn.RemoteAddr().String())
		key := signin.ClientKey(host)
		g.mu.Lock()
		welcome := g.all < maxConnections && g.per[key] < maxFromOneAddress
		if welcome {
			g.all++
			g.per[key]++
		}
		g.mu.Unlock()
		if welcome {
			return &guardedConn{Conn: conn, leave: func() { g.leave(key) }}, nil
		}
		conn.Close()
	}
}

func (g *guardedListener) leave(key string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.all--
	if g.per[key]--; g.per[key] == 0 {
		delete(g.per, key)
	}
}

type guardedConn struct {
	net.Conn
	once  sync.Once
	leave func()
}

// Close ends it, and lets another one in.
func (c *guardedConn) Close() error {
	c.once.Do(c.leave)
	return c.Conn.Close()
}

// maxStreams bounds the live streams of one person or token.
const maxStreams = 16

// streams are the live streams that are open, by who opened them.
type streams struct {
	mu   sync.Mutex
	open map[string][]*liveStream
}

// liveStream is one; it ends when its sign-in does.
type liveStream struct {
	credential string // the token or cookie, hashed
	end        chan struct{}
	once       sync.Once
}

var errManyStreams = huma.Error429TooManyRequests(
	fmt.Sprintf("you have %d live streams open; close one of them", maxStreams),
)

func (s *streams) begin(name, credential string) (*liveStream, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.open[name]) >= maxStreams {
		return nil, errManyStreams
	}
	if s.open == nil {
		s.open = map[string][]*liveStream{}
	}
	one := &liveStream{credential: credential, end: make(chan struct{})}
	s.open[name] = append(s.open[name], one)
	return one, nil
}

func (s *streams) leave(name string, one *liveStream) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[name] = slices.DeleteFunc(
		s.open[name],
		func(x *liveStream) bool { return x == one },
	); len(s.open[name]) == 0 {
		delete(s.open, name)
	}
}

// endOfName ends all streams of somebody: who may go on comes back.
func (s *streams) endOfName(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, one := range s.open[name] {
		one.once.Do(func() { close(one.end) })
	}
}

// endOf ends the streams of a sign-in.
func (s *streams) endOf(credential string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, list := range s.open {
		for _, one := range list {
			if one.credential == credential {
				one.once.Do(func() { close(one.end) })
			}
		}
	}
}

// still reports whether somebody may go on watching as before: signed in, in the same
// role. A database that is away ends nothing.
func (s *Service) still(w who, identify func() (who, error)) bool {
	now, err := identify()
	var se huma.StatusError
	if errors.As(err, &se) && se.GetStatus() != fiber.StatusUnauthorized {
		return true
	}
	return err == nil && now.Name == w.Name && now.Role == w.Role
}
