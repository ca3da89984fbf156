package service

import (
	"errors"
	"html/template"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/insight"
)

// linkPages are the pages to which the links of digests lead: without sign-in, for who has the
// link, about one message only. Nothing on them runs or is fetched from elsewhere; looking
// changes nothing, since programs look at links too.
type linkPages struct{ *Service }

func (s linkPages) serve() {
	s.app.Get(insight.LinkPath+":token", s.showHeldLink)
	s.app.Post(insight.LinkPath+":token", s.releaseByLink)
}

type linkPage struct {
	Title, From, Subject, Date, Why, Text string
	Files                                 []string
	May, Done, Gone                       bool
}

var linkTemplate = template.Must(template.New("held").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<meta name="robots" content="noindex"><title>{{.Title}}</title>
<style>body{font:16px/1.5 system-ui,sans-serif;max-width:44rem;margin:2rem auto;padding:0 1rem;color:#17262a}
pre{white-space:pre-wrap;overflow-wrap:anywhere;background:#f3f6f4;padding:1rem;max-height:30rem;overflow:auto}
dt{font-weight:600}dd{margin:0 0 .5rem}button{font:inherit;padding:.5rem 1rem}</style></head><body>
<h1>{{.Title}}</h1>
{{if .Gone}}<p>It was let go on, sent back or dropped, or the link has ended. Ask your administrator if you
miss a message.</p>{{else if .Done}}<p>It will be in your mailbox within moments.</p>{{else}}
<dl><dt>From</dt><dd>{{.From}}</dd><dt>Subject</dt><dd>{{.Subject}}</dd><dt>Came</dt><dd>{{.Date}}</dd>
<dt>Why it is held</dt><dd>{{.Why}}</dd>
{{if .Files}}<dt>Files</dt>{{range .Files}}<dd>{{.}}</dd>{{end}}{{end}}</dl>
{{if .May}}<form method="post"><button>Let it go on to my mailbox</button></form>
<p>Do so only if you expected it. Its files are not opened by looking here.</p>{{else}}
<p>Only an administrator can let it go on.</p>{{end}}
<pre>{{.Text}}</pre>{{end}}</body></html>`))

// maxLinkText is how much of a text is shown, in octets.
const maxLinkText = 8000

func (s linkPages) linkPage(c fiber.Ctx, status int, p linkPage) error {
	c.Set("Cache-Control", "no-store")
	c.Set("X-Robots-Tag", "noindex")
	c.Set(
		"Content-Security-Policy",
		"default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; "+
			"frame-ancestors 'none'; base-uri 'none'",
	)
	c.Set("Content-Type", "text/html; charset=utf-8")
	var b strings.Builder
	if err := linkTemplate.Execute(&b, p); err != nil {
		return err
	}
	return c.Status(status).SendString(b.String())
}

// linked opens the link of a request; ok is false if the answer was given.
func (s linkPages) linked(c fiber.Ctx) (item mail.HeldItem, may, ok bool, err error) {
	item, may, err = s.Insight.Digester.Open(c.Context(), c.Params("token"), time.Now())
	switch {
	case errors.Is(err, insight.ErrLink):
		return item, false, false, s.linkPage(c, fiber.StatusNotFound,
			linkPage{Title: "This message is not held any more", Gone: true})
	case err != nil:
		return item, false, false, s.storeError(err, "message")
	}
	return item, may, true, nil
}

func (s linkPages) showHeldLink(c fiber.Ctx) error {
	item, may, ok, err := s.linked(c)
	if !ok {
		return err
	}
	p := linkPage{
		Title:   "A message that is held for you",
		From:    item.From,
		Subject: item.Subject,
		May:     may,
		Date:    item.Received.Format("2 January 2006 15:04 UTC"),
		Why:     item.Why,
	}
	if p.From == "" {
		p.From = item.Sender
	}
	v, err := s.Insight.Trace.View(c.Context(), item.MessageID)
	if err != nil {
		return s.storeError(err, "message")
	}
	p.Text = inert.Clip(v.Text, maxLinkText)
	for _, part := range v.Parts {
		if part.Name != "" {
			p.Files = append(p.Files, part.Name)
		}
	}
	return s.linkPage(c, fiber.StatusOK, p)
}

func (s linkPages) releaseByLink(c fiber.Ctx) error {
	item, may, ok, err := s.linked(c)
	if !ok {
		return err
	}
	if !may {
		return s.linkPage(
			c,
			fiber.StatusForbidden,
			linkPage{Title: "Only an administrator can let it go on",
				From: item.From, Subject: item.Subject, Why: item.Why},
		)
	}
	_, err = s.Control.Held.Release(c.Context(), item.Recipient,
		api.HeldRelease{Deliveries: []string{item.ID.String()}, Why: "by the link in a digest"})
	s.Insight.Lanes.Forget()
	if err != nil {
		return s.actionError(err)
	}
	return s.linkPage(c, fiber.StatusOK, linkPage{Title: "It goes on", Done: true})
}
