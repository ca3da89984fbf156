package signin

import (
	"context"
	"net/netip"
	"sync"
	"time"
)

// Failures allowed in a minute before the next attempt is deferred.
const (
	pairFailures    = 5  // for one account from one address
	accountFailures = 20 // for one account from anywhere
	addressFailures = 20 // from one address
	window          = time.Minute
	maxKnown        = 20_000
	// stale is when a try that has not ended counts as failed.
	stale = 10 * time.Second
	// maxDelay bounds how long a proven pair waits after failures.
	maxDelay = 8 * time.Second
)

// Proofs keep which accounts signed in from which addresses, beyond this process.
type Proofs interface {
	Proven(ctx context.Context, account, client string) (bool, error)
	Prove(ctx context.Context, account, client string) error
}

// Limiter slows down guessing, by account and by client address. A try is counted
// before it is checked, so that tries side by side cannot all pass. Who signed in
// from an address before is never kept out there by others' guesses: after failures
// such tries go one by one, each with a delay. The zero value is ready.
type Limiter struct {
	// Proofs outlive the process; nil keeps them in memory only.
	Proofs Proofs

	mu     sync.Mutex
	tries  map[string][]*Try
	proven map[string]bool // accounts at addresses that had the password
	ended  chan struct{}   // closed when a try ends
	swept  time.Time
}

// Try is one try to sign in. Until it is ended it counts as one that may fail.
type Try struct {
	l       *Limiter
	account string
	client  string
	at      time.Time
	failed  bool
	over    bool
}

// ClientKey is the address by which a client is counted: an IPv6 host has a whole
// /64 of them.
func ClientKey(client string) string {
	a, err := netip.ParseAddr(client)
	if err != nil {
		return client
	}
	if a = a.Unmap().WithZone(""); a.Is6() {
		return netip.PrefixFrom(a, 64).Masked().String()
	}
	return a.String()
}

func pair(account, client string) string { return "pair " + account + " " + client }

func (t *Try) keys() [3]string {
	return [3]string{pair(t.account, t.client), "account " + t.account, "client " + t.client}
}

// Begin counts a try, and waits while others that are not ended yet could make it one
// too many. It reports false if it may not be made; delay is how long to wait before
// it is checked.
func (l *Limiter) Begin(
	ctx context.Context,
	account, client string,
) (try *Try, delay time.Duration, ok bool) {
	client = ClientKey(client)
	known := false
	for {
		l.mu.Lock()
		now := time.Now()
		proven := known || l.proven[pair(account, client)]
		t := &Try{l: l, account: account, client: client, at: now}
		failures, wait := l.room(t, now, proven)
		if wait == goOn {
			l.remember(t)
			l.mu.Unlock()
			if proven && failures >= pairFailures {
				delay = min(250*time.Millisecond<<min(failures-pairFailures, 10), maxDelay)
			}
			return t, delay, true
		}
		ended := l.signal()
		l.mu.Unlock()
		if wait == never {
			if !proven && l.Proofs != nil {
				if before, err := l.Proofs.Proven(ctx, account, client); err == nil && before {
					known = true
					continue
				}
			}
			return nil, 0, false
		}
		select {
		case <-ended:
		case <-time.After(stale):
		case <-ctx.Done():
			return nil, 0, false
		}
	}
}

type verdict int

const (
	goOn verdict = iota
	waits
	never
)

// room says whether a try may be made now, and how often its pair failed. mu is held.
func (l *Limiter) room(t *Try, now time.Time, proven bool) (failures int, v verdict) {
	keys := t.keys()
	failures, open := l.recent(keys[0], now)
	if proven {
		if failures >= pairFailures && open > 0 {
			return failures, waits // one by one
		}
		return failures, goOn
	}
	for i, limit := range [3]int{pairFailures, accountFailures, addressFailures} {
		failed, open := l.recent(keys[i], now)
		switch {
		case failed >= limit:
			return failures, never
		case failed+open >= limit:
			v = waits
		}
	}
	return failures, v
}

// recent counts and tidies. mu is held.
func (l *Limiter) recent(key string, now time.Time) (failed, open int) {
	kept := l.tries[key][:0]
	for _, t := range l.tries[key] {
		if now.Sub(t.at) >= window || t.over && !t.failed {
			continue
		}
		kept = append(kept, t)
		if t.failed || now.Sub(t.at) >= stale {
			failed++
		} else {
			open++
		}
	}
	if len(kept) == 0 {
		delete(l.tries, key)
		return 0, 0
	}
	clear(l.tries[key][len(kept):])
	l.tries[key] = kept
	return failed, open
}

// remember notes a try. mu is held.
func (l *Limiter) remember(t *Try) {
	if l.tries == nil {
		l.tries = map[string][]*Try{}
	}
	if len(l.tries) > maxKnown && t.at.Sub(l.swept) > window {
		l.swept = t.at
		for key := range l.tries {
			l.recent(key, t.at)
		}
	}
	if len(
		l.tries,
	) > 2*maxKnown { // more guessers than we remember: forget the oldest knowledge whole
		l.tries = map[string][]*Try{}
	}
	for _, key := range t.keys() {
		if list := l.tries[key]; len(list) < 4*addressFailures {
			l.tries[key] = append(list, t)
		}
	}
}

func (l *Limiter) signal() chan struct{} {
	if l.ended == nil {
		l.ended = make(chan struct{})
	}
	return l.ended
}

// end ends a try once; others may be waiting for it.
func (t *Try) end(failed bool) {
	if t == nil {
		return
	}
	l := t.l
	l.mu.Lock()
	defer l.mu.Unlock()
	if t.over {
		return
	}
	t.over, t.failed = true, failed
	if l.ended != nil {
		close(l.ended)
		l.ended = nil
	}
}

// Failed notes that the password was wrong.
func (t *Try) Failed() { t.end(true) }

// GiveBack notes that the try was not made after all.
func (t *Try) GiveBack() { t.end(false) }

// Passed notes a sign-in that succeeded.
func (t *Try) Passed(ctx context.Context) {
	t.end(false)
	l := t.l
	key := pair(t.account, t.client)
	l.mu.Lock()
	if l.proven == nil || len(l.proven) > maxKnown {
		l.proven = map[string]bool{}
	}
	fresh := !l.proven[key]
	l.proven[key] = true
	l.mu.Unlock()
	if fresh && l.Proofs != nil {
		_ = l.Proofs.Prove(ctx, t.account, t.client) // what is not kept is proven again
	}
}

// Forget forgets where an account signed in: its password was changed.
func (l *Limiter) Forget(account string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for key := range l.proven {
		if len(key) > len(account)+5 && key[:len(account)+6] == pair(account, "") {
			delete(l.proven, key)
		}
	}
}
