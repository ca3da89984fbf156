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
	"gullroute/internal/core/wording"
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
	Words                                 *wording.HeldWords
}

var linkTemplate = template.Must(template.New("held").Parse(`<!doctype html>
<html lang="{{.Words.Language}}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<meta name="robots" content="noindex"><title>{{.Title}}</title>
<style>body{font:16px/1.5 system-ui,sans-serif;max-width:44rem;margin:2rem auto;padding:0 1rem;color:#17262a}
pre{white-space:pre-wrap;overflow-wrap:anywhere;background:#f3f6f4;padding:1rem;max-height:30rem;overflow:auto}
dt{font-weight:600}dd{margin:0 0 .5rem}button{font:inherit;padding:.5rem 1rem}</style></head><body>
<h1>{{.Title}}</h1>
{{if .Gone}}<p>{{.Words.NotHeldWhy}}</p>{{else if .Done}}<p>{{.Words.GoesOnWhy}}</p>{{else}}
<dl><dt>{{.Words.FromLabel}}</dt><dd>{{.From}}</dd><dt>{{.Words.Subject}}</dt><dd>{{.Subject}}</dd><dt>{{.Words.Came}}</dt><dd>{{.Date}}</dd>
<dt>{{.Words.Why}}</dt><dd>{{.Why}}</dd>
{{if .Files}}<dt>{{$.Words.Files}}</dt>{{range .Files}}<dd>{{.}}</dd>{{end}}{{end}}</dl>
{{if .May}}<form method="post"><button>{{.Words.Button}}</button></form>
<p>{{.Words.Warning}}</p>{{else}}
<p>{{.Words.OnlyAdmin}}</p>{{end}}
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
	p.Words = s.words()
	var b strings.Builder
	if err := linkTemplate.Execute(&b, p); err != nil {
		return err
	}
	return c.Status(status).SendString(b.String())
}

// words are in the language of digests.
func (s linkPages) words() *wording.HeldWords {
	return wording.Held(s.InForce.Config().Service.Held.Digest.Language)
}

// linked opens the link of a request; ok is false if the answer was given.
func (s linkPages) linked(c fiber.Ctx) (item mail.HeldItem, may, ok bool, err error) {
	item, may, err = s.Insight.Digester.Open(c.Context(), c.Params("token"), time.Now())
	switch {
	case errors.Is(err, insight.ErrLink):
		return item, false, false, s.linkPage(c, fiber.StatusNotFound,
			linkPage{Title: s.words().NotHeld, Gone: true})
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
		Title:   s.words().Title,
		From:    item.From,
		Subject: item.Subject,
		May:     may,
		Date:    item.Received.UTC().Format(s.words().Clock),
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
			linkPage{Title: strings.TrimSuffix(s.words().OnlyAdmin, "."),
				From: item.From, Subject: item.Subject, Why: item.Why},
		)
	}
	_, err = s.Control.Held.Release(c.Context(), item.Recipient,
		api.HeldRelease{Deliveries: []string{item.ID.String()}, Why: "by the link in a digest"})
	s.Insight.Lanes.Forget()
	if err != nil {
		return s.actionError(err)
	}
	return s.linkPage(c, fiber.StatusOK, linkPage{Title: s.words().GoesOn, Done: true})
}
