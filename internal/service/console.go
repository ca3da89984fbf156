package service

import (
	"embed"
	"io/fs"
	"mime"
	"path"
	"strings"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
)

// dist is the built console; `npm run build` in web/ fills it, with each file that
// shrinks also compressed beside it.
//
//go:embed all:console/dist
var dist embed.FS

// console serves the web console: its files, and for every other path its page,
// which knows its own routes.
func (s *Service) console() {
	files, err := fs.Sub(dist, "console/dist")
	if err != nil {
		panic(err) // the directory is part of the binary
	}
	s.app.Get("/api/*", func(c fiber.Ctx) error {
		return fiber.NewError(fiber.StatusNotFound,
			"there is no "+c.Path()+"; see /api/openapi.json")
	})
	s.app.Get("/*", func(c fiber.Ctx) error {
		name := strings.TrimPrefix(path.Clean(c.Path()), "/")
		if _, err := fs.Stat(files, name); err != nil || name == "." {
			if isFile(name) { // of another version, say: a page in its place would be run as it
				c.Set("Cache-Control", "no-store")
				return fiber.NewError(fiber.StatusNotFound, "the console has no file /"+name)
			}
			name = "index.html"
		}
		if strings.HasPrefix(name, "assets/") { // named after what is in them
			c.Set("Cache-Control", "public, max-age=31536000, immutable")
		} else {
			c.Set("Cache-Control", "no-cache")
		}
		return sendFile(c, files, name)
	})
}

// isFile reports whether a path asks for a file, not for a page.
func isFile(name string) bool {
	return strings.HasPrefix(name, "assets/") || mime.TypeByExtension(path.Ext(name)) != "" &&
		!strings.Contains(name, "/")
}

// sendFile sends a file of the console, in the smallest form that the browser takes.
func sendFile(c fiber.Ctx, files fs.FS, name string) error {
	c.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
	c.Set("Vary", "Accept-Encoding")
	for _, form := range []struct{ coding, suffix string }{{"br", ".br"}, {"gzip", ".gz"}} {
		if !c.Request().Header.HasAcceptEncoding(form.coding) {
			continue
		}
		if content, err := fs.ReadFile(files, name+form.suffix); err == nil {
			c.Set("Content-Encoding", form.coding)
			return c.Send(content)
		}
	}
	content, err := fs.ReadFile(files, name)
	if err != nil {
		return fiber.NewError(fiber.StatusNotFound, "this binary was built without the console")
	}
	return c.Send(content)
}

// worthPacking is from how many octets on an answer is compressed.
const worthPacking = 1400

// packed compresses answers in JSON for those who take it. What is streamed goes as it
// comes: an event must not wait for the next.
func packed(c fiber.Ctx) error {
	if err := c.Next(); err != nil {
		return err
	}
	r := c.Response()
	if r.IsBodyStream() || len(r.Body()) < worthPacking ||
		!strings.Contains(string(r.Header.ContentType()), "json") ||
		len(r.Header.ContentEncoding()) > 0 ||
		!c.Request().Header.HasAcceptEncoding("gzip") {
		return nil
	}
	r.SetBodyRaw(fasthttp.AppendGzipBytesLevel(nil, r.Body(), fasthttp.CompressBestSpeed))
	c.Set("Content-Encoding", "gzip")
	c.Vary("Accept-Encoding")
	return nil
}
