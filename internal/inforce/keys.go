package inforce

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	core "gullroute/internal/core/senderauth"
	"gullroute/internal/engine/senderauth"
	"gullroute/internal/keyfile"
	"gullroute/internal/store"
)

// Troubles hears of trouble on our own side: what it is with, and a sentence.
type Troubles interface {
	Ours(with, text string, at time.Time)
}

// SigningKeys are the keys that sign what goes out: opened under this node's key file and
// given to the signer.
type SigningKeys struct {
	Store    store.Keys
	Box      *keyfile.Box
	Signer   *senderauth.Signer
	Troubles Troubles
	Node     string

	locked atomic.Pointer[[]string] // that should sign and are not opened here
}

// KeyEncryptionName is what a private key is encrypted under.
func KeyEncryptionName(domain, selector string) string {
	return "dkim " + selector + "._domainkey." + domain
}

// KeyName is a key in words.
func KeyName(domain, selector string) string { return selector + " of " + domain }

// Locked are the keys that should sign and that this node's key file does not open.
func (k *SigningKeys) Locked() []string {
	if l := k.locked.Load(); l != nil {
		return *l
	}
	return nil
}

// Follow takes up the keys in use. The error names those that cannot be opened; what they
// would sign waits, or goes unsigned, as the configuration says.
func (k *SigningKeys) Follow(ctx context.Context) error {
	encrypted, err := k.Store.SigningKeys(ctx)
	if err != nil {
		return err
	}
	var keys []senderauth.Key
	var trouble error
	locked := []string{}
	for name, box := range encrypted {
		private, err := k.Box.Decrypt(KeyEncryptionName(name[0], name[1]), box)
		if err == nil {
			var key senderauth.Key
			if key.Signer, err = core.ReadKey(private); err == nil {
				key.Domain, key.Selector = name[0], name[1]
				keys = append(keys, key)
			}
		}
		if err != nil {
			keys = append(keys,
				senderauth.Key{Domain: name[0], Selector: name[1]}) // what it would sign waits
			locked = append(locked, KeyName(name[0], name[1]))
			k.Troubles.Ours("signing key "+KeyName(name[0], name[1]),
				"node "+k.Node+": "+err.Error(), time.Now())
			trouble = errors.Join(trouble, fmt.Errorf("key %s of %s: %w", name[1], name[0], err))
		}
	}
	slices.Sort(locked)
	k.locked.Store(&locked)
	slices.SortFunc(keys, func(a, b senderauth.Key) int {
		return strings.Compare(a.Domain+" "+a.Selector, b.Domain+" "+b.Selector)
	})
	k.Signer.Set(keys)
	return trouble
}
