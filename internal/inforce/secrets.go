package inforce

import (
	"context"
	"sync"

	"gullroute/internal/keyfile"
	"gullroute/internal/store"
)

// Secrets opens the passwords kept for others' servers, and keeps what it opened in
// memory until Forget. It is safe for several goroutines.
type Secrets struct {
	Store store.Secrets
	Box   *keyfile.Box

	mu    sync.Mutex
	known map[string]string
}

// Forget reads every password anew from now on: one was changed.
func (s *Secrets) Forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known = nil
}

// Secret opens the password kept under a name.
func (s *Secrets) Secret(ctx context.Context, name string) (string, error) {
	s.mu.Lock()
	text, ok := s.known[name]
	s.mu.Unlock()
	if ok {
		return text, nil
	}
	encrypted, err := s.Store.Secret(ctx, name)
	if err != nil {
		return "", err
	}
	if text, err = s.Box.Decrypt(name, encrypted); err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known = map[string]string{}
	}
	s.known[name] = text
	return text, nil
}

// SetSecret keeps a password under a name.
func (s *Secrets) SetSecret(ctx context.Context, who, name, text string) error {
	encrypted, err := s.Box.Encrypt(name, text)
	if err != nil {
		return err
	}
	if err := s.Store.SetSecret(ctx, who, name, encrypted); err != nil {
		return err
	}
	s.Forget()
	return nil
}
