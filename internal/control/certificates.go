package control

import (
	"context"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/cluster"
	"gullroute/internal/core/certificate"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/publish"
	"gullroute/internal/engine/certify"
	"gullroute/internal/inforce"
	"gullroute/internal/keyfile"
	"gullroute/internal/store"
)

// Troubles takes troubles of our domains that no message has.
type Troubles interface {
	Domain(c diagnose.Cause, domain, text string, at time.Time)
}

// Certificates keeps the certificates of the configuration: it asks an authority for them, renews
// them, and takes those that are uploaded.
type Certificates struct {
	Store    store.Certificates
	Box      *keyfile.Box
	InForce  *inforce.State
	Shown    *inforce.Certificates
	Secrets  *inforce.Secrets
	Publish  *Publisher
	Cluster  *cluster.Cluster
	Client   *http.Client // to the authority
	Roots    *x509.CertPool
	Troubles Troubles
	Log      *slog.Logger
}

// Of asking for certificates.
const (
	obtainTime  = 3 * time.Minute
	retryFirst  = 10 * time.Minute // after the first failure; it doubles
	retryMost   = 12 * time.Hour
	endsSoon    = 14 * 24 * time.Hour // of one that is uploaded
	byAuthority = "the authority"
)

func (s *Certificates) named(name string) (*config.Certificate, error) {
	cfg := s.InForce.Config()
	for i := range cfg.Certificates {
		if cfg.Certificates[i].Name == name {
			return &cfg.Certificates[i], nil
		}
	}
	return nil, fault.ErrNotFound
}

// List says how each certificate of the configuration stands.
func (s *Certificates) List(ctx context.Context) ([]api.CertificateState, error) {
	all, err := s.Store.List(ctx, "")
	if err != nil {
		return nil, err
	}
	tries, err := s.Store.Tries(ctx)
	if err != nil {
		return nil, err
	}
	cfg, out := s.InForce.Config(), []api.CertificateState{}
	for i := range cfg.Certificates {
		c := &cfg.Certificates[i]
		x := api.CertificateState{Name: c.Name, Names: c.Names, From: c.From,
			UsedBy: append([]string{}, cfg.Shows(c.Name)...), Kept: []mail.KeptCertificate{}}
		for _, k := range all {
			if k.Name == c.Name {
				x.Kept = append(x.Kept, k)
			}
		}
		if t, ok := tries[c.Name]; ok && t.Fault != "" {
			x.Try = &t
		}
		describe(&x, time.Now())
		out = append(out, x)
	}
	return out, nil
}

// describe fills in how a certificate stands.
func describe(x *api.CertificateState, now time.Time) {
	var next *mail.KeptCertificate
	for i := range x.Kept {
		if k := &x.Kept[i]; k.ActiveAt.After(now) {
			next = k
		} else if x.Shown == nil {
			x.Shown = k
		}
	}
	day := func(t time.Time) string { return t.UTC().Format(time.DateOnly) }
	switch k := x.Shown; {
	case k == nil:
		x.State, x.Says = "none", "There is none yet: what shows it shows a self-made one."
	case now.After(k.Until):
		x.State, x.Says = "ended", "It ended on "+day(k.Until)+": a self-made one is shown."
	case !certificate.Covers(k.Info, x.Names):
		x.State, x.Says = "incomplete", "It is for "+strings.Join(k.Names, ", ")+" only."
	case x.From == config.FromAuthority && certificate.Late(k.From, k.Until, now),
		x.From != config.FromAuthority && k.Until.Sub(now) < endsSoon:
		x.State, x.Says = "ends soon", "It ends on "+day(k.Until)+"."
	default:
		x.State, x.Says = "shown", "It counts until "+day(k.Until)+"."
	}
	if next != nil {
		x.Says += " Another one is shown from " + next.ActiveAt.UTC().
			Format("2006-01-02 15:04 UTC") +
			"."
	}
	if x.From != config.FromAuthority {
		if x.State != "shown" && next == nil {
			x.Says += " Upload one (gull certificate upload " + x.Name + ")."
		}
		return
	}
	at := now
	if k := x.Shown; k != nil && x.State != "incomplete" {
		at = certificate.RenewAt(k.From, k.Until, x.Name)
	}
	if x.Try != nil && x.Try.NextAt.After(at) {
		at = x.Try.NextAt
	}
	x.RenewAt = &at
	if x.Try != nil {
		x.Says += " Asking for it failed: " + x.Try.Fault + "."
	} else if next == nil && at.After(now) {
		x.Says += " It is renewed on " + day(at) + "."
	}
}

// Check looks at a chain and its key without keeping them.
func (s *Certificates) Check(name, chain, key string) (api.CertificateChecked, error) {
	c, err := s.named(name)
	if err != nil {
		return api.CertificateChecked{}, err
	}
	info, faults, warnings, err := certificate.Check(chain, key, c.Names, time.Now(), s.Roots)
	if err != nil {
		field, _, _ := strings.Cut(err.Error(), ":")
		return api.CertificateChecked{}, fault.Refuse(field, "%v", err)
	}
	return api.CertificateChecked{Info: info, Faults: append([]string{}, faults...),
		Warnings: append([]string{}, warnings...)}, nil
}

// Upload keeps a certificate that was made elsewhere, and shows it from a time on.
func (s *Certificates) Upload(
	ctx context.Context,
	who, name, chain, key string,
	at time.Time,
) (api.CertificateChecked, error) {
	x, err := s.Check(name, chain, key)
	if err != nil || len(x.Faults) > 0 {
		return x, err
	}
	kept, err := s.keep(ctx, who, name, chain, key, x.Info, at)
	x.Kept = &kept
	return x, err
}

func (s *Certificates) keep(
	ctx context.Context,
	who, name, chain, key string,
	info certificate.Info,
	at time.Time,
) (mail.KeptCertificate, error) {
	encrypted, err := s.Box.Encrypt(inforce.CertificateSealName(name), key)
	if err != nil {
		return mail.KeptCertificate{}, err
	}
	if at.IsZero() {
		at = time.Now()
	}
	kept, err := s.Store.Add(
		ctx,
		mail.KeptCertificate{Name: name, Chain: chain, Key: encrypted, Who: who,
			Info: info, ActiveAt: at.UTC()},
	)
	if err == nil {
		err = s.Shown.Follow(ctx)
		s.Cluster.Changed("certificate")
	}
	return kept, err
}

// Activate says from when one that is kept is shown.
func (s *Certificates) Activate(ctx context.Context, name string, id int64, at time.Time) error {
	if _, err := s.named(name); err != nil {
		return err
	}
	if at.IsZero() {
		at = time.Now()
	}
	if err := s.Store.Activate(ctx, name, id, at); err != nil {
		return err
	}
	s.Cluster.Changed("certificate")
	return s.Shown.Follow(ctx)
}

// Renew asks the authority for a certificate now.
func (s *Certificates) Renew(ctx context.Context, who, name string) error {
	c, err := s.named(name)
	if err != nil {
		return err
	}
	if c.From != config.FromAuthority {
		return fault.Refuse(
			"name",
			"%s is uploaded by hand (gull certificate upload %s)",
			name,
			name,
		)
	}
	mine, err := s.Store.Alone(
		ctx,
		"certificate "+name,
		func() error { return s.obtain(ctx, who, c) },
	)
	if err == nil && !mine {
		return fault.Refuse("name", "%s is being asked for already", name)
	}
	return err
}

// Keep asks for what is missing and renews what is due, each certificate on one node at a time.
func (s *Certificates) Keep(ctx context.Context) error {
	list, err := s.List(ctx)
	if err != nil {
		return err
	}
	now := time.Now()
	var failed []error
	for _, x := range list {
		if x.RenewAt == nil || x.RenewAt.After(now) || coming(x, now) {
			continue
		}
		c, err := s.named(x.Name)
		if err != nil {
			continue
		}
		_, err = s.Store.Alone(ctx, "certificate "+c.Name, func() error {
			return s.obtain(ctx, byAuthority, c)
		})
		if err != nil {
			failed = append(failed, fmt.Errorf("certificate %s: %w", c.Name, err))
		}
	}
	if err := errors.Join(failed...); err != nil {
		s.Log.Warn("certificates were not renewed", "error", err)
	}
	return s.unpin(ctx)
}

// Tell tells of certificates that are not had, or should have been renewed long ago: again and
// again, because a trouble of ours is over when nobody tells of it any more.
func (s *Certificates) Tell(ctx context.Context) error {
	list, err := s.List(ctx)
	for _, x := range list {
		if x.Try != nil && x.State != "shown" || x.State == "ended" {
			s.Troubles.Domain(
				diagnose.CertificateNotHad,
				x.Names[0],
				"certificate "+x.Name+": "+x.Says,
				time.Now(),
			)
		}
	}
	return err
}

// coming reports one that waits to be shown.
func coming(x api.CertificateState, now time.Time) bool {
	return len(x.Kept) > 0 && x.Kept[0].ActiveAt.After(now)
}

// obtain asks the authority, and notes how it went.
func (s *Certificates) obtain(ctx context.Context, who string, c *config.Certificate) error {
	ctx, cancel := context.WithTimeout(ctx, obtainTime)
	defer cancel()
	tries, err := s.Store.Tries(ctx)
	if err != nil {
		return err
	}
	t := tries[c.Name]
	t.Name, t.TriedAt = c.Name, time.Now()
	if err = s.ask(ctx, who, c); err != nil {
		wait := min(retryFirst<<min(t.Failures, 10), retryMost)
		t.Failures, t.Fault, t.NextAt = t.Failures+1, err.Error(), t.TriedAt.Add(wait)
	} else {
		t.Failures, t.Fault, t.NextAt = 0, "", t.TriedAt
	}
	return errors.Join(err, s.Store.PutTry(context.WithoutCancel(ctx), t))
}

func (s *Certificates) ask(ctx context.Context, who string, c *config.Certificate) error {
	o, err := s.order(ctx, c)
	if err != nil {
		return err
	}
	chain, key, err := certify.Obtain(ctx, o, prover{s, c.Name}, s.Client)
	if err != nil {
		return fault.Refuse("name", "%v", err)
	}
	info, faults, warnings, err := certificate.Check(chain, key, c.Names, time.Now(), s.Roots)
	if err != nil {
		return err
	}
	if len(faults) > 0 {
		return fault.Refuse(
			"name",
			"the authority's certificate cannot be used: %s",
			strings.Join(faults, "; "),
		)
	}
	for _, w := range warnings {
		s.Log.Warn("a new certificate", "certificate", c.Name, "says", w)
	}
	at, err := s.pin(ctx, who, c, info)
	if err != nil { // the certificate counts all the same where nobody pins it
		s.Log.Error("TLSA records do not follow a certificate", "certificate", c.Name, "error", err)
	}
	_, err = s.keep(ctx, who, c.Name, chain, key, info, at)
	return err
}

// order is what the authority is asked for.
func (s *Certificates) order(
	ctx context.Context,
	c *config.Certificate,
) (o certify.Order, err error) {
	a := s.InForce.Config().Service.CertificateAuthority
	if a.Directory == "" {
		return o, fault.Refuse("name", "no authority is set (service.certificate_authority)")
	}
	o = certify.Order{
		Directory: a.Directory,
		KeyID:     a.KeyID,
		Names:     c.Names,
		Proof:     c.Proof,
		Key:       c.Key,
	}
	for _, to := range a.Contact {
		o.Contact = append(o.Contact, "mailto:"+to.String())
	}
	if a.KeyID != "" {
		text, err := s.Secrets.Secret(ctx, a.Secret)
		if err != nil {
			return o, fault.Refuse(
				"name",
				"the key of our account at the authority cannot be used: secret %s: %v",
				a.Secret,
				err,
			)
		}
		text = strings.TrimRight(
			strings.NewReplacer("+", "-", "/", "_").Replace(strings.TrimSpace(text)),
			"=",
		)
		if o.MAC, err = base64.RawURLEncoding.DecodeString(text); err != nil {
			return o, fault.Refuse("name", "the secret %s is not in base64", a.Secret)
		}
	}
	made, err := certify.NewAccountKey()
	if err != nil {
		return o, err
	}
	sealed, err := s.Box.Encrypt("authority "+a.Directory, made)
	if err != nil {
		return o, err
	}
	if sealed, err = s.Store.Account(ctx, a.Directory, sealed); err != nil {
		return o, err
	}
	text, err := s.Box.Decrypt("authority "+a.Directory, sealed)
	if err != nil {
		return o, err
	}
	o.Account, err = certify.ParseKey(text)
	return o, err
}

// prover shows proofs: those by http and tls from the database, by any node; those by dns at the
// DNS server of the name.
type prover struct {
	s    *Certificates
	name string // of the certificate
}

// proofTTL is how long a proof in DNS is kept by others, in seconds.
const proofTTL = 30

func (p prover) Show(ctx context.Context, kind, name, value, key string) error {
	if kind != config.ProofDNS {
		return p.s.Store.PutProof(ctx, kind, name, value, key)
	}
	at, err := p.s.Publish.Server(ctx, name)
	if err != nil {
		return err
	}
	before, _, err := at.Current(ctx, name, "TXT")
	if err != nil {
		return err
	}
	// Several names may be proved at the same record: a domain and its asterisk.
	change := publish.Diff(name, "TXT", before, append(append([]string{}, before...), value))
	if err := at.Update(ctx, change, proofTTL); err != nil {
		return err
	}
	at.Await(ctx, p.s.InForce.FreshResolver(), change, awaitSeen)
	return nil
}

func (p prover) Hide(ctx context.Context, kind, name, value string) {
	var err error
	if kind != config.ProofDNS {
		err = p.s.Store.DropProof(ctx, kind, name)
	} else {
		err = p.hide(ctx, name, value)
	}
	if err != nil {
		p.s.Log.Warn("a proof stays", "certificate", p.name, "kind", kind, "error", err)
	}
}

func (p prover) hide(ctx context.Context, name, value string) error {
	at, err := p.s.Publish.Server(ctx, name)
	if err != nil {
		return err
	}
	before, _, err := at.Current(ctx, name, "TXT")
	if err != nil {
		return err
	}
	after := []string{}
	for _, v := range before {
		if v != value {
			after = append(after, v)
		}
	}
	return at.Update(ctx, publish.Diff(name, "TXT", before, after), proofTTL)
}
