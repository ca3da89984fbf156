package smtp

import (
	"fmt"
	"slices"
	"strings"

	"gullroute/internal/core/address"
)

// mechanisms are the names of SASL mechanisms that may be written down.
var mechanisms = []string{
	"ANONYMOUS",
	"CRAM-MD5",
	"DIGEST-MD5",
	"EXTERNAL",
	"GSSAPI",
	"KERBEROS_V4",
	"LOGIN",
	"NTLM",
	"OAUTHBEARER",
	"PLAIN",
	"SCRAM-SHA-1",
	"SCRAM-SHA-1-PLUS",
	"SCRAM-SHA-256",
	"SCRAM-SHA-256-PLUS",
	"SCRAM-SHA-512",
	"SCRAM-SHA-512-PLUS",
	"XOAUTH2",
}

// Shape is a client's line as it may be put on record: a command that is known, in the
// form in which it was understood. What was not understood may be anything, a password
// too (a misspelt AUTH, credentials that nobody asked for), so of that only the length
// is told; ok is false if nothing of the line was understood.
func Shape(c Command, size int) (shape string, ok bool) {
	left := func(verb string) string {
		return fmt.Sprintf("%s (%d octets left out)", verb,
			len(c.Arg))
	}
	switch c.Verb {
	case "EHLO", "HELO", "LHLO":
		if CheckHello(c.Arg) == nil {
			return c.Verb + " " + c.Arg, true
		}
	case "MAIL":
		return pathShape("MAIL FROM:", "FROM:", c)
	case "RCPT":
		return pathShape("RCPT TO:", "TO:", c)
	case "AUTH":
		mechanism, rest, _ := strings.Cut(c.Arg, " ")
		if mechanism = strings.ToUpper(mechanism); !slices.Contains(mechanisms, mechanism) {
			break
		}
		if rest == "" {
			return "AUTH " + mechanism, true
		}
		return "AUTH " + mechanism + " (credentials left out)", true
	case "STARTTLS", "DATA", "RSET", "NOOP", "VRFY", "EXPN", "HELP", "QUIT", "BDAT", "ETRN", "TURN":
	default:
		return fmt.Sprintf("a line of %d octets, left out here: it is no command", size), false
	}
	if c.Arg == "" {
		return c.Verb, true
	}
	return left(c.Verb), true
}

// pathShape is MAIL or RCPT with its address and those parameters that are known.
func pathShape(head, lead string, c Command) (string, bool) {
	path, params, fault := splitPath(c.Arg, lead)
	_, bad := parsePath(path)
	if fault != nil ||
		bad != nil && path != "" && !strings.EqualFold(path, "postmaster") &&
			address.CheckLocal(path) != nil {
		return fmt.Sprintf("%s (%d octets left out)", strings.TrimSuffix(head, ":"),
			len(c.Arg)), true
	}
	var b strings.Builder
	b.WriteString(head + "<" + path + ">")
	left := 0
	for _, p := range params {
		key, _, _ := strings.Cut(p, "=")
		key = strings.ToUpper(key)
		known := false
		switch key {
		case "AUTH":
			b.WriteString(" AUTH=(left out)")
			continue
		case "SIZE", "BODY", "SMTPUTF8", "RET", "ENVID", "REQUIRETLS", "MT-PRIORITY", "BY":
			known = lead == "FROM:" && new(Mail).setParam(key, p[min(len(key)+1, len(p)):]) == nil
		case "NOTIFY", "ORCPT":
			known = lead == "TO:" && new(Rcpt).setParam(key, p[min(len(key)+1, len(p)):]) == nil
		}
		if known {
			b.WriteString(" " + p)
		} else {
			left += len(p)
		}
	}
	if left > 0 {
		fmt.Fprintf(&b, " (%d octets left out)", left)
	}
	return b.String(), true
}

// CheckHello checks the name that a client gives itself with EHLO (RFC 5321 section
// 4.1.1.1): one word, and where it begins like an address literal, a whole one. Names
// that are no domains are taken: many a program has none.
func CheckHello(name string) *Reply {
	switch {
	case name == "":
		return bad(501, "5.5.4", "say who you are: EHLO your.host.name")
	case strings.ContainsAny(name, " \t"):
		return bad(501, "5.5.4", "say one name behind EHLO")
	case strings.ContainsFunc(name, func(r rune) bool {
		return r < ' ' || r == 0x7f ||
			r == '\uFFFD'
	}):
		return bad(501, "5.5.4", "the name behind EHLO holds control characters")
	case len(name) > address.MaxDomain:
		return bad(501, "5.5.4", "the name behind EHLO is longer than %d octets", address.MaxDomain)
	case address.IsLiteral(name):
		if _, err := address.ParseDomain(name); err != nil {
			return bad(501, "5.5.4", "%v", err)
		}
	}
	return nil
}
