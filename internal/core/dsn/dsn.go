// Package dsn composes delivery status notifications (RFC 3461, 3464, 6522, and
// 6533 for addresses outside ASCII).
package dsn

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/message"
	"gullroute/internal/core/smtp"
)

// MaxReturn is the largest content sent back in full, in octets; of larger ones
// the header goes back.
const MaxReturn = 256 << 10

// Recipient is one recipient a notification tells of.
type Recipient struct {
	Final          address.Address
	OrigType, Orig string // ORCPT, or ""
	Cause          diagnose.Cause
	Status         string // enhanced code
	RemoteHost     string // "" if no host said it
	Reply          smtp.Reply
	LastAttempt    time.Time
	Expired        bool // given up after retries, and not refused for good
}

// Notice is what a notification of failure says.
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
}

// NeedsUTF8 reports whether the notification can only be sent with SMTPUTF8.
func (n Notice) NeedsUTF8() bool {
	if n.To.NeedsUTF8() || !isASCII(n.Header) {
		return true
	}
	for _, r := range n.Recipients {
		if r.Final.NeedsUTF8() {
			return true
		}
	}
	return false
}

// Compose writes the notification.
func Compose(n Notice) []byte {
	var b bytes.Buffer
	boundary := "=_" + n.ID
	utf8 := n.NeedsUTF8()
	subject := "Not delivered: " + n.Subject
	if n.Subject == "" {
		subject = "Your message was not delivered"
	}
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\r\n", args...) }
	line("From: Mail Delivery <%s>", n.Postmaster)
	line("To: <%s>", n.To)
	line("Subject: %s", message.EncodeText(subject))
	line("Date: %s", n.Now.Format(message.DateFormat))
	line("Message-ID: <%s@%s>", n.ID, n.HostName)
	line("Auto-Submitted: auto-replied")
	line("MIME-Version: 1.0")
	line("Content-Type: multipart/report; report-type=delivery-status;\r\n\tboundary=\"%s\"", boundary)
	line("")
	line("--%s", boundary)
	line("Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: %s\r\nContent-Language: en\r\n", encoding(utf8 || !isASCII([]byte(n.words()))))
	b.WriteString(n.words())
	line("")
	line("--%s", boundary)
	n.writeStatus(&b, utf8)
	line("")
	line("--%s", boundary)
	n.writeOriginal(&b, utf8)
	line("")
	line("--%s--", boundary)
	return b.Bytes()
}

func encoding(eight bool) string {
	if eight {
		return "8bit"
	}
	return "7bit"
}

// words is the part for people.
func (n Notice) words() string {
	var b strings.Builder
	line := func(format string, args ...any) { b.WriteString(fmt.Sprintf(format, args...) + "\r\n") }
	line("Your message could not be delivered to everybody it was meant for.")
	line("")
	if n.Subject != "" {
		line("Subject:  %s", oneLine(n.Subject))
	}
	line("Sent:     %s", n.Arrived.Format(message.DateFormat))
	for _, r := range n.Recipients {
		meaning := diagnose.Explain(r.Cause)
		line("")
		line("To:       %s", r.Final.Display())
		line("Why:      %s.", meaning.Title)
		if r.Expired {
			line("          We tried again and again until %s and have given up.", n.Now.Format(message.DateFormat))
		}
		line("What now: %s", meaning.Mend)
		if r.RemoteHost != "" {
			line("The mail server %s said:", r.RemoteHost)
			line("          %s", clipLine(r.Reply.String()))
		} else if r.Reply.Code != 0 {
			line("Exactly:  %s", clipLine(r.Reply.String()))
		}
	}
	line("")
	line("This notice comes from the mail server %s. Its administrator is %s.", n.HostName, n.Postmaster.Display())
	return b.String()
}

// writeStatus writes the part for programs (RFC 3464 section 2).
func (n Notice) writeStatus(b *bytes.Buffer, utf8 bool) {
	kind, addressType := "message/delivery-status", "rfc822"
	if utf8 {
		kind, addressType = "message/global-delivery-status", "utf-8"
	}
	line := func(format string, args ...any) { fmt.Fprintf(b, format+"\r\n", args...) }
	line("Content-Type: %s\r\nContent-Transfer-Encoding: %s\r\n", kind, encoding(utf8))
	line("Reporting-MTA: dns; %s", n.HostName)
	if n.EnvID != "" {
		line("Original-Envelope-Id: %s", smtp.EncodeXtext(n.EnvID))
	}
	line("Arrival-Date: %s", n.Arrived.Format(message.DateFormat))
	for _, r := range n.Recipients {
		line("")
		if r.Orig != "" {
			line("Original-Recipient: %s;%s", r.OrigType, smtp.EncodeXtext(r.Orig))
		}
		line("Final-Recipient: %s;%s", addressType, r.Final)
		line("Action: failed")
		line("Status: %s", r.Status)
		if r.RemoteHost != "" {
			line("Remote-MTA: dns; %s", r.RemoteHost)
			line("Diagnostic-Code: smtp; %s", clipLine(r.Reply.String()))
		} else if r.Reply.Code != 0 {
			line("Diagnostic-Code: x-gull-route; %s", clipLine(r.Reply.String()))
		}
		if !r.LastAttempt.IsZero() {
			line("Last-Attempt-Date: %s", r.LastAttempt.Format(message.DateFormat))
		}
	}
}

func (n Notice) writeOriginal(b *bytes.Buffer, utf8 bool) {
	kind, body := "text/rfc822-headers", n.Header
	if n.Content != nil {
		kind, body = "message/rfc822", n.Content
	}
	if utf8 {
		kind = map[bool]string{true: "message/global", false: "message/global-headers"}[n.Content != nil]
	}
	fmt.Fprintf(b, "Content-Type: %s\r\nContent-Transfer-Encoding: %s\r\n\r\n", kind, encoding(!isASCII(body)))
	b.Write(body)
}

func isASCII(p []byte) bool {
	for _, c := range p {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// clipLine keeps a field within the length of a line of content.
func clipLine(s string) string {
	s = oneLine(s)
	if len(s) > 900 {
		s = strings.ToValidUTF8(s[:900], "") + " …"
	}
	return s
}
