// Package certify gets certificates from an authority (ACME, RFC 8555): account, order, proof that
// the names are ours, and the chain.
package certify

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"golang.org/x/crypto/acme"
)

// The kinds of proof, as RFC 8555 and RFC 8737 name them.
var kinds = map[string]string{"http": "http-01", "tls": "tls-alpn-01", "dns": "dns-01"}

// Order is what is asked for.
type Order struct {
	Directory string
	Contact   []string
	KeyID     string // external account binding
	MAC       []byte
	Account   crypto.Signer
	Names     []string
	Proof     string // http, tls or dns
	Key       string // ecdsa-p256, rsa-2048, rsa-3072
}

// Prover lets the world see a proof for a while. For http, name is the token; for tls, name is the
// host and key the certificate's key; for dns, name is that of the record.
type Prover interface {
	Show(ctx context.Context, kind, name, value, key string) error
	Hide(ctx context.Context, kind, name, value string)
}

// Obtain orders a certificate, and returns chain and key as PEM.
func Obtain(ctx context.Context, o Order, p Prover, c *http.Client) (chain, key string, err error) {
	client := &acme.Client{
		Key:          o.Account,
		DirectoryURL: o.Directory,
		HTTPClient:   c,
		UserAgent:    "gull",
		RetryBackoff: again,
	}
	account := &acme.Account{Contact: o.Contact}
	if o.KeyID != "" {
		account.ExternalAccountBinding = &acme.ExternalAccountBinding{KID: o.KeyID, Key: o.MAC}
	}
	if _, err := client.Register(ctx, account, acme.AcceptTOS); err != nil &&
		!errors.Is(err, acme.ErrAccountAlreadyExists) {
		return "", "", step("it does not take our account", err)
	}
	order, err := client.AuthorizeOrder(ctx, identifiers(o.Names))
	if err != nil {
		return "", "", step("it does not take the order", err)
	}
	for _, url := range order.AuthzURLs {
		if err := prove(ctx, client, url, o.Proof, p); err != nil {
			return "", "", err
		}
	}
	at := order.URI // later answers need not say it (section 7.4)
	if order, err = client.WaitOrder(ctx, at); err != nil {
		return "", "", step("the order does not get ready", err)
	}
	private, err := newKey(o.Key)
	if err != nil {
		return "", "", err
	}
	request := &x509.CertificateRequest{}
	for _, n := range o.Names {
		if ip := net.ParseIP(n); ip != nil {
			request.IPAddresses = append(request.IPAddresses, ip)
		} else {
			request.DNSNames = append(request.DNSNames, n)
		}
	}
	csr, err := x509.CreateCertificateRequest(rand.Reader, request, private)
	if err != nil {
		return "", "", err
	}
	ders, _, err := client.CreateOrderCert(ctx, order.FinalizeURL, csr, true)
	var said *acme.Error
	if err != nil && !errors.As(err, &said) {
		// The library looks for the order where the last answer says that it is.
		if order, err = client.WaitOrder(ctx, at); err == nil {
			ders, err = client.FetchCert(ctx, order.CertURL, true)
		}
	}
	if err != nil {
		return "", "", step("it gives no certificate", err)
	}
	var b strings.Builder
	for _, der := range ders {
		_ = pem.Encode(&b, &pem.Block{Type: "CERTIFICATE", Bytes: der})
	}
	if key, err = keyText(private); err != nil {
		return "", "", err
	}
	return b.String(), key, nil
}

// again says when a request is sent once more: soon where only its nonce was refused, twice where
// the authority is in trouble, and not where it asks us to come much later.
func again(n int, _ *http.Request, resp *http.Response) time.Duration {
	switch {
	case resp.StatusCode == http.StatusBadRequest && n <= 10:
		return 50 * time.Millisecond
	case resp.StatusCode >= http.StatusInternalServerError && n <= 2:
		return time.Second
	}
	return -1
}

// identifiers are names, and addresses (RFC 8738).
func identifiers(names []string) (out []acme.AuthzID) {
	for _, n := range names {
		if _, err := netip.ParseAddr(n); err == nil {
			out = append(out, acme.IPIDs(n)...)
		} else {
			out = append(out, acme.DomainIDs(n)...)
		}
	}
	return out
}

// prove shows that one name is ours.
func prove(ctx context.Context, c *acme.Client, url, proof string, p Prover) error {
	z, err := c.GetAuthorization(ctx, url)
	if err != nil {
		return step("it does not say how a name is proved", err)
	}
	name := z.Identifier.Value
	if z.Status == acme.StatusValid {
		return nil
	}
	var chosen *acme.Challenge
	var offered []string
	for _, ch := range z.Challenges {
		if offered = append(offered, ch.Type); ch.Type == kinds[proof] {
			chosen = ch
		}
	}
	if chosen == nil {
		return fmt.Errorf("the authority does not let %s be proved by %s; it offers %s", name,
			kinds[proof], strings.Join(offered, ", "))
	}
	at, value, key := name, "", ""
	switch proof {
	case "http":
		at = chosen.Token
		value, err = c.HTTP01ChallengeResponse(chosen.Token)
	case "dns":
		at = "_acme-challenge." + name
		value, err = c.DNS01ChallengeRecord(chosen.Token)
	default:
		var cert tls.Certificate
		if cert, err = c.TLSALPN01ChallengeCert(chosen.Token, name); err == nil {
			value = string(
				pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Certificate[0]}),
			)
			private, ok := cert.PrivateKey.(crypto.Signer)
			if !ok {
				return errors.New("the proof has no key")
			}
			key, err = keyText(private)
		}
	}
	if err != nil {
		return err
	}
	if err := p.Show(ctx, proof, at, value, key); err != nil {
		return fmt.Errorf("the proof of %s cannot be shown: %w", name, err)
	}
	defer p.Hide(context.WithoutCancel(ctx), proof, at, value)
	if _, err := c.Accept(ctx, chosen); err != nil {
		return step("it does not look at the proof of "+name, err)
	}
	if _, err := c.WaitAuthorization(ctx, z.URI); err != nil {
		return step("it does not find the proof of "+name+" ("+kinds[proof]+")", err)
	}
	return nil
}

// step says what the authority said at one step.
func step(what string, err error) error {
	var denied *acme.AuthorizationError
	var said *acme.Error
	if errors.As(err, &denied) && len(denied.Errors) > 0 {
		err = errors.Join(denied.Errors...)
	}
	if errors.As(err, &said) {
		kind := said.ProblemType[strings.LastIndexByte(said.ProblemType, ':')+1:]
		return fmt.Errorf("the authority: %s: %s (%s)", what, said.Detail, kind)
	}
	return fmt.Errorf("the authority: %s: %w", what, err)
}

// NewAccountKey makes the key of an account, as PEM.
func NewAccountKey() (string, error) {
	k, err := newKey("ecdsa-p256")
	if err != nil {
		return "", err
	}
	return keyText(k)
}

// ParseKey reads a key that was made here.
func ParseKey(text string) (crypto.Signer, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil, errors.New("there is no key")
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	s, ok := k.(crypto.Signer)
	if !ok {
		return nil, errors.New("the key does not sign")
	}
	return s, nil
}

func newKey(kind string) (crypto.Signer, error) {
	switch kind {
	case "rsa-2048":
		return rsa.GenerateKey(rand.Reader, 2048)
	case "rsa-3072":
		return rsa.GenerateKey(rand.Reader, 3072)
	}
	return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
}

func keyText(k crypto.Signer) (string, error) {
	der, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		return "", err
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})), nil
}

// authorityWaits bounds each of the authority's answers.
const authorityWaits = 20 * time.Second

// Client is how an authority is reached: its name is found by find, and its certificate verified
// by roots.
func Client(
	find func(ctx context.Context, host string) ([]netip.Addr, error),
	roots *x509.CertPool,
) *http.Client {
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		host, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		var d net.Dialer
		if _, err := netip.ParseAddr(host); err == nil || host == "localhost" {
			return d.DialContext(ctx, network, address)
		}
		addrs, err := find(ctx, host)
		if err != nil {
			return nil, err
		}
		for _, a := range addrs {
			var conn net.Conn
			if conn, err = d.DialContext(ctx, network, net.JoinHostPort(a.String(), port)); err == nil {
				return conn, nil
			}
		}
		if err == nil {
			err = fmt.Errorf("%s has no address", host)
		}
		return nil, err
	}
	return &http.Client{Timeout: authorityWaits, Transport: &http.Transport{DialContext: dial,
		TLSClientConfig:     &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12},
		TLSHandshakeTimeout: authorityWaits, MaxResponseHeaderBytes: 64 << 10}}
}
