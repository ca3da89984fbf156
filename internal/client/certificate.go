package client

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"gullroute/internal/api"
)

const certificatesPath = "/api/v1/certificates"

// Certificates says how each certificate that is kept stands.
func (c ProbesCalls) Certificates(ctx context.Context) ([]api.CertificateState, error) {
	page, err := call[api.Page[api.CertificateState]](
		ctx,
		c.conn,
		http.MethodGet,
		certificatesPath,
		nil,
		nil,
	)
	return page.Items, err
}

// RenewCertificate asks the authority now, and waits.
func (c ProbesCalls) RenewCertificate(
	ctx context.Context,
	name string,
) (api.CertificateState, error) {
	return call[api.CertificateState](ctx, c.conn, http.MethodPost,
		certificatesPath+"/"+url.PathEscape(name)+"/renew", nil, nil)
}

// UploadCertificate keeps a chain and its key, or only checks them.
func (c ProbesCalls) UploadCertificate(
	ctx context.Context,
	name, chain, key string,
	from time.Time,
	check bool,
) (api.CertificateChecked, error) {
	body := map[string]any{"chain": chain, "key": key, "check": check}
	if !from.IsZero() {
		body["from"] = from
	}
	return call[api.CertificateChecked](ctx, c.conn, http.MethodPost,
		certificatesPath+"/"+url.PathEscape(name)+"/upload", nil, body)
}

// ActivateCertificate shows one that is kept, from a time on or now.
func (c ProbesCalls) ActivateCertificate(
	ctx context.Context,
	name string,
	id int64,
	from time.Time,
) (api.CertificateState, error) {
	body := map[string]any{"id": id}
	if !from.IsZero() {
		body["from"] = from
	}
	return call[api.CertificateState](ctx, c.conn, http.MethodPost,
		certificatesPath+"/"+url.PathEscape(name)+"/activate", nil, body)
}
