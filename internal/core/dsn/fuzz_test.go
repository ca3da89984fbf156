package dsn

import (
	"bytes"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"gullroute/internal/core/address"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/smtp"
)

// FuzzReport gives any octets to the reader of notifications: what is read is one line
// of valid text each.
func FuzzReport(f *testing.F) {
	head := "Content-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n"
	f.Add(
		[]byte(
			head + "--b\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; " +
				"x\r\n\r\nFinal-Recipient: utf-8; \\x{0}\\x{1B}@y\r\nAction: failed\xff\r\nStatus: " +
				"5.1.1\r\n--b--\r\n",
		),
	)
	f.Add([]byte(head + "--b\r\nContent-Type: message/rfc822\r\nContent-Transfer-Encoding: " +
		"base64\r\n\r\nQQ==\r\n--b"))
	f.Fuzz(func(t *testing.T, content []byte) {
		r, err := Read(content, "mail.skerryline.example")
		if err != nil {
			return
		}
		texts := []string{r.EnvID, r.MessageID, r.ReportingHost}
		for _, one := range r.Recipients {
			texts = append(texts, one.Final, one.Original, one.Status, one.Diagnostic,
				one.RemoteHost, string(one.Action))
		}
		for _, s := range texts {
			if !utf8.ValidString(s) || len(s) > 500 || strings.ContainsFunc(s, inert.Acts) {
				t.Errorf("%q was read", s)
			}
		}
	})
}

// FuzzNotice puts strangers' words into a notification: none begins a field, a
// recipient or a part of its own.
func FuzzNotice(f *testing.F) {
	f.Add("QQ\r\n\r\nFinal-Recipient: rfc822;x@y", "rfc822", "a\nb", "550 no\r\n--=_1--", "mx\x00",
		"Subject: x\r\n")
	f.Add("Grüße", "utf-8", "søren@bølgevik.example", "550 \xff", "", "\r\n\r\n--=_1\r\n")
	f.Fuzz(func(t *testing.T, envID, kind, orig, text, host, subject string) {
		to, _ := address.Parse("ines@skerryline.example")
		final, _ := address.Parse("x@nosuch.example")
		n := Notice{
			ID:         "1",
			HostName:   "mail.skerryline.example",
			Postmaster: to,
			To:         to,
			EnvID:      envID,
			Subject:    subject,
			Arrived:    time.Unix(1, 0).UTC(),
			Now:        time.Unix(2, 0).UTC(),
			Recipients: []Recipient{
				{
					Action:     Failed,
					Final:      final,
					OrigType:   kind,
					Orig:       orig,
					Status:     "5.1.1",
					RemoteHost: host,
					Reply:      smtp.Reply{Code: 550, Lines: []string{text}},
				},
			},
		}
		content := Compose(n)
		if got := bytes.Count(content, []byte("\r\nFinal-Recipient:")); got != 1 {
			t.Errorf("%d recipients in\n%s", got, content)
		}
		if got := bytes.Count(content, []byte("\r\n--=_1")); got != 4 {
			t.Errorf("%d boundaries in\n%s", got, content)
		}
		if r, err := Read(content,
			"mail.skerryline.example"); err != nil || len(r.Recipients) != 1 ||
			r.Recipients[0].Final != "x@nosuch.example" {
			t.Errorf("read as %+v: %v\n%s", r, err, content)
		}
	})
}
