package senderauth

import (
	"bytes"
	"context"
	"crypto"
	"errors"
	"fmt"
	"io"
	"net/mail"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/emersion/go-msgauth/dkim"

	"gullroute/internal/core/address"
	"gullroute/internal/core/message"
	"gullroute/internal/core/senderauth"
)

// Key is one that signs. Signer is nil if this node's key file does not open it.
type Key struct {
	Domain, Selector string
	Signer           crypto.Signer
}

// ErrLocked reports that no key that would sign can be opened.
var ErrLocked = errors.New("the key that signs it is not opened by this node's key file: " +
	"put the former key file back, or rotate the key (gull dkim rotate)")

// Signer signs messages in the name of the domains that have keys in use. It is
// safe for several goroutines.
type Signer struct {
	keys atomic.Pointer[map[string][]Key] // by domain
}

// Set replaces the keys in use.
func (s *Signer) Set(keys []Key) {
	byDomain := map[string][]Key{}
	for _, k := range keys {
		byDomain[k.Domain] = append(byDomain[k.Domain], k)
	}
	s.keys.Store(&byDomain)
}

// For are the keys by which a message from a domain is signed: the domain's own, or
// those of the nearest domain above it in the same organisation.
func (s *Signer) For(domain string) []Key {
	keys := s.keys.Load()
	if keys == nil || len(*keys) == 0 {
		return nil
	}
	org := senderauth.Organization(domain)
	for at := domain; at != "" && (at == org || strings.HasSuffix(at, "."+org)); {
		if found := (*keys)[at]; len(found) > 0 {
			return found
		}
		_, at, _ = strings.Cut(at, ".")
	}
	return nil
}

// Any reports whether anything is signed at all.
func (s *Signer) Any() bool {
	keys := s.keys.Load()
	return keys != nil && len(*keys) > 0
}

// signed are the fields that a signature covers (RFC 6376 section 5.4.1). Those of
// which a second one would be shown to people are signed once more than they are
// there, so that none can be added (section 8.15).
var signed = []string{
	"From",
	"Sender",
	"Reply-To",
	"To",
	"Cc",
	"Subject",
	"Date",
	"Message-ID",
	"In-Reply-To",
	"References",
	"MIME-Version",
	"Content-Type",
	"Content-Transfer-Encoding",
	"Content-ID",
	"Content-Description",
	"List-Id",
	"List-Help",
	"List-Unsubscribe",
	"List-Unsubscribe-Post",
	"List-Subscribe",
	"List-Post",
	"List-Owner",
	"List-Archive",
}

var once = []string{"From", "To", "Cc", "Subject", "Date", "Message-ID", "Reply-To", "Content-Type"}

// Sign returns the DKIM-Signature fields for a message, each with its CRLF; ErrLocked if
// none of its keys is open; none if no key is for it, or if may says of an address in From
// that who sent it may not use it. The content is read once.
func (s *Signer) Sign(
	ctx context.Context,
	may func(from address.Address) bool,
	content func() (io.Reader, error),
) ([]byte, error) {
	in, err := content()
	if err != nil {
		return nil, err
	}
	head := make([]byte, message.MaxHeader+1024)
	n, err := io.ReadFull(in, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return nil, err
	}
	head = head[:n]
	section, _ := message.SplitHeader(head)
	keys := s.For(FromDomain(section))
	if len(keys) == 0 || !mayAll(section, may) {
		return nil, nil
	}
	if keys = slices.DeleteFunc(
		slices.Clone(keys),
		func(k Key) bool { return k.Signer == nil },
	); len(keys) == 0 {
		return nil, ErrLocked
	}
	fields := covered(message.ParseHeader(section))
	var signers []*dkim.Signer
	var all []io.Writer
	for _, k := range keys {
		signer, err := dkim.NewSigner(&dkim.SignOptions{
			Domain:                 k.Domain,
			Selector:               k.Selector,
			Signer:                 k.Signer,
			Hash:                   crypto.SHA256,
			HeaderKeys:             fields,
			HeaderCanonicalization: dkim.CanonicalizationRelaxed,
			BodyCanonicalization:   dkim.CanonicalizationRelaxed,
		})
		if err != nil {
			return nil, fmt.Errorf("signing as %s: %w", k.Domain, err)
		}
		defer signer.Close()
		signers, all = append(signers, signer), append(all, signer)
	}
	out := io.MultiWriter(all...)
	if _, err = out.Write(head); err == nil {
		_, err = io.Copy(out, in)
	}
	if err != nil {
		return nil, fmt.Errorf("signing: %w", err)
	}
	var b bytes.Buffer
	for _, signer := range signers {
		if err := signer.Close(); err != nil {
			return nil, fmt.Errorf("signing: %w", err)
		}
		b.WriteString(signer.Signature())
	}
	return b.Bytes(), ctx.Err()
}

// mayAll asks of every address in From; what cannot be read is nobody's.
func mayAll(section []byte, may func(address.Address) bool) bool {
	if may == nil {
		return true
	}
	for _, f := range message.ParseHeader(section) {
		if !strings.EqualFold(f.Name, "From") {
			continue
		}
		list, err := mail.ParseAddressList(f.Value)
		if err != nil {
			return false
		}
		for _, a := range list {
			if from, err := address.Parse(a.Address); err != nil || !may(from) {
				return false
			}
		}
	}
	return true
}

// covered are the fields that a signature names for a header: each of those signed
// as often as it is there, some once more.
func covered(h message.Header) []string {
	var out []string
	for _, name := range signed {
		for _, f := range h {
			if strings.EqualFold(f.Name, name) {
				out = append(out, name)
			}
		}
		if slices.Contains(once, name) {
			out = append(out, name)
		}
	}
	return out
}
