package signin

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"errors"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/xdg-go/scram"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/store"
)

// Credentials reads what a mailbox's sign-in is checked against; store.ErrNotFound if there
// is no such mailbox.
type Credentials interface {
	Credentials(ctx context.Context, key string) (hash, scram string, err error)
}

// Programs are passwords for one program each, and when mailboxes were last used.
type Programs interface {
	// UseAppPassword finds the password by its hash and notes its use; store.ErrNotFound if
	// the mailbox has none such.
	UseAppPassword(
		ctx context.Context,
		key string,
		hash []byte,
		use, client string,
	) (id int64, err error)
	Used(ctx context.Context, key, use, client string) error
}

// Use is what somebody signs in for.
type Use string

// The uses.
const (
	Submit Use = "submission"
	IMAP   Use = directory.ByIMAP
	POP3   Use = directory.ByPOP3
	Own    Use = "page" // the page of one's own mailbox
)

// Allows reports whether a mailbox may be used so.
func (u Use) Allows(m *directory.Mailbox) bool {
	switch u {
	case Submit:
		return m.MaySubmit
	case Own:
		return true
	}
	return m.Reading.Allows(string(u))
}

// Passed is who has signed in.
type Passed struct {
	Account address.Address
	App     int64 // the app password that was used; 0 if the mailbox's own was
}

// AppKey is by what the sessions of an app password are ended.
func AppKey(id int64) string { return "app:" + strconv.FormatInt(id, 10) }

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
	// Programs may be nil: then there are no app passwords, and use is not noted.
	Programs Programs

	salt []byte // of made-up SCRAM salts
	mu   sync.Mutex
	used map[string]time.Time // when a use was noted
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
func account(dir *directory.Directory, use Use, name string) (m *directory.Mailbox, key string) {
	a, err := address.Parse(strings.TrimSpace(name))
	if err != nil {
		return nil, strings.ToLower(strings.TrimSpace(name))
	}
	if m := dir.Mailbox(a); m != nil && use.Allows(m) {
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
	use Use,
	name, password, client string,
) (Passed, error) {
	m, key := account(dir, use, name)
	try, err := c.begin(ctx, key, client)
	if err != nil {
		return Passed{}, err
	}
	defer try.GiveBack()
	if m != nil {
		app, err := c.app(ctx, m, use, password, client)
		if err != nil {
			return Passed{}, ErrNotNow
		}
		if app > 0 {
			try.Passed(ctx)
			c.note(ctx, m, use, client)
			return Passed{m.Address, app}, nil
		}
	}
	hash := nobody()
	if m != nil {
		kept, _, err := c.Store.Credentials(ctx, m.Address.Key())
		switch {
		case errors.Is(err, store.ErrNotFound) || err == nil && kept == "":
			m = nil
		case err != nil:
			return Passed{}, ErrNotNow
		default:
			hash = kept
		}
	}
	ok, err := c.Gate.Check(ctx, hash, password)
	if err != nil {
		return Passed{}, err
	}
	if !ok || m == nil {
		try.Failed()
		return Passed{}, ErrWrong
	}
	try.Passed(ctx)
	c.note(ctx, m, use, client)
	return Passed{Account: m.Address}, nil
}

// app finds the app password that somebody gives; 0 if it is none.
func (c *Checker) app(
	ctx context.Context,
	m *directory.Mailbox,
	use Use,
	password, client string,
) (int64, error) {
	hash := AppHash(password)
	if hash == nil || c.Programs == nil || use == Own { // a program's password is for that program
		return 0, nil
	}
	id, err := c.Programs.UseAppPassword(ctx, m.Address.Key(), hash, string(use), client)
	if errors.Is(err, store.ErrNotFound) {
		return 0, nil
	}
	return id, err
}

// noteEvery is how often it is noted that a mailbox is in use.
const noteEvery = time.Minute

// note notes that a mailbox was used. What cannot be noted keeps nobody out.
func (c *Checker) note(ctx context.Context, m *directory.Mailbox, use Use, client string) {
	if c.Programs == nil || use == Own {
		return
	}
	key := string(use) + " " + m.Address.Key() + " " + client
	c.mu.Lock()
	if c.used == nil || len(c.used) > maxKnown {
		c.used = map[string]time.Time{}
	}
	fresh := time.Since(c.used[key]) > noteEvery
	if fresh {
		c.used[key] = time.Now()
	}
	c.mu.Unlock()
	if fresh {
		_ = c.Programs.Used(ctx, m.Address.Key(), string(use), client) // only for people to see
	}
}

// Scram is one SCRAM-SHA-256 conversation (RFC 5802, RFC 7677).
type Scram struct {
	ctx     context.Context
	conv    *scram.ServerConversation
	checker *Checker
	dir     *directory.Directory
	use     Use
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
	use Use,
	client string,
	binding scram.ChannelBinding,
	plus, offered bool,
) *Scram {
	s := &Scram{ctx: ctx, checker: c, dir: dir, use: use, client: client}
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
	m, key := account(s.dir, s.use, name)
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
	m, _ := account(s.dir, s.use, s.conv.Username())
	if id := s.conv.AuthzID(); id != "" &&
		!strings.EqualFold(id, s.conv.Username()) { // acting for somebody else is not offered
		m = nil
	}
	if m == nil || !s.conv.Valid() {
		s.try.Failed()
		return "", address.Address{}, true, ErrWrong
	}
	s.try.Passed(s.ctx)
	s.checker.note(s.ctx, m, s.use, s.client)
	return answer, m.Address, true, nil
}
