package control

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/engine/resolve"
	asking "gullroute/internal/engine/senderauth"
	"gullroute/internal/inforce"
	"gullroute/internal/keyfile"
	"gullroute/internal/store"
)

// Keys makes, checks, uses and retires the keys that sign.
type Keys struct {
	Store   store.Keys
	Box     *keyfile.Box
	InForce *inforce.State
	Signing *inforce.SigningKeys
	Log     *slog.Logger
}

// NewKey is how a key for signing is made.
type NewKey struct {
	Domain, Selector, Algorithm string
	Private                     string // PEM of one that was in use elsewhere; made anew if empty
	TakesOver                   bool
	Overlap                     time.Duration
}

// MakeKey makes a key; it signs nothing until its record is in DNS.
func (s *Keys) MakeKey(ctx context.Context, who string, n NewKey) (mail.DKIMKey, error) {
	k := mail.DKIMKey{
		Domain:    n.Domain,
		Selector:  n.Selector,
		Algorithm: n.Algorithm,
		TakesOver: n.TakesOver,
		Overlap:   int64(n.Overlap / time.Second),
		Who:       who,
	}
	if s.InForce.Config().Domain(n.Domain) == nil {
		return k, fault.Input(
			"domain: %s is not among our domains; messages are signed for those only",
			n.Domain,
		)
	}
	var private string
	var err error
	if n.Private != "" {
		private, k.Record.Value, k.Algorithm, err = senderauth.ImportKey(n.Private)
	} else {
		private, k.Record.Value, err = senderauth.NewKey(n.Algorithm)
	}
	if err != nil {
		return k, fault.Input("%w", err)
	}
	if k.Selector == "" {
		if k.Selector, err = s.freeSelector(ctx, k); err != nil {
			return k, err
		}
	}
	if _, ok := dns.IsDomainName(k.Selector + "._domainkey." + k.Domain); !ok ||
		strings.ContainsAny(k.Selector, " _\"\\;=") {
		return k, fault.Input("selector: %q is no name; use letters, digits, hyphens and dots",
			k.Selector)
	}
	encrypted, err := s.Box.Encrypt(inforce.KeyEncryptionName(k.Domain, k.Selector), private)
	if err != nil {
		return k, err
	}
	if err := s.Store.AddKey(ctx, k, encrypted); err != nil {
		return k, err
	}
	return s.CheckKey(ctx, k.Domain, k.Selector)
}

// freeSelector names a key by its kind and month, and by a letter if that is taken.
func (s *Keys) freeSelector(ctx context.Context, k mail.DKIMKey) (string, error) {
	keys, err := s.Store.List(ctx, k.Domain)
	if err != nil {
		return "", err
	}
	kind, _, _ := strings.Cut(k.Algorithm, "-")
	base := kind[:1] + time.Now().UTC().Format("200601")
	for _, behind := range append([]string{""}, strings.Split("bcdefghijklmnopqrstuvwxyz", "")...) {
		if !slices.ContainsFunc(
			keys,
			func(o mail.DKIMKey) bool { return o.Selector == base+behind },
		) {
			return base + behind, nil
		}
	}
	return "", fault.Input("selector: name one, the usual ones of this month are all taken")
}

// List lists keys with what comes next of each.
func (s *Keys) List(ctx context.Context, domain string) ([]mail.DKIMKey, error) {
	keys, err := s.Store.List(ctx, domain)
	locked := s.Signing.Locked()
	for i := range keys {
		keys[i].Locked = slices.Contains(locked, inforce.KeyName(keys[i].Domain, keys[i].Selector))
		keys[i].Explain(time.Now())
	}
	return append([]mail.DKIMKey{}, keys...), err
}

// Key is one key.
func (s *Keys) Key(ctx context.Context, domain, selector string) (mail.DKIMKey, error) {
	keys, err := s.List(ctx, domain)
	if err != nil {
		return mail.DKIMKey{}, err
	}
	for _, k := range keys {
		if k.Selector == selector {
			return k, nil
		}
	}
	return mail.DKIMKey{}, fault.ErrNotFound
}

// CheckKey asks DNS for a key's record, and lets a key that waits for it sign when
// it has been there long enough.
func (s *Keys) CheckKey(ctx context.Context, domain, selector string) (mail.DKIMKey, error) {
	k, err := s.Key(ctx, domain, selector)
	if err != nil {
		return k, err
	}
	now := time.Now()
	fault, known := s.keyFault(ctx, k)
	if !known { // DNS gives no answer: what was known stands
		return k, nil
	}
	if err := s.Store.CheckedKey(ctx, domain, selector, fault, now); err != nil {
		return k, err
	}
	if k, err = s.Key(ctx, domain, selector); err != nil {
		return k, err
	}
	if k.TakesOver && k.State == mail.KeyPublished &&
		!now.Before(k.SeenAt.Add(time.Duration(k.Overlap)*time.Second)) {
		if err := s.Store.UseKey(ctx, k.Who, domain, selector, now); err != nil {
			return k, err
		}
		if err := s.Signing.Follow(ctx); err != nil {
			return k, err
		}
		s.Log.Info("a new key signs", "domain", domain, "selector", selector)
		return s.Key(ctx, domain, selector)
	}
	return k, nil
}

// keyFault is what DNS shows in place of a key's record, "" if it is there. known is
// false if DNS does not answer.
func (s *Keys) keyFault(ctx context.Context, k mail.DKIMKey) (fault string, known bool) {
	texts, err := asking.TXT(ctx, s.InForce.FreshResolver(), k.Record.Name)
	var failure *resolve.Failure
	switch {
	case errors.As(err, &failure) && failure.Cause != diagnose.NoSuchDomain:
		return "", false
	case len(texts) == 0:
		return "there is no TXT record at " + k.Record.Name, true
	case len(texts) > 1:
		return fmt.Sprintf("there are %d TXT records at %s; one must stand alone", len(texts),
			k.Record.Name), true
	}
	if err := senderauth.SameKey(k.Record.Value, texts[0]); err != nil {
		return err.Error(), true
	}
	return "", true
}

// ErrNotPublished reports a key that nobody could verify.
var ErrNotPublished = errors.New("its record is not in DNS")

// UseKey lets a key sign; unless force, only if its record is in DNS.
func (s *Keys) UseKey(
	ctx context.Context,
	who, domain, selector string,
	force bool,
) (mail.DKIMKey, error) {
	k, err := s.CheckKey(ctx, domain, selector)
	if err != nil || k.State == mail.KeySigning {
		return k, err
	}
	if (k.Fault != "" || k.SeenAt.IsZero()) && !force {
		return k, fmt.Errorf(
			"%w: %s; what is signed with it would fail everywhere. Publish it first",
			ErrNotPublished,
			k.Fault,
		)
	}
	if err := s.Store.UseKey(ctx, who, domain, selector, time.Now()); err != nil {
		return k, err
	}
	if err := s.Signing.Follow(ctx); err != nil {
		return k, err
	}
	return s.Key(ctx, domain, selector)
}

// RetireKey lets a key sign no more.
func (s *Keys) RetireKey(ctx context.Context, who, domain, selector string) (mail.DKIMKey, error) {
	if err := s.Store.RetireKey(ctx, who, domain, selector, time.Now()); err != nil {
		return mail.DKIMKey{}, err
	}
	if err := s.Signing.Follow(ctx); err != nil {
		return mail.DKIMKey{}, err
	}
	return s.Key(ctx, domain, selector)
}

// CheckAll asks DNS for the records of keys that wait to sign, or sign.
func (s *Keys) CheckAll(ctx context.Context) error {
	keys, err := s.Store.List(ctx, "")
	if err != nil {
		return err
	}
	for _, k := range keys {
		if k.State != mail.KeyRetired {
			if _, err := s.CheckKey(ctx, k.Domain, k.Selector); err != nil {
				return err
			}
		}
	}
	return nil
}

// Remove takes out a key that signs no more.
func (s *Keys) Remove(ctx context.Context, who, domain, selector string) error {
	return s.Store.RemoveKey(ctx, who, domain, selector)
}
