// Package policies asks domains what they say of TLS for mail to them: by their policies
// (MTA-STS, RFC 8461) and by their hosts' records in signed DNS (DANE, RFC 7672). What was asked
// is kept, in memory and in the database, so that mail waits for it once.
package policies

import (
	"context"
	"crypto/x509"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/tlsterms"
	"gullroute/internal/engine/resolve"
)

// Store keeps what was fetched.
type Store interface {
	Policy(ctx context.Context, domain string) (mail.TLSPolicy, bool, error)
	PutPolicy(ctx context.Context, p mail.TLSPolicy) error
}

// How long things are left alone.
const (
	looksAgain  = time.Minute     // at a domain's record in DNS; the resolver keeps that longer
	restsFault  = 5 * time.Minute // after a fetch that failed (RFC 8461 section 3.3)
	renewsAfter = 24 * time.Hour  // a policy whose id has not changed
	maxKnown    = 20_000          // domains in memory
)

// Keeper asks and keeps. It is safe for several goroutines.
type Keeper struct {
	Store    Store // nil keeps in memory only
	Resolver *resolve.Current
	Config   func() *config.Compiled
	Roots    *x509.CertPool // of the servers of policies; nil is the system's
	Log      *slog.Logger

	mu    sync.Mutex
	known map[string]*domain
}

// domain is what is known of one. Whoever asks holds mu: others for the same domain wait for the
// answer, and nobody else does.
type domain struct {
	mu     sync.Mutex
	loaded bool
	kept   mail.TLSPolicy
	looked time.Time // at its record
}

func (k *Keeper) of(name string) *domain {
	k.mu.Lock()
	defer k.mu.Unlock()
	d := k.known[name]
	if d == nil {
		if k.known == nil || len(k.known) >= maxKnown {
			k.known = map[string]*domain{}
		}
		d = &domain{kept: mail.TLSPolicy{Domain: name}}
		k.known[name] = d
	}
	return d
}

// Forget drops what is kept in memory: another node or a person asked anew.
func (k *Keeper) Forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.known = nil
}

// STS is a domain's policy that counts now; nil if it has none.
func (k *Keeper) STS(ctx context.Context, name string) *tlsterms.Policy {
	if k.Config().Service.TLSPolicies.MTASTS == config.Ignored {
		return nil
	}
	d := k.of(strings.ToLower(name))
	d.mu.Lock()
	defer d.mu.Unlock()
	now := time.Now()
	if now.Sub(d.looked) >= looksAgain {
		k.look(ctx, d, now, false)
	}
	return d.kept.InForce(now)
}

// Ask asks a domain for its policy now, whatever is kept.
func (k *Keeper) Ask(ctx context.Context, name string) mail.TLSPolicy {
	d := k.of(strings.ToLower(name))
	d.mu.Lock()
	defer d.mu.Unlock()
	k.look(ctx, d, time.Now(), true)
	return d.kept
}

// look looks at the record of a domain and fetches its policy where that is due. d.mu is held.
func (k *Keeper) look(ctx context.Context, d *domain, now time.Time, anew bool) {
	d.looked = now
	if !d.loaded && k.Store != nil {
		kept, found, err := k.Store.Policy(ctx, d.kept.Domain)
		d.loaded = err == nil
		if found {
			d.kept = kept
		}
	}
	id, fault := k.record(ctx, d.kept.Domain)
	switch {
	case fault != "" || id == "":
		// no record, or none to be had: what was had counts until it ends (RFC 8461 section 3.1)
		if fault != d.kept.Fault && (d.kept.Policy != nil || fault != "") {
			d.kept.Fault, d.kept.AskedAt = fault, now.UTC()
			k.keep(ctx, d)
		}
		return
	case !anew && d.kept.InForce(now) != nil && d.kept.Policy.ID == id &&
		now.Sub(d.kept.FetchedAt.Time) < renewsAfter:
		return
	case !anew && d.kept.Fault != "" && now.Sub(d.kept.AskedAt) < restsFault:
		return
	}
	p, err := k.fetch(ctx, d.kept.Domain)
	d.kept.AskedAt = now.UTC()
	if err != nil {
		if ctx.Err() != nil && errors.Is(ctx.Err(), context.Canceled) {
			return // nobody's fault
		}
		d.kept.Fault = err.Error()
		k.Log.Warn("the TLS policy of a domain could not be had", "domain", d.kept.Domain, "error", err)
		k.keep(ctx, d)
		return
	}
	p.ID = id
	d.kept.Policy, d.kept.Fault = &p, ""
	d.kept.FetchedAt, d.kept.EndsAt = mail.At(now), mail.At(now.Add(time.Duration(p.MaxAge)*time.Second))
	k.keep(ctx, d)
}

func (k *Keeper) keep(ctx context.Context, d *domain) {
	if k.Store == nil {
		return
	}
	if err := k.Store.PutPolicy(context.WithoutCancel(ctx), d.kept); err != nil {
		k.Log.Warn("the TLS policy of a domain is not kept", "domain", d.kept.Domain, "error", err)
	}
}

// record is the id that a domain's record says; "" if it has none.
func (k *Keeper) record(ctx context.Context, name string) (id, fault string) {
	rrs, err := k.Resolver.Records(ctx, "_mta-sts."+name, dns.TypeTXT)
	if err != nil {
		var f *resolve.Failure
		if errors.As(err, &f) && f.Cause == diagnose.NoSuchDomain {
			return "", ""
		}
		return "", err.Error()
	}
	var texts []string
	for _, rr := range rrs {
		if txt, ok := rr.(*dns.TXT); ok {
			texts = append(texts, strings.Join(txt.Txt, ""))
		}
	}
	id, err = tlsterms.ParseRecord(texts)
	if err != nil {
		return "", "the record _mta-sts." + name + " counts for nothing: " + err.Error()
	}
	return id, ""
}
