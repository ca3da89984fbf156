package rights

import (
	"slices"
	"strings"

	"gullroute/internal/core/address"
)

// Bounds are the domains of somebody who sees and does only what is about them, in A-label
// form; none is no bound.
type Bounds []string

// None reports that nothing is bounded.
func (b Bounds) None() bool { return len(b) == 0 }

// Has reports a domain within the bounds.
func (b Bounds) Has(domain string) bool {
	return len(b) == 0 || slices.Contains(b, strings.ToLower(domain))
}

// HasAddress reports an address at one of the domains.
func (b Bounds) HasAddress(text string) bool {
	if len(b) == 0 {
		return true
	}
	a, err := address.Parse(text)
	return err == nil && b.Has(a.Domain)
}

// HasPattern reports a pattern that selects nothing beyond the domains.
func (b Bounds) HasPattern(p address.Pattern) bool {
	if len(b) == 0 {
		return true
	}
	text := p.String()
	if at := strings.LastIndexByte(text, '@'); at >= 0 {
		text = text[at+1:]
	}
	d, err := address.ParseDomain(text) // neither "*" nor a list nor what lies below a domain
	return err == nil && b.Has(d)
}

// heeding are the operations that heed bounds: whoever has some may call no others. What is
// not here is about the whole server.
var heeding = []string{
	"me", "kept", "keep", "drop-kept", "password-change", "own-sessions", "own-session-end", "sign-out",
	"second-factor", "second-factor-begin", "second-factor-confirm", "second-factor-remove",
	"passkeys", "passkey-ask", "passkey-add", "passkey-remove",
	"trace", "trace-csv", "trace-jsonl", "messages", "message", "refusal", "content-view", "message-content",
	"queue", "queue-csv", "queue-jsonl", "act", "held-list", "held-csv", "held-jsonl", "held-release", "live",
	"mailboxes", "mailbox", "mailbox-add", "mailbox-change", "mailbox-remove", "mailbox-removal", "mailbox-export",
	"mailboxes-removed", "mailbox-give-back",
	"mailbox-folders", "mailbox-messages", "mailbox-view", "mailbox-content", "app-passwords", "app-password-add",
	"app-password-revoke", "aliases", "alias", "alias-add", "alias-change", "alias-remove", "alias-removal",
	"alias-export", "report", "report-messages",
}

// Heeds reports an operation that heeds bounds.
func Heeds(operation string) bool { return slices.Contains(heeding, operation) }
