package dsn

import (
	"bytes"
	"io"
	"mime"
	"mime/multipart"
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
	return Notice{ID: "05A", HostName: "mail.skerryline.example", Postmaster: addr("keeper@skerryline.example"), To: addr("ines.harrow@skerryline.example"),
		EnvID: "QQ 1", Arrived: at, Now: at.Add(time.Hour), Subject: "Berth for Thursday", Header: []byte("Subject: Berth for Thursday\r\n"),
		Recipients: []Recipient{
			{Final: addr("x@nosuch.example"), OrigType: "rfc822", Orig: "X@nosuch.example", Cause: diagnose.NoSuchUser, Status: "5.1.1", RemoteHost: "mx.nosuch.example",
				Reply: smtp.NewReply(550, "5.1.1", "nobody\r\nof that name"), LastAttempt: at},
			{Final: addr("y@fogbank.example"), Cause: diagnose.NoAnswer, Status: "4.4.7", Expired: true, Reply: smtp.NewReply(550, "4.4.2", "%s", strings.Repeat("no answer ", 200))},
		}}
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
		parts = append(parts, part{p.Header.Get("Content-Type"), p.Header.Get("Content-Transfer-Encoding"), string(body)})
	}
}

func TestANoticeIsReadByPeopleAndPrograms(t *testing.T) {
	m, parts := compose(t, sample())
	if len(parts) != 3 || m.Header.Get("Auto-Submitted") != "auto-replied" || m.Header.Get("To") != "<ines.harrow@skerryline.example>" || m.Header["Message-Id"][0] != "<05A@mail.skerryline.example>" {
		t.Fatalf("%d parts, %+v", len(parts), m.Header)
	}
	for _, want := range []string{"Subject:  Berth for Thursday", "To:       x@nosuch.example", "There is no such mailbox.", "mx.nosuch.example said:", "550 5.1.1 nobody of that name",
		"To:       y@fogbank.example", "have given up", "administrator is keeper@skerryline.example"} {
		if !strings.Contains(parts[0].body, want) {
			t.Errorf("for people: %q is missing in\n%s", want, parts[0].body)
		}
	}
	groups := strings.Split(strings.TrimSpace(parts[1].body), "\r\n\r\n")
	if parts[1].kind != "message/delivery-status" || len(groups) != 3 {
		t.Fatalf("for programs: %s in %d groups:\n%s", parts[1].kind, len(groups), parts[1].body)
	}
	for i, wants := range [][]string{
		{"Reporting-MTA: dns; mail.skerryline.example", "Original-Envelope-Id: QQ+201", "Arrival-Date: Mon, 23 Nov 2026 05:00:00 +0000"},
		{"Original-Recipient: rfc822;X@nosuch.example", "Final-Recipient: rfc822;x@nosuch.example", "Action: failed", "Status: 5.1.1", "Remote-MTA: dns; mx.nosuch.example", "Diagnostic-Code: smtp; 550 5.1.1 nobody of that name", "Last-Attempt-Date: "},
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
	if n.NeedsUTF8() {
		t.Error("an ASCII notice asks for SMTPUTF8")
	}
	n.Recipients[0].Final = addr("å@bølgevik.example")
	n.Subject = "Båtplass"
	m, parts := compose(t, n)
	if !n.NeedsUTF8() || parts[1].kind != "message/global-delivery-status" || parts[1].encoding != "8bit" || !strings.Contains(parts[1].body, "Final-Recipient: utf-8;å@xn--blgevik-q1a.example") || parts[2].kind != "message/global-headers" {
		t.Errorf("%+v", parts[1:])
	}
	if s, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject")); err != nil || s != "Not delivered: Båtplass" {
		t.Errorf("subject %q %v", s, err)
	}
	if !strings.Contains(parts[0].body, "å@bølgevik.example") {
		t.Error("people are not shown the address as they know it")
	}
}
