package signin

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"strings"
	"sync"
	"time"

	"github.com/xdg-go/scram"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/store"
)

// Credentials reads what a mailbox's sign-in is checked against;
// store.ErrNotFound if it may not sign in.
type Credentials interface {
	Credentials(ctx context.Context, key string) (hash, scram string, err error)
}

// The reasons of a refusal.
var (
	ErrWrong  = errors.New("account or password is wrong")
	ErrSlow   = errors.New("too many failed tries; wait a minute")
	ErrNotNow = errors.New("sign-in cannot be checked just now")
)

// Checker checks the sign-in of mailboxes.
type Checker struct {
	Store   Credentials
	Gate    *Gate
	Limiter Limiter

	salt [32]byte // of made-up SCRAM salts
}

// NewChecker makes one.
func NewChecker(s Credentials) *Checker {
	c := &Checker{Store: s, Gate: NewGate()}
	_, _ = rand.Read(c.salt[:])
	return c
}

// nobody is checked against when the account is unknown, so that the time of an
// answer does not tell which accounts exist.
var nobody = sync.OnceValue(func() string { h, _ := Hash("nobody has this password"); return h })

// account finds whose name was given: a mailbox's address, any one of them.
func account(dir *directory.Directory, name string) *directory.Mailbox {
	a, err := address.Parse(strings.TrimSpace(name))
	if err != nil {
		return nil
	}
	if m := dir.Mailbox(a); m != nil && m.MaySubmit {
		return m
	}
	return nil
}

// Plain checks a name and a password, and returns the mailbox's address.
func (c *Checker) Plain(ctx context.Context, dir *directory.Directory, name, password, client string) (address.Address, error) {
	if !c.Limiter.Allow(strings.ToLower(name), client, time.Now()) {
		return address.Address{}, ErrSlow
	}
	m := account(dir, name)
	hash := nobody()
	if m != nil {
		kept, _, err := c.Store.Credentials(ctx, m.Address.Key())
		switch {
		case errors.Is(err, store.ErrNotFound) || err == nil && kept == "":
			m = nil
		case err != nil:
			return address.Address{}, ErrNotNow
		default:
			hash = kept
		}
	}
	ok, err := c.Gate.Check(ctx, hash, password)
	if err != nil {
		return address.Address{}, err
	}
	if !ok || m == nil {
		c.Limiter.Failed(strings.ToLower(name), client, time.Now())
		return address.Address{}, ErrWrong
	}
	c.Limiter.Passed(strings.ToLower(name), client)
	return m.Address, nil
}

// Scram is one SCRAM-SHA-256 conversation (RFC 5802, RFC 7677).
type Scram struct {
	conv    *scram.ServerConversation
	checker *Checker
	dir     *directory.Directory
	client  string
	fault   error
}

// Scram begins a conversation. A binding with a type offers the -PLUS variant,
// which required demands.
func (c *Checker) Scram(ctx context.Context, dir *directory.Directory, client string, binding scram.ChannelBinding, required bool) *Scram {
	s := &Scram{checker: c, dir: dir, client: client}
	server, err := scram.SHA256.NewServer(func(name string) (scram.StoredCredentials, error) { return s.lookup(ctx, name) })
	if err != nil {
		s.fault = ErrNotNow
		return s
	}
	switch {
	case required:
		s.conv = server.NewConversationWithChannelBindingRequired(binding)
	case binding.IsSupported():
		s.conv = server.NewConversationWithChannelBinding(binding)
	default:
		s.conv = server.NewConversation()
	}
	return s
}

func (s *Scram) lookup(ctx context.Context, name string) (scram.StoredCredentials, error) {
	if !s.checker.Limiter.Allow(strings.ToLower(name), s.client, time.Now()) {
		s.fault = ErrSlow
		return scram.StoredCredentials{}, ErrSlow
	}
	if m := account(s.dir, name); m != nil {
		_, keys, err := s.checker.Store.Credentials(ctx, m.Address.Key())
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			s.fault = ErrNotNow
			return scram.StoredCredentials{}, ErrNotNow
		}
		if kept, err := parseScram(keys); err == nil {
			return kept, nil
		}
	}
	return s.checker.madeUp(name), nil
}

// madeUp are keys for a name that has none: the same salt at every try, and no
// password that fits.
func (c *Checker) madeUp(name string) scram.StoredCredentials {
	sum := func(what string) []byte {
		h := hmac.New(sha256.New, c.salt[:])
		_, _ = h.Write([]byte(what + "\x00" + strings.ToLower(name)))
		return h.Sum(nil)
	}
	out := scram.StoredCredentials{StoredKey: sum("stored"), ServerKey: sum("server")}
	out.Salt, out.Iters = string(sum("salt")[:16]), scramRounds
	return out
}

// Step answers a message of the client's. After the last one account is set, or
// err says why not.
func (s *Scram) Step(message string) (answer string, account address.Address, done bool, err error) {
	if s.fault != nil {
		return "", address.Address{}, true, s.fault
	}
	answer, err = s.conv.Step(message)
	switch {
	case s.fault != nil:
		return "", address.Address{}, true, s.fault
	case err != nil:
		s.checker.Limiter.Failed(strings.ToLower(s.conv.Username()), s.client, time.Now())
		return "", address.Address{}, true, ErrWrong
	case !s.conv.Done():
		return answer, address.Address{}, false, nil
	}
	m := s.account()
	if m == nil || !s.conv.Valid() {
		return "", address.Address{}, true, ErrWrong
	}
	s.checker.Limiter.Passed(strings.ToLower(s.conv.Username()), s.client)
	return answer, m.Address, true, nil
}

// account is whose conversation it was. Acting for somebody else is not offered.
func (s *Scram) account() *directory.Mailbox {
	m := account(s.dir, s.conv.Username())
	if id := s.conv.AuthzID(); m != nil && id != "" && !strings.EqualFold(id, s.conv.Username()) {
		return nil
	}
	return m
}
