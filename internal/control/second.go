package control

import (
	"context"
	"crypto/rand"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"gullroute/internal/core/fault"
)

// Of the second factor (RFC 6238): the steps that programs on telephones know.
const (
	stepSeconds   = 30
	stepsAround   = 1 // a clock may be half a minute off
	recoveryCodes = 10
)

// secondName is under what a person's secret is encrypted.
func secondName(name string) string { return "second factor of " + name }

// BeginSecond makes a secret for a second factor, to be confirmed by a code.
func (o *Operators) BeginSecond(ctx context.Context, name, server string) (*otp.Key, error) {
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Gull Route " + server, AccountName: name,
		Period: stepSeconds})
	if err != nil {
		return nil, err
	}
	sealed, err := o.Box.Encrypt(secondName(name), key.Secret())
	if err != nil {
		return nil, fault.Refuse("second_factor", "it is kept under the key file: %v", err)
	}
	begun, err := o.SecondFactors.BeginSecond(ctx, name, sealed)
	if err == nil && !begun {
		return nil, fault.Refuse("second_factor", "you have one already; remove it first")
	}
	return key, err
}

// ConfirmSecond turns the second factor on, once its first code fits, and makes recovery codes.
func (o *Operators) ConfirmSecond(ctx context.Context, name, code string) ([]string, error) {
	x, err := o.Second(ctx, name)
	if err != nil {
		return nil, err
	}
	if x.Secret == nil || x.On {
		return nil, fault.Refuse("second_factor", "there is none to confirm")
	}
	fits, err := o.fits(ctx, name, code, x.Secret)
	if err != nil {
		return nil, err
	}
	if !fits {
		return nil, fault.Refuse("code", "it does not fit: is the clock of your telephone right?")
	}
	codes, hashes := newRecovery()
	return codes, o.SecondFactors.ConfirmSecond(ctx, name, hashes)
}

// newRecovery makes codes for recovery, and their hashes.
func newRecovery() (codes []string, hashes [][]byte) {
	for range recoveryCodes {
		code := strings.ToLower(rand.Text()[:10])
		codes = append(codes, code[:5]+"-"+code[5:])
		hashes = append(hashes, HashSecret(code))
	}
	return codes, hashes
}

// fits reports that a code is that of now, or of half a minute ago or ahead, and was not used.
func (o *Operators) fits(ctx context.Context, name, code string, sealed []byte) (bool, error) {
	secret, err := o.Box.Decrypt(secondName(name), sealed)
	if err != nil {
		return false, fault.Refuse(
			"second_factor",
			"it cannot be opened: is the service started with "+
				"its key file? (%v)",
			err,
		)
	}
	now := time.Now()
	for d := -stepsAround; d <= stepsAround; d++ {
		at := now.Add(time.Duration(d) * stepSeconds * time.Second)
		ok, err := totp.ValidateCustom(code, secret, at, totp.ValidateOpts{Period: stepSeconds,
			Digits: otp.DigitsSix})
		if err == nil && ok {
			return o.UseStep(ctx, name, at.Unix()/stepSeconds)
		}
	}
	return false, nil
}

// SecondFits reports whether somebody may go on with a code, of the second factor or of those
// for recovery; needed says that he has a second factor at all, be it passkeys only.
func (o *Operators) SecondFits(
	ctx context.Context,
	name, code string,
) (needed, fits bool, err error) {
	x, err := o.Second(ctx, name)
	if err != nil || !x.On && x.Passkeys == 0 {
		return false, err == nil, err
	}
	code = strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
	switch len(code) {
	case 6:
		if !x.On {
			return true, false, nil
		}
		fits, err = o.fits(ctx, name, code, x.Secret)
	case 10:
		fits, err = o.UseRecovery(ctx, name, HashSecret(code))
	}
	return true, fits, err
}
