package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/engine/resolve"
	asking "gullroute/internal/engine/senderauth"
	"gullroute/internal/store"
)

// NewKey is how a key for signing is made.
type NewKey struct {
	Domain, Selector, Algorithm string
	Private                     string // PEM of one that was in use elsewhere; made anew if empty
	TakesOver                   bool
	Overlap                     time.Duration
}

// MakeKey makes a key; it signs nothing until its record is in DNS.
func (e *Engine) MakeKey(ctx context.Context, who string, n NewKey) (mail.DKIMKey, error) {
	k := mail.DKIMKey{Domain: n.Domain, Selector: n.Selector, Algorithm: n.Algorithm, TakesOver: n.TakesOver, Overlap: int64(n.Overlap / time.Second), Who: who}
	if e.Config().Domain(n.Domain) == nil {
		return k, input("domain: %s is not among our domains; letters are signed for those only", n.Domain)
	}
	var private string
	var err error
	if n.Private != "" {
		private, k.Record.Value, k.Algorithm, err = senderauth.ImportKey(n.Private)
	} else {
		private, k.Record.Value, err = senderauth.NewKey(n.Algorithm)
	}
	if err != nil {
		return k, input("%w", err)
	}
	if k.Selector == "" {
		if k.Selector, err = e.freeSelector(ctx, k); err != nil {
			return k, err
		}
	}
	if _, ok := dns.IsDomainName(k.Selector + "._domainkey." + k.Domain); !ok || strings.ContainsAny(k.Selector, " _\"\\;=") {
		return k, input("selector: %q is no name; use letters, digits, hyphens and dots", k.Selector)
	}
	sealed, err := e.Box.Seal(sealName(k.Domain, k.Selector), private)
	if err != nil {
		return k, err
	}
	if err := e.Store.AddKey(ctx, k, sealed); err != nil {
		return k, err
	}
	return e.CheckKey(ctx, k.Domain, k.Selector)
}

// sealName is what a private key is sealed under.
func sealName(domain, selector string) string { return "dkim " + selector + "._domainkey." + domain }

// freeSelector names a key by its kind and month, and by a letter if that is taken.
func (e *Engine) freeSelector(ctx context.Context, k mail.DKIMKey) (string, error) {
	keys, err := e.Store.Keys.List(ctx, k.Domain)
	if err != nil {
		return "", err
	}
	kind, _, _ := strings.Cut(k.Algorithm, "-")
	base := kind[:1] + time.Now().UTC().Format("200601")
	for _, behind := range append([]string{""}, strings.Split("bcdefghijklmnopqrstuvwxyz", "")...) {
		if !slices.ContainsFunc(keys, func(o mail.DKIMKey) bool { return o.Selector == base+behind }) {
			return base + behind, nil
		}
	}
	return "", input("selector: name one, the usual ones of this month are all taken")
}

// Keys lists keys with what comes next of each.
func (e *Engine) Keys(ctx context.Context, domain string) ([]mail.DKIMKey, error) {
	keys, err := e.Store.Keys.List(ctx, domain)
	locked := e.LockedKeys()
	for i := range keys {
		keys[i].Locked = slices.Contains(locked, keyName(keys[i].Domain, keys[i].Selector))
		keys[i].Explain(time.Now())
	}
	return append([]mail.DKIMKey{}, keys...), err
}

// Key is one key.
func (e *Engine) Key(ctx context.Context, domain, selector string) (mail.DKIMKey, error) {
	keys, err := e.Keys(ctx, domain)
	if err != nil {
		return mail.DKIMKey{}, err
	}
	for _, k := range keys {
		if k.Selector == selector {
			return k, nil
		}
	}
	return mail.DKIMKey{}, store.ErrNotFound
}

// CheckKey asks DNS for a key's record, and lets a key that waits for it sign when
// it has been there long enough.
func (e *Engine) CheckKey(ctx context.Context, domain, selector string) (mail.DKIMKey, error) {
	k, err := e.Key(ctx, domain, selector)
	if err != nil {
		return k, err
	}
	now := time.Now()
	fault, known := e.keyFault(ctx, k)
	if !known { // DNS gives no answer: what was known stands
		return k, nil
	}
	if err := e.Store.CheckedKey(ctx, domain, selector, fault, now); err != nil {
		return k, err
	}
	if k, err = e.Key(ctx, domain, selector); err != nil {
		return k, err
	}
	if k.TakesOver && k.State == mail.KeyPublished && !now.Before(k.SeenAt.Add(time.Duration(k.Overlap)*time.Second)) {
		if err := e.Store.UseKey(ctx, k.Who, domain, selector, now); err != nil {
			return k, err
		}
		e.Log.Info("a new key signs", "domain", domain, "selector", selector)
		return e.Key(ctx, domain, selector)
	}
	return k, nil
}

// keyFault is what DNS shows in place of a key's record, "" if it is there. known is
// false if DNS does not answer.
func (e *Engine) keyFault(ctx context.Context, k mail.DKIMKey) (fault string, known bool) {
	texts, err := asking.TXT(ctx, e.freshResolver(), k.Record.Name)
	var failure *resolve.Failure
	switch {
	case errors.As(err, &failure) && failure.Cause != diagnose.NoSuchDomain:
		return "", false
	case len(texts) == 0:
		return "there is no TXT record at " + k.Record.Name, true
	case len(texts) > 1:
		return fmt.Sprintf("there are %d TXT records at %s; one must stand alone", len(texts), k.Record.Name), true
	}
	if err := senderauth.SameKey(k.Record.Value, texts[0]); err != nil {
		return err.Error(), true
	}
	return "", true
}

// freshResolver asks DNS anew, whatever is in the cache.
func (e *Engine) freshResolver() *resolve.Resolver {
	s := e.Config().Service
	return resolve.New(s.Resolvers, s.AddressFamily)
}

// identify finds who a letter that comes in is from.
func (e *Engine) identify(ctx context.Context, f asking.Facts) senderauth.Finding {
	return asking.Check(ctx, e.resolver.Load(), f)
}

// ErrNotPublished reports a key that nobody could verify.
var ErrNotPublished = errors.New("its record is not in DNS")

// UseKey lets a key sign; unless force, only if its record is in DNS.
func (e *Engine) UseKey(ctx context.Context, who, domain, selector string, force bool) (mail.DKIMKey, error) {
	k, err := e.CheckKey(ctx, domain, selector)
	if err != nil || k.State == mail.KeySigning {
		return k, err
	}
	if (k.Fault != "" || k.SeenAt.IsZero()) && !force {
		return k, fmt.Errorf("%w: %s; what is signed with it would fail everywhere. Publish it first", ErrNotPublished, k.Fault)
	}
	if err := e.Store.UseKey(ctx, who, domain, selector, time.Now()); err != nil {
		return k, err
	}
	if err := e.followKeys(ctx); err != nil {
		return k, err
	}
	return e.Key(ctx, domain, selector)
}

// RetireKey lets a key sign no more.
func (e *Engine) RetireKey(ctx context.Context, who, domain, selector string) (mail.DKIMKey, error) {
	if err := e.Store.RetireKey(ctx, who, domain, selector, time.Now()); err != nil {
		return mail.DKIMKey{}, err
	}
	if err := e.followKeys(ctx); err != nil {
		return mail.DKIMKey{}, err
	}
	return e.Key(ctx, domain, selector)
}

func keyName(domain, selector string) string { return selector + " of " + domain }

// LockedKeys are the keys that should sign and that this node's key file does not open.
func (e *Engine) LockedKeys() []string {
	if l := e.locked.Load(); l != nil {
		return *l
	}
	return nil
}

// followKeys takes up the keys in use.
func (e *Engine) followKeys(ctx context.Context) error {
	sealed, err := e.Store.SigningKeys(ctx)
	if err != nil {
		return err
	}
	var keys []asking.Key
	var trouble error
	locked := []string{}
	for name, box := range sealed {
		private, err := e.Box.Unseal(sealName(name[0], name[1]), box)
		if err == nil {
			var k asking.Key
			if k.Signer, err = senderauth.ReadKey(private); err == nil {
				k.Domain, k.Selector = name[0], name[1]
				keys = append(keys, k)
			}
		}
		if err != nil {
			keys = append(keys, asking.Key{Domain: name[0], Selector: name[1]}) // what it would sign waits
			locked = append(locked, keyName(name[0], name[1]))
			e.Snags.Ours("signing key "+keyName(name[0], name[1]), "node "+e.Name+": "+err.Error(), time.Now())
			trouble = errors.Join(trouble, fmt.Errorf("key %s of %s: %w", name[1], name[0], err))
		}
	}
	slices.Sort(locked)
	e.locked.Store(&locked)
	slices.SortFunc(keys, func(a, b asking.Key) int { return strings.Compare(a.Domain+" "+a.Selector, b.Domain+" "+b.Selector) })
	e.Queue.Signer.Set(keys)
	return trouble
}

// keysEvery is how often DNS is asked for the records of keys.
const keysEvery = 5 * time.Minute

// checkKeys asks DNS for the records of keys that wait to sign, or sign.
func (e *Engine) checkKeys(ctx context.Context) error {
	keys, err := e.Store.Keys.List(ctx, "")
	if err != nil {
		return err
	}
	for _, k := range keys {
		if k.State != mail.KeyRetired {
			if _, err := e.CheckKey(ctx, k.Domain, k.Selector); err != nil {
				return err
			}
		}
	}
	return nil
}

// ErrInput reports what a person gave that cannot be used; the text names the field.
var ErrInput = errors.New("this cannot be used")

func input(format string, args ...any) error {
	return fmt.Errorf("%w: %w", ErrInput, fmt.Errorf(format, args...))
}
