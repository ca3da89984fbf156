package senderauth

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"slices"
	"time"

	"gullroute/internal/core/arc"
	"gullroute/internal/core/message"
	"gullroute/internal/core/senderauth"
)

// chain verifies the chain of sealed results of a message, nil where it has none.
func chain(ctx context.Context, r Resolver, f Facts) *senderauth.Chain {
	in, err := f.Content()
	if err != nil {
		return &senderauth.Chain{Result: senderauth.TempError, Why: "the content could not be read"}
	}
	_, body, err := split(in)
	if err != nil {
		return &senderauth.Chain{Result: senderauth.TempError, Why: "the content could not be read"}
	}
	asked := 0
	return arc.Verify(f.Header, body, func(domain, selector string) (string, error) {
		if asked++; asked > 2*maxSignatures {
			return "", errors.New("the chain needs too many keys")
		}
		texts, err := asker{r}.LookupTXT(ctx, selector+"._domainkey."+domain)
		var gone *net.DNSError
		switch {
		case errors.As(err, &gone) && gone.IsNotFound || err == nil && len(texts) == 0:
			return "", errors.New("it is not published")
		case err != nil:
			return "", arc.ErrLater
		}
		return texts[0], nil
	})
}

// split reads the header section of a message; body is what stands behind the empty line.
func split(in io.Reader) (section []byte, body io.Reader, err error) {
	head := make([]byte, message.MaxHeader+1024)
	n, err := io.ReadFull(in, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return nil, nil, err
	}
	head = head[:n]
	section, _ = message.SplitHeader(head)
	rest := bytes.TrimPrefix(head[len(section):], []byte("\r\n"))
	return section, io.MultiReader(bytes.NewReader(rest), in), nil
}

// Seal returns the fields by which a server of ours, that passes a message on for a domain of
// ours, says under seal what it found of the sender (RFC 8617); none if nothing was found, or the
// domain has no key in use. host is our name in what was found.
func (s *Signer) Seal(domain, host string, content func() (io.Reader, error)) ([]byte, error) {
	keys := slices.DeleteFunc(slices.Clone(s.For(domain)),
		func(k Key) bool { return k.Signer == nil })
	if len(keys) == 0 {
		return nil, nil
	}
	in, err := content()
	if err != nil {
		return nil, err
	}
	section, body, err := split(in)
	if err != nil {
		return nil, err
	}
	found, verdict := senderauth.Own(section, host)
	if found == "" {
		return nil, nil
	}
	names := append(covered(message.ParseHeader(section)), "DKIM-Signature")
	k := arc.Key{Domain: keys[0].Domain, Selector: keys[0].Selector, Signer: keys[0].Signer}
	return arc.Seal(section, body, k, found, verdict, names, time.Now())
}
