package smtp

import (
	"encoding/base64"
	"strings"
	"testing"
)

// TestCredentialsNeverReachTheRecord says a password in every form in which clients
// were seen to say one where none belongs.
func TestCredentialsNeverReachTheRecord(t *testing.T) {
	const secret = "lantern-oil"
	coded := base64.StdEncoding.EncodeToString([]byte("\x00ines\x00" + secret))
	for _, line := range []string{
		"AUTH PLAIN %s", "auth plain %s", "AUTH\tPLAIN %s", "AUTH PLAIN\t%s", " AUTH PLAIN %s", "\tAUTH PLAIN %s", "AUTH  PLAIN %s", "AUHT PLAIN %s", "AUTH=PLAIN %s", "AUTHPLAIN %s",
		"AUTH %s", "AUTH LOGIN %s", "PASS %s", "LOGIN ines %s", "a1 LOGIN ines %s", "USER ines PASS %s", "NOOP AUTH PLAIN %s", "HELP %s", "VRFY %s", "RSET %s", "DATA %s", "QUIT %s", "STARTTLS %s",
		"EHLO me %s", "XAUTH %s", "%s", "%s=", "=%s", "MAIL FROM:<a@b.example> AUTH=%s", "MAIL FROM:<a@b.example> %s", "MAIL FROM:<a@b.example> SIZE=%s", "MAIL FROM:<a@b.example> ENVID=ok PASS=%s",
		"RCPT TO:<a@b.example> NOTIFY=%s", "RCPT TO: %s", "MAIL %s", "BDAT %s", "Authorization: Basic %s",
	} {
		for _, word := range []string{secret, coded} {
			full := strings.ReplaceAll(line, "%s", word)
			shape, _ := Shape(ParseCommand([]byte(full)), len(full))
			if strings.Contains(shape, secret) || strings.Contains(shape, coded) {
				t.Errorf("%q is put on record as %q", full, shape)
			}
			_, fault := ParseMail(ParseCommand([]byte(full)).Arg, "")
			_, other := ParseRcpt(ParseCommand([]byte(full)).Arg, false)
			for _, f := range []*Reply{fault, other} {
				if f != nil && (strings.Contains(f.Text(), word) || strings.Contains(f.Text(),
					strings.ToUpper(word))) {
					t.Errorf("%q is answered with its secret: %s", full, f)
				}
			}
		}
	}
	for line, want := range map[string]string{
		"EHLO boat.example": "EHLO boat.example",
		"mail from:<a@b.example> size=10 BODY=8BITMIME": "MAIL FROM:<a@b.example> size=10 " +
			"BODY=8BITMIME",
		"MAIL FROM:<> RET=HDRS ENVID=QQ+2B1": "MAIL FROM:<> RET=HDRS ENVID=QQ+2B1",
		"RCPT TO:<postmaster>":               "RCPT TO:<postmaster>",
		"RCPT TO:<\"a b\"@c.example> NOTIFY=NEVER WHAT": "RCPT TO:<\"a b\"@c.example> NOTIFY=NEVER " +
			"(4 octets left out)",
		"AUTH SCRAM-SHA-256":              "AUTH SCRAM-SHA-256",
		"QUIT":                            "QUIT",
		"NOOP hello":                      "NOOP (5 octets left out)",
		"MAIL FROM:<a@b.example> AUTH=<>": "MAIL FROM:<a@b.example> AUTH=(left out)",
		"RCPT TO:<a@b.example> ORCPT=rfc822;a+40b NOTIFY=DELAY": "RCPT TO:<a@b.example> ORCPT=rfc822;a+40b " +
			"NOTIFY=DELAY",
	} {
		if shape, ok := Shape(ParseCommand([]byte(line)), len(line)); shape != want || !ok {
			t.Errorf("%q is put on record as %q, want %q", line, shape, want)
		}
	}
}
