package address

import (
	"errors"
	"fmt"
	"strings"
)

// Pattern selects addresses. Its forms are:
//
//   - every address
//     skerryline.example     every address of the domain
//     *.skerryline.example   every address of any domain below it
//     keeper@skerryline.example
//     keeper@*               that local part at any domain
//     <>                     the null sender
type Pattern struct {
	text   string
	null   bool
	local  string // lower case; "" is any
	domain string // "" is any
	below  bool   // domain means the domains below it
}

// ParsePattern reads one pattern.
func ParsePattern(s string) (Pattern, error) {
	p := Pattern{text: s}
	switch s {
	case "":
		return p, errors.New("the pattern is empty")
	case "*":
		return p, nil
	case "<>":
		p.null = true
		return p, nil
	}
	rest := s
	if at := strings.LastIndexByte(s, '@'); at >= 0 {
		local, tail, err := takeLocal(s[:at] + "@")
		if err != nil || tail != "@" {
			return p, fmt.Errorf("pattern %q: what stands before \"@\" is not a local part", s)
		}
		p.local, rest = strings.ToLower(local), s[at+1:]
		if rest == "*" {
			return p, nil
		}
	}
	if strings.HasPrefix(rest, "*.") && p.local == "" {
		p.below, rest = true, rest[2:]
	}
	domain, err := ParseDomain(rest)
	if err != nil {
		return p, fmt.Errorf("pattern %q: %w; write \"*\", a domain, \"*.domain\" or an address", s,
			err)
	}
	p.domain = domain
	return p, nil
}

// String is the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Never says why p can match no address that there is, with the right form; nil if it
// can. An asterisk stands for a whole domain or a whole name, never for a part of one.
func (p Pattern) Never() error {
	if !strings.Contains(p.local, "*") {
		return nil
	}
	domain := p.text[strings.LastIndexByte(p.text, '@')+1:]
	if p.local == "*" {
		return fmt.Errorf("pattern %q matches nothing: write %q for every address there", p.text,
			domain)
	}
	return fmt.Errorf(
		"pattern %q matches nothing: \"*\" stands for no part of a name; write the whole address, "+
			"or %q for every address there",
		p.text,
		domain,
	)
}

// Any reports whether p selects every address.
func (p Pattern) Any() bool { return !p.null && p.local == "" && p.domain == "" }

// Exact reports whether p names one domain, or an address at one, and not many
// by an asterisk.
func (p Pattern) Exact() bool { return p.domain != "" && !p.below }

// Domain is the domain that p names, or whose subdomains it selects; "" if it
// names none.
func (p Pattern) Domain() string {
	if p.null {
		return ""
	}
	return p.domain
}

// Match reports whether p selects a.
func (p Pattern) Match(a Address) bool {
	if p.null || a.IsNull() {
		return p.null == a.IsNull() || p.Any()
	}
	if p.local != "" && p.local != strings.ToLower(a.Local) {
		return false
	}
	switch {
	case p.domain == "":
		return true
	case p.below:
		return strings.HasSuffix(a.Domain, "."+p.domain)
	}
	return p.domain == a.Domain
}

// Patterns is a list of which any one may match; the empty list selects all.
type Patterns []Pattern

// Match reports whether one of ps selects a, and which.
func (ps Patterns) Match(a Address) (Pattern, bool) {
	if len(ps) == 0 {
		return Pattern{text: "*"}, true
	}
	for _, p := range ps {
		if p.Match(a) {
			return p, true
		}
	}
	return Pattern{}, false
}
