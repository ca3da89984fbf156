package signin

import (
	"context"
	"crypto/hmac"
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

	salt []byte // of made-up SCRAM salts
}

// NewChecker makes one. salt is what made-up SCRAM salts are made from: the same on
// every node and after every start, or they would tell which accounts exist.
func NewChecker(s Credentials, salt []byte) *Checker {
	return &Checker{Store: s, Gate: NewGate(), salt: salt}
}

// nobody is checked against when the account is unknown, so that the time of an
// answer does not tell which accounts exist.
var nobody = sync.OnceValue(func() string { h, _ := Hash("nobody has this password"); return h })

// account finds whose name was given: a mailbox's address, any one of them. key is
// by which tries are counted: the mailbox, however its name is written.
func account(dir *directory.Directory, name string) (m *directory.Mailbox, key string) {
	a, err := address.Parse(strings.TrimSpace(name))
	if err != nil {
		return nil, strings.ToLower(strings.TrimSpace(name))
	}
	if m := dir.Mailbox(a); m != nil && m.MaySubmit {
		return m, m.Address.Key()
	}
	return nil, a.Key()
}

// begin counts a try and waits as long as it has to.
func (c *Checker) begin(ctx context.Context, key, client string) (*Try, error) {
	try, delay, ok := c.Limiter.Begin(ctx, key, client)
	if !ok {
		return nil, ErrSlow
	}
	select {
	case <-time.After(delay):
		return try, nil
	case <-ctx.Done():
		try.GiveBack()
		return nil, ErrNotNow
	}
}

// Plain checks a name and a password, and returns the mailbox's address.
func (c *Checker) Plain(
	ctx context.Context,
	dir *directory.Directory,
	name, password, client string,
) (address.Address, error) {
	m, key := account(dir, name)
	try, err := c.begin(ctx, key, client)
	if err != nil {
		return address.Address{}, err
	}
	defer try.GiveBack()
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
		try.Failed()
		return address.Address{}, ErrWrong
	}
	try.Passed(ctx)
	return m.Address, nil
}

// Scram is one SCRAM-SHA-256 conversation (RFC 5802, RFC 7677).
type Scram struct {
	ctx     context.Context
	conv    *scram.ServerConversation
	checker *Checker
	dir     *directory.Directory
	client  string
	try     *Try
	fault   error
}

// Scram begins a conversation; Close ends it. A binding is for the -PLUS variant
// only, which plus says the client has chosen; offered says that it could have: a
// client that believes it could not was lied to (RFC 5802 section 6).
func (c *Checker) Scram(
	ctx context.Context,
	dir *directory.Directory,
	client string,
	binding scram.ChannelBinding,
	plus, offered bool,
) *Scram {
	s := &Scram{ctx: ctx, checker: c, dir: dir, client: client}
	server, err := scram.SHA256.NewServer(s.lookup)
	if err != nil {
		s.fault = ErrNotNow
		return s
	}
	switch {
	case plus:
		s.conv = server.NewConversationWithChannelBindingRequired(binding)
	case offered: // "y" is a downgrade; "p" has no place here, and no binding fits it
		s.conv = server.NewConversationWithChannelBinding(
			scram.ChannelBinding{Type: "none-without-plus", Data: []byte{0}},
		)
	default:
		s.conv = server.NewConversation()
	}
	return s
}

// Close ends a conversation that may not have come to its end: a client that goes away
// has made its try, once it has seen the challenge.
func (s *Scram) Close() { s.try.Failed() }

func (s *Scram) lookup(name string) (scram.StoredCredentials, error) {
	m, key := account(s.dir, name)
	if s.try, s.fault = s.checker.begin(s.ctx, key, s.client); s.fault != nil {
		return scram.StoredCredentials{}, s.fault
	}
	made := s.checker.madeUp(key)
	if m != nil {
		_, keys, err := s.checker.Store.Credentials(s.ctx, m.Address.Key())
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			s.try.GiveBack()
			s.fault = ErrNotNow
			return scram.StoredCredentials{}, ErrNotNow
		}
		if kept, err := parseScram(keys); err == nil {
			return kept, nil
		}
	}
	return made, nil
}

// madeUp are keys for an account that has none: the same salt at every try, and no
// password that fits.
func (c *Checker) madeUp(key string) scram.StoredCredentials {
	sum := func(what string) []byte {
		h := hmac.New(sha256.New, c.salt)
		_, _ = h.Write([]byte(what + "\x00" + key))
		return h.Sum(nil)
	}
	out := scram.StoredCredentials{StoredKey: sum("stored"), ServerKey: sum("server")}
	out.Salt, out.Iters = string(sum("salt")[:16]), scramRounds
	return out
}

// Step answers a message of the client's. After the last one account is set, or
// err says why not.
func (s *Scram) Step(message string) (answer string, who address.Address, done bool, err error) {
	if s.fault != nil {
		return "", address.Address{}, true, s.fault
	}
	answer, err = s.conv.Step(message)
	switch {
	case s.fault != nil:
		return "", address.Address{}, true, s.fault
	case err != nil:
		s.try.Failed()
		return "", address.Address{}, true, ErrWrong
	case !s.conv.Done():
		return answer, address.Address{}, false, nil
	}
	m, _ := account(s.dir, s.conv.Username())
	if id := s.conv.AuthzID(); id != "" &&
		!strings.EqualFold(id, s.conv.Username()) { // acting for somebody else is not offered
		m = nil
	}
	if m == nil || !s.conv.Valid() {
		s.try.Failed()
		return "", address.Address{}, true, ErrWrong
	}
	s.try.Passed(s.ctx)
	return answer, m.Address, true, nil
}
