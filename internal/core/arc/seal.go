package arc

import (
	"bytes"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"gullroute/internal/core/senderauth"
)

// Key is one that seals.
type Key struct {
	Domain, Selector string
	Signer           crypto.Signer
}

// Seal returns the three fields that continue a message's chain, each with its CRLF, the seal on
// top; none if the chain has ended: it failed before us, or it cannot be read. found is what we
// found of the sender when the message came, in the words of Authentication-Results behind our
// name; verdict is what we found of the chain then.
func Seal(
	section []byte,
	body io.Reader,
	k Key,
	found string,
	verdict senderauth.Result,
	names []string,
	at time.Time,
) ([]byte, error) {
	sets, err := Read(section)
	if err != nil && !errors.Is(err, errNone) ||
		len(sets) >= maxSets || len(sets) > 0 && sets[len(sets)-1].verdict == "fail" {
		return nil, nil
	}
	algorithm := "rsa-sha256"
	if _, ok := k.Signer.Public().(ed25519.PublicKey); ok {
		algorithm = "ed25519-sha256"
	}
	hash, err := bodyHash(body, true)
	if err != nil {
		return nil, err
	}
	n := len(sets) + 1
	own := Set{results: fmt.Appendf(nil, "%s: i=%d; %s\r\n", fieldResults, n,
		strings.ReplaceAll(found, "; ", ";\r\n\t"))}
	head := fmt.Sprintf("i=%d; a=%s; d=%s; s=%s; t=%d;\r\n\t", n, algorithm, k.Domain, k.Selector,
		at.Unix())
	own.message = fmt.Appendf(nil, "%s: %sc=relaxed/relaxed; bh=%s;\r\n\th=%s;\r\n\tb=\r\n",
		fieldMessage, head, hash, folded(strings.Join(names, ":"), ":"))
	own.message, err = signed(own.message, coveredText(section, names, true, own.message), k)
	if err != nil {
		return nil, err
	}
	own.seal = fmt.Appendf(nil, "%s: %scv=%s;\r\n\tb=\r\n", fieldSeal, head, verdict)
	scope := append(sets, own)
	if verdict == senderauth.Fail { // section 5.1.2: nothing before it is worth sealing
		scope = []Set{own}
	}
	if own.seal, err = signed(own.seal, sealedText(scope), k); err != nil {
		return nil, err
	}
	return bytes.Join([][]byte{own.seal, own.message, own.results}, nil), nil
}

// signed writes the signature of a text behind the b= at the end of a field.
func signed(field, text []byte, k Key) ([]byte, error) {
	sum := sha256.Sum256(text)
	var how crypto.SignerOpts = crypto.SHA256
	if _, ok := k.Signer.Public().(ed25519.PublicKey); ok { // RFC 8463: the hash is what is signed
		how = crypto.Hash(0)
	}
	proof, err := k.Signer.Sign(rand.Reader, sum[:], how)
	if err != nil {
		return nil, fmt.Errorf("sealing as %s: %w", k.Domain, err)
	}
	text64 := base64.StdEncoding.EncodeToString(proof)
	return fmt.Appendf(bytes.TrimSuffix(field, []byte("\r\n")), "%s\r\n", folded(text64, "")), nil
}

// folded breaks a long value into lines, behind a separator or anywhere.
func folded(s, separator string) string {
	const width = 72
	var b strings.Builder
	for len(s) > width {
		cut := width
		if separator != "" {
			if cut = strings.LastIndex(s[:width], separator) + 1; cut == 0 {
				break
			}
		}
		b.WriteString(s[:cut] + "\r\n\t")
		s = s[cut:]
	}
	return b.String() + s
}
