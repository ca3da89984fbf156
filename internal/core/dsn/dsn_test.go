package dsn

import (
	"bytes"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/smtp"
)

func addr(s string) address.Address {
	a, err := address.Parse(s)
	if err != nil {
		panic(err)
	}
	return a
}

func sample() Notice {
	at := time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC)
	return Notice{
		ID:         "05A",
		HostName:   "mail.skerryline.example",
		Postmaster: addr("keeper@skerryline.example"),
		To:         addr("ines.harrow@skerryline.example"),
		EnvID:      "QQ 1",
		Arrived:    at,
		Now:        at.Add(time.Hour),
		Subject:    "Berth for Thursday",
		Header:     []byte("Subject: Berth for Thursday\r\n"),
		Recipients: []Recipient{
			{
				Action:      Failed,
				Final:       addr("x@nosuch.example"),
				OrigType:    "rfc822",
				Orig:        "X@nosuch.example",
				Cause:       diagnose.NoSuchUser,
				Status:      "5.1.1",
				RemoteHost:  "mx.nosuch.example",
				Reply:       smtp.NewReply(550, "5.1.1", "nobody\r\nof that name"),
				LastAttempt: at,
			},
			{
				Action:  Failed,
				Final:   addr("y@fogbank.example"),
				Cause:   diagnose.NoAnswer,
				Status:  "4.4.7",
				Expired: true,
				Reply:   smtp.NewReply(550, "4.4.2", "%s", strings.Repeat("no answer ", 200)),
			},
		},
	}
}

type part struct {
	kind, encoding, body string
}

func compose(t *testing.T, n Notice) (*mail.Message, []part) {
	t.Helper()
	raw := Compose(n)
	for i, line := range bytes.Split(raw, []byte("\r\n")) {
		if len(line) > 998 || bytes.ContainsAny(line, "\r\n\x00") {
			t.Errorf("line %d of the notice: %d octets, %.60q", i+1, len(line), line)
		}
	}
	m, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	kind, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil || kind != "multipart/report" {
		t.Fatalf("%s %v", kind, err)
	}
	var parts []part
	r := multipart.NewReader(m.Body, params["boundary"])
	for {
		p, err := r.NextRawPart()
		if err == io.EOF {
			return m, parts
		}
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(p)
		parts = append(
			parts,
			part{p.Header.Get("Content-Type"), p.Header.Get("Content-Transfer-Encoding"), string(body)},
		)
	}
}

func TestANoticeIsReadByPeopleAndPrograms(t *testing.T) {
	m, parts := compose(t, sample())
	if len(parts) != 3 || m.Header.Get("Auto-Submitted") != "auto-replied" ||
		m.Header.Get("To") != "<ines.harrow@skerryline.example>" ||
		m.Header["Message-Id"][0] != "<05A@mail.skerryline.example>" {
		t.Fatalf("%d parts, %+v", len(parts), m.Header)
	}
	for _, want := range []string{"could not be delivered. It will not be tried again.",
		"Subject:      Berth for Thursday", "Sent:         Monday, 23 November 2026 05:00 UTC",
		"To:           x@nosuch.example", "There is no mailbox of that name", "You can:      Check the address", "mx.nosuch.example said: 550 5.1.1 nobody of that",
		"To:           y@fogbank.example", "We tried for 1 h and it has expired.", "forward it to keeper@skerryline.example"} {
		if !strings.Contains(parts[0].body, want) {
			t.Errorf("for people: %q is missing in\n%s", want, parts[0].body)
		}
	}
	groups := strings.Split(strings.TrimSpace(parts[1].body), "\r\n\r\n")
	if parts[1].kind != "message/delivery-status" || len(groups) != 3 {
		t.Fatalf("for programs: %s in %d groups:\n%s", parts[1].kind, len(groups), parts[1].body)
	}
	for i, wants := range [][]string{
		{"Reporting-MTA: dns; mail.skerryline.example", "Original-Envelope-Id: QQ 1",
			"Arrival-Date: Mon, 23 Nov 2026 05:00:00 +0000"},
		{"Original-Recipient: rfc822;X@nosuch.example", "Final-Recipient: rfc822;x@nosuch.example",
			"Action: failed", "Status: 5.1.1", "Remote-MTA: dns; mx.nosuch.example", "Diagnostic-Code: smtp; 550 " +
				"5.1.1 nobody of that name", "Last-Attempt-Date: "},
		{"Final-Recipient: rfc822;y@fogbank.example", "Status: 4.4.7", "Diagnostic-Code: x-gull-route; 550"},
	} {
		for _, want := range wants {
			if !strings.Contains(groups[i], want) {
				t.Errorf("group %d lacks %q:\n%s", i, want, groups[i])
			}
		}
	}
	if parts[2].kind != "text/rfc822-headers" || !strings.HasPrefix(parts[2].body, "Subject: Berth") {
		t.Errorf("the original: %+v", parts[2])
	}
}

func TestWhatGoesBackOfTheOriginal(t *testing.T) {
	n := sample()
	n.Content = []byte("Subject: Berth for Thursday\r\n\r\nthe body\r\n")
	_, parts := compose(t, n)
	if parts[2].kind != "message/rfc822" || !strings.Contains(parts[2].body, "the body") {
		t.Errorf("in full: %+v", parts[2])
	}
}

func TestANoticeAboutAddressesOutsideASCII(t *testing.T) {
	n := sample()
	n.Recipients[0].Final = addr("å@bølgevik.example")
	n.Recipients[0].Reply = smtp.NewReply(550, "5.1.1", "ingen å her")
	n.Subject = "Båtplass"
	n.Header = []byte("Subject: Båtplass\r\n")
	m, parts := compose(t, n)
	if n.NeedsUTF8() {
		t.Error("a notice to an ASCII address asks for SMTPUTF8")
	}
	if parts[1].kind != "message/delivery-status" || parts[1].encoding != "7bit" ||
		!strings.Contains(parts[1].body, `Final-Recipient: utf-8;\x{E5}@xn--blgevik-q1a.example`) ||
		!strings.Contains(parts[1].body, "ingen ? her") ||
		parts[2].kind != "message/global-headers" ||
		parts[2].encoding != "base64" ||
		parts[0].encoding != "quoted-printable" {
		t.Errorf("to ASCII: %+v", parts)
	}
	words, _ := io.ReadAll(quotedprintable.NewReader(strings.NewReader(parts[0].body)))
	if s, err := new(
		mime.WordDecoder,
	).DecodeHeader(m.Header.Get("Subject")); err != nil || s != "Not delivered: Båtplass" ||
		!strings.Contains(string(words), "å@bølgevik.example") {
		t.Errorf("people are not shown the words as they know them: %q %v %s", s, err, words)
	}
	n.To = addr("ærlig@bølgevik.example")
	_, parts = compose(t, n)
	if !n.NeedsUTF8() || parts[1].kind != "message/global-delivery-status" || parts[1].encoding != "8bit" ||
		!strings.Contains(parts[1].body, "Final-Recipient: utf-8;å@xn--blgevik-q1a.example") {
		t.Errorf("to UTF-8: %+v", parts[1])
	}
}

func TestEveryKindOfNoticeSaysWhatHappened(t *testing.T) {
	at := time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		r       Recipient
		subject string
		wants   []string
	}{
		{Recipient{Action: Delayed, Cause: diagnose.ConnectTimeout, Status: "4.4.1",
			RetryUntil: at.Add(48 * time.Hour), Reply: smtp.NewReply(0, "4.4.1", "no connection")},
			"Not delivered yet: Berth for Thursday", []string{"You need not send it again",
				"cannot be reached", "We keep trying until Wednesday, 25 November 2026 05:00 UTC.", "Action: delayed", "Will-Retry-Until: Wed, 25 Nov 2026"}},
		{Recipient{Action: Relayed, Status: "2.1.9", RemoteHost: "mx.saltmarsh.example",
			Reply: smtp.NewReply(250, "2.0.0",
				"taken")}, "Passed on: Berth for Thursday", []string{"does not tell us", "Action: relayed", "Remote-MTA: dns; mx.saltmarsh.example"}},
		{Recipient{Action: Delivered, Status: "2.1.5"}, "Delivered: Berth for Thursday",
			[]string{"in the mailbox", "Action: delivered"}},
		{Recipient{Action: Expanded, Status: "2.0.0"}, "Passed on to a list: Berth for Thursday",
			[]string{"stands for several", "Action: expanded"}},
		{Recipient{Action: Failed, Status: "5.7.0", Cause: diagnose.Returned, Words: "the pier is closed",
			Reply: smtp.NewReply(550, "5.7.0",
				"the pier is closed")}, "Not delivered: Berth for Thursday", []string{"sent it back: the pier\r\n              is closed"}},
	} {
		n := sample()
		c.r.Final = addr("x@saltmarsh.example")
		n.Recipients = []Recipient{c.r}
		m, parts := compose(t, n)
		if m.Header.Get("Subject") != c.subject {
			t.Errorf("%s: subject %q", c.r.Action, m.Header.Get("Subject"))
		}
		for _, want := range c.wants {
			if !strings.Contains(parts[0].body+parts[1].body, want) {
				t.Errorf("%s lacks %q:\n%s%s", c.r.Action, want, parts[0].body, parts[1].body)
			}
		}
		back, err := Read(Compose(n), "mail.skerryline.example")
		if err != nil || len(back.Recipients) != 1 || back.Recipients[0].Action != c.r.Action ||
			back.EnvID != "QQ 1" ||
			back.Recipients[0].Final != "x@saltmarsh.example" {
			t.Errorf("%s read again: %+v %v", c.r.Action, back, err)
		}
	}
}

func TestThePostmastersCopySaysWhoseNoticeItIs(t *testing.T) {
	n := sample()
	n.CopyOf, n.To, n.Uncopied = n.To, addr("keeper@skerryline.example"), 3
	_, parts := compose(t, n)
	if !strings.HasPrefix(
		parts[0].body,
		"This is the postmaster's copy of a notice to ines.harrow@skerryline.example.\r\n3 notices before it",
	) {
		t.Error(parts[0].body)
	}
}

func TestReportsFromElsewhereAreReadAsTheyCome(t *testing.T) {
	const head = "From: MAILER <>\r\nContent-Type: multipart/report; boundary=b;\r\n " +
		"report-type=Delivery-Status\r\n\r\npreamble\r\n--b\r\n\r\nsorry\r\n--b\r\n"
	for _, c := range []struct {
		name, content, final, status, id string
		bad                              bool
	}{
		{"plain", head + "Content-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; " +
			"mx.saltmarsh.example\r\nOriginal-Envelope-Id: QQ+2B1\r\n\r\nFinal-Recipient: RFC822; " +
			"<x@saltmarsh.example>\r\nAction: Failed\r\nStatus: 5.1.1 (no)\r\nDiagnostic-Code: smtp; " +
			"550\r\n no\r\n--b\r\nContent-Type: message/rfc822\r\n\r\nReceived: from a\r\n\tby " +
			"mail.skerryline.example with ESMTP id 0B4Z7H8Q2M000;\r\n\tx\r\nMessage-ID: " +
			"<7@x>\r\n\r\nhi\r\n--b--\r\n",
			"x@saltmarsh.example", "5.1.1", "0B4Z7H8Q2M000", false},
		{"cut short, base64, UTF-8",
			head + "Content-Type: message/global-delivery-status\r\nContent-Transfer-Encoding: " +
				"base64\r\n\r\nUmVwb3J0aW5nLU1UQTogZG5zOyBiDQoNCkZpbmFsLVJlY2lwaWVudDogdXRmLTg7IFx4e0U1fUB4DQpBY3Rpb246IGZhaWxlZA0KU3RhdHVzOiA1LjAuMA0K\r\n",
			"å@x", "5.0.0", "", false},
		{"no group of a recipient",
			head + "Content-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; b\r\n--b--\r\n", "", "", "", true},
		{"no report", "From: a@b\r\n\r\nhi\r\n", "", "", "", true},
	} {
		r, err := Read([]byte(c.content), "mail.skerryline.example")
		if c.bad {
			if err == nil {
				t.Errorf("%s: read as %+v", c.name, r)
			}
			continue
		}
		if err != nil || len(r.Recipients) != 1 || r.Recipients[0].Final != c.final ||
			r.Recipients[0].Status != c.status ||
			r.Recipients[0].Action != Failed ||
			c.id != "" && (len(r.OurIDs) != 1 || r.OurIDs[0] != c.id || r.MessageID != "<7@x>" || r.EnvID != "QQ+1") {
			t.Errorf("%s: %+v %v", c.name, r, err)
		}
	}
}

// TestANoticeInGerman has the same report behind other words; what has no words in
// German is said in English, and an unknown reason is not guessed at.
func TestANoticeInGerman(t *testing.T) {
	n := sample()
	n.Language = diagnose.German
	n.Recipients[1].Cause = diagnose.Unknown
	n.Recipients[0].Unsure = true
	m, parts := compose(t, n)
	text, err := io.ReadAll(quotedprintable.NewReader(strings.NewReader(parts[0].body)))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"konnte nicht zugestellt werden", "Betreff:      Berth for Thursday",
		"Gesendet:     Montag, 23. November 2026, 05:00 UTC", "Vermutlich: In der Domain des Empfängers",
		"Der Server mx.nosuch.example sagte:", "kennen; seine Worte stehen unten", "Wir haben es 1 h lang"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("%q is missing from:\n%s", want, text)
		}
	}
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	if err != nil || subject != "Nicht zugestellt: Berth for Thursday" {
		t.Errorf("%q %v", subject, err)
	}
	_, english := compose(t, sample())
	if parts[1].body == "" || !strings.Contains(parts[1].body, "5.1.1") || english[0].body == parts[0].body {
		t.Errorf("the report: %s", parts[1].body)
	}
	for _, c := range diagnose.Causes() {
		de, en := diagnose.ForSenderIn(diagnose.German, c), diagnose.ForSender(c)
		if (de.Why == en.Why) || de.Waiting != en.Waiting {
			t.Errorf("%s has no words in German: %s", c, de.Why)
		}
	}
}
