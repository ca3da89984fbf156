package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/signin"
)

// singleSignOnAPI sends people to the provider that says who they are, and takes them back.
type singleSignOnAPI struct{ *Service }

// errandCookie remembers somebody while he is at the provider. It comes along when the provider
// sends him back, which a strict cookie would not; it opens nothing by itself.
const errandCookie = "gull_errand"

const singleSignOnPath = "/api/v1/single-sign-on"

func (s singleSignOnAPI) register(h huma.API) {
	op := operation{}
	s.app.Get(singleSignOnPath, s.depart)
	s.app.Get(singleSignOnPath+"/back", s.back)
	huma.Register(h, op.post("single-sign-on-program", singleSignOnPath+"/program",
		"Trade the pass that came back from the provider for a program's session"), s.program)
}

func (s signInAPI) ways(_ context.Context, _ *struct{}) (*out[api.SignInWays], error) {
	w := api.SignInWays{Link: s.link()}
	if one := s.InForce.Config().Service.Operators.SingleSignOn; one.Offered() {
		w.SingleSignOn, w.Mailboxes = one.Name, one.Mailboxes == "yes"
	}
	return &out[api.SignInWays]{w}, nil
}

// depart sends somebody to the provider.
func (s singleSignOnAPI) depart(c fiber.Ctx) error {
	e := control.Errand{For: c.Query("for", control.ForConsole)}
	switch e.For {
	case control.ForConsole, control.ForMailbox:
	case control.ForProgram:
		port, err := strconv.Atoi(c.Query("port"))
		if err != nil || port < 1 || port > 65535 ||
			len(c.Query("proof")) != len(control.Proof("")) {
			return fiber.NewError(
				fiber.StatusUnprocessableEntity,
				"port and proof: a program says where on its own machine it waits, and what it proves itself by",
			)
		}
		e.Port, e.Proof = port, c.Query("proof")
	default:
		return fiber.NewError(fiber.StatusUnprocessableEntity, "for: console, mailbox or program")
	}
	to, remembered, err := s.Control.SingleSignOn.Depart(c.Context(), e)
	if err != nil {
		return s.notLetIn(c, e, err)
	}
	s.errand(c, remembered, 10*time.Minute)
	return c.Redirect().Status(fiber.StatusSeeOther).To(to)
}

func (s singleSignOnAPI) errand(c fiber.Ctx, value string, life time.Duration) {
	c.Cookie(&fiber.Cookie{Name: errandCookie, Value: value, Path: singleSignOnPath, HTTPOnly: true,
		SameSite: fiber.CookieSameSiteLaxMode, Secure: s.CertFile != "", MaxAge: int(life.Seconds())})
}

// back takes somebody who comes back from the provider.
func (s singleSignOnAPI) back(c fiber.Ctx) error {
	remembered := c.Cookies(errandCookie)
	s.errand(c, "", -time.Second)
	try, ok := signInAPI(s).begun(c.Context(), "single sign-on", c.IP())
	if !ok {
		return fiber.NewError(fiber.StatusTooManyRequests,
			"too many failed tries from this address; wait a minute")
	}
	defer try.GiveBack()
	known, err := s.Control.SingleSignOn.Return(
		c.Context(),
		remembered,
		c.Query("state"),
		c.Query("code"),
	)
	if err != nil {
		var no *control.Refused
		if errors.As(err, &no) && (no.Code == "late" || no.Code == "failed") {
			try.Failed()
		}
		return s.notLetIn(c, known.Errand, err)
	}
	if known.Errand.For == control.ForMailbox {
		return s.toMailbox(c, known)
	}
	try.Passed(c.Context())
	signInAPI(s).came(known.Person, mail.BySingleSignOn, c.IP(), http.StatusOK, "")
	if known.Errand.For == control.ForProgram {
		pass, err := s.Control.SingleSignOn.ProgramPass(known)
		if err != nil {
			return err
		}
		return c.Redirect().Status(fiber.StatusSeeOther).To(
			fmt.Sprintf("http://127.0.0.1:%d/?pass=%s", known.Errand.Port, url.QueryEscape(pass)))
	}
	reply, err := signInAPI(s).begin(c.Context(), known.Person, mail.BySingleSignOn, c.IP(),
		inert.Clip(c.Get("User-Agent"), 200), false)
	if err != nil {
		return err
	}
	c.Response().Header.Add("Set-Cookie", reply.SetCookie)
	return c.Redirect().Status(fiber.StatusSeeOther).To("/")
}

// toMailbox opens the page of the mailbox whose address the provider has verified.
func (s singleSignOnAPI) toMailbox(c fiber.Ctx, known control.Known) error {
	own := ownAPI(s)
	box := s.InForce.Config().Directory.Mailbox(known.Box)
	if own.offered() != nil || box == nil || !signin.Own.Allows(box) {
		return s.notLetIn(c, known.Errand, &control.Refused{Code: "no-mailbox",
			Text: known.Box.Display() + " is no mailbox with a page here"})
	}
	secret, err := s.Control.Own.Begin(c.Context(), box.Address)
	if err != nil {
		return errDatabase
	}
	c.Response().Header.Add("Set-Cookie", s.sessionCookie(ownCookie, secret, control.OwnTime))
	return c.Redirect().Status(fiber.StatusSeeOther).To("/mailbox")
}

// notLetIn sends somebody back to where he came from, with a word for why. What is in the
// address is a word of ours: a page never says what somebody else wrote there.
func (s singleSignOnAPI) notLetIn(c fiber.Ctx, e control.Errand, err error) error {
	var no *control.Refused
	if !errors.As(err, &no) {
		s.Log.Error("single sign-on failed", "error", err)
		no = &control.Refused{Code: "failed", Text: "the service could not go on: see its log"}
	}
	s.Log.Warn("single sign-on let nobody in", "why", no.Text, "name", no.Name, "client", c.IP())
	if no.Name != "" {
		signInAPI(s).came(
			mail.Person{Name: no.Name},
			mail.BySingleSignOn,
			c.IP(),
			http.StatusUnauthorized,
			no.Text,
		)
	}
	to := "/?single-sign-on=" + no.Code
	switch e.For {
	case control.ForMailbox:
		to = "/mailbox?single-sign-on=" + no.Code
	case control.ForProgram:
		to = fmt.Sprintf("http://127.0.0.1:%d/?refused=%s", e.Port, no.Code)
	}
	return c.Redirect().Status(fiber.StatusSeeOther).To(to)
}

type programInput struct {
	client, program string
	Body            struct {
		Pass  string `json:"pass" maxLength:"4000"`
		Proof string `json:"proof" maxLength:"200" doc:"Whose hash went with the departure"`
	}
}

// Resolve notes who asks.
func (in *programInput) Resolve(ctx huma.Context) []error {
	in.client, in.program = hostOf(ctx.RemoteAddr()), inert.Clip(ctx.Header("User-Agent"), 200)
	return nil
}

func (s singleSignOnAPI) program(ctx context.Context, in *programInput) (*signInReply, error) {
	if s.CertFile == "" && !onLoopback(s.listener) {
		return nil, errInClear
	}
	p, err := s.Control.SingleSignOn.UsePass(ctx, in.Body.Pass, in.Body.Proof)
	var no *control.Refused
	switch {
	case errors.As(err, &no):
		return nil, huma.Error401Unauthorized(no.Text)
	case err != nil:
		return nil, errDatabase
	}
	return signInAPI(s).begin(ctx, p, mail.BySingleSignOn, in.client, in.program, true)
}
