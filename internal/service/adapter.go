package service

import (
	"bytes"
	"context"
	"crypto/tls"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
)

// fiberAdapter lets typed handlers run on Fiber.
type fiberAdapter struct{ app *fiber.App }

// Handle registers an operation.
func (a fiberAdapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	path := strings.NewReplacer("{", ":", "}", "").Replace(op.Path)
	a.app.Add([]string{op.Method}, path, func(c fiber.Ctx) error {
		handler(&fiberContext{op: op, c: c, ctx: c.Context()})
		return nil
	})
}

// ServeHTTP serves one request without a socket.
func (a fiberAdapter) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	resp, err := a.app.Test(r)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer resp.Body.Close()
	for k, v := range resp.Header {
		w.Header()[k] = v
	}
	w.WriteHeader(resp.StatusCode)
	_, _ = io.Copy(w, resp.Body)
}

// fiberContext is one request.
type fiberContext struct {
	op     *huma.Operation
	c      fiber.Ctx
	ctx    context.Context
	status int
}

func (f *fiberContext) Operation() *huma.Operation { return f.op }
func (f *fiberContext) Context() context.Context   { return f.ctx }
func (f *fiberContext) TLS() *tls.ConnectionState  { return f.c.RequestCtx().TLSConnectionState() }

func (f *fiberContext) Version() huma.ProtoVersion { return huma.ProtoVersion{Proto: f.c.Protocol()} }
func (f *fiberContext) Method() string             { return f.c.Method() }
func (f *fiberContext) Host() string               { return f.c.Host() }
func (f *fiberContext) RemoteAddr() string         { return f.c.RequestCtx().RemoteAddr().String() }
func (f *fiberContext) Query(name string) string   { return f.c.Query(name) }
func (f *fiberContext) Header(name string) string  { return f.c.Get(name) }
func (f *fiberContext) BodyReader() io.Reader      { return bytes.NewReader(f.c.Body()) }
func (f *fiberContext) BodyWriter() io.Writer      { return f.c.Response().BodyWriter() }
func (f *fiberContext) Status() int                { return f.status }

func (f *fiberContext) URL() url.URL {
	u, err := url.Parse(string(f.c.Request().RequestURI()))
	if err != nil {
		return url.URL{}
	}
	return *u
}

func (f *fiberContext) Param(name string) string { return f.param(name) }

func (f fiberContext) param(name string) string {
	v, err := url.PathUnescape(f.c.Params(name))
	if err != nil {
		return f.c.Params(name)
	}
	return v
}

func (f *fiberContext) EachHeader(cb func(name, value string)) {
	for k, v := range f.c.Request().Header.All() {
		cb(string(k), string(v))
	}
}

func (f *fiberContext) GetMultipartForm() (*multipart.Form, error) { return f.c.MultipartForm() }

func (f *fiberContext) SetReadDeadline(t time.Time) error {
	return f.c.RequestCtx().Conn().SetReadDeadline(t)
}

func (f *fiberContext) SetStatus(code int) {
	f.status = code
	f.c.Status(code)
}

func (f *fiberContext) SetHeader(name, value string) { f.c.Set(name, value) }

// AppendHeader adds a value; a cookie is a header of its own each time.
func (f *fiberContext) AppendHeader(name, value string) {
	f.c.Response().Header.Add(name, value)
}

// localWho is who was identified before the body was read.
func localWho(ctx huma.Context) (who, bool) {
	f, ok := ctx.(*fiberContext)
	if !ok {
		return who{}, false
	}
	w, ok := f.c.Locals(whoLocal).(who)
	return w, ok
}
