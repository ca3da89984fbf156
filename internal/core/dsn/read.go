package dsn

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"mime"
	"mime/multipart"
	"net/textproto"
	"regexp"
	"strconv"
	"strings"

	"gullroute/internal/core/inert"
	"gullroute/internal/core/message"
	"gullroute/internal/core/smtp"
)

// Report is a notification from elsewhere, as far as it can be read.
type Report struct {
	ReportingHost string
	EnvID         string // decoded
	Recipients    []ReportedRecipient
	// MessageID and OurIDs are read from what came back of the original: its
	// Message-ID, and the ids in Received fields that our host wrote.
	MessageID string
	OurIDs    []string
}

// ReportedRecipient is what a report says of one recipient.
type ReportedRecipient struct {
	Action     Action
	Final      string
	Original   string
	Status     string
	RemoteHost string
	Diagnostic string
}

// ErrNoReport says that a message is no delivery status notification.
var ErrNoReport = errors.New("not a delivery status notification")

// IsReport tells by its header whether a message is a notification.
func IsReport(section []byte) bool {
	kind, params, err := mime.ParseMediaType(message.ParseHeader(section).First("Content-Type"))
	return err == nil && kind == "multipart/report" &&
		strings.Contains(strings.ToLower(params["report-type"]), "delivery-status")
}

// maxRecipients bounds what is read of a report.
const maxRecipients = 1000

// Read reads a notification (RFC 3464, RFC 6533). Many are not written as they
// should be: what is missing stays empty. ourName is the host in our own
// Received fields.
func Read(content []byte, ourName string) (Report, error) {
	section, _ := message.SplitHeader(content)
	if !IsReport(section) {
		return Report{}, ErrNoReport
	}
	_, params, err := mime.ParseMediaType(message.ParseHeader(section).First("Content-Type"))
	if err != nil || params["boundary"] == "" {
		return Report{}, ErrNoReport
	}
	var r Report
	parts := multipart.NewReader(bytes.NewReader(content[len(section):]), params["boundary"])
	for {
		p, err := parts.NextPart()
		if err != nil {
			break // the end, or cut short: what was read counts
		}
		kind, _, _ := mime.ParseMediaType(p.Header.Get("Content-Type"))
		body, _ := io.ReadAll(io.LimitReader(decoded(p), 1<<20))
		switch kind {
		case "message/delivery-status", "message/global-delivery-status":
			r.readStatus(body)
		case "text/rfc822-headers", "message/rfc822", "message/global", "message/global-headers":
			r.readOriginal(body, ourName)
		}
	}
	if len(r.Recipients) == 0 {
		return r, ErrNoReport
	}
	r.tidy()
	return r, nil
}

// tidy makes one bounded line of valid text of whatever a stranger reported.
func (r *Report) tidy() {
	const most = 500
	list := []*string{&r.ReportingHost, &r.EnvID, &r.MessageID}
	for i := range r.Recipients {
		one := &r.Recipients[i]
		one.Action = Action(inert.Line(string(one.Action), most))
		list = append(list, &one.Final, &one.Original, &one.Status, &one.RemoteHost,
			&one.Diagnostic)
	}
	for _, text := range list {
		*text = inert.Line(*text, most)
	}
}

func (r *Report) readStatus(body []byte) {
	br := textproto.NewReader(bufio.NewReader(bytes.NewReader(bytes.TrimLeft(body, "\r\n"))))
	for first := true; len(r.Recipients) < maxRecipients; {
		group, err := br.ReadMIMEHeader()
		switch {
		case len(group) == 0:
		case first && group.Get("Final-Recipient") == "":
			r.ReportingHost = afterType(group.Get("Reporting-MTA"))
			r.EnvID = fromXtext(group.Get("Original-Envelope-Id"))
		default:
			r.Recipients = append(r.Recipients, ReportedRecipient{
				Action:     Action(strings.ToLower(firstWord(group.Get("Action")))),
				Final:      recipient(group.Get("Final-Recipient")),
				Original:   recipient(group.Get("Original-Recipient")),
				Status:     firstWord(group.Get("Status")),
				RemoteHost: afterType(group.Get("Remote-Mta")),
				Diagnostic: oneLine(afterType(group.Get("Diagnostic-Code"))),
			})
		}
		first = first && len(group) == 0
		if err != nil {
			return
		}
	}
}

var receivedID = regexp.MustCompile(`(?i)\bid\s+([0-9A-Z]+)`)

func (r *Report) readOriginal(body []byte, ourName string) {
	section, _ := message.SplitHeader(body)
	h := message.ParseHeader(section)
	r.MessageID = h.First("Message-ID")
	by := "by " + strings.ToLower(ourName) + " "
	for _, f := range h {
		if strings.EqualFold(f.Name, "Received") && strings.Contains(strings.ToLower(f.Value), by) {
			if m := receivedID.FindStringSubmatch(f.Value); m != nil {
				r.OurIDs = append(r.OurIDs, m[1])
			}
		}
	}
}

// afterType takes the type before the semicolon away.
func afterType(s string) string {
	if _, rest, ok := strings.Cut(s, ";"); ok {
		s = rest
	}
	return strings.TrimSpace(s)
}

func firstWord(s string) string {
	w, _, _ := strings.Cut(strings.TrimSpace(s), " ")
	return w
}

var codePoint = regexp.MustCompile(`\\x\{([0-9A-Fa-f]{1,6})\}`)

// recipient reads "rfc822; x@y", "utf-8; \x{E5}@y", with or without brackets.
func recipient(s string) string {
	kind, _, _ := strings.Cut(s, ";")
	s = strings.Trim(afterType(s), "<> ")
	if strings.EqualFold(strings.TrimSpace(kind), "utf-8") {
		return codePoint.ReplaceAllStringFunc(s, func(code string) string {
			n, _ := strconv.ParseUint(code[3:len(code)-1], 16, 32)
			return string(rune(n))
		})
	}
	return fromXtext(s)
}

func fromXtext(s string) string {
	if text, err := smtp.DecodeXtext(s); err == nil {
		return text
	}
	return s
}

// decoded undoes the transfer encoding of a part; multipart has undone
// quoted-printable itself.
func decoded(p *multipart.Part) io.Reader {
	return message.DecodeTransfer(p.Header.Get("Content-Transfer-Encoding"), p)
}
