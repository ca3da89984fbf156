package signin

import (
	"context"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"gullroute/internal/core/directory"
)

func TestPasswordsAreKeptAsArgon2id(t *testing.T) {
	a, err := Hash("tide-and-lantern")
	if err != nil {
		t.Fatal(err)
	}
	b, _ := Hash("tide-and-lantern")
	if a == b || !strings.HasPrefix(a, "$argon2id$v=19$m=19456,t=2,p=1$") || strings.Contains(a, "tide") {
		t.Errorf("%s\n%s", a, b)
	}
	for password, want := range map[string]bool{"tide-and-lantern": true, "tide-and-lanterns": false,
		"": false} {
		if check(a, password) != want {
			t.Errorf("%q: %v", password, !want)
		}
	}
	for _, broken := range []string{"", "plain", "$argon2id$v=19$m=x$a$b",
		"$argon2id$v=19$m=19456,t=2,p=1$!$!", "$2b$10$abc$d$e",
		strings.Replace(a, "m=19456", "m=4000000", 1), strings.Replace(a, "p=1", "p=0", 1)} {
		if check(broken, "tide-and-lantern") {
			t.Errorf("a broken hash lets in: %q", broken)
		}
	}
}

// try makes a try that ends as it is told, and reports whether it might be made.
func try(l *Limiter, account, client string, pass bool) bool {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	one, _, ok := l.Begin(ctx, account, client)
	if !ok {
		return false
	}
	if pass {
		one.Passed(ctx)
	} else {
		one.Failed()
	}
	return true
}

func TestGuessingIsSlowedDownByAccountAndAddress(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var l Limiter
		try(&l, "keeper", "127.0.0.7", true)
		for i := range pairFailures {
			if !try(&l, "keeper", "127.0.0.1", false) {
				t.Fatalf("try %d is refused", i+1)
			}
		}
		if time.Sleep(30 * time.Second); try(&l, "keeper", "127.0.0.1", true) {
			t.Error("one try too many is allowed")
		}
		if !try(&l, "deck", "127.0.0.1", true) {
			t.Error("another account is refused")
		}
		if time.Sleep(31 * time.Second); !try(&l, "keeper", "127.0.0.1", true) {
			t.Error("a minute later it is refused")
		}
		for i := range accountFailures {
			try(&l, "keeper", "127.20.1."+strconv.Itoa(i), false)
		}
		if try(&l, "keeper", "127.20.4.4", true) {
			t.Error("the account may be guessed from one address after another")
		}
		if !try(&l, "keeper", "127.0.0.7", true) {
			t.Error("others' guesses keep out who signed in before")
		}
		for i := range addressFailures {
			try(&l, strings.Repeat("x", i+1), "127.20.9.9", false)
		}
		if try(&l, "never tried", "127.20.9.9", true) || !try(&l, "never tried", "127.0.0.1", true) {
			t.Error("an address that guesses many accounts is not slowed down, or another is")
		}
		for i := range pairFailures {
			try(&l, "purser", "2001:db8:7:7::"+strconv.Itoa(i+1), false)
		}
		if try(&l, "purser", "2001:db8:7:7:ffff::1", true) || !try(&l, "purser", "2001:db8:7:8::1", true) {
			t.Error("an IPv6 host's /64 does not count as one address, or another's does")
		}
		for i := range 3 * maxKnown {
			try(&l, time.Duration(i).String(), "127.0.0."+strconv.Itoa(i%250), false)
		}
		if len(l.tries) > 2*maxKnown+3 {
			t.Errorf("%d names are remembered", len(l.tries))
		}
	})
}

func TestGuessesSideBySideDoNotAllPass(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var l Limiter
		var made, right atomic.Int32
		for range 64 {
			go func() {
				if one, _, ok := l.Begin(t.Context(), "keeper", "127.20.9.9"); ok {
					made.Add(1)
					time.Sleep(50 * time.Millisecond) // the password is checked
					one.Failed()
				}
			}()
		}
		time.Sleep(40 * time.Second)
		if made.Load() != pairFailures {
			t.Errorf("%d of 64 guesses were made", made.Load())
		}
		for range 64 { // right ones wait for each other, but none is refused
			go func() {
				one, _, ok := l.Begin(t.Context(), "ines", "127.20.1.1")
				if ok {
					time.Sleep(50 * time.Millisecond)
					one.Passed(t.Context())
					right.Add(1)
				}
			}()
		}
		if time.Sleep(30 * time.Second); right.Load() != 64 {
			t.Errorf("%d of 64 right passwords passed", right.Load())
		}
	})
}

func TestAProvenPairIsDelayedAtMost(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var l Limiter
		try(&l, "ines", "127.20.1.1", true)
		for range 3 * accountFailures { // a colleague behind the same address guesses
			one, delay, ok := l.Begin(t.Context(), "ines", "127.20.1.1")
			if !ok || delay > maxDelay {
				t.Fatalf("%v after %s", ok, delay)
			}
			time.Sleep(delay)
			one.Failed()
		}
		first, delay, ok := l.Begin(t.Context(), "ines", "127.20.1.1")
		if !ok || delay < time.Second {
			t.Fatalf("%v after %s", ok, delay)
		}
		second := make(chan struct{})
		go func() {
			l.Begin(t.Context(), "ines", "127.20.1.1")
			close(second)
		}()
		synctest.Wait()
		select {
		case <-second:
			t.Error("two go side by side")
		default:
		}
		first.Passed(t.Context())
		<-second
	})
}

func TestManySignInsAreBounded(t *testing.T) {
	hash, _ := Hash("tide-and-lantern")
	g := NewGate()
	var passed, busy atomic.Int32
	var all sync.WaitGroup
	for range 200 {
		all.Add(1)
		go func() {
			defer all.Done()
			switch ok, err := g.Check(context.Background(), hash, "tide-and-lantern"); {
			case err == ErrBusy:
				busy.Add(1)
			case ok:
				passed.Add(1)
			}
		}()
	}
	all.Wait()
	if int(passed.Load()) < hashAtOnce+maxWaiting || passed.Load()+busy.Load() != 200 {
		t.Errorf("%d passed, %d were deferred", passed.Load(), busy.Load())
	}
}

func TestScramKeysFitTheirPasswordOnly(t *testing.T) {
	keys, err := ScramKeys("ines.harrow@skerryline.example", "tide-and-lantern")
	if err != nil || strings.Contains(keys, "tide") {
		t.Fatal(keys, err)
	}
	kept, err := parseScram(keys)
	if err != nil || kept.Iters != scramRounds || len(kept.StoredKey) != 32 {
		t.Errorf("%+v %v", kept, err)
	}
	c := NewChecker(nil, []byte("salt"))
	dir := directory.Of(nil, nil)
	_, key := account(dir, Submit, "nobody@x.example")
	for _, same := range []string{"NOBODY@x.example", ` "nobody"@x.example `, `"n\obody"@X.EXAMPLE`} {
		if _, other := account(dir, Submit, same); other != key || c.madeUp(other).Salt != c.madeUp(key).Salt {
			t.Errorf(
				"%s counts as %s, another name than %s: its salt or its limits tell that it is unknown",
				same,
				other,
				key,
			)
		}
	}
	if c.madeUp(key).Salt == c.madeUp("other@x.example").Salt ||
		c.madeUp(key).Salt != NewChecker(nil, []byte("salt")).madeUp(key).Salt {
		t.Error("two unknown accounts share a salt, or a start changes it")
	}
}
