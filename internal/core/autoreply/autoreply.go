// Package autoreply decides whether a mailbox answers a message by itself, and
// writes the answer (RFC 3834).
package autoreply

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/message"
)

// InSeason reports whether a reply's days hold now.
func InSeason(r directory.Reply, now time.Time) bool {
	return (r.From.IsZero() || !now.Before(r.From.Time)) &&
		(r.Until.IsZero() || now.Before(r.Until.AddDate(0, 0, 1)))
}

// robots are local parts that nobody reads (RFC 3834 section 2).
var robots = []string{
	"mailer-daemon",
	"noreply",
	"no-reply",
	"donotreply",
	"do-not-reply",
	"bounce",
	"bounces",
	"postmaster",
	"listserv",
}

// isRobot reports a local part of machines: their names by themselves, those of lists
// around a list's name, and return addresses that carry a key behind a sign.
func isRobot(local string) bool {
	local = strings.ToLower(local)
	name, _, _ := strings.Cut(local, "+")
	name, _, _ = strings.Cut(name, "=")
	if slices.Contains(robots, name) || slices.Contains(robots, local) ||
		strings.HasPrefix(name, "owner-") ||
		strings.HasPrefix(name, "bounce") {
		return true
	}
	for _, end := range []string{"-request", "-owner", "-bounce", "-bounces", "-admin", "-confirm",
		"-errors", "-join", "-leave", "-subscribe", "-unsubscribe", "-return", "-noreply",
		"-no-reply"} {
		if strings.HasSuffix(name, end) {
			return true
		}
	}
	return strings.Contains(local, "-bounces+") || strings.Contains(local, "-bounces-") ||
		strings.Contains(local, "-return-")
}

// WhyNot says why a message gets no automatic reply, "" if it gets one: messages
// of machines and lists, and those that do not name the mailbox.
func WhyNot(section []byte, sender address.Address, box *directory.Mailbox) string {
	if isRobot(sender.Local) {
		return "the sender is a machine's address"
	}
	if box.May(sender) {
		return "the sender is the mailbox itself"
	}
	h := message.ParseHeader(section)
	if v := h.First("Auto-Submitted"); v != "" && !strings.EqualFold(strings.TrimSpace(v), "no") {
		return "it was made by a machine (Auto-Submitted: " + v + ")"
	}
	switch strings.ToLower(strings.TrimSpace(h.First("Precedence"))) {
	case "bulk", "junk", "list":
		return "it went to many (Precedence)"
	}
	for _, name := range []string{"List-Id", "List-Post", "List-Unsubscribe", "Feedback-ID"} {
		if h.First(name) != "" {
			return "it was sent by a list (" + name + ")"
		}
	}
	own := []string{box.Address.Key()}
	for _, list := range [][]address.Address{box.Addresses, box.Generated} {
		for _, a := range list {
			own = append(own, a.Key())
		}
	}
	named := strings.ToLower(
		h.First(
			"To",
		) + "," + h.First("Cc") + "," + h.First("Resent-To") + "," + h.First("Resent-Cc"),
	)
	if !slices.ContainsFunc(own, func(a string) bool {
		return strings.Contains(named, a) || strings.Contains(named,
			display(a))
	}) {
		return "the mailbox is named neither in To nor in Cc"
	}
	return ""
}

func display(key string) string {
	at := strings.LastIndexByte(key, '@')
	return key[:at+1] + address.DisplayDomain(key[at+1:])
}

// Answer is an automatic reply to write.
type Answer struct {
	ID       string
	HostName string
	From     address.Address
	Name     string
	To       address.Address
	Text     string
	Original []byte // its header section
	Now      time.Time
}

// Compose writes the reply, with CRLF line ends.
func Compose(a Answer) []byte {
	h := message.ParseHeader(a.Original)
	var b bytes.Buffer
	from := "<" + a.From.String() + ">"
	if a.Name != "" {
		from = message.EncodeText(a.Name) + " " + from
	}
	subject := message.Decode(h.First("Subject"))
	if subject == "" {
		subject = "your message"
	}
	fmt.Fprintf(&b, "From: %s\r\nTo: <%s>\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: <%s@%s>\r\n",
		from, a.To, message.EncodeText("Auto: "+subject), a.Now.Format(message.DateFormat), a.ID,
		a.HostName)
	if id := oneID(h.First("Message-ID")); id != "" {
		fmt.Fprintf(&b, "In-Reply-To: %s\r\nReferences: %s\r\n", id,
			strings.Join(append(references(h), id), "\r\n\t"))
	}
	b.WriteString(
		"Auto-Submitted: auto-replied\r\nPrecedence: junk\r\nMIME-Version: 1.0\r\nContent-Type: " +
			"text/plain; charset=utf-8\r\nContent-Transfer-Encoding: ",
	)
	text := strings.ReplaceAll(strings.ReplaceAll(strings.TrimSpace(a.Text), "\r\n", "\n"), "\r",
		"\n")
	if strings.ContainsFunc(text, func(r rune) bool { return r >= 0x80 }) {
		b.WriteString("8bit\r\n\r\n")
	} else {
		b.WriteString("7bit\r\n\r\n")
	}
	b.WriteString(strings.ReplaceAll(text, "\n", "\r\n") + "\r\n")
	return b.Bytes()
}

// maxReferences bounds how many are carried on: the first, which began it, and the
// last ones.
const maxReferences = 20

// references are those that the answer carries on (RFC 3834 section 3.1.5, RFC 5322
// section 3.6.4).
func references(h message.Header) []string {
	value := h.First("References")
	if value == "" {
		value = h.First("In-Reply-To")
	}
	var ids []string
	for _, word := range strings.Fields(value) {
		if id := oneID(word); id != "" && !slices.Contains(ids, id) &&
			id != oneID(h.First("Message-ID")) {
			ids = append(ids, id)
		}
	}
	if n := len(ids); n > maxReferences {
		ids = append(ids[:1], ids[n-maxReferences+1:]...)
	}
	return ids
}

// oneID is a Message-ID if it is a plain one.
func oneID(v string) string {
	v = strings.TrimSpace(v)
	if len(v) > 250 || !strings.HasPrefix(v, "<") || !strings.HasSuffix(v, ">") ||
		strings.ContainsFunc(v, func(r rune) bool { return r <= ' ' || r >= 0x7f }) {
		return ""
	}
	return v
}
