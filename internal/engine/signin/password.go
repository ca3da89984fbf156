// Package signin checks who signs in: passwords by argon2id, SCRAM-SHA-256 keys
// beside them, with bounds on what guessing costs us and gains the guesser.
package signin

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"runtime"
	"strconv"
	"strings"

	"github.com/xdg-go/scram"
	"golang.org/x/crypto/argon2"
)

// Parameters of argon2id: 19 MiB, two passes, one lane.
const (
	argonTime, argonMemory, argonLanes, argonKey = 2, 19 << 10, 1, 32
	// maxArgonMemory bounds what a kept hash may ask for, in KiB.
	maxArgonMemory = 64 << 10
)

// scramRounds is the number of iterations of SCRAM's key derivation.
const scramRounds = 10_000

// Hash is the form in which a password is kept.
func Hash(password string) (string, error) {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonLanes, argonKey)
	enc := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory,
		argonTime, argonLanes, enc(salt), enc(key)), nil
}

// check reports whether a password has a hash.
func check(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	var memory, passes uint32
	var lanes uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes,
		&lanes); err != nil || memory > maxArgonMemory || passes == 0 ||
		lanes == 0 {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || err2 != nil || len(want) == 0 {
		return false
	}
	got := argon2.IDKey([]byte(password), salt, passes, memory, lanes, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// ScramKeys is the form in which a password's SCRAM-SHA-256 keys are kept (RFC
// 5803 has the parts): rounds, salt, stored key and server key.
func ScramKeys(name, password string) (string, error) {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	c, err := scram.SHA256.NewClient(name, password, "")
	if err != nil { // characters that RFC 4013 does not allow
		return "", nil
	}
	keys, err := c.GetStoredCredentialsWithError(
		scram.KeyFactors{Salt: string(salt), Iters: scramRounds},
	)
	if err != nil {
		return "", err
	}
	enc := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("%d:%s:%s:%s", scramRounds, enc(salt), enc(keys.StoredKey),
		enc(keys.ServerKey)), nil
}

func parseScram(text string) (scram.StoredCredentials, error) {
	var out scram.StoredCredentials
	parts := strings.Split(text, ":")
	if len(parts) != 4 {
		return out, errors.New("no SCRAM keys")
	}
	var err error
	if out.Iters, err = strconv.Atoi(parts[0]); err != nil {
		return out, err
	}
	var fields [3][]byte
	for i, p := range parts[1:] {
		if fields[i], err = base64.StdEncoding.DecodeString(p); err != nil {
			return out, err
		}
	}
	out.Salt, out.StoredKey, out.ServerKey = string(fields[0]), fields[1], fields[2]
	return out, nil
}

// ErrBusy reports that too many sign in at the same time.
var ErrBusy = errors.New("too many sign in just now")

// Bounds of checking passwords: each costs its memory and some ten milliseconds
// of a processor.
const maxWaiting = 64

// hashAtOnce leaves half of the processors to mail.
var hashAtOnce = max(1, runtime.GOMAXPROCS(0)/2)

// Gate bounds how many passwords are checked at the same time, so that guessing can
// neither fill memory nor take the processors from mail.
type Gate struct{ running, waiting chan struct{} }

// NewGate makes one.
func NewGate() *Gate {
	return &Gate{make(chan struct{}, hashAtOnce), make(chan struct{}, hashAtOnce+maxWaiting)}
}

// Check reports whether a password has a hash. The error is ErrBusy, or that of
// ctx.
func (g *Gate) Check(ctx context.Context, hash, password string) (bool, error) {
	select {
	case g.waiting <- struct{}{}:
		defer func() { <-g.waiting }()
	default:
		return false, ErrBusy
	}
	select {
	case g.running <- struct{}{}:
		defer func() { <-g.running }()
	case <-ctx.Done():
		return false, ErrBusy
	}
	return check(hash, password), nil
}
