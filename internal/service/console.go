package service

import (
	"embed"
	"io/fs"
	"mime"
	"path"
	"strings"

	"github.com/gofiber/fiber/v3"
)

// dist is the built console; `npm run build` in web/ fills it.
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
		content, err := fs.ReadFile(files, name)
		if err == nil && name != "index.html" {
			c.Set("Cache-Control", "public, max-age=31536000, immutable")
			c.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
			return c.Send(content)
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			return fiber.NewError(fiber.StatusNotFound, "this binary was built without the console")
		}
		c.Set("Cache-Control", "no-cache")
		c.Set("Content-Type", "text/html; charset=utf-8")
		return c.Send(page)
	})
}
