package control

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/trustelem/zxcvbn"

	"gullroute/internal/core/address"
	"gullroute/internal/core/audit"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
	"gullroute/internal/engine/signin"
	"gullroute/internal/keyfile"
	"gullroute/internal/store"
)

// Operators are the people and programs that administer.
type Operators struct {
	store.Accounts
	store.SecondFactors
	Audit store.Audit
	Box   *keyfile.Box
}

// Of passwords of people who administer.
const (
	leastPassword = 10  // characters
	mostPassword  = 200 // characters; what is longer takes long to weigh
	leastRest     = 6   // characters beside one's name and the like
	strongEnough  = 3   // of 4, as the estimator says: far more than 10^8 guesses
)

// HashSecret is the form in which a token or a session is kept: they are long and random, so a
// plain hash is enough.
func HashSecret(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// NewSecret is a token or a session's secret.
func NewSecret() string { return rand.Text() + rand.Text() }

var personName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,60}$`)

// Add adds somebody who administers. Without a password one is made, which he changes at the
// first sign-in.
func (o *Operators) Add(
	ctx context.Context,
	who string,
	p mail.Person,
	password string,
) (made string, err error) {
	if !personName.MatchString(p.Name) {
		return "", badName(p.Name)
	}
	if err := knownRole(p.Role); err != nil {
		return "", err
	}
	if p.Domains, err = bounds(p.Domains); err != nil {
		return "", err
	}
	if password == "" {
		made = rand.Text()[:16]
		password, p.MustChange = made, true
	} else if err := Strong(password, p.Name); err != nil {
		return "", err
	}
	hash, err := signin.Hash(password)
	if err != nil {
		return "", err
	}
	p.MadeBy = who
	added, err := o.AddPerson(ctx, p, hash)
	if err == nil && !added {
		return "", fault.Refuse("name", "%s administers already; gull operator set %s changes that",
			p.Name, p.Name)
	}
	audit.Note(ctx, audit.Record{What: "operator", Name: p.Name, After: personFields(p)})
	return made, err
}

// firstLinkLasts is how long the first administrator may be made by a link.
const firstLinkLasts = 24 * time.Hour

// FirstLink is the secret of the link by which the first administrator is made; "" where
// somebody administers already.
func (o *Operators) FirstLink(ctx context.Context) (string, error) {
	secret := NewSecret()
	offered, err := o.OfferFirst(ctx, HashSecret(secret), time.Now().Add(firstLinkLasts))
	if err != nil || !offered {
		return "", err
	}
	return secret, nil
}

// First makes the first administrator.
func (o *Operators) First(ctx context.Context, secret, name, password string) error {
	if !personName.MatchString(name) {
		return badName(name)
	}
	if err := Strong(password, name); err != nil {
		return err
	}
	hash, err := signin.Hash(password)
	if err != nil {
		return err
	}
	used, err := o.UseFirst(
		ctx,
		HashSecret(secret),
		mail.Person{Name: name, MadeBy: "the first link"},
		hash,
	)
	if err == nil && !used {
		return fault.Refuse(
			"link",
			"this link is none, or no longer: it works once, for a day, while nobody "+
				"administers; the service says a new one when it starts",
		)
	}
	return err
}

func badName(name string) error {
	return fault.Refuse(
		"name",
		"%q is no name here: write small letters, digits, dots and hyphens, "+
			"like wren or mette.lund",
		name,
	)
}

func personFields(p mail.Person) map[string]any {
	return map[string]any{"role": p.Role, "domains": p.Domains, "about": p.About, "off": p.Off}
}

// bounds are domains in the form in which they are compared.
func bounds(domains []string) ([]string, error) {
	var out []string
	for _, text := range domains {
		d, err := address.ParseDomain(strings.TrimPrefix(strings.TrimSpace(text), "@"))
		if err != nil {
			return nil, fault.Refuse("domains", "%v; write domains, like lightkeepers.example", err)
		}
		if !slices.Contains(out, d) {
			out = append(out, d)
		}
	}
	return out, nil
}

func knownRole(r mail.Role) error {
	if rights.Known(r) {
		return nil
	}
	return fault.Refuse(
		"role",
		"%q is no role; write administrator, operator, auditor or viewer",
		r,
	)
}

// PersonChange is what is to be changed of somebody; nil stays.
type PersonChange struct {
	Role     *mail.Role
	Domains  *[]string
	About    *string
	Off      *bool
	Password *string // "" makes one
	// NoSecond takes the second factor away: a telephone was lost.
	NoSecond bool
}

// Change changes somebody who administers.
func (o *Operators) Change(
	ctx context.Context,
	name string,
	ch PersonChange,
) (p mail.Person, made string, err error) {
	if p, err = o.Person(ctx, name); err != nil {
		return p, "", err
	}
	before := personFields(p)
	if ch.Role != nil {
		if err := knownRole(*ch.Role); err != nil {
			return p, "", err
		}
		p.Role = *ch.Role
	}
	if ch.Domains != nil {
		if p.Domains, err = bounds(*ch.Domains); err != nil {
			return p, "", err
		}
	}
	if ch.About != nil {
		p.About = *ch.About
	}
	if ch.Off != nil {
		p.Off = *ch.Off
	}
	hash := ""
	if ch.Password != nil {
		password := *ch.Password
		if password == "" {
			made = rand.Text()[:16]
			password = made
		} else if err := Strong(password, name); err != nil {
			return p, "", err
		}
		if hash, err = signin.Hash(password); err != nil {
			return p, "", err
		}
	}
	left, err := o.ChangePerson(ctx, p)
	if err == nil && !left {
		return p, "", fault.Refuse(
			"role",
			"nobody would be left who may change anything: %s is the only "+
				"administrator who may sign in",
			name,
		)
	}
	if err == nil && ch.NoSecond {
		err = o.DropSecond(ctx, name, true)
	}
	if err == nil && hash != "" {
		err = o.SetPassword(ctx, name, hash, true, 0)
	}
	if err != nil {
		return p, "", err
	}
	audit.Note(
		ctx,
		audit.Record{What: "operator", Name: name, Before: before, After: personFields(p)},
	)
	p, err = o.Person(ctx, name)
	return p, made, err
}

// Remove takes somebody out, with his sessions.
func (o *Operators) Remove(ctx context.Context, name string) error {
	p, err := o.Person(ctx, name)
	if err != nil {
		return err
	}
	left, err := o.RemovePerson(ctx, name)
	if err == nil && !left {
		return fault.Refuse("name", "nobody would be left who may change anything: %s is the only "+
			"administrator who may sign in", name)
	}
	if err == nil {
		audit.Note(ctx, audit.Record{What: "operator", Name: name, Before: personFields(p)})
	}
	return err
}

// ChangeOwn writes one's own new password; all sessions end but the one that asks.
func (o *Operators) ChangeOwn(ctx context.Context, name, password string, session int64) error {
	if err := Strong(password, name); err != nil {
		return err
	}
	hash, err := signin.Hash(password)
	if err != nil {
		return err
	}
	return o.SetPassword(ctx, name, hash, false, session)
}

// Strong refuses a password that is guessed soon, and says why.
func Strong(password string, known ...string) error {
	n := len([]rune(password))
	if n < leastPassword {
		return fault.Refuse(
			"password",
			"it has %d characters; at least %d are needed",
			n,
			leastPassword,
		)
	}
	if n > mostPassword {
		return fault.Refuse(
			"password",
			"it has %d characters; at most %d are taken",
			n,
			mostPassword,
		)
	}
	known = append(known, "gull", "route", "mail", "administrator")
	rest := strings.ToLower(password)
	for _, word := range known {
		rest = strings.ReplaceAll(rest, word, "")
	}
	if len(strings.TrimSpace(rest)) < leastRest ||
		zxcvbn.PasswordStrength(password, known).Score < strongEnough {
		return fault.Refuse(
			"password",
			"it would be guessed soon: take a few words that do not belong "+
				"together, or something made at random",
		)
	}
	return nil
}

// NewToken lets a program in until a time; zero is for good.
func (o *Operators) NewToken(
	ctx context.Context,
	t mail.Token,
) (secret string, _ mail.Token, err error) {
	if t.Name = strings.TrimSpace(t.Name); t.Name == "" || len(t.Name) > 60 {
		return "", t, fault.Refuse(
			"name",
			"write what the token is for, in 1 to 60 characters, like backups",
		)
	}
	if err := knownRole(t.Role); err != nil {
		return "", t, err
	}
	if t.Domains, err = bounds(t.Domains); err != nil {
		return "", t, err
	}
	if !t.EndsAt.IsZero() && t.EndsAt.Before(time.Now()) {
		return "", t, fault.Refuse("ends_at", "it would have ended already")
	}
	secret = NewSecret()
	t.MadeAt = time.Now().UTC()
	t.ID, err = o.AddToken(ctx, HashSecret(secret), t)
	return secret, t, err
}
