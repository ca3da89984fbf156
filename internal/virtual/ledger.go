package virtual

import (
	"context"
	"slices"
	"sync"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// ledger keeps what is no mail: sessions, refusals, and what counts against limits.
type ledger struct {
	mu       sync.Mutex
	sent     []store.Sent
	sessions []mail.SessionRecord
	refusals []mail.Refusal
}

// all are the refusals and sessions so far.
func (l *ledger) all() ([]mail.Refusal, []mail.SessionRecord) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.refusals), slices.Clone(l.sessions)
}

// AddSent counts what was sent under rules with limits.
func (l *ledger) AddSent(_ context.Context, list []store.Sent) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sent = append(l.sent, list...)
	return nil
}

// SentSince reads it.
func (l *ledger) SentSince(
	_ context.Context,
	rule, holder string,
	since time.Time,
) ([]store.Sent, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []store.Sent
	for _, s := range l.sent {
		if s.Rule == rule && s.Holder == holder && !s.Hour.Before(since) {
			out = append(out, s)
		}
	}
	return out, nil
}

// Record keeps sessions and refusals.
func (l *ledger) Record(
	_ context.Context,
	sessions []mail.SessionRecord,
	refusals []mail.Refusal,
) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sessions, l.refusals = append(l.sessions, sessions...), append(l.refusals, refusals...)
	return nil
}
