package inforce

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/keyfile"
	"gullroute/internal/store"
)

// Certificates are those that are kept and shown. It is safe for several goroutines.
type Certificates struct {
	Store store.Certificates
	Box   *keyfile.Box
	Log   *slog.Logger

	mu    sync.Mutex
	shown map[string]*tls.Certificate
	ids   map[string]int64
	all   []mail.KeptCertificate
}

// CertificateSealName is the name under which the key of a certificate is encrypted.
func CertificateSealName(name string) string { return "certificate " + name }

// Of is what is shown under a name; nil if there is none yet.
func (c *Certificates) Of(name string) *tls.Certificate {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.shown[name]
}

// Follow reads what is kept, and shows what is due.
func (c *Certificates) Follow(ctx context.Context) error {
	all, err := c.Store.List(ctx, "")
	if err != nil {
		return err
	}
	c.mu.Lock()
	c.all = all
	c.mu.Unlock()
	return c.Due(ctx)
}

// Due shows the certificates whose time has come.
func (c *Certificates) Due(context.Context) error {
	now := time.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.shown == nil {
		c.shown, c.ids = map[string]*tls.Certificate{}, map[string]int64{}
	}
	seen := map[string]bool{}
	for i := range c.all { // the latest first
		k := &c.all[i]
		if seen[k.Name] || k.ActiveAt.After(now) || now.After(k.Until) {
			continue
		}
		seen[k.Name] = true
		if c.ids[k.Name] == k.ID {
			continue
		}
		key, err := c.Box.Decrypt(CertificateSealName(k.Name), k.Key)
		if err != nil {
			c.Log.Error(
				"the key of a certificate cannot be opened",
				"certificate",
				k.Name,
				"error",
				err,
			)
			continue
		}
		cert, err := tls.X509KeyPair([]byte(k.Chain), []byte(key))
		if err != nil {
			return fmt.Errorf("certificate %s: %w", k.Name, err)
		}
		c.shown[k.Name], c.ids[k.Name] = &cert, k.ID
		c.Log.Info("a certificate is shown", "certificate", k.Name, "until", k.Until)
	}
	for name := range c.shown {
		if !seen[name] {
			delete(c.shown, name)
			delete(c.ids, name)
		}
	}
	return nil
}
