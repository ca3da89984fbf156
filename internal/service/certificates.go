package service

import (
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"golang.org/x/crypto/acme"

	"gullroute/internal/api"
)

// certificatesAPI serves the certificates that are kept here.
type certificatesAPI struct{ *Service }

func (s certificatesAPI) register(h huma.API) {
	op := operation{}
	const at = "/api/v1/certificates"
	huma.Register(h, read("certificates", at,
		"Certificates that are kept here: how each stands, who shows it, what comes next"), s.list)
	huma.Register(h, op.post("certificate-renew", at+"/{name}/renew",
		"Ask the authority for a certificate now, and wait until it is there"), s.renew)
	huma.Register(h, op.post(
		"certificate-upload",
		at+"/{name}/upload",
		"Check a chain and its key, and keep them, shown now or from a time on",
	),
		s.upload)
	huma.Register(h, op.post("certificate-activate", at+"/{name}/activate",
		"Show one that is kept, now or from a time on"), s.activate)
}

// CertificatePath names a certificate.
type CertificatePath struct {
	Name string `path:"name" maxLength:"255"`
}

func (s certificatesAPI) list(
	ctx context.Context,
	_ *struct{},
) (*out[api.Page[api.CertificateState]], error) {
	items, err := s.Control.Certificates.List(ctx)
	if err != nil {
		return nil, s.storeError(err, "certificate")
	}
	return &out[api.Page[api.CertificateState]]{api.Page[api.CertificateState]{Items: items}}, nil
}

func (s certificatesAPI) one(ctx context.Context, name string) (*out[api.CertificateState], error) {
	items, err := s.Control.Certificates.List(ctx)
	if err != nil {
		return nil, s.storeError(err, "certificate")
	}
	for _, x := range items {
		if x.Name == name {
			return &out[api.CertificateState]{x}, nil
		}
	}
	return nil, huma.Error404NotFound("there is no such certificate")
}

func (s certificatesAPI) renew(
	ctx context.Context,
	in *CertificatePath,
) (*out[api.CertificateState], error) {
	if err := s.Control.Certificates.Renew(ctx, signedIn(ctx).Name, in.Name); err != nil {
		return nil, s.storeError(err, "certificate")
	}
	return s.one(ctx, in.Name)
}

func (s certificatesAPI) upload(ctx context.Context, in *struct {
	CertificatePath
	Body struct {
		Chain string    `json:"chain" minLength:"1" maxLength:"262144" doc:"PEM; its own certificate first, then those above it"`
		Key   string    `json:"key" minLength:"1" maxLength:"32768" doc:"PEM, without a password"`
		From  time.Time `json:"from,omitempty" doc:"From when it is shown; now if not given"`
		Check bool      `json:"check,omitempty" doc:"Only check it"`
	}
}) (*out[api.CertificateChecked], error) {
	b := in.Body
	var x api.CertificateChecked
	var err error
	if b.Check {
		x, err = s.Control.Certificates.Check(in.Name, b.Chain, b.Key)
	} else {
		x, err = s.Control.Certificates.Upload(ctx, signedIn(ctx).Name, in.Name, b.Chain, b.Key, b.From)
	}
	if err != nil {
		return nil, s.storeError(err, "certificate")
	}
	if len(x.Faults) > 0 && !b.Check {
		return nil, huma.Error422UnprocessableEntity(strings.Join(x.Faults, "; "))
	}
	return &out[api.CertificateChecked]{x}, nil
}

func (s certificatesAPI) activate(ctx context.Context, in *struct {
	CertificatePath
	Body struct {
		ID   int64     `json:"id"`
		From time.Time `json:"from,omitempty" doc:"Now if not given"`
	}
}) (*out[api.CertificateState], error) {
	if err := s.Control.Certificates.Activate(ctx, in.Name, in.Body.ID, in.Body.From); err != nil {
		return nil, s.storeError(err, "certificate")
	}
	return s.one(ctx, in.Name)
}

// proofPath is where the authority looks for proofs by HTTP (RFC 8555 section 8.3).
const proofPath = "/.well-known/acme-challenge/"

// proof answers on the console's own address too, for a web server in front.
func (s certificatesAPI) proof(c fiber.Ctx) error {
	value, _, err := s.Control.Certificates.Store.Proof(c.Context(), "http", c.Params("token"))
	if err != nil {
		return fiber.ErrNotFound
	}
	c.Set("Content-Type", "application/octet-stream")
	return c.SendString(value)
}

// ServeProofs opens an address for proofs by HTTP alone, until ctx ends.
func ServeProofs(ctx context.Context, s *Service, address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	h := &http.Server{ReadHeaderTimeout: 10 * time.Second, WriteTimeout: 20 * time.Second,
		IdleTimeout: 30 * time.Second, MaxHeaderBytes: 16 << 10,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			token, ok := strings.CutPrefix(r.URL.Path, proofPath)
			w.Header().Set("X-Content-Type-Options", "nosniff")
			if !ok || token == "" || len(token) > 256 || r.Method != http.MethodGet {
				w.WriteHeader(http.StatusNotFound)
				return
			}
			value, _, err := s.Control.Certificates.Store.Proof(r.Context(), "http", token)
			if err != nil {
				w.WriteHeader(http.StatusNotFound)
				return
			}
			w.Header().Set("Content-Type", "application/octet-stream")
			_, _ = w.Write([]byte(value))
		})}
	context.AfterFunc(ctx, func() { _ = h.Close() })
	go func() { _ = h.Serve(guard(l)) }()
	return nil
}

// proving lets a TLS listener show proofs to the authority (RFC 8737); others get what is
// ordinary.
func proving(s *Service, ordinary *tls.Config) *tls.Config {
	out := ordinary.Clone()
	out.GetConfigForClient = func(hello *tls.ClientHelloInfo) (*tls.Config, error) {
		if len(hello.SupportedProtos) != 1 || hello.SupportedProtos[0] != acme.ALPNProto {
			return nil, nil
		}
		value, key, err := s.Control.Certificates.Store.Proof(hello.Context(), "tls",
			strings.ToLower(hello.ServerName))
		if err != nil {
			return nil, err
		}
		cert, err := tls.X509KeyPair([]byte(value), []byte(key))
		if err != nil {
			return nil, err
		}
		return &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{acme.ALPNProto},
			Certificates: []tls.Certificate{cert}}, nil
	}
	return out
}
