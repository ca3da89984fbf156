// Package service is the node's HTTP side: the interface for programs under
// /api, sign-in, live events, health, metrics, and the console.
package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"runtime/debug"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/control"
	"gullroute/internal/core/fault"
	"gullroute/internal/engine/feed"
	"gullroute/internal/engine/signin"
	"gullroute/internal/inforce"
	"gullroute/internal/insight"
)

// Version is set when the binary is built.
var Version = "dev"

// Options are what a service is made of.
type Options struct {
	Control *control.Control
	Insight *insight.Insight
	InForce *inforce.State
	Hub     *feed.Hub
	SignIn  *signin.Checker
	Log     *slog.Logger
	Level   *slog.LevelVar // of the log
	Address string         // of HTTP
	// CertFile and KeyFile turn on TLS. Without, sign-in is offered on loopback
	// only.
	CertFile, KeyFile string
}

// Service serves HTTP for a node.
type Service struct {
	Options
	app      *fiber.App
	api      huma.API
	listener net.Listener
	signIns  signin.Limiter
	live     streams
	known    acquaintances
	open     map[string]bool // paths, see strangersPaths
	running  context.Context
}

// maxBody bounds a request, in octets.
const maxBody = 32 << 20

// New opens the address.
func New(o Options) (*Service, error) {
	s := &Service{Options: o, running: context.Background()}
	s.signIns.Proofs = o.SignIn.Limiter.Proofs
	s.app = fiber.New(fiber.Config{
		AppName:           "Gull Route",
		Immutable:         true,
		BodyLimit:         maxBody,
		StreamRequestBody: true,
		ReadTimeout:       30 * time.Second,
		IdleTimeout:       2 * time.Minute,
		ErrorHandler:      s.problem,
	})
	in := entrance{s}
	s.app.Use(
		s.survive,
		packed,
		s.headers,
		in.identified,
		in.bounded,
		readable,
		recorder{s}.recorded,
	)
	s.health()
	s.app.Get(policyPath, (&PolicyServer{service: s}).behind)
	s.app.Get(proofPath+":token", certificatesAPI{s}.proof)
	s.api = s.newAPI()
	s.app.Get("/api/v1/live", s.serveLive)
	linkPages{s}.serve()
	s.console()
	l, err := net.Listen("tcp", o.Address)
	if err != nil {
		return nil, fmt.Errorf("console and API: %w", err)
	}
	s.listener = l
	return s, nil
}

// OpenAPI is the document that describes the interface, in JSON.
func OpenAPI() ([]byte, error) {
	s := &Service{app: fiber.New()}
	s.api = s.newAPI()
	return json.MarshalIndent(s.api.OpenAPI(), "", "  ")
}

// Address is where the service listens, as opened.
func (s *Service) Address() string { return s.listener.Addr().String() }

// Run serves until ctx ends.
func (s *Service) Run(ctx context.Context) error {
	s.running = ctx
	stop := context.AfterFunc(ctx, func() {
		_ = s.app.ShutdownWithTimeout(3 * time.Second)
		_ = s.listener.Close() // who is stopped before serving began has no server to shut down yet
	})
	defer stop()
	cfg := fiber.ListenConfig{DisableStartupMessage: true}
	l := guard(s.listener)
	if s.CertFile != "" {
		secured, err := tlsListener(s, l, s.CertFile, s.KeyFile)
		if err != nil {
			return err
		}
		l = secured
	}
	if err := s.app.Listener(l, cfg); ctx.Err() == nil || !errors.Is(err, net.ErrClosed) {
		return err
	}
	return nil
}

// onLoopback reports that HTTP is reached from this machine only.
func onLoopback(l net.Listener) bool {
	ap, err := netip.ParseAddrPort(l.Addr().String())
	return err == nil && ap.Addr().IsLoopback()
}

// survive keeps a fault in one request from ending the service.
func (s *Service) survive(c fiber.Ctx) (err error) {
	defer func() {
		if fault := recover(); fault != nil {
			s.Log.Error("request failed", "path", c.Path(), "fault", fault,
				"stack", string(debug.Stack()))
			err = fiber.NewError(fiber.StatusInternalServerError,
				"a fault of the service; its log has the details")
		}
	}()
	return c.Next()
}

const archivesPath = "/api/v1/archives"

// headers are for browsers: nothing from elsewhere runs here, and the console
// is nobody's frame.
func (s *Service) headers(c fiber.Ctx) error {
	if s.CertFile != "" {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	c.Set(
		"Content-Security-Policy",
		"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; connect-src "+
			"'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
	)
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("X-Frame-Options", "DENY")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Set("Permissions-Policy", "camera=(), microphone=(), geolocation=()")
	return c.Next()
}

// problem turns an error outside the typed handlers into problem details.
func (s *Service) problem(c fiber.Ctx, err error) error {
	status := fiber.StatusInternalServerError
	var fe *fiber.Error
	var se huma.StatusError
	switch {
	case errors.As(err, &se):
		status = se.GetStatus()
	case errors.As(err, &fe):
		status = fe.Code
	case errors.Is(err, fault.ErrNotFound):
		status = fiber.StatusNotFound
	}
	if status == fiber.StatusInternalServerError {
		s.Log.Error("request failed", "path", c.Path(), "error", err)
	}
	body := huma.ErrorModel{Status: status, Title: statusText(status), Detail: err.Error()}
	if model, ok := err.(*huma.ErrorModel); ok {
		body.Errors = model.Errors
	}
	return c.Status(status).JSON(body, "application/problem+json")
}

// health answers probes without sign-in. Ready means that mail can be taken:
// the database took a small durable write a moment ago, and a configuration is in force.
func (s *Service) health() {
	s.app.Get("/healthz",
		func(c fiber.Ctx) error { return c.JSON(fiber.Map{"status": "alive", "version": Version}) })
	s.app.Get("/readyz", func(c fiber.Ctx) error {
		if why := s.Insight.Nodes.Ready(); why != "" {
			return c.Status(fiber.StatusServiceUnavailable).JSON(fiber.Map{
				"status":   "not ready",
				"database": s.Insight.Nodes.DatabaseState(),
				"why":      why,
			})
		}
		if s.InForce.Config() == nil {
			return c.Status(
				fiber.StatusServiceUnavailable,
			).JSON(fiber.Map{"status": "not ready", "why": "no configuration is in force"})
		}
		if s.InForce.Drained() {
			return c.Status(fiber.StatusServiceUnavailable).JSON(fiber.Map{
				"status": "not ready",
				"why": "this node is drained: it takes no mail until somebody lets it go " +
					"on (gull node resume " + s.InForce.Node + ")",
			})
		}
		ready := fiber.Map{"status": "ready", "revision": s.InForce.Config().Revision}
		if s.InForce.DeliveryPaused() {
			ready["warning"] = "all delivery is paused: mail is taken, and none leaves"
		}
		return c.JSON(ready)
	})
	serve := metrics(s)
	s.app.Get("/metrics", func(c fiber.Ctx) error {
		if _, err := s.require(c, "metrics"); err != nil { // what flows here is not for strangers
			return err
		}
		return serve(c)
	})
}
