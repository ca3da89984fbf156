package address

import (
	"errors"
	"fmt"
	"slices"
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
//     list:partners          the addresses of a list
type Pattern struct {
	text   string
	null   bool
	local  string // lower case; "" is any
	domain string // "" is any
	below  bool   // domain means the domains below it
	list   string // name of a list; then nothing of the above is given
	set    Set    // of that list, once it is bound
}

// Set is a set of addresses: it says which of its patterns selects one.
type Set interface {
	Match(a Address) (Pattern, bool)
}

// ListPrefix stands before the name of a list where a pattern may stand.
const ListPrefix = "list:"

// maxListName bounds the name of a list, in octets.
const maxListName = 80

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
	if name, ok := strings.CutPrefix(s, ListPrefix); ok {
		if p.list = strings.TrimSpace(name); p.list == "" || len(p.list) > maxListName {
			return p, fmt.Errorf("pattern %q: write the name of a list behind %q", s, ListPrefix)
		}
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

// MarshalText is String.
func (p Pattern) MarshalText() ([]byte, error) { return []byte(p.text), nil }

// UnmarshalText reads the form of String.
func (p *Pattern) UnmarshalText(text []byte) (err error) {
	*p, err = ParsePattern(string(text))
	return err
}

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
func (p Pattern) Any() bool {
	return !p.null && p.local == "" && p.domain == "" && p.list == ""
}

// List is the name of the list that p stands for, "" if it is a pattern of its own.
func (p Pattern) List() string { return p.list }

// Bind is p with the addresses of its list.
func (p Pattern) Bind(set Set) Pattern {
	p.set = set
	return p
}

// Null reports the pattern of the null sender.
func (p Pattern) Null() bool { return p.null }

// Local is the local part that p names, in lower case; "" is any.
func (p Pattern) Local() string { return p.local }

// Below reports that p means the domains below its domain.
func (p Pattern) Below() bool { return p.below }

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
	if p.list != "" {
		if p.set == nil {
			return false
		}
		_, ok := p.set.Match(a)
		return ok
	}
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
		if p.set != nil {
			if entry, ok := p.set.Match(a); ok {
				entry.text += " of list " + p.list
				return entry, true
			}
			continue
		}
		if p.Match(a) {
			return p, true
		}
	}
	return Pattern{}, false
}

// Bind is ps with each list's addresses; set finds them by name.
func (ps Patterns) Bind(set func(list string) Set) Patterns {
	if !slices.ContainsFunc(ps, func(p Pattern) bool { return p.list != "" }) {
		return ps
	}
	out := slices.Clone(ps)
	for i, p := range out {
		if p.list != "" {
			out[i] = p.Bind(set(p.list))
		}
	}
	return out
}
