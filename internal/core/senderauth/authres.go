package senderauth

import (
	"bytes"
	"fmt"
	"strings"

	"gullroute/internal/core/message"
)

// Field is the Authentication-Results field (RFC 8601) of a check, folded, with
// its CRLF. host is our name, by which those behind us know that it is ours.
func (c *Assessment) Field(host string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "Authentication-Results: %s", host)
	property := "smtp.mailfrom"
	if c.SPF.Scope == "helo" {
		property = "smtp.helo"
	}
	method(&b, "spf", c.SPF.Result, c.SPF.Why, property, c.SPF.Domain)
	for _, s := range c.DKIM {
		method(&b, "dkim", s.Result, s.Why, "header.d", s.Domain, "header.s", s.Selector,
			"header.a", s.Algorithm)
	}
	if len(c.DKIM) == 0 {
		b.WriteString(";\r\n\tdkim=none")
	}
	method(&b, "dmarc", c.DMARC.Result, policyOf(c.DMARC), "header.from", c.DMARC.Domain)
	if c.Chain != nil {
		method(&b, "arc", c.Chain.Result, c.Chain.words())
	}
	b.WriteString("\r\n")
	return b.String()
}

// Own is the Authentication-Results field that we wrote ourselves when a message came: its value,
// and what it says of the chain.
func Own(section []byte, host string) (value string, chain Result) {
	for len(section) > 0 {
		var field []byte
		field, section = message.CutField(section)
		if !claims(field, []string{host}) {
			continue
		}
		_, value, _ = strings.Cut(string(field), ":")
		value, chain = strings.Join(strings.Fields(value), " "), None
		for _, one := range strings.Split(withoutComments(value), ";") {
			if words := strings.Fields(one); len(words) > 0 {
				if name, result, _ := strings.Cut(words[0], "="); name == "arc" {
					chain = Result(result)
				}
			}
		}
		return value, chain
	}
	return "", None
}

func policyOf(d DMARC) string {
	if d.Policy == "" {
		return ""
	}
	return "p=" + d.Policy
}

func method(b *strings.Builder, name string, r Result, comment string, properties ...string) {
	fmt.Fprintf(b, ";\r\n\t%s=%s", name, r)
	if comment = clean(comment, " ,.:=/+-_"); comment != "" {
		fmt.Fprintf(b, " (%.120s)", comment)
	}
	for i := 0; i+1 < len(properties); i += 2 {
		if value := clean(properties[i+1], ".-_"); value != "" {
			fmt.Fprintf(b, " %s=%s", properties[i], value)
		}
	}
}

// clean leaves out what a stranger's text could break the field with.
func clean(s, allowed string) string {
	s = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune(allowed, r) {
			return r
		}
		return -1
	}, s)
	return s[:min(len(s), 255)]
}

// Strip takes out of a header section the Authentication-Results fields that claim
// to be of one of our names (RFC 8601 section 5): nobody before us can have written
// them. It reports how many there were.
func Strip(section []byte, names ...string) ([]byte, int) {
	if !bytes.Contains(bytes.ToLower(section), []byte("authentication-results")) {
		return section, 0
	}
	var out bytes.Buffer
	gone := 0
	for len(section) > 0 {
		var field []byte
		field, section = message.CutField(section)
		if claims(field, names) {
			gone++
			continue
		}
		out.Write(field)
	}
	return out.Bytes(), gone
}

// claims reports whether a field is an Authentication-Results field of one of the
// names, however its name is commented or folded.
func claims(field []byte, names []string) bool {
	name, value, ok := strings.Cut(string(field), ":")
	if !ok || !strings.EqualFold(strings.TrimSpace(name), "Authentication-Results") {
		return false
	}
	id := authserv(withoutComments(value))
	for _, own := range names {
		if strings.EqualFold(strings.TrimSuffix(id, "."), own) {
			return true
		}
	}
	return false
}

// authserv is the authserv-id at the head of a field's value without comments (RFC
// 8601 section 2.2): a token, or a quoted string in which a backslash quotes.
func authserv(value string) string {
	value = strings.TrimSpace(value)
	if !strings.HasPrefix(value, `"`) {
		value, _, _ = strings.Cut(value, ";")
		id, _, _ := strings.Cut(strings.TrimSpace(value), " ")
		return strings.NewReplacer(`\`, "", `"`, "").Replace(id)
	}
	var b strings.Builder
	for i := 1; i < len(value) && value[i] != '"'; i++ {
		if value[i] == '\\' && i+1 < len(value) {
			i++
		}
		b.WriteByte(value[i])
	}
	return strings.TrimSpace(b.String())
}

// withoutComments leaves out what stands in round brackets (RFC 5322 section
// 3.2.2) and unfolds.
func withoutComments(s string) string {
	var b strings.Builder
	depth, quoted := 0, false
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '\\' && depth > 0:
			i++
		case quoted && c == '\\' && i+1 < len(s):
			b.WriteString(s[i : i+2])
			i++
		case c == '"' && depth == 0:
			quoted = !quoted
			b.WriteByte(c)
		case quoted && c != '\r' && c != '\n':
			b.WriteByte(c)
		case c == '(':
			depth++
		case c == ')' && depth > 0:
			depth--
		case depth == 0 && (c == '\r' || c == '\n' || c == '\t'):
			b.WriteByte(' ')
		case depth == 0:
			b.WriteByte(c)
		}
	}
	return b.String()
}
