package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"gullroute/internal/core/config"
)

// policyPath is where a policy stands (RFC 8461 section 3.2).
const policyPath = "/.well-known/mta-sts.txt"

// PolicyServer says the TLS policies of our domains to the world, each under the name mta-sts of
// its domain, and nothing else.
type PolicyServer struct {
	service  *Service
	listener net.Listener
}

// text is what a host says; "" if it says nothing.
func (p *PolicyServer) text(host string) string {
	domain, ok := strings.CutPrefix(strings.ToLower(host), "mta-sts.")
	if !ok {
		return ""
	}
	said, ok := config.PolicyOf(p.service.InForce.Config(), domain)
	if !ok {
		return ""
	}
	return said.Text()
}

// behind answers on the console's own address too, for a web server in front.
func (p *PolicyServer) behind(c fiber.Ctx) error {
	text := p.text(c.Hostname())
	if text == "" {
		return fiber.ErrNotFound
	}
	c.Set("Content-Type", "text/plain; charset=utf-8")
	return c.SendString(text)
}

// ServePolicies opens an address for policies alone, under a certificate that is read again when
// its files change.
func ServePolicies(s *Service, address, cert, key string) (*PolicyServer, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("policies: %w", err)
	}
	secured, err := tlsListener(s, guard(l), cert, key)
	if err != nil {
		_ = l.Close()
		return nil, fmt.Errorf("policies: %w", err)
	}
	return &PolicyServer{s, secured}, nil
}

// Run serves until ctx ends.
func (p *PolicyServer) Run(ctx context.Context) error {
	h := &http.Server{ReadHeaderTimeout: 10 * time.Second, WriteTimeout: 20 * time.Second,
		IdleTimeout: 30 * time.Second, MaxHeaderBytes: 16 << 10, Handler: http.HandlerFunc(p.answer)}
	stop := context.AfterFunc(ctx, func() { _ = h.Close() })
	defer stop()
	if err := h.Serve(p.listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func (p *PolicyServer) answer(w http.ResponseWriter, r *http.Request) {
	host, _, err := net.SplitHostPort(r.Host)
	if err != nil {
		host = r.Host
	}
	text := ""
	if r.URL.Path == policyPath && (r.Method == http.MethodGet || r.Method == http.MethodHead) {
		text = p.text(host)
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	if text == "" {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	_, _ = w.Write([]byte(text))
}
