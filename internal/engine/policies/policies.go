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
	looksAgain  = time.Minute      // at a domain's record in DNS, while mail goes on
	waitsAgain  = time.Hour        // for that look
	restsFault  = 5 * time.Minute  // after a fetch that failed (RFC 8461 section 3.3)
	renewsAfter = 24 * time.Hour   // a policy whose id has not changed
	maxKnown    = 20_000           // domains in memory
	lookTime    = 25 * time.Second // bounds a look: at DNS, and at a policy's server
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

// domain is what is known of one.
type domain struct {
	mu     sync.Mutex
	loaded bool
	kept   mail.TLSPolicy
	looked time.Time     // at its record
	look   chan struct{} // closed when the look that is under way is over; nil if there is none
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

// STS is a domain's policy that counts now; nil if it has none.
func (k *Keeper) STS(ctx context.Context, name string) *tlsterms.Policy {
	if k.Config().Service.TLSPolicies.MTASTS == config.Ignored {
		return nil
	}
	d := k.of(strings.ToLower(name))
	d.mu.Lock()
	ago := time.Since(d.looked)
	d.mu.Unlock()
	switch {
	case ago >= waitsAgain: // nothing is known of it, or no longer: mail to it waits for the answer
		k.await(ctx, d, false)
	case ago >= looksAgain: // mail goes on by what is known
		k.begin(ctx, d, false)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.kept.InForce(time.Now())
}

// Ask asks a domain for its policy now, whatever is kept.
func (k *Keeper) Ask(ctx context.Context, name string) mail.TLSPolicy {
	d := k.of(strings.ToLower(name))
	d.mu.Lock()
	busy := d.look != nil
	d.mu.Unlock()
	if busy { // what is under way may go by what is kept
		k.await(ctx, d, false)
	}
	k.await(ctx, d, true)
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.kept
}

// await waits for a look at a domain. The look goes on when whoever asked waits no more: others
// want to know, too, and an answer that was not waited for is no fault of theirs.
func (k *Keeper) await(ctx context.Context, d *domain, anew bool) {
	select {
	case <-k.begin(ctx, d, anew):
	case <-ctx.Done():
	}
}

// begin begins a look at a domain if none is under way; the channel is closed when it is over.
func (k *Keeper) begin(ctx context.Context, d *domain, anew bool) <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	over := d.look
	if over == nil {
		over = make(chan struct{})
		d.look = over
		go func() {
			ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), lookTime)
			defer stop()
			k.look(ctx, d, anew)
			d.mu.Lock()
			d.look, d.looked = nil, time.Now()
			d.mu.Unlock()
			close(over)
		}()
	}
	return over
}

// look looks at the record of a domain and fetches its policy where that is due. One look at a
// domain goes on at a time.
func (k *Keeper) look(ctx context.Context, d *domain, anew bool) {
	now := time.Now()
	d.mu.Lock()
	kept, loaded := d.kept, d.loaded
	d.mu.Unlock()
	if !loaded && k.Store != nil {
		before, found, err := k.Store.Policy(ctx, kept.Domain)
		loaded = err == nil
		if found {
			kept = before
		}
	}
	changed := k.asked(ctx, &kept, now, anew)
	d.mu.Lock()
	d.kept, d.loaded = kept, loaded
	d.mu.Unlock()
	if changed {
		k.keep(ctx, kept)
	}
}

// asked asks a domain, and reports whether what is kept of it changed.
func (k *Keeper) asked(ctx context.Context, kept *mail.TLSPolicy, now time.Time, anew bool) bool {
	id, fault := k.record(ctx, kept.Domain)
	switch {
	case fault != "" || id == "":
		// no record, or none to be had: what was had counts until it ends (RFC 8461 section 3.1)
		if fault == kept.Fault || kept.Policy == nil && fault == "" {
			return false
		}
		kept.Fault, kept.AskedAt = fault, now.UTC()
		return true
	case !anew && kept.InForce(now) != nil && kept.Policy.ID == id &&
		now.Sub(kept.FetchedAt.Time) < renewsAfter:
		return false
	case !anew && kept.Fault != "" && now.Sub(kept.AskedAt) < restsFault:
		return false
	}
	from := Fetcher{Addrs: k.Resolver.Addrs, Port: k.Config().Service.PolicyPort, Roots: k.Roots}
	p, err := from.Fetch(ctx, kept.Domain)
	kept.AskedAt = now.UTC()
	if err != nil {
		kept.Fault = err.Error()
		k.Log.Warn(
			"the TLS policy of a domain could not be had",
			"domain",
			kept.Domain,
			"error",
			err,
		)
		return true
	}
	p.ID = id
	kept.Policy, kept.Fault = &p, ""
	kept.FetchedAt = mail.At(now)
	kept.EndsAt = mail.At(now.Add(time.Duration(p.MaxAge) * time.Second))
	return true
}

func (k *Keeper) keep(ctx context.Context, p mail.TLSPolicy) {
	if k.Store == nil {
		return
	}
	if err := k.Store.PutPolicy(ctx, p); err != nil {
		k.Log.Warn("the TLS policy of a domain is not kept", "domain", p.Domain, "error", err)
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
