package policies

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"time"

	"gullroute/internal/core/tlsterms"
)

// fetchTime bounds one fetch, from the look-up of the server to the last octet.
const fetchTime = 15 * time.Second

// policyPath is where a policy stands (RFC 8461 section 3.2).
const policyPath = "/.well-known/mta-sts.txt"

// Fetcher reads policies from their servers.
type Fetcher struct {
	Addrs func(ctx context.Context, host string) ([]netip.Addr, error)
	Port  int
	Roots *x509.CertPool // nil is the system's
}

// Fetch reads a domain's policy from its server, whose certificate must be verified, and which
// sends nowhere else (RFC 8461 section 3.3).
func (k Fetcher) Fetch(ctx context.Context, name string) (p tlsterms.Policy, err error) {
	ctx, stop := context.WithTimeout(ctx, fetchTime)
	defer stop()
	host := "mta-sts." + name
	transport := &http.Transport{
		TLSClientConfig: &tls.Config{
			ServerName: host,
			RootCAs:    k.Roots,
			MinVersion: tls.VersionTLS12,
		},
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return k.dial(ctx, network, host)
		},
		DisableKeepAlives:      true,
		MaxResponseHeaderBytes: 64 << 10,
	}
	client := &http.Client{
		Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("it sends elsewhere, which a policy's server may not")
		},
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://"+host+policyPath, nil)
	if err != nil {
		return p, err
	}
	resp, err := client.Do(r)
	if err != nil {
		return p, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return p, fmt.Errorf("https://%s%s answers %d", host, policyPath, resp.StatusCode)
	}
	if kind, _, err := mime.ParseMediaType(resp.Header.Get("Content-Type")); err != nil ||
		kind != "text/plain" {
		return p, fmt.Errorf("https://%s%s is %q, not text/plain", host, policyPath,
			resp.Header.Get("Content-Type"))
	}
	text, err := io.ReadAll(io.LimitReader(resp.Body, tlsterms.MaxPolicy+1))
	if err != nil {
		return p, err
	}
	if len(text) > tlsterms.MaxPolicy {
		return p, fmt.Errorf(
			"https://%s%s has more than %d octets",
			host,
			policyPath,
			tlsterms.MaxPolicy,
		)
	}
	if p, err = tlsterms.ParsePolicy(string(text)); err != nil {
		return p, fmt.Errorf("https://%s%s: %w", host, policyPath, err)
	}
	return p, nil
}

// dial connects to the server of a policy, by our own resolver.
func (k Fetcher) dial(ctx context.Context, network, host string) (net.Conn, error) {
	addrs, err := k.Addrs(ctx, host)
	if err != nil {
		return nil, err
	}
	var last error
	for _, ip := range addrs[:min(len(addrs), maxAddresses)] {
		d := net.Dialer{Timeout: fetchTime / 3}
		conn, err := d.DialContext(ctx, network, netip.AddrPortFrom(ip, uint16(k.Port)).String())
		if err == nil {
			return conn, nil
		}
		last = err
	}
	if last == nil {
		last = errors.New(host + " port " + strconv.Itoa(k.Port) + ": no address")
	}
	return nil, last
}

// maxAddresses are as many of a server's as are tried.
const maxAddresses = 4
