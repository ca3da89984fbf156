package signin

import (
	"context"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
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
	for password, want := range map[string]bool{"tide-and-lantern": true, "tide-and-lanterns": false, "": false} {
		if check(a, password) != want {
			t.Errorf("%q: %v", password, !want)
		}
	}
	for _, broken := range []string{"", "plain", "$argon2id$v=19$m=x$a$b", "$argon2id$v=19$m=19456,t=2,p=1$!$!", "$2b$10$abc$d$e",
		strings.Replace(a, "m=19456", "m=4000000", 1), strings.Replace(a, "p=1", "p=0", 1)} {
		if check(broken, "tide-and-lantern") {
			t.Errorf("a broken hash lets in: %q", broken)
		}
	}
}

func TestGuessingIsSlowedDownByAccountAndAddress(t *testing.T) {
	var l Limiter
	now := time.Now()
	l.Passed("keeper", "127.0.0.7")
	for i := range pairFailures {
		if !l.Allow("keeper", "127.0.0.1", now) {
			t.Fatalf("try %d is refused", i+1)
		}
		l.Failed("keeper", "127.0.0.1", now)
	}
	if l.Allow("keeper", "127.0.0.1", now.Add(30*time.Second)) {
		t.Error("one try too many is allowed")
	}
	if !l.Allow("deck", "127.0.0.1", now) || !l.Allow("keeper", "127.0.0.1", now.Add(61*time.Second)) {
		t.Error("another account, or a minute later, is refused")
	}
	for i := range accountFailures {
		l.Failed("keeper", "127.20.1."+strconv.Itoa(i), now)
	}
	if l.Allow("keeper", "127.20.4.4", now) {
		t.Error("the account may be guessed from one address after another")
	}
	if !l.Allow("keeper", "127.0.0.7", now) {
		t.Error("others' guesses keep out who signed in before")
	}
	for i := range addressFailures {
		l.Failed(strings.Repeat("x", i+1), "127.20.9.9", now)
	}
	if l.Allow("never tried", "127.20.9.9", now) || !l.Allow("never tried", "127.0.0.1", now) {
		t.Error("an address that guesses many accounts is not slowed down, or another is")
	}
	for i := range 3 * maxKnown {
		l.Failed(time.Duration(i).String(), "127.0.0.1", now)
	}
	if len(l.tries) > 2*maxKnown+3 {
		t.Errorf("%d names are remembered", len(l.tries))
	}
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
		t.Errorf("%d passed, %d were put off", passed.Load(), busy.Load())
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
	c := NewChecker(nil)
	if a, b := c.madeUp("nobody@x.example"), c.madeUp("NOBODY@x.example"); a.Salt != b.Salt || a.Salt == c.madeUp("other@x.example").Salt {
		t.Error("an unknown account's salt changes from try to try, which tells that it is unknown")
	}
}
