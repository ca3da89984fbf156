// Package rights says who may do what. Each operation of the service belongs to an area, each
// role has areas; there is no other place in which that is decided.
package rights

import (
	"slices"
	"strings"

	"gullroute/internal/core/mail"
)

// Area is a kind of operations.
type Area string

// The areas.
const (
	Open     Area = "open"     // nobody needs to be signed in
	Mailbox  Area = "mailbox"  // the page of one's own mailbox: for its owner, not for operators
	Own      Area = "own"      // one's own password, sessions and views
	Look     Area = "look"     // queue, history, settings, reports
	Content  Area = "content"  // what stands in people's messages
	Work     Area = "work"     // queue, held messages, snags, pauses, tests
	Settings Area = "settings" // configuration, mailboxes, keys, secrets
	Records  Area = "records"  // whole logs and bundles, archives
	Audit    Area = "audit"    // who did what
	People   Area = "people"   // operators and tokens
)

// About says what an area is.
var About = []struct {
	Area Area
	Is   string
}{
	{Own, "one's own password, sessions and kept views"},
	{Look, "look at queue, held messages, history, sessions, settings and reports"},
	{Content, "read what stands in people's messages"},
	{Work, "act on the queue, held messages, snags, pauses; probe and send tests"},
	{Settings, "change configuration, mailboxes, aliases, keys and secrets"},
	{Records, "take whole logs and bundles out, open archives"},
	{Audit, "read who did what"},
	{People, "add, change and remove operators and tokens"},
}

var areas = map[mail.Role][]Area{
	mail.Administrator: {Own, Look, Content, Work, Settings, Records, Audit, People},
	mail.Operator:      {Own, Look, Content, Work},
	mail.Auditor:       {Own, Look, Content, Records, Audit},
	mail.Viewer:        {Own, Look},
}

// Roles are all of them, those that may most first.
var Roles = []mail.Role{mail.Administrator, mail.Operator, mail.Auditor, mail.Viewer}

// Known reports one of the roles.
func Known(r mail.Role) bool { return slices.Contains(Roles, r) }

// May reports whether a role has an area.
func May(r mail.Role, a Area) bool { return a == Open || slices.Contains(areas[r], a) }

// Areas are those that a role has.
func Areas(r mail.Role) []Area { return slices.Clone(areas[r]) }

// Who are the roles that have an area, in words.
func Who(a Area) string {
	var names []string
	for _, r := range Roles {
		if May(r, a) {
			names = append(names, string(r))
		}
	}
	return strings.Join(names, " or ")
}

// operations are those that do more than look. What is not here and no GET is nobody's.
var operations = map[Area][]string{
	Open: {"sign-in", "sign-out", "first-operator", "own-sign-in", "sign-in-ways",
		"sign-in-passkey-ask", "sign-in-passkey", "single-sign-on-program"},
	Mailbox: {
		"own-mailbox",
		"own-mailbox-change",
		"own-password",
		"own-sign-out",
		"own-app-password-add",
		"own-app-password-revoke",
	},
	Own: {
		"me",
		"keep",
		"drop-kept",
		"password-change",
		"own-sessions",
		"own-session-end",
		"second-factor",
		"second-factor-begin",
		"second-factor-confirm",
		"second-factor-remove",
		"passkeys", "passkey-ask", "passkey-add", "passkey-remove",
	},
	Look:    {"explain", "list-ask", "config-check", "draft-rehearse"},
	Content: {"content-view", "message-content", "mailbox-content", "mailbox-view"},
	Work: {
		"act", "undo", "held-release", "pause", "resume", "node-restart", "change-snag", "fix-snag", "probe",
		"probe-live", "send", "readiness-check", "publish-plan", "feedback-name", "tls-policy-check", "watch",
		"reputation-except", "reputation-forget",
	},
	Settings: {
		"alias-add", "alias-change", "alias-import", "alias-remove", "mailbox-add", "mailbox-change",
		"mailbox-import", "mailbox-remove", "mailbox-give-back", "app-password-add",
		"app-password-revoke", "config-import", "config-export-secrets", "dkim-make",
		"dkim-remove", "dkim-check", "dkim-retire", "dkim-use", "publish", "dns-change-take-back",
		"certificate-renew", "certificate-upload", "certificate-activate", "draft-apply",
		"draft-discard",
		"draft-rebase", "draft-take-back", "gate-proposal-add", "revision-confirm", "revision-revert",
		"review-accept", "review-fix", "review-reopen", "secret-remove", "secret-set", "set-log-level",
		"setup-add", "setup-change", "setup-move", "setup-remove", "setup-set",
	},
	Records: {"bundle", "log-export", "archive-open", "archive-close", "archived-day-open"},
	Audit:   {"audit", "audit-verify", "audit-csv", "audit-jsonl"},
	People: {
		"operators", "operator", "operator-add", "operator-change", "operator-remove",
		"operator-sessions", "operator-session-end", "tokens", "token-add", "token-revoke",
	},
}

var areaOf = func() map[string]Area {
	out := map[string]Area{}
	for a, list := range operations {
		for _, op := range list {
			out[op] = a
		}
	}
	return out
}()

// Of is the area of an operation; "" is one that nobody may call. gets says that it only reads.
func Of(operation string, gets bool) Area {
	if a, ok := areaOf[operation]; ok {
		return a
	}
	if gets {
		return Look
	}
	return ""
}

// Recorded reports an operation that is put on record, with who asked for it: whatever changes
// something, and whatever takes out what stands in messages or a whole list.
func Recorded(operation string, gets bool) bool {
	if strings.HasSuffix(operation, "-csv") || strings.HasSuffix(operation, "-jsonl") ||
		strings.HasSuffix(operation, "-export") {
		return true
	}
	switch areaOf[operation] {
	case Content, Work, Settings, Records:
		return true
	case People, Mailbox:
		return !gets
	case Own:
		return !gets && operation != "keep" && operation != "drop-kept"
	}
	return false
}

// Named are the operations that have an area of their own.
func Named() []string {
	var out []string
	for op := range areaOf {
		out = append(out, op)
	}
	slices.Sort(out)
	return out
}
