// Package feedback notes what is to be reported to others once a day: how mail in their name fared
// here (DMARC), and how connections to their hosts did (TLS). It waits for nobody.
package feedback

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"net/netip"
	"strings"
	"sync"
	"time"

	"gullroute/internal/core/aggregate"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/tlsterms"
	"gullroute/internal/engine/deliver"
)

// Store keeps what was noted.
type Store interface {
	AddSeen(ctx context.Context, seen []mail.FeedbackSeen) error
}

// Notebook counts what was seen until Flush writes it. It is safe for several goroutines.
type Notebook struct {
	Store Store
	Sends func() bool // whether anything is reported at all

	mu   sync.Mutex
	seen map[seenKey]int64
}

type seenKey struct {
	kind, domain, what string
	day                time.Time
}

// maxSeen bounds what is counted between two flushes: more is not reported.
const maxSeen = 20_000

// The kinds of reports.
const (
	DMARC = "dmarc"
	TLS   = "tls"
)

// maxSaid bounds a sentence in a report, in octets.
const maxSaid = 200

// Connection is how a connection to a host went, as it is reported.
type Connection struct {
	Policy string `json:"policy"` // sts, tlsa, no-policy-found
	Host   string `json:"host"`
	Result string `json:"result,omitempty"`
	More   string `json:"more,omitempty"`
}

func (n *Notebook) add(kind, domain string, what any) {
	text, err := json.Marshal(what)
	if err != nil {
		return
	}
	key := seenKey{
		kind,
		strings.ToLower(domain),
		string(text),
		time.Now().UTC().Truncate(24 * time.Hour),
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.seen == nil {
		n.seen = map[seenKey]int64{}
	}
	if _, known := n.seen[key]; known || len(n.seen) < maxSeen {
		n.seen[key]++
	}
}

// Judged notes who a stranger's message was found to be from, if its domain has a policy.
func (n *Notebook) Judged(client netip.Addr, found *senderauth.Assessment) {
	policy, published := strings.CutPrefix(found.DMARC.At, "_dmarc.")
	if !published || !n.Sends() {
		return
	}
	row := aggregate.DMARCRow{
		Source:      client.Unmap(),
		Disposition: "none",
		DKIM:        found.DMARC.BySignature,
		SPF:         found.DMARC.BySPF,
		HeaderFrom:  found.DMARC.Domain,
		Sent: []aggregate.Proof{
			{Domain: found.SPF.Domain, Scope: "mfrom", Result: string(found.SPF.Result)},
		},
	}
	if found.SPF.Scope == "helo" {
		row.Sent[0].Scope = "helo"
	}
	for _, s := range found.DKIM {
		row.Signed = append(row.Signed, aggregate.Proof{Domain: s.Domain, Selector: s.Selector,
			Result: string(s.Result)})
	}
	switch found.Action {
	case senderauth.Hold:
		row.Disposition = "quarantine"
	case senderauth.Refuse:
		row.Disposition = "reject"
	}
	n.add(DMARC, policy, row)
}

// Connected notes how TLS towards a host of a domain went. A policy that is only tried out is
// reported as it would have counted.
func (n *Notebook) Connected(domain, host string, terms tlsterms.Terms, seen deliver.Failure) {
	if !n.Sends() {
		return
	}
	if terms.Testing != nil {
		terms = *terms.Testing
	}
	c := Connection{Policy: "no-policy-found", Host: host}
	switch terms.By {
	case tlsterms.BySTS:
		c.Policy = "sts"
	case tlsterms.ByDANE:
		c.Policy = "tlsa"
	}
	demands := terms.TLS == tlsterms.Verified || terms.TLS == tlsterms.Pinned
	switch {
	case terms.Later:
		c.Result, c.More = "dnssec-invalid", terms.Unfit
	case terms.Unfit != "":
		c.Result, c.More = "validation-failure", terms.Unfit
	case seen.NoTLS:
		c.Result = "starttls-not-supported"
	case seen.Unverified != nil && demands:
		c.Result, c.More = fault(terms, seen.Unverified), seen.Unverified.Error()
	case seen.Cause != "":
		c.Result, c.More = "validation-failure", seen.Reply.Text
	}
	c.More = inert.Line(c.More, maxSaid)
	n.add(TLS, domain, c)
}

// fault is what is wrong with a certificate, in the words of RFC 8460 section 4.3.
func fault(terms tlsterms.Terms, err error) string {
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	var unknown x509.UnknownAuthorityError
	switch {
	case terms.By == tlsterms.ByDANE:
		return "validation-failure"
	case errors.As(err, &host):
		return "certificate-host-mismatch"
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return "certificate-expired"
	case errors.As(err, &unknown):
		return "certificate-not-trusted"
	}
	return "validation-failure"
}

// Flush writes what was noted.
func (n *Notebook) Flush(ctx context.Context) error {
	n.mu.Lock()
	seen := n.seen
	n.seen = nil
	n.mu.Unlock()
	if len(seen) == 0 {
		return nil
	}
	list := make([]mail.FeedbackSeen, 0, len(seen))
	for k, count := range seen {
		list = append(
			list,
			mail.FeedbackSeen{
				Kind:   k.kind,
				Day:    k.day,
				Domain: k.domain,
				What:   []byte(k.what),
				N:      count,
			},
		)
	}
	if err := n.Store.AddSeen(ctx, list); err != nil {
		n.mu.Lock()
		defer n.mu.Unlock()
		if n.seen == nil {
			n.seen = seen // counted later
		}
		return err
	}
	return nil
}
