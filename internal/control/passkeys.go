package control

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/url"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"gullroute/internal/core/audit"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/keyfile"
	"gullroute/internal/store"
)

// Passkeys let in people who administer.
type Passkeys struct {
	People *Operators
	Store  store.Passkeys
}

// ceremonyLasts is how long a passkey may take to answer, from the page's question on.
const ceremonyLasts = 5 * time.Minute

// maxPasskeys are as many as somebody may have.
const maxPasskeys = 20

// What ceremonies are sealed for.
const (
	toAddPasskey = "new passkey of "
	toSignIn     = "sign-in by passkey"
)

// errPasskey is all that is said of a passkey that does not open.
var errPasskey = fault.Refuse("passkey",
	"it does not open this server: is it one of yours, and were five minutes enough?")

// passkeyOwner is somebody as his passkeys know him.
type passkeyOwner struct {
	name   string
	handle []byte
	keys   []webauthn.Credential
}

func (o passkeyOwner) WebAuthnID() []byte                         { return o.handle }
func (o passkeyOwner) WebAuthnName() string                       { return o.name }
func (o passkeyOwner) WebAuthnDisplayName() string                { return o.name }
func (o passkeyOwner) WebAuthnCredentials() []webauthn.Credential { return o.keys }

// relying is this server towards passkeys; link is how people reach it.
func (o *Passkeys) relying(link string) (*webauthn.WebAuthn, error) {
	u, err := url.Parse(link)
	if err != nil || u.Hostname() == "" {
		return nil, fault.Refuse(
			"passkey",
			"say in service.operators.link how people reach the console",
		)
	}
	return webauthn.New(&webauthn.Config{
		RPID:          u.Hostname(),
		RPDisplayName: "Gull Route " + u.Hostname(),
		RPOrigins:     []string{strings.TrimSuffix(link, "/")},
		AuthenticatorSelection: protocol.AuthenticatorSelection{
			ResidentKey:      protocol.ResidentKeyRequirementRequired,
			UserVerification: protocol.VerificationRequired,
		},
		AttestationPreference: protocol.PreferNoAttestation,
		Timeouts: webauthn.TimeoutsConfig{
			Login:        webauthn.TimeoutConfig{Enforce: true, Timeout: ceremonyLasts},
			Registration: webauthn.TimeoutConfig{Enforce: true, Timeout: ceremonyLasts},
		},
	})
}

// owner reads somebody with his passkeys.
func (o *Passkeys) owner(ctx context.Context, name string) (passkeyOwner, error) {
	x := passkeyOwner{name: name}
	var err error
	if x.handle, err = o.Store.Handle(ctx, name); err != nil {
		return x, err
	}
	list, err := o.Store.Passkeys(ctx, name)
	if err != nil {
		return x, err
	}
	for _, p := range list {
		var c webauthn.Credential
		if err := json.Unmarshal(p.Credential, &c); err != nil {
			return x, err
		}
		x.keys = append(x.keys, c)
	}
	return x, nil
}

// seal keeps what is to be known again at the second half of something, for one purpose.
func seal(box *keyfile.Box, purpose string, x any) (string, error) {
	text, err := json.Marshal(x)
	if err != nil {
		return "", err
	}
	sealed, err := box.Encrypt(purpose, string(text))
	if err != nil {
		return "", fault.Refuse("sign_in", "%v", err)
	}
	return base64.RawURLEncoding.EncodeToString(sealed), nil
}

func unseal(box *keyfile.Box, purpose, text string, into any) error {
	sealed, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil {
		return err
	}
	plain, err := box.Decrypt(purpose, sealed)
	if err != nil {
		return err
	}
	return json.Unmarshal([]byte(plain), into)
}

// Begin asks for a new passkey: what the browser is to do, and what it gives back then.
func (o *Passkeys) Begin(
	ctx context.Context,
	name, link string,
) (options *protocol.CredentialCreation, ceremony string, err error) {
	w, err := o.relying(link)
	if err != nil {
		return nil, "", err
	}
	who, err := o.owner(ctx, name)
	if err != nil {
		return nil, "", err
	}
	if len(who.keys) >= maxPasskeys {
		return nil, "", fault.Refuse(
			"passkey",
			"you have %d, which is as many as may be",
			len(who.keys),
		)
	}
	options, begun, err := w.BeginRegistration(who,
		webauthn.WithExclusions(webauthn.Credentials(who.keys).CredentialDescriptors()))
	if err != nil {
		return nil, "", err
	}
	ceremony, err = seal(o.People.Box, toAddPasskey+name, begun)
	return options, ceremony, err
}

// Add takes the browser's answer. Whoever had no second factor gets codes for recovery.
func (o *Passkeys) Add(
	ctx context.Context,
	name, link, called, ceremony string,
	answer []byte,
) (p mail.Passkey, recovery []string, err error) {
	w, err := o.relying(link)
	if err != nil {
		return p, nil, err
	}
	var begun webauthn.SessionData
	if err := unseal(o.People.Box, toAddPasskey+name, ceremony, &begun); err != nil {
		return p, nil, errPasskey
	}
	who, err := o.owner(ctx, name)
	if err != nil {
		return p, nil, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return p, nil, errPasskey
	}
	made, err := w.CreateCredential(who, begun, parsed)
	if err != nil {
		return p, nil, errPasskey
	}
	kept, err := json.Marshal(made)
	if err != nil {
		return p, nil, err
	}
	second, err := o.People.Second(ctx, name)
	if err != nil {
		return p, nil, err
	}
	var hashes [][]byte
	if second.Recovery == 0 {
		recovery, hashes = newRecovery()
	}
	if called = strings.TrimSpace(called); called == "" {
		called = "passkey"
	}
	p.Name = called
	added, err := o.Store.AddPasskey(ctx, name,
		store.Passkey{Passkey: p, Key: made.ID, Credential: kept}, hashes)
	if err == nil && !added {
		err = fault.Refuse("passkey", "it is known already")
	}
	if err == nil {
		audit.Note(
			ctx,
			audit.Record{What: "passkey", Name: name, After: map[string]any{"name": called}},
		)
	}
	return p, recovery, err
}

// Drop takes one of somebody's away.
func (o *Passkeys) Drop(ctx context.Context, name, id string) error {
	called, err := o.Store.RemovePasskey(ctx, name, id)
	if err == nil {
		audit.Note(
			ctx,
			audit.Record{What: "passkey", Name: name, Before: map[string]any{"name": called}},
		)
	}
	return err
}

// Ask asks whoever signs in for one of his passkeys.
func (o *Passkeys) Ask(link string) (*protocol.CredentialAssertion, string, error) {
	w, err := o.relying(link)
	if err != nil {
		return nil, "", err
	}
	options, begun, err := w.BeginDiscoverableLogin(
		webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return nil, "", err
	}
	ceremony, err := seal(o.People.Box, toSignIn, begun)
	return options, ceremony, err
}

// Of is who answers by a passkey. Each question is answered once.
func (o *Passkeys) Of(
	ctx context.Context,
	link, ceremony string,
	answer []byte,
) (mail.Person, error) {
	w, err := o.relying(link)
	if err != nil {
		return mail.Person{}, err
	}
	var begun webauthn.SessionData
	if err := unseal(o.People.Box, toSignIn, ceremony, &begun); err != nil {
		return mail.Person{}, errPasskey
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return mail.Person{}, errPasskey
	}
	var away error // of the database, which is no fault of the passkey
	var name string
	used, err := w.ValidateDiscoverableLogin(func(_, handle []byte) (webauthn.User, error) {
		who, err := o.Store.OfHandle(ctx, handle)
		if err == nil {
			name = who
			var found passkeyOwner
			if found, err = o.owner(ctx, who); err == nil {
				return found, nil
			}
		}
		if !errors.Is(err, fault.ErrNotFound) {
			away = err
		}
		return nil, err
	}, begun, parsed)
	switch {
	case away != nil:
		return mail.Person{}, away
	case err != nil:
		return mail.Person{}, errPasskey
	case used.Authenticator.CloneWarning:
		return mail.Person{
				Name: name,
			}, fault.Refuse(
				"passkey",
				"it counts less than it did before: "+
					"there may be a copy of it. Take it away, and make another",
			)
	}
	first, err := o.Store.Spend(ctx, HashSecret(ceremony), time.Now().Add(ceremonyLasts))
	if err != nil {
		return mail.Person{}, err
	}
	if !first {
		return mail.Person{}, errPasskey
	}
	kept, err := json.Marshal(used)
	if err == nil {
		err = o.Store.UsePasskey(ctx, used.ID, kept)
	}
	if err != nil {
		return mail.Person{}, err
	}
	return o.People.Person(ctx, name)
}
