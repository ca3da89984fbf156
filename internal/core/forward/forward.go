// Package forward decides how mail of others goes on that our mailboxes and aliases pass to
// addresses elsewhere: under which return path, and for whom it is sealed.
package forward

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
)

// Way is how a delivery is passed on; the zero Way is none of a forward.
type Way struct {
	Domain   string // of ours that passes it on: it seals
	Returned bool   // notices come back to a return path of this domain
}

// Of finds how a message goes to an address, reached by way of addresses of ours.
func Of(c *config.Compiled, sender, to address.Address, via []string) Way {
	if d := c.Domain(to.Domain); d != nil {
		if d.Kind == config.Relay {
			return Way{Domain: string(d.Name)}
		}
		return Way{}
	}
	for i := len(via) - 1; i >= 0; i-- {
		by, err := address.Parse(via[i])
		if err != nil {
			continue
		}
		d := c.Domain(by.Domain)
		if d == nil {
			continue
		}
		own := sender.IsNull() || c.Domain(sender.Domain) != nil
		return Way{Domain: by.Domain, Returned: !own && c.Service.Forwards.ReturnsToUs(d, by)}
	}
	return Way{}
}

// Words say it, "" where nothing is to be said.
func (w Way) Words(c *config.Compiled) string {
	var words []string
	if w.Returned {
		words = append(words, "the return path is one of "+address.DisplayDomain(w.Domain)+
			"; notices go back to the sender through it")
	}
	if w.Domain != "" && c.Service.Forwards.Seal != "off" {
		words = append(words, "sealed by the key of "+address.DisplayDomain(w.Domain)+
			" if it has one (ARC)")
	}
	return strings.Join(words, "; ")
}

// Good is how long notices come back through a return path: longer than a message is tried here
// and behind us.
const Good = 14 * 24 * time.Hour

// prefix begins the return paths of forwards.
const prefix = "back-"

var digits = base32.StdEncoding.WithPadding(base32.NoPadding)

// ReturnPath is the address of a domain of ours through which notices of a message go back to its
// sender. Only who has the key can make one, and it is good for a time.
func ReturnPath(key []byte, id ident.ID, domain string) address.Address {
	return address.Address{
		Local:  prefix + strings.ToLower(id.String()) + "-" + proof(key, id, domain),
		Domain: domain,
	}
}

func proof(key []byte, id ident.ID, domain string) string {
	sum := hmac.New(sha256.New, key)
	sum.Write([]byte(id.String() + "@" + strings.ToLower(domain)))
	return strings.ToLower(digits.EncodeToString(sum.Sum(nil)[:10]))
}

// Looks reports an address that looks like a return path.
func Looks(a address.Address) bool { return strings.HasPrefix(strings.ToLower(a.Local), prefix) }

// The faults of an address that has the form of a return path.
var (
	ErrOther  = errors.New("it is no return path")
	ErrForged = errors.New("it is not one that we made")
	ErrEnded  = errors.New("it was good for two weeks and has ended")
)

// Read finds the message of a return path. ErrOther says that the address is none.
func Read(key []byte, a address.Address, now time.Time) (ident.ID, error) {
	rest, ok := strings.CutPrefix(strings.ToLower(a.Local), prefix)
	number, signed, both := strings.Cut(rest, "-")
	id, err := ident.Parse(number)
	if !ok || !both || err != nil || len(key) == 0 {
		return 0, ErrOther
	}
	switch {
	case !hmac.Equal([]byte(signed), []byte(proof(key, id, a.Domain))):
		return 0, ErrForged
	case now.Sub(id.Time()) > Good:
		return 0, ErrEnded
	}
	return id, nil
}
