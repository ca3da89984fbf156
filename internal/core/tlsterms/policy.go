package tlsterms

import (
	"fmt"
	"strconv"
	"strings"

	"gullroute/internal/core/address"
)

// The modes of a policy (RFC 8461 section 5).
const (
	ModeEnforce = "enforce"
	ModeTesting = "testing"
	ModeNone    = "none"
)

// Policy is what a domain says of mail to it (RFC 8461 section 3.2).
type Policy struct {
	ID     string   `json:"id" doc:"Of its record in DNS; a new one says that it changed"`
	Mode   string   `json:"mode" enum:"enforce,testing,none"`
	MX     []string `json:"mx" doc:"The hosts that may get mail; a star stands for one label"`
	MaxAge int64    `json:"max_age" doc:"Seconds for which it counts"`
}

// Bounds of policies.
const (
	MaxPolicy = 64 << 10 // octets
	maxAge    = 31557600 // seconds: a year
	maxHosts  = 100
	maxID     = 32
)

// ParsePolicy reads the text of a policy. Fields that are not known are passed over.
func ParsePolicy(text string) (Policy, error) {
	var p Policy
	seen := map[string]bool{}
	for i, line := range strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		if !ok {
			return p, fmt.Errorf("line %d is no field: write name: value", i+1)
		}
		if first := len(seen) == 0; first && (name != "version" || value != "STSv1") {
			return p, fmt.Errorf("it does not begin with version: STSv1")
		}
		if seen[name] && name != "mx" {
			continue // the first counts
		}
		seen[name] = true
		switch name {
		case "mode":
			if value != ModeEnforce && value != ModeTesting && value != ModeNone {
				return p, fmt.Errorf("mode %q is none of enforce, testing, none", value)
			}
			p.Mode = value
		case "max_age":
			n, err := strconv.ParseInt(value, 10, 64)
			if err != nil || n < 0 || n > maxAge {
				return p, fmt.Errorf("max_age %q is no number of seconds up to %d", value, maxAge)
			}
			p.MaxAge = n
		case "mx":
			host, err := address.ParseDomain(strings.TrimPrefix(value, "*."))
			if err != nil || len(p.MX) >= maxHosts {
				return p, fmt.Errorf(
					"mx %q is no host name, or there are more than %d",
					value,
					maxHosts,
				)
			}
			if strings.HasPrefix(value, "*.") {
				host = "*." + host
			}
			p.MX = append(p.MX, host)
		}
	}
	switch {
	case p.Mode == "":
		return p, fmt.Errorf("it has no mode")
	case !seen["max_age"]:
		return p, fmt.Errorf("it has no max_age")
	case p.Mode != ModeNone && len(p.MX) == 0:
		return p, fmt.Errorf("it names no mx")
	}
	return p, nil
}

// Fits reports whether a host is one of those that the policy names (RFC 8461 section 4.1): a
// star stands for one label.
func (p Policy) Fits(host string) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	for _, mx := range p.MX {
		if mx == host {
			return true
		}
		if suffix, ok := strings.CutPrefix(mx, "*."); ok {
			if _, rest, ok := strings.Cut(host, "."); ok && rest == suffix {
				return true
			}
		}
	}
	return false
}

// ParseRecord finds the id of a policy among the texts at _mta-sts of a domain (RFC 8461 section
// 3.1). There must be exactly one such record.
func ParseRecord(texts []string) (id string, err error) {
	for _, text := range texts {
		fields := strings.Split(text, ";")
		if strings.TrimSpace(fields[0]) != "v=STSv1" {
			continue
		}
		if id != "" {
			return "", fmt.Errorf("it says two")
		}
		for _, f := range fields[1:] {
			if name, value, _ := strings.Cut(strings.TrimSpace(f), "="); name == "id" {
				id = strings.TrimSpace(value)
			}
		}
		if id == "" || len(id) > maxID || strings.ContainsFunc(id, notInID) {
			return "", fmt.Errorf("its id is not 1 to %d letters and digits", maxID)
		}
	}
	return id, nil
}

func notInID(r rune) bool {
	return !(r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z')
}

// Text is a policy as it is served.
func (p Policy) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "version: STSv1\r\nmode: %s\r\n", p.Mode)
	for _, mx := range p.MX {
		fmt.Fprintf(&b, "mx: %s\r\n", mx)
	}
	fmt.Fprintf(&b, "max_age: %d\r\n", p.MaxAge)
	return b.String()
}
