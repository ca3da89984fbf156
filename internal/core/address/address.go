// Package address reads and writes the addresses and domains of mail: the
// mailbox grammar of RFC 5321 section 4.1.2 with the UTF-8 local parts of
// RFC 6531, internationalised domains (RFC 5890 to 5893) and the patterns by
// which a configuration selects addresses.
package address

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/idna"
)

// Limits of RFC 5321 section 4.5.3.1, in octets.
const (
	MaxLocal  = 64
	MaxDomain = 255
	MaxPath   = 256
)

// Address is one mailbox. The zero value is the null reverse path "<>".
type Address struct {
	// Local is the part before the "@", as given, without the quotes of a
	// quoted string.
	Local string
	// Domain is in lower case and in A-label form, or an address literal with
	// its brackets. It is empty for the null path and for a bare "postmaster".
	Domain string
}

// IsNull reports whether a is the null reverse path.
func (a Address) IsNull() bool { return a.Local == "" && a.Domain == "" }

// NeedsUTF8 reports whether a can only be sent to a host that offers SMTPUTF8
// (RFC 6531). The domain never needs it: it is sent as A-labels.
func (a Address) NeedsUTF8() bool { return !isASCII(a.Local) }

// String is the form for the wire, without angle brackets: quoted where RFC
// 5321 asks for it, the domain as A-labels. The null path is "".
func (a Address) String() string {
	if a.Domain == "" {
		return quoteLocal(a.Local)
	}
	return quoteLocal(a.Local) + "@" + a.Domain
}

// Display is the form for people: the domain as U-labels.
func (a Address) Display() string {
	if a.Domain == "" {
		return a.String()
	}
	return quoteLocal(a.Local) + "@" + DisplayDomain(a.Domain)
}

// Key is the form under which an address is looked up: local parts of our own
// domains are compared without regard to case.
func (a Address) Key() string { return strings.ToLower(a.Local) + "@" + a.Domain }

// Parse reads "local@domain" without angle brackets.
func Parse(s string) (Address, error) {
	if s == "" {
		return Address{}, errors.New("the address is empty")
	}
	if len(s) > MaxPath {
		return Address{}, fmt.Errorf("the address is %d octets long; %d are allowed", len(s),
			MaxPath)
	}
	if !utf8.ValidString(s) {
		return Address{}, errors.New("the address is not valid UTF-8")
	}
	local, rest, err := takeLocal(s)
	if err != nil {
		return Address{}, err
	}
	if !strings.HasPrefix(rest, "@") {
		return Address{}, fmt.Errorf("%q has no \"@\" and domain", s)
	}
	domain, err := ParseDomain(rest[1:])
	if err != nil {
		return Address{}, err
	}
	return Address{Local: local, Domain: domain}, nil
}

// takeLocal reads the local part at the head of s and returns what follows it.
func takeLocal(s string) (local, rest string, err error) {
	if strings.HasPrefix(s, `"`) {
		local, rest, err = takeQuoted(s)
	} else {
		end := strings.LastIndexByte(s, '@')
		if end < 0 {
			end = len(s)
		}
		local, rest = s[:end], s[end:]
		err = checkDotString(local)
	}
	if err == nil && len(local) > MaxLocal {
		err = fmt.Errorf("the part before \"@\" is %d octets long; %d are allowed", len(local),
			MaxLocal)
	}
	return local, rest, err
}

// CheckLocal checks a local part that stands without quotes.
func CheckLocal(local string) error { return checkDotString(local) }

func takeQuoted(s string) (local, rest string, err error) {
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch c := s[i]; {
		case c == '"' && b.Len() == 0:
			return "", "", errors.New("there is nothing before \"@\"")
		case c == '"':
			return b.String(), s[i+1:], nil
		case c == '\\' && i+1 < len(s) && s[i+1] >= ' ' && s[i+1] < 0x7f:
			i++
			b.WriteByte(s[i])
		case c == '\\' || c < ' ' || c == 0x7f:
			return "", "", fmt.Errorf("character %#02x is not allowed in a quoted local part", c)
		default:
			b.WriteByte(c)
		}
	}
	return "", "", errors.New("the quoted local part has no closing quote")
}

func checkDotString(local string) error {
	if local == "" {
		return errors.New("there is nothing before \"@\"")
	}
	for _, atom := range strings.Split(local, ".") {
		if atom == "" {
			return fmt.Errorf("%q has an empty part between dots", local)
		}
		for _, r := range atom {
			if !isAtext(r) {
				return fmt.Errorf("character %q is not allowed before \"@\" outside quotes", r)
			}
		}
	}
	return nil
}

func isAtext(r rune) bool {
	switch {
	case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9':
		return true
	case r >= 0x80:
		return r != utf8.RuneError && r >= 0xa0
	}
	return strings.ContainsRune("!#$%&'*+-/=?^_`{|}~", r)
}

func quoteLocal(local string) string {
	if local == "" || checkDotString(local) == nil {
		return local
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(local) + `"`
}

func isASCII(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

var profile = idna.New(idna.MapForLookup(), idna.BidiRule(), idna.Transitional(false),
	idna.StrictDomainName(true))

// ParseDomain reads a domain in A-label or U-label form, or an address literal
// (RFC 5321 section 4.1.3), and returns it as it is stored: lower case A-labels.
func ParseDomain(s string) (string, error) {
	if s == "" {
		return "", errors.New("the domain is empty")
	}
	if s[0] == '[' {
		return parseLiteral(s)
	}
	if strings.HasSuffix(s, ".") {
		return "", fmt.Errorf("domain %q ends in a dot", s)
	}
	d := strings.ToLower(s)
	if !isASCII(s) || strings.Contains(d, "xn--") {
		var err error
		if d, err = profile.ToASCII(s); err != nil {
			return "", fmt.Errorf("%q is not a valid internationalised domain", s)
		}
	}
	if len(d) > MaxDomain {
		return "", fmt.Errorf("the domain is %d octets long; %d are allowed", len(d), MaxDomain)
	}
	for _, label := range strings.Split(d, ".") {
		if err := checkLabel(label); err != nil {
			return "", fmt.Errorf("domain %q: %w", s, err)
		}
	}
	return d, nil
}

func checkLabel(label string) error {
	if label == "" {
		return errors.New("a label between dots is empty")
	}
	if len(label) > 63 {
		return fmt.Errorf("label %q is longer than 63 octets", label)
	}
	if label[0] == '-' || label[len(label)-1] == '-' {
		return fmt.Errorf("label %q begins or ends with a hyphen", label)
	}
	for i := 0; i < len(label); i++ {
		c := label[i]
		if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '_') {
			return fmt.Errorf("character %q is not allowed in a domain", c)
		}
	}
	return nil
}

func parseLiteral(s string) (string, error) {
	if !strings.HasSuffix(s, "]") {
		return "", fmt.Errorf("address literal %q has no closing bracket", s)
	}
	text := s[1 : len(s)-1]
	v6 := len(text) > 5 && strings.EqualFold(text[:5], "IPv6:")
	if v6 {
		text = text[5:]
	}
	ip, err := netip.ParseAddr(text)
	if err != nil || ip.Zone() != "" || v6 != ip.Is6() {
		return "", fmt.Errorf(
			"%q is not an address literal; write [192.0.2.1] or [IPv6:2001:db8::1]",
			s,
		)
	}
	if v6 {
		return "[IPv6:" + ip.String() + "]", nil
	}
	return "[" + ip.String() + "]", nil
}

// IsLiteral reports whether domain is an address literal.
func IsLiteral(domain string) bool { return strings.HasPrefix(domain, "[") }

// LiteralAddr is the address an address literal names.
func LiteralAddr(domain string) (netip.Addr, error) {
	text := strings.TrimSuffix(strings.TrimPrefix(domain, "["), "]")
	return netip.ParseAddr(strings.TrimPrefix(text, "IPv6:"))
}

// DisplayDomain is a stored domain in the form for people, with U-labels.
func DisplayDomain(domain string) string {
	if !strings.Contains(domain, "xn--") {
		return domain
	}
	if u, err := idna.Display.ToUnicode(domain); err == nil {
		return u
	}
	return domain
}
