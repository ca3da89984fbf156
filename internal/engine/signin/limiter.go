package signin

import (
	"sync"
	"time"
)

// Failures allowed in a minute before the next try is put off.
const (
	pairFailures    = 5  // for one account from one address
	accountFailures = 20 // for one account from anywhere
	addressFailures = 20 // from one address
	window          = time.Minute
	maxKnown        = 20_000
)

// Limiter slows down guessing, by account and by client address. Who signed in
// from an address before is not kept out there by others' guesses. The zero
// value is ready.
type Limiter struct {
	mu     sync.Mutex
	tries  map[string][]time.Time
	proven map[string]bool // accounts at addresses that had the password
	swept  time.Time
}

func pair(account, client string) string { return "pair " + account + " " + client }

// Allow reports whether another try may be made now.
func (l *Limiter) Allow(account, client string, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.recent(pair(account, client), now) >= pairFailures {
		return false
	}
	return l.proven[pair(account, client)] ||
		l.recent("account "+account, now) < accountFailures && l.recent("client "+client, now) < addressFailures
}

// Passed notes a sign-in that succeeded.
func (l *Limiter) Passed(account, client string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.proven == nil || len(l.proven) > maxKnown {
		l.proven = map[string]bool{}
	}
	l.proven[pair(account, client)] = true
}

// recent counts and tidies. mu is held.
func (l *Limiter) recent(key string, now time.Time) int {
	kept := l.tries[key][:0]
	for _, t := range l.tries[key] {
		if now.Sub(t) < window {
			kept = append(kept, t)
		}
	}
	if len(kept) == 0 {
		delete(l.tries, key)
		return 0
	}
	l.tries[key] = kept
	return len(kept)
}

// Failed notes a failed try.
func (l *Limiter) Failed(account, client string, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.tries == nil {
		l.tries = map[string][]time.Time{}
	}
	if len(l.tries) > maxKnown && now.Sub(l.swept) > window {
		l.swept = now
		for key := range l.tries {
			l.recent(key, now)
		}
	}
	if len(l.tries) > 2*maxKnown { // more guessers than we remember: forget the oldest knowledge whole
		l.tries = map[string][]time.Time{}
	}
	for _, key := range []string{pair(account, client), "account " + account, "client " + client} {
		if len(l.tries[key]) <= addressFailures {
			l.tries[key] = append(l.tries[key], now)
		}
	}
}
