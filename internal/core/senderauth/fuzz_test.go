package senderauth

import (
	"bytes"
	"strings"
	"testing"
)

// FuzzStrip gives any header to what takes forged results of ours out: whoever reads the
// field names loosely finds none of ours left, and nothing else is lost.
func FuzzStrip(f *testing.F) {
	for _, text := range []string{"Authentication-Results: \"ma\\il.skerryline.example\"; spf=pass\r\nTo: " +
		"a\r\n", "Authentication-Results: (a(b)\\)) mail.skerryline.example 1;\r\n\tspf=pass\r\n", "authentication-results:mail.skerryline.example\r\n", "To: a\r\nAuthentication-Results: \"x;mail.skerryline.example\"\r\n"} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, section []byte) {
		left, gone := Strip(section, "mail.skerryline.example")
		if again, more := Strip(left, "mail.skerryline.example"); more != 0 || !bytes.Equal(again, left) {
			t.Errorf("%q leaves %q, of which %d more go", section, left, more)
		}
		if gone == 0 && !bytes.Equal(left, section) || len(left) > len(section) {
			t.Errorf("%q became %q", section, left)
		}
	})
}

// FuzzField puts strangers' words into our field: none begins a line or a result.
func FuzzField(f *testing.F) {
	f.Add("a) dmarc=pass\r\nX: y", "evil.example; dkim=pass", "s\x00", "pass")
	f.Fuzz(func(t *testing.T, why, domain, selector, policy string) {
		c := Assessment{
			SPF:   SPF{Result: Fail, Domain: domain, Scope: "mailfrom", Why: why},
			DKIM:  []Signature{{Result: Fail, Domain: domain, Selector: selector, Algorithm: why, Why: why}},
			DMARC: DMARC{Result: Fail, Domain: domain, Policy: policy},
		}
		field := c.Field("mail.skerryline.example")
		if strings.Count(field, "\r\n") != 4 || strings.Count(field, "\n") != 4 || strings.Count(field,
			";") != 3 ||
			strings.Count(field, "(") != strings.Count(field, ")") {
			t.Errorf("%q", field)
		}
	})
}
