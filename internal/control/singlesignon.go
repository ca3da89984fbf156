package control

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// SingleSignOn lets in people whom a provider knows.
type SingleSignOn struct {
	People   *Operators
	Passkeys store.Passkeys // of which it needs what is used once
	Secrets  *inforce.Secrets
	InForce  *inforce.State

	providers providers
}

// Of single sign-on (OpenID Connect, code flow with PKCE).
const (
	errandLasts    = 10 * time.Minute // from leaving for the provider to coming back
	providerWaits  = 10 * time.Second // for each of its answers
	providerKnown  = time.Hour        // its settings and keys are asked for anew after that
	programErrand  = "single sign-on of a program"
	singleSignOnAt = "/api/v1/single-sign-on/back"
	errandPurpose  = "single sign-on"
)

// What somebody wants who goes to the provider.
const (
	ForConsole = "console"
	ForMailbox = "mailbox"
	ForProgram = "program"
)

// Errand is what one who was sent to the provider is remembered by, sealed in his cookie.
type Errand struct {
	For      string
	State    string
	Nonce    string
	Verifier string
	Ends     time.Time
	// Of a program: where on the loopback of its machine it waits, and the hash of what it proves
	// itself by.
	Port  int
	Proof string
}

// Refused says why single sign-on lets somebody not in. Code is for pages, to be said there in
// words; Text is for the record.
type Refused struct{ Code, Name, Text string }

func (r *Refused) Error() string { return r.Text }

// providers remembers the provider for a while.
type providers struct {
	mu     sync.Mutex
	issuer string
	known  *oidc.Provider
	since  time.Time
	failed error // the last time, while it is not asked again
}

// providerRests is how long a provider that did not answer is left alone.
const providerRests = 5 * time.Second

var providerClient = &http.Client{Timeout: providerWaits}

func (p *providers) of(ctx context.Context, issuer string) (*oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.known != nil && p.issuer == issuer && time.Since(p.since) < providerKnown {
		return p.known, nil
	}
	if p.failed != nil && p.issuer == issuer && time.Since(p.since) < providerRests {
		return nil, p.failed
	}
	p.issuer = issuer
	// its keys are fetched later, when the request that asked first is over
	found, err := oidc.NewProvider(
		oidc.ClientContext(context.WithoutCancel(ctx), providerClient),
		issuer,
	)
	p.known, p.since, p.failed = found, time.Now(), err
	return found, err
}

func (o *SingleSignOn) set() (config.Operators, error) {
	c := o.InForce.Config().Service.Operators
	if !c.SingleSignOn.Offered() {
		return c, &Refused{Code: "off", Text: "single sign-on is not set up"}
	}
	return c, nil
}

func (o *SingleSignOn) client(
	ctx context.Context,
	c config.Operators,
) (*oauth2.Config, *oidc.Provider, error) {
	one := c.SingleSignOn
	provider, err := o.providers.of(ctx, one.Issuer)
	if err != nil {
		return nil, nil, &Refused{
			Code: "away",
			Text: "the provider " + one.Issuer + " does not answer: " +
				err.Error(),
		}
	}
	x := &oauth2.Config{
		ClientID:    one.Client,
		Endpoint:    provider.Endpoint(),
		RedirectURL: strings.TrimSuffix(c.Link, "/") + singleSignOnAt,
		Scopes:      []string{oidc.ScopeOpenID, "profile", "email"},
	}
	if slices.Contains(scopesOf(provider), one.RoleClaim) {
		x.Scopes = append(x.Scopes, one.RoleClaim)
	}
	if one.Secret != "" {
		if x.ClientSecret, err = o.Secrets.Secret(ctx, one.Secret); err != nil {
			return nil, nil, &Refused{Code: "set-up", Text: "the secret " + one.Secret +
				" cannot be read: " + err.Error()}
		}
	}
	return x, provider, nil
}

// scopesOf are those that a provider says it has.
func scopesOf(p *oidc.Provider) []string {
	var says struct {
		Scopes []string `json:"scopes_supported"`
	}
	_ = p.Claims(&says)
	return says.Scopes
}

// Depart is where somebody goes to say who he is, and what he is remembered by.
func (o *SingleSignOn) Depart(ctx context.Context, e Errand) (to, remembered string, err error) {
	c, err := o.set()
	if err != nil {
		return "", "", err
	}
	if e.For == ForMailbox && c.SingleSignOn.Mailboxes != "yes" {
		return "", "", &Refused{
			Code: "off",
			Text: "single sign-on does not open mailbox pages here",
		}
	}
	x, _, err := o.client(ctx, c)
	if err != nil {
		return "", "", err
	}
	e.State, e.Nonce, e.Verifier = NewSecret(), NewSecret(), oauth2.GenerateVerifier()
	e.Ends = time.Now().Add(errandLasts)
	if remembered, err = seal(o.People.Box, errandPurpose, e); err != nil {
		return "", "", err
	}
	return x.AuthCodeURL(e.State, oidc.Nonce(e.Nonce), oauth2.S256ChallengeOption(e.Verifier)),
		remembered, nil
}

// Known is whom the provider says somebody to be.
type Known struct {
	Errand Errand
	Person mail.Person     // of the console or a program
	Box    address.Address // of a mailbox page
}

// Return takes somebody back from the provider: state and code are of the address he came to,
// remembered is what he was remembered by.
func (o *SingleSignOn) Return(
	ctx context.Context,
	remembered, state, code string,
) (k Known, err error) {
	c, err := o.set()
	if err != nil {
		return k, err
	}
	late := &Refused{Code: "late", Text: "the way back took too long, or began in another browser"}
	if unseal(o.People.Box, errandPurpose, remembered, &k.Errand) != nil ||
		k.Errand.State != state ||
		state == "" ||
		time.Now().After(k.Errand.Ends) {
		return k, late
	}
	if code == "" {
		return k, &Refused{Code: "no", Text: "the provider let nobody in"}
	}
	first, err := o.Passkeys.Spend(ctx, HashSecret(state), k.Errand.Ends)
	if err != nil {
		return k, err
	}
	if !first {
		return k, late
	}
	x, provider, err := o.client(ctx, c)
	if err != nil {
		return k, err
	}
	claims, err := asked(ctx, x, provider, k.Errand, code)
	if err != nil {
		return k, err
	}
	if k.Errand.For == ForMailbox {
		k.Box, err = claims.box()
		return k, err
	}
	k.Person, err = o.letIn(ctx, c.SingleSignOn, claims)
	return k, err
}

// claims are what the provider says of somebody.
type claims struct {
	issuer, subject string
	all             map[string]any
}

// text is a claim that is one text.
func (c claims) text(name string) string {
	s, _ := c.all[name].(string)
	return s
}

// values are those of a claim, be it one text or a list.
func (c claims) values(name string) []string {
	switch v := c.all[name].(type) {
	case string:
		return []string{v}
	case []any:
		var out []string
		for _, x := range v {
			if s, ok := x.(string); ok {
				out = append(out, s)
			}
		}
		return out
	}
	return nil
}

// box is the mailbox address that the provider has verified.
func (c claims) box() (address.Address, error) {
	mailAddress := c.text("email")
	a, err := address.Parse(mailAddress)
	if err != nil || c.all["email_verified"] != true {
		return a, &Refused{Code: "no-mailbox", Name: mailAddress,
			Text: "the provider does not say that it verified an address"}
	}
	return a, nil
}

// asked trades the code for what the provider says of somebody.
func asked(
	ctx context.Context,
	x *oauth2.Config,
	provider *oidc.Provider,
	e Errand,
	code string,
) (c claims, err error) {
	failed := func(err error) error {
		return &Refused{
			Code: "failed",
			Text: "what the provider answered cannot be trusted: " + err.Error(),
		}
	}
	ctx, stop := context.WithTimeout(oidc.ClientContext(ctx, providerClient), 2*providerWaits)
	defer stop()
	token, err := x.Exchange(ctx, code, oauth2.VerifierOption(e.Verifier))
	if err != nil {
		return c, failed(err)
	}
	raw, ok := token.Extra("id_token").(string)
	if !ok {
		return c, failed(errors.New("there is no ID token in it"))
	}
	id, err := provider.Verifier(&oidc.Config{ClientID: x.ClientID}).Verify(ctx, raw)
	if err != nil {
		return c, failed(err)
	}
	if id.Nonce != e.Nonce {
		return c, failed(errors.New("it is of another sign-in"))
	}
	c = claims{issuer: id.Issuer, subject: id.Subject}
	if err := id.Claims(&c.all); err != nil {
		return c, failed(err)
	}
	if provider.UserInfoEndpoint() == "" {
		return c, nil
	}
	// what the ID token leaves out may stand there
	if info, err := provider.UserInfo(ctx, oauth2.StaticTokenSource(token)); err == nil &&
		info.Subject == id.Subject {
		var more map[string]any
		if info.Claims(&more) == nil {
			for name, value := range more {
				if _, ok := c.all[name]; !ok {
					c.all[name] = value
				}
			}
		}
	}
	return c, nil
}

// letIn makes or finds the person whom claims describe, with the role that they give.
func (o *SingleSignOn) letIn(
	ctx context.Context,
	one config.SingleSignOn,
	c claims,
) (mail.Person, error) {
	name, off, err := o.People.OfSubject(ctx, c.issuer, c.subject)
	fresh := errors.Is(err, fault.ErrNotFound)
	if err != nil && !fresh {
		return mail.Person{}, err
	}
	if fresh {
		name, _, _ = strings.Cut(strings.ToLower(c.text(one.NameClaim)), "@")
	}
	if !personName.MatchString(name) {
		return mail.Person{}, &Refused{
			Code: "name",
			Name: name,
			Text: "the claim " + one.NameClaim +
				" gives no name of small letters, digits, dots and hyphens",
		}
	}
	values := c.values(one.RoleClaim)
	term, ok := one.Fits(values)
	switch {
	case off:
		return mail.Person{}, &Refused{
			Code: "switched-off",
			Name: name,
			Text: name + " is switched off here",
		}
	case !ok:
		return mail.Person{}, &Refused{
			Code: "no-role",
			Name: name,
			Text: "the claim " + one.RoleClaim +
				" gives no role: it says " + strings.Join(values, ", "),
		}
	}
	p := mail.Person{Name: name, Role: term.Role, MadeBy: "single sign-on", Issuer: c.issuer,
		About: c.text("name"), Domains: term.Domains}
	linked, err := o.People.Linked(ctx, p, c.subject)
	if err == nil && !linked {
		err = &Refused{
			Code: "taken",
			Name: name,
			Text: name + " is somebody here already, who signs in " +
				"otherwise: give one of the two another name",
		}
	}
	if err != nil {
		return p, err
	}
	return o.People.Person(ctx, name)
}

// programPass is what a program trades for its session.
type programPass struct {
	Name, Proof string
	Ends        time.Time
}

// ProgramPass is what a program gets for somebody who came back.
func (o *SingleSignOn) ProgramPass(k Known) (string, error) {
	return seal(o.People.Box,
		programErrand,
		programPass{k.Person.Name, k.Errand.Proof, time.Now().Add(time.Minute)},
	)
}

// UsePass is whose pass it is; proof is what the program has kept to itself.
func (o *SingleSignOn) UsePass(ctx context.Context, pass, proof string) (mail.Person, error) {
	var p programPass
	wrong := &Refused{Code: "late", Text: "this pass is none, or was used"}
	if unseal(o.People.Box, programErrand, pass, &p) != nil || time.Now().After(p.Ends) ||
		p.Proof != Proof(proof) {
		return mail.Person{}, wrong
	}
	first, err := o.Passkeys.Spend(ctx, HashSecret(pass), p.Ends)
	if err != nil {
		return mail.Person{}, err
	}
	if !first {
		return mail.Person{}, wrong
	}
	return o.People.Person(ctx, p.Name)
}

// Proof is the form in which what a program proves itself by goes through a browser.
func Proof(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}
