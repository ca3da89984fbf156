// Package sources reads what lists get from files and URLs, again and again, and keeps the
// last good copy in force.
package sources

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/list"
	"gullroute/internal/store"
)

// readTimeout bounds one look at a source.
const readTimeout = 30 * time.Second

// Store keeps copies.
type Store interface {
	Copy(ctx context.Context, list string) (store.ListCopy, error)
	Mine(ctx context.Context, list, source string, since time.Time) (bool, error)
	Read(ctx context.Context, c store.ListCopy) error
	Failed(ctx context.Context, list, source, trouble string) error
	Forget(ctx context.Context, keep []string) error
}

// Reader reads sources on one node.
type Reader struct {
	Store  Store
	Config func() *config.Compiled
	Log    *slog.Logger
	Roots  *x509.CertPool // nil are those of the system
	// Trouble hears of sources that bring nothing; nil if nobody does.
	Trouble func(with, text string, at time.Time)

	mu sync.Mutex
	// in force are the copies that the sets of a configuration have, by list.
	inForce map[string]applied
	client  *http.Client
}

type applied struct {
	set  *list.Set
	hash string
}

// Round looks at the sources that are due, one node for all, and puts what was read in
// force here.
func (r *Reader) Round(ctx context.Context) error {
	c := r.Config()
	var errs []error
	var keep []string
	for _, l := range c.Lists {
		if l.Source == "" {
			continue
		}
		keep = append(keep, l.Name)
		mine, err := r.Store.Mine(ctx, l.Name, l.Source, time.Now().Add(-l.Every))
		if err != nil {
			return err
		}
		if mine {
			if err := r.look(ctx, l.List); err != nil {
				errs = append(errs, err)
			}
		}
		if err := r.putInForce(ctx, l); err != nil && !errors.Is(err, fault.ErrNotFound) {
			errs = append(errs, err)
		}
	}
	return errors.Join(append(errs, r.Store.Forget(ctx, keep))...)
}

// look reads a source. What cannot be read leaves the copy as it is, and says so.
func (r *Reader) look(ctx context.Context, l list.List) error {
	text, err := r.fetch(ctx, l.Source)
	if err == nil {
		var entries []string
		var wrong []list.EntryError
		if entries, wrong, err = list.ReadSource(l, text); err == nil {
			sum := sha256.Sum256([]byte(text))
			return r.Store.Read(ctx, store.ListCopy{List: l.Name, Source: l.Source, Entries: entries,
				Hash: hex.EncodeToString(sum[:]), Skipped: len(wrong)})
		}
	}
	r.Log.Warn("a list's source brought nothing; its last copy stays in force", "list", l.Name,
		"error", err)
	if r.Trouble != nil {
		r.Trouble("list "+l.Name, "its source brings nothing: "+err.Error(), time.Now())
	}
	return r.Store.Failed(ctx, l.Name, l.Source, err.Error())
}

func (r *Reader) fetch(ctx context.Context, source string) (string, error) {
	if strings.HasPrefix(source, "/") {
		f, err := os.Open(source)
		if err != nil {
			return "", err
		}
		defer f.Close()
		return readAll(f)
	}
	ctx, cancel := context.WithTimeout(ctx, readTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, source, nil)
	if err != nil {
		return "", err
	}
	resp, err := r.web().Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return "", fmt.Errorf("the server answers %s", resp.Status)
	}
	return readAll(resp.Body)
}

func readAll(from io.Reader) (string, error) {
	text, err := io.ReadAll(io.LimitReader(from, list.MaxSource+1))
	return string(text), err
}

// web follows redirections to nothing that is read in the clear.
func (r *Reader) web() *http.Client {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.client == nil {
		r.client = &http.Client{
			Transport: &http.Transport{
				TLSClientConfig:   &tls.Config{RootCAs: r.Roots, MinVersion: tls.VersionTLS12},
				DisableKeepAlives: true,
			},
			CheckRedirect: func(req *http.Request, via []*http.Request) error {
				if len(via) > 5 || req.URL.Scheme != "https" {
					return fmt.Errorf("it leads on to %s", req.URL.Redacted())
				}
				return nil
			},
		}
	}
	return r.client
}

// putInForce gives a set the entries of its copy, if it has others.
func (r *Reader) putInForce(ctx context.Context, s *list.Set) error {
	copied, err := r.Store.Copy(ctx, s.Name)
	if err != nil || copied.Hash == "" || copied.Source != s.Source {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.inForce == nil {
		r.inForce = map[string]applied{}
	}
	if old := r.inForce[s.Name]; old.set == s && old.hash == copied.Hash {
		return nil
	}
	s.Replace(copied.Entries)
	r.inForce[s.Name] = applied{s, copied.Hash}
	return nil
}
