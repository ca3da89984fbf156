// Package dsn writes and reads delivery status notifications (RFC 3461, 3464,
// 6522, and 6533 for addresses outside ASCII).
package dsn

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"mime/quotedprintable"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/message"
	"gullroute/internal/core/smtp"
)

// Action is what happened to a recipient (RFC 3464 section 2.3.3).
type Action string

// The actions.
const (
	Failed    Action = "failed"
	Delayed   Action = "delayed"
	Delivered Action = "delivered"
	Relayed   Action = "relayed"
	Expanded  Action = "expanded"
)

// Recipient is one recipient a notification tells of.
type Recipient struct {
	Action         Action
	Final          address.Address
	OrigType, Orig string // ORCPT, or ""
	Cause          diagnose.Cause
	Status         string // enhanced code
	RemoteHost     string // "" if no host said it
	Reply          smtp.Reply
	LastAttempt    time.Time
	// RetryUntil is when a delayed message expires.
	RetryUntil time.Time
	Expired    bool // expired after retries, and not refused for good
	// Words replace what we would say of the cause: a person's.
	Words string
	// Unsure says that the cause is read from the reply and not beyond doubt.
	Unsure bool
}

// Notice is what a notification says.
type Notice struct {
	ID         string // of the notification
	HostName   string
	Postmaster address.Address
	To         address.Address // the original sender
	EnvID      string
	Arrived    time.Time
	Now        time.Time
	Subject    string // of the original, decoded
	Recipients []Recipient
	// Header is the original's header section. Content is the whole original
	// if it is to be returned in full, else nil.
	Header, Content []byte
	// Language is that of the part for people: English unless it is German ("de").
	Language string
	// CopyOf is set in the postmaster's copy: to whom the notice itself went.
	CopyOf address.Address
	// Uncopied is how many notices before this one were not copied.
	Uncopied int
}

// NeedsUTF8 reports whether the notification can only be sent with SMTPUTF8:
// when its own recipient's address is outside ASCII. To all others it goes in
// ASCII, whatever it tells of, so that any server takes it.
func (n Notice) NeedsUTF8() bool { return n.To.NeedsUTF8() }

// Worst is the action that a reader must know of first.
func (n Notice) Worst() Action {
	order := []Action{Failed, Delayed, Expanded, Relayed, Delivered}
	for _, a := range order {
		for _, r := range n.Recipients {
			if r.Action == a {
				return a
			}
		}
	}
	return Failed
}

// Compose writes the notification.
func Compose(n Notice) []byte {
	var b bytes.Buffer
	boundary := "=_" + n.ID
	head := n.texts().headlines[n.Worst()]
	subject := head.subject + n.Subject
	if n.Subject == "" {
		subject = head.without
	}
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\r\n", args...) }
	line("From: Mail Delivery <%s>", n.from())
	line("To: <%s>", n.To)
	line("Subject: %s", message.EncodeText(subject))
	line("Date: %s", n.Now.Format(message.DateFormat))
	line("Message-ID: <%s@%s>", n.ID, n.HostName)
	line("Auto-Submitted: auto-replied")
	line("MIME-Version: 1.0")
	line("Content-Type: multipart/report; report-type=delivery-status;\r\n\tboundary=\"%s\"",
		boundary)
	line("")
	line("--%s", boundary)
	line("Content-Type: text/plain; charset=utf-8\r\nContent-Language: %s", n.texts().language)
	n.writeBody(&b, []byte(n.words()), false)
	line("")
	line("--%s", boundary)
	n.writeStatus(&b)
	line("")
	line("--%s", boundary)
	n.writeOriginal(&b)
	line("")
	line("--%s--", boundary)
	return b.Bytes()
}

// from is the postmaster, under an address that fits the notice.
func (n Notice) from() string {
	if n.Postmaster.NeedsUTF8() && !n.NeedsUTF8() {
		return "postmaster@" + n.HostName
	}
	return n.Postmaster.String()
}

// writeBody writes the encoding's field and a body: as it is in ASCII or where
// the notice is in UTF-8, else encoded.
func (n Notice) writeBody(b *bytes.Buffer, body []byte, base64ed bool) {
	switch {
	case message.IsASCII(body):
		b.WriteString("Content-Transfer-Encoding: 7bit\r\n\r\n")
		b.Write(body)
	case n.NeedsUTF8():
		b.WriteString("Content-Transfer-Encoding: 8bit\r\n\r\n")
		b.Write(body)
	case base64ed:
		b.WriteString("Content-Transfer-Encoding: base64\r\n\r\n")
		text := base64.StdEncoding.EncodeToString(body)
		for ; len(text) > 76; text = text[76:] {
			b.WriteString(text[:76] + "\r\n")
		}
		b.WriteString(text + "\r\n")
	default:
		b.WriteString("Content-Transfer-Encoding: quoted-printable\r\n\r\n")
		w := quotedprintable.NewWriter(b)
		_, _ = w.Write(body)
		_ = w.Close()
	}
}

// writeStatus writes the part for programs (RFC 3464 section 2, RFC 6533 section
// 3). In an ASCII notice an address outside ASCII is written in the coded form.
func (n Notice) writeStatus(b *bytes.Buffer) {
	var s bytes.Buffer
	line := func(format string, args ...any) { fmt.Fprintf(&s, format+"\r\n", args...) }
	line("Reporting-MTA: dns; %s", n.HostName)
	if n.EnvID != "" {
		line("Original-Envelope-Id: %s", n.field(n.EnvID)) // decoded: RFC 3461 section 6.3
	}
	line("Arrival-Date: %s", n.Arrived.Format(message.DateFormat))
	for _, r := range n.Recipients {
		line("")
		if r.Orig != "" {
			text := n.field(r.Orig)
			if strings.EqualFold(r.OrigType, "utf-8") {
				text = n.coded(r.Orig)
			}
			line("Original-Recipient: %s;%s", n.field(r.OrigType), text)
		}
		if r.Final.NeedsUTF8() {
			line("Final-Recipient: utf-8;%s", n.coded(r.Final.String()))
		} else {
			line("Final-Recipient: rfc822;%s", r.Final)
		}
		line("Action: %s", r.Action)
		line("Status: %s", r.Status)
		switch {
		case r.RemoteHost != "":
			line("Remote-MTA: dns; %s", n.field(r.RemoteHost))
			line("Diagnostic-Code: smtp; %s", n.field(clipLine(r.Reply.String())))
		case r.Reply.Code != 0 && r.Action != Expanded:
			line("Diagnostic-Code: x-gull-route; %s", n.field(clipLine(r.Reply.String())))
		}
		if !r.LastAttempt.IsZero() {
			line("Last-Attempt-Date: %s", r.LastAttempt.Format(message.DateFormat))
		}
		if r.Action == Delayed && !r.RetryUntil.IsZero() {
			line("Will-Retry-Until: %s", r.RetryUntil.Format(message.DateFormat))
		}
	}
	kind := "message/delivery-status"
	if !message.IsASCII(s.Bytes()) {
		kind = "message/global-delivery-status"
	}
	b.WriteString("Content-Type: " + kind + "\r\n")
	n.writeBody(b, s.Bytes(), false)
}

// coded is a UTF-8 address as the notice may write it (RFC 6533 section 3).
func (n Notice) coded(s string) string {
	var b strings.Builder
	for _, r := range s {
		if r > ' ' && r < 0x7f && r != '+' && r != '=' && r != '\\' ||
			n.NeedsUTF8() && r >= 0xa0 && !inert.Acts(r) {
			b.WriteRune(r)
		} else {
			fmt.Fprintf(&b, "\\x{%X}", r)
		}
	}
	return b.String()
}

// field is text of others as a field's value: one line, in ASCII where the notice is.
func (n Notice) field(s string) string { return n.ascii(inert.Line(s, maxField)) }

// maxField bounds a value, in octets: a line of content has at most 998.
const maxField = 950

func (n Notice) ascii(s string) string {
	if n.NeedsUTF8() || message.IsASCII([]byte(s)) {
		return s
	}
	return strings.Map(func(r rune) rune {
		if r >= 0x80 {
			return '?'
		}
		return r
	}, s)
}

func (n Notice) writeOriginal(b *bytes.Buffer) {
	kind, body := "text/rfc822-headers", n.Header
	if n.Content != nil {
		kind, body = "message/rfc822", n.Content
	}
	if !message.IsASCII(n.Header) {
		kind = map[bool]string{true: "message/global",
			false: "message/global-headers"}[n.Content != nil]
	}
	b.WriteString("Content-Type: " + kind + "\r\n")
	if kind == "message/rfc822" &&
		!message.IsASCII(body) { // it may not be encoded (RFC 2046 section 5.2.1)
		b.WriteString("Content-Transfer-Encoding: 8bit\r\n\r\n")
		b.Write(body)
		return
	}
	n.writeBody(b, body, true)
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// clipLine keeps a field within the length of a line of content.
func clipLine(s string) string {
	s = oneLine(s)
	if len(s) > 900 {
		s = strings.ToValidUTF8(s[:900], "") + " ..."
	}
	return s
}
