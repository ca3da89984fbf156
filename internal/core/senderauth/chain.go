package senderauth

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
)

// Chain is what was found of a chain of sealed results (RFC 8617).
type Chain struct {
	Result Result `json:"result" doc:"pass, fail or temperror"`
	Links  []Link `json:"links" nullable:"false" doc:"Who sealed it, the first one first"`
	Why    string `json:"why,omitempty"`
	// Vouched is the sealer, heeded here, who saw the sender proved.
	Vouched string `json:"vouched,omitempty" doc:"The sealer, heeded here, who saw the sender proved before it passed the message on"`
}

// Link is what one server found before it passed a message on.
type Link struct {
	Domain string `json:"domain"`
	Found  string `json:"found" doc:"In the words of Authentication-Results"`
}

// Heed believes the sealers of the configuration: where DMARC fails here because a message was
// passed on, and one of them saw it pass, it counts. Every sealer behind that one must be heeded
// too: each could have changed what it passed on.
func (c *Assessment) Heed(heeded func(domain string) bool) {
	if c.Chain == nil || c.Chain.Result != Pass || c.DMARC.Result != Fail {
		return
	}
	for i := len(c.Chain.Links) - 1; i >= 0; i-- {
		link := c.Chain.Links[i]
		if !heeded(link.Domain) {
			return
		}
		if sawProof(link.Found, c.DMARC.Domain) {
			c.Chain.Vouched = link.Domain
			return
		}
	}
}

// vouched reports that a heeded sealer saw the sender proved.
func (c *Assessment) vouched() bool { return c.Chain != nil && c.Chain.Vouched != "" }

// sawProof reads results for a DMARC pass of a domain.
func sawProof(found, domain string) bool {
	for _, one := range strings.Split(withoutComments(found), ";") {
		words := strings.Fields(one)
		if len(words) == 0 || !strings.EqualFold(words[0], "dmarc=pass") {
			continue
		}
		for _, w := range words[1:] {
			if name, value, _ := strings.Cut(w, "="); strings.EqualFold(name, "header.from") &&
				strings.EqualFold(strings.Trim(value, `"`), domain) {
				return true
			}
		}
	}
	return false
}

// words are the comment on a chain in Authentication-Results.
func (c *Chain) words() string {
	if c.Why != "" {
		return c.Why
	}
	var names []string
	for _, l := range c.Links {
		names = append(names, l.Domain)
	}
	return "sealed by " + strings.Join(names, ", ")
}

// PublicKey reads the key that a record publishes (RFC 6376 section 3.6.1, RFC 8463).
func PublicKey(record string) (crypto.PublicKey, error) {
	t, err := Tags(record)
	if err != nil {
		return nil, err
	}
	if v := t.Get("v"); v != "" && v != "DKIM1" {
		return nil, fmt.Errorf("v=%s is no key record", v)
	}
	text := strings.Join(strings.Fields(t.Get("p")), "")
	if text == "" {
		return nil, errors.New("it was taken back")
	}
	der, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, errors.New("the published key cannot be read")
	}
	switch t.Get("k") {
	case "", "rsa":
		any, err := x509.ParsePKIXPublicKey(der)
		key, ok := any.(*rsa.PublicKey)
		if err != nil {
			key, err = x509.ParsePKCS1PublicKey(der)
			ok = err == nil
		}
		if !ok {
			return nil, errors.New("the published key cannot be read")
		}
		if key.N.BitLen() < 1024 { // RFC 8301 section 3.2
			return nil, fmt.Errorf("RSA of %d bits is too short", key.N.BitLen())
		}
		return key, nil
	case "ed25519":
		if len(der) == ed25519.PublicKeySize {
			return ed25519.PublicKey(der), nil
		}
	}
	return nil, fmt.Errorf("keys of the kind %q are not read", t.Get("k"))
}
