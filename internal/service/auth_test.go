package service

import (
	"strings"
	"testing"
	"time"
)

func TestPasswordsAreKeptAsArgon2id(t *testing.T) {
	a, err := HashPassword("tide-and-lantern")
	if err != nil {
		t.Fatal(err)
	}
	b, _ := HashPassword("tide-and-lantern")
	if a == b || !strings.HasPrefix(a, "$argon2id$v=19$m=65536,t=1,p=2$") || strings.Contains(a, "tide") {
		t.Errorf("%s\n%s", a, b)
	}
	for password, want := range map[string]bool{"tide-and-lantern": true, "tide-and-lanterns": false, "": false} {
		if checkPassword(a, password) != want {
			t.Errorf("%q: %v", password, !want)
		}
	}
	for _, broken := range []string{"", "plain", "$argon2id$v=19$m=x$a$b", "$argon2id$v=19$m=65536,t=1,p=2$!$!", "$2b$10$abc$d$e"} {
		if checkPassword(broken, "") {
			t.Errorf("a broken hash lets in: %q", broken)
		}
	}
	if x := HashToken("a"); string(x) == string(HashToken("b")) || len(x) != 32 {
		t.Error("token hashes")
	}
}

func TestGuessingIsSlowedDownByName(t *testing.T) {
	var l limiter
	now := time.Now()
	for i := range maxFailures {
		if !l.allow("keeper", now) {
			t.Fatalf("try %d is refused", i+1)
		}
		l.failed("keeper", now)
	}
	if l.allow("keeper", now.Add(30*time.Second)) {
		t.Error("one try too many is allowed")
	}
	if !l.allow("deck", now) {
		t.Error("another name is refused")
	}
	if !l.allow("keeper", now.Add(61*time.Second)) {
		t.Error("a minute later it is still refused")
	}
	for i := range 20_000 {
		l.failed(strings.Repeat("x", i%50)+string(rune('a'+i%26))+time.Duration(i).String(), now)
	}
	if len(l.tries) > 10_001 {
		t.Errorf("%d names are remembered", len(l.tries))
	}
}
