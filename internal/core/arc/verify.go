package arc

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"gullroute/internal/core/senderauth"
)

// Keys finds the record that publishes a key. ErrLater says that it may be found later.
type Keys func(domain, selector string) (record string, err error)

// ErrLater reports a key that could not be looked up now.
var ErrLater = errors.New("DNS gave no answer")

// Verify judges the chain of a message: its header section, and its body behind the empty line.
// A message without a chain has none: nil.
func Verify(section []byte, body io.Reader, keys Keys) *senderauth.Chain {
	sets, err := Read(section)
	if errors.Is(err, errNone) {
		return nil
	}
	c := &senderauth.Chain{Result: senderauth.Pass}
	if err != nil {
		c.Result, c.Why = senderauth.Fail, err.Error()
		return c
	}
	for _, s := range sets {
		c.Links = append(c.Links, senderauth.Link{Domain: s.Domain, Found: s.resultsText})
	}
	if err := verify(sets, section, body, keys); err != nil {
		c.Result, c.Why = senderauth.Fail, err.Error()
		if errors.Is(err, ErrLater) {
			c.Result = senderauth.TempError
		}
	}
	return c
}

// verify takes the steps of RFC 8617 section 5.2.
func verify(sets []Set, section []byte, body io.Reader, keys Keys) error {
	for i, s := range sets {
		want := "pass"
		if i == 0 {
			want = "none"
		}
		if s.verdict != want {
			return fmt.Errorf("%s sealed it as set %d with cv=%s", s.Domain, i+1, s.verdict)
		}
	}
	if err := verifyMessage(&sets[len(sets)-1], section, body, keys); err != nil {
		return fmt.Errorf(
			"the message is not as %s passed it on: %w",
			sets[len(sets)-1].Domain,
			err,
		)
	}
	for i := len(sets); i > 0; i-- {
		s := &sets[i-1]
		if s.sealTags.Has("h") {
			return fmt.Errorf("the seal of %s names fields, which it must not", s.Domain)
		}
		if err := verifySignature(s.sealTags, sealedText(sets[:i]), keys); err != nil {
			return fmt.Errorf("the seal of %s: %w", s.Domain, err)
		}
	}
	return nil
}

func verifyMessage(s *Set, section []byte, body io.Reader, keys Keys) error {
	t := s.messageTags
	head, tail, _ := strings.Cut(t.Get("c"), "/")
	names := strings.Split(t.Get("h"), ":")
	switch {
	case !canonical(head) || !canonical(tail):
		return fmt.Errorf("c=%s is no form", t.Get("c"))
	case t.Has("l"):
		return errors.New("it covers a part of the body only")
	case !slices.ContainsFunc(names, func(n string) bool {
		return strings.EqualFold(strings.TrimSpace(n), "From")
	}):
		return errors.New("it does not cover From")
	case slices.ContainsFunc(names, func(n string) bool {
		return strings.EqualFold(strings.TrimSpace(n), fieldSeal)
	}):
		return errors.New("it covers a seal, which it must not")
	}
	hash, err := bodyHash(body, tail == "relaxed")
	if err != nil {
		return err
	}
	if hash != withoutSpace(t.Get("bh")) {
		return errors.New("its body was changed")
	}
	return verifySignature(t, coveredText(section, names, head == "relaxed", s.message), keys)
}

func canonical(form string) bool { return form == "" || form == "simple" || form == "relaxed" }

func bodyHash(body io.Reader, relaxed bool) (string, error) {
	sum := sha256.New()
	form := newBodyForm(sum, relaxed)
	if _, err := io.Copy(form, body); err != nil {
		return "", err
	}
	_ = form.Close()
	return base64.StdEncoding.EncodeToString(sum.Sum(nil)), nil
}

func verifySignature(t senderauth.TagList, text []byte, keys Keys) error {
	proof, err := base64.StdEncoding.DecodeString(withoutSpace(t.Get("b")))
	if err != nil || len(proof) == 0 {
		return errors.New("its signature cannot be read")
	}
	record, err := keys(strings.ToLower(t.Get("d")), t.Get("s"))
	if err != nil {
		return fmt.Errorf("its key: %w", err)
	}
	public, err := senderauth.PublicKey(record)
	if err != nil {
		return fmt.Errorf("its key: %w", err)
	}
	sum := sha256.Sum256(text)
	switch key := public.(type) {
	case *rsa.PublicKey:
		if t.Get("a") == "rsa-sha256" && rsa.VerifyPKCS1v15(key, crypto.SHA256, sum[:], proof) == nil {
			return nil
		}
	case ed25519.PublicKey:
		if t.Get("a") == "ed25519-sha256" && ed25519.Verify(key, sum[:], proof) {
			return nil
		}
	}
	return errors.New("its signature does not fit")
}

func withoutSpace(s string) string { return strings.Join(strings.Fields(s), "") }
