package smtp

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"gullroute/internal/core/address"
	"gullroute/internal/core/inert"
)

// Command is a command line split into its verb, in upper case, and the rest.
type Command struct {
	Verb string
	Arg  string
}

// ParseCommand splits a command line.
func ParseCommand(line []byte) Command {
	verb, arg, _ := strings.Cut(string(line), " ")
	return Command{Verb: strings.ToUpper(verb), Arg: strings.TrimSpace(arg)}
}

// Body is what a client said of its content (RFC 6152).
type Body string

// The values of the BODY parameter.
const (
	Body7Bit Body = "7BIT"
	Body8Bit Body = "8BITMIME"
)

// Mail is a MAIL command.
type Mail struct {
	From  address.Address
	Size  int64 // declared octets, 0 if not (RFC 1870)
	Body  Body
	UTF8  bool   // RFC 6531
	Ret   string // "FULL", "HDRS" or "" (RFC 3461)
	EnvID string // decoded (RFC 3461)
	// When it is to leave (RFC 4865): so long after it came, or at that time; zero is at once.
	HoldFor   time.Duration
	HoldUntil time.Time
	// RequireTLS is REQUIRETLS (RFC 8689).
	RequireTLS bool
	// Priority is from -9 to 9 (RFC 6710); 0 if nothing was said.
	Priority int
	By       *By
}

// By is when a message is to have arrived (RFC 2852).
type By struct {
	Within time.Duration
	Return bool // or else it goes back; if not, its sender is told, and it goes on
}

// longestBy is the most that RFC 2852 can say, in seconds.
const longestBy = 999_999_999

// by reads BY=seconds;mode, where mode is N or R, with T for a trace.
func (m *Mail) by(value string) *Reply {
	text, mode, _ := strings.Cut(value, ";")
	seconds, err := strconv.ParseInt(text, 10, 64)
	mode = strings.ToUpper(mode)
	if err != nil || seconds > longestBy || seconds < -longestBy ||
		!slices.Contains([]string{"N", "NT", "R", "RT"}, mode) {
		return bad(501, "5.5.4", "BY must be seconds and N or R, like BY=3600;R (RFC 2852)")
	}
	if mode[0] == 'R' && seconds <= 0 {
		return bad(501, "5.5.4", "BY with R must leave some time (RFC 2852)")
	}
	m.By = &By{time.Duration(seconds) * time.Second, mode[0] == 'R'}
	return nil
}

// priority reads MT-PRIORITY.
func (m *Mail) priority(value string) *Reply {
	n, err := strconv.Atoi(value)
	if err != nil || len(value) > 2 || n < -9 || n > 9 || value[0] == '+' {
		return bad(501, "5.5.4", "MT-PRIORITY must be a number from -9 to 9 (RFC 6710)")
	}
	m.Priority = n
	return nil
}

// LongestHold is how far ahead a message may be handed in (RFC 4865).
const LongestHold = 30 * 24 * time.Hour

// Release is when a message leaves that comes now.
func (m *Mail) Release(now time.Time) time.Time {
	if m.HoldFor > 0 {
		return now.Add(m.HoldFor)
	}
	return m.HoldUntil
}

// hold reads HOLDFOR and HOLDUNTIL.
func (m *Mail) hold(key, value string) *Reply {
	if m.HoldFor > 0 || !m.HoldUntil.IsZero() {
		return bad(501, "5.5.4", "say HOLDFOR or HOLDUNTIL, not both (RFC 4865)")
	}
	if key == "HOLDUNTIL" {
		at, err := time.Parse(time.RFC3339, strings.ToUpper(value))
		if err != nil {
			return bad(
				501,
				"5.5.4",
				"HOLDUNTIL must be a time like 2026-12-01T07:00:00Z (RFC 4865)",
			)
		}
		m.HoldUntil = at
		return nil
	}
	seconds, err := strconv.ParseUint(value, 10, 32)
	if err != nil || len(value) > 9 || seconds == 0 {
		return bad(501, "5.5.4", "HOLDFOR must be a number of seconds (RFC 4865)")
	}
	m.HoldFor = time.Duration(seconds) * time.Second
	return nil
}

// Notify is the set of conditions under which a sender wants to be told (RFC
// 3461 section 4.1). The zero value means it was not given: tell of failure,
// and of delay as the server sees fit.
type Notify uint8

// The conditions.
const (
	NotifyNever Notify = 1 << iota
	NotifySuccess
	NotifyFailure
	NotifyDelay
)

// WantsFailure reports whether a failure is to be told.
func (n Notify) WantsFailure() bool { return n == 0 || n&NotifyFailure != 0 }

// WantsDelay reports whether a delay is to be told.
func (n Notify) WantsDelay() bool { return n == 0 || n&NotifyDelay != 0 }

// WantsSuccess reports whether the delivery is to be told.
func (n Notify) WantsSuccess() bool { return n&NotifySuccess != 0 }

// String is the parameter's value, "" if it was not given.
func (n Notify) String() string {
	var words []string
	for i, word := range notifyWords {
		if n&(1<<i) != 0 {
			words = append(words, word)
		}
	}
	return strings.Join(words, ",")
}

var notifyWords = []string{"NEVER", "SUCCESS", "FAILURE", "DELAY"}

// Rcpt is a RCPT command.
type Rcpt struct {
	To     address.Address // Domain is "" for a bare postmaster
	Notify Notify
	// OrigType and Orig are the original recipient of RFC 3461 section 4.2,
	// decoded.
	OrigType, Orig string
}

// ParseMail reads the argument of MAIL. A fault is the reply to give. A sender
// without a domain gets completeWith, if that is not empty.
func ParseMail(arg, completeWith string) (Mail, *Reply) {
	m := Mail{Body: Body7Bit}
	path, params, fault := splitPath(arg, "FROM:")
	if fault != nil {
		return m, fault
	}
	if path != "" {
		if completeWith != "" && !strings.Contains(path, "@") {
			path += "@" + completeWith
		}
		from, err := parsePath(path)
		if err != nil {
			return m, bad(501, "5.1.7", "sender address: %v", err)
		}
		m.From = from
	}
	seen := map[string]bool{}
	for _, param := range params {
		key, value, fault := splitParam(param, seen)
		if fault != nil {
			return m, fault
		}
		if fault := m.setParam(key, value); fault != nil {
			return m, fault
		}
	}
	if m.From.NeedsUTF8() && !m.UTF8 {
		return m, bad(550, "5.6.7",
			"the sender address is not ASCII; MAIL must say SMTPUTF8 (RFC 6531)")
	}
	return m, nil
}

func (m *Mail) setParam(key, value string) *Reply {
	switch key {
	case "SIZE":
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil || n < 0 {
			return bad(501, "5.5.4", "SIZE must be a number of octets")
		}
		m.Size = n
	case "BODY":
		m.Body = Body(strings.ToUpper(value))
		if m.Body != Body7Bit && m.Body != Body8Bit {
			return bad(501, "5.5.4", "BODY must be 7BIT or 8BITMIME")
		}
	case "SMTPUTF8":
		if value != "" {
			return bad(501, "5.5.4", "SMTPUTF8 takes no value")
		}
		m.UTF8 = true
	case "RET":
		m.Ret = strings.ToUpper(value)
		if m.Ret != "FULL" && m.Ret != "HDRS" {
			return bad(501, "5.5.4", "RET must be FULL or HDRS")
		}
	case "HOLDFOR", "HOLDUNTIL":
		return m.hold(key, value)
	case "REQUIRETLS":
		if value != "" {
			return bad(501, "5.5.4", "REQUIRETLS takes no value (RFC 8689)")
		}
		m.RequireTLS = true
	case "MT-PRIORITY":
		return m.priority(value)
	case "BY":
		return m.by(value)
	case "ENVID":
		id, err := DecodeXtext(value)
		if err != nil || id == "" || len(value) > 100 {
			return bad(501, "5.5.4", "ENVID must be xtext of 1 to 100 octets (RFC 3461)")
		}
		if !isText(id) {
			return bad(501, "5.5.4", "ENVID holds control characters or octets that are no UTF-8")
		}
		m.EnvID = id
	case "AUTH": // RFC 4954 section 5: who wrote it, as somebody else says; not believed
		who, err := DecodeXtext(value)
		if err != nil || who == "" || !isText(who) {
			return bad(501, "5.5.4", "AUTH must be <> or the xtext of an address (RFC 4954)")
		}
		if _, err := address.Parse(who); err != nil && who != "<>" {
			return bad(501, "5.5.4", "AUTH must be <> or the xtext of an address (RFC 4954)")
		}
	default:
		return bad(555, "5.5.4", "MAIL parameter %s is not known here", named(key))
	}
	return nil
}

// ParseRcpt reads the argument of RCPT. A fault is the reply to give.
func ParseRcpt(arg string, utf8 bool) (Rcpt, *Reply) {
	var r Rcpt
	path, params, fault := splitPath(arg, "TO:")
	if fault != nil {
		return r, fault
	}
	if path == "" {
		return r, bad(501, "5.1.3", "the recipient is empty")
	}
	if strings.EqualFold(path, "postmaster") {
		r.To = address.Address{Local: "postmaster"}
	} else {
		to, err := parsePath(path)
		if err != nil {
			return r, bad(501, "5.1.3", "recipient address: %v", err)
		}
		r.To = to
	}
	if r.To.NeedsUTF8() && !utf8 {
		return r, bad(553, "5.6.7",
			"the recipient address is not ASCII; MAIL must say SMTPUTF8 (RFC 6531)")
	}
	seen := map[string]bool{}
	for _, param := range params {
		key, value, fault := splitParam(param, seen)
		if fault != nil {
			return r, fault
		}
		if fault := r.setParam(key, value); fault != nil {
			return r, fault
		}
	}
	return r, nil
}

func (r *Rcpt) setParam(key, value string) *Reply {
	switch key {
	case "NOTIFY":
		n, ok := parseNotify(value)
		if !ok {
			return bad(501, "5.5.4", "NOTIFY must be NEVER or a list of SUCCESS, FAILURE, DELAY")
		}
		r.Notify = n
	case "ORCPT":
		kind, text, ok := strings.Cut(value, ";")
		orig, err := DecodeXtext(text)
		if !ok || kind == "" || orig == "" || err != nil || len(value) > 500 {
			return bad(501, "5.5.4", "ORCPT must be type;xtext (RFC 3461)")
		}
		if !isAtom(kind) || !isText(orig) {
			return bad(
				501,
				"5.5.4",
				"ORCPT holds control characters or octets that are no UTF-8, or its type is no "+
					"word",
			)
		}
		r.OrigType, r.Orig = strings.ToLower(kind), orig
	default:
		return bad(555, "5.5.4", "RCPT parameter %s is not known here", named(key))
	}
	return nil
}

// parameters are those that are registered. Only their names are said back to a client:
// what stands in the place of one may be a password.
var parameters = strings.Fields(
	"SIZE BODY SMTPUTF8 RET ENVID AUTH NOTIFY ORCPT BY HOLDFOR HOLDUNTIL MT-PRIORITY REQUIRETLS " +
		"CONPERM CONNEG TRANSID SUBMITTER SOLICIT MTRK RRVS",
)

func named(key string) string {
	if slices.Contains(parameters, key) {
		return key
	}
	return fmt.Sprintf("of %d octets", len(key))
}

// isText reports text that may be written into a field: valid UTF-8 without controls.
func isText(s string) bool {
	return utf8.ValidString(s) && !strings.ContainsFunc(s, inert.Acts)
}

// isAtom reports a word of RFC 5322's atoms.
func isAtom(s string) bool {
	return s != "" && !strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("!#$%&'*+-/=?^_`{|}~.", r))
	})
}

func parseNotify(value string) (Notify, bool) {
	var n Notify
	for _, word := range strings.Split(strings.ToUpper(value), ",") {
		bit := Notify(0)
		for i, known := range notifyWords {
			if word == known {
				bit = 1 << i
			}
		}
		if bit == 0 || n&bit != 0 {
			return 0, false
		}
		n |= bit
	}
	return n, n&NotifyNever == 0 || n == NotifyNever
}

// splitPath takes "FROM:<path> params" apart.
func splitPath(arg, lead string) (path string, params []string, fault *Reply) {
	if len(arg) < len(lead) || !strings.EqualFold(arg[:len(lead)], lead) {
		return "", nil, bad(501, "5.5.4", "expected %s<address>", lead)
	}
	// RFC 5321 allows no space after the colon; some clients send one.
	arg = strings.TrimLeft(arg[len(lead):], " ")
	if !strings.HasPrefix(arg, "<") {
		return "", nil, bad(501, "5.5.4", "the address must stand in angle brackets: %s<address>",
			lead)
	}
	end := closingBracket(arg)
	if end < 0 {
		return "", nil, bad(501, "5.5.4", "the address has no closing angle bracket")
	}
	if rest := arg[end+1:]; rest != "" && rest[0] != ' ' {
		return "", nil, bad(501, "5.5.4", "what follows the address is not a parameter")
	}
	return arg[1:end], strings.Fields(arg[end+1:]), nil
}

// closingBracket finds the ">" that is not inside a quoted string.
func closingBracket(s string) int {
	quoted := false
	for i := 0; i < len(s); i++ {
		switch {
		case quoted && s[i] == '\\':
			i++
		case s[i] == '"':
			quoted = !quoted
		case s[i] == '>' && !quoted:
			return i
		}
	}
	return -1
}

// parsePath reads a path; a source route is accepted and ignored (RFC 5321
// appendix C).
func parsePath(path string) (address.Address, error) {
	if strings.HasPrefix(path, "@") {
		if _, rest, ok := strings.Cut(path, ":"); ok {
			path = rest
		}
	}
	return address.Parse(path)
}

func splitParam(param string, seen map[string]bool) (key, value string, fault *Reply) {
	key, value, has := strings.Cut(param, "=")
	key = strings.ToUpper(key)
	if key == "" || has && value == "" {
		return "", "", bad(501, "5.5.4", "what follows the address is not a parameter")
	}
	if seen[key] {
		return "", "", bad(501, "5.5.4", "parameter %s is given twice", named(key))
	}
	seen[key] = true
	return key, value, nil
}

func bad(code int, enhanced, format string, args ...any) *Reply {
	r := NewReply(code, enhanced, format, args...)
	return &r
}

// DecodeXtext decodes RFC 3461 section 4 xtext.
func DecodeXtext(s string) (string, error) {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '+':
			if i+3 > len(s) {
				return "", fmt.Errorf("xtext %q ends within a code", s)
			}
			n, err := strconv.ParseUint(s[i+1:i+3], 16, 8)
			if err != nil || strings.ToUpper(s[i+1:i+3]) != s[i+1:i+3] {
				return "", fmt.Errorf("xtext %q has a bad code", s)
			}
			b.WriteByte(byte(n))
			i += 2
		case c <= ' ' || c == '=' || c == 0x7f:
			return "", fmt.Errorf("xtext %q has a bad character", s)
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), nil
}

// EncodeXtext encodes RFC 3461 section 4 xtext.
func EncodeXtext(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if c := s[i]; c > ' ' && c < 0x7f && c != '+' && c != '=' {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "+%02X", c)
		}
	}
	return b.String()
}
