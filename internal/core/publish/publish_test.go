package publish

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/miekg/dns"
)

// What is written for a zone file is read back by a name server's own reader as it
// was meant, whatever is in it.
func TestAZoneLineIsReadBackAsItWasMeant(t *testing.T) {
	for _, value := range []string{
		"v=spf1 mx -all", "v=DMARC1; p=reject; rua=mailto:a@b.example", `with "quotes" and \ a stroke`, strings.Repeat("k", 255), strings.Repeat("k", 256), strings.Repeat("0123456789", 80), "",
	} {
		r := New("skerryline.example", "x._domainkey.skerryline.example", "TXT", value)
		rr, err := dns.NewRR(r.Zone)
		if err != nil {
			t.Fatalf("%s: %v", r.Zone, err)
		}
		txt := rr.(*dns.TXT)
		if got := unescape(
			strings.Join(txt.Txt, ""),
		); got != value || rr.Header().Name != "x._domainkey.skerryline.example." ||
			rr.Header().Ttl != TTL {
			t.Errorf("%q came back as %q", value, got)
		}
		for _, piece := range txt.Txt {
			if len(unescape(piece)) > 255 {
				t.Errorf("a piece of %d octets", len(piece))
			}
		}
		if long := len(value) > 255; long != strings.HasPrefix(r.Form.Value,
			`"`) || !long && r.Form.Value != value {
			t.Errorf("%q in a form is %q", value, r.Form.Value)
		}
	}
}

// unescape undoes the reader's own escapes.
func unescape(s string) string { return strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(s) }

func TestNamesAreWrittenWithinTheirZone(t *testing.T) {
	for _, c := range []struct{ zone, name, kind, value, host, line string }{
		{"skerryline.example", "skerryline.example", "MX", "10 mail.skerryline.example", "@",
			"skerryline.example. 3600 IN MX 10 mail.skerryline.example."},
		{"skerryline.example", "_dmarc.skerryline.example", "TXT", "v", "_dmarc",
			`_dmarc.skerryline.example. 3600 IN TXT "v"`},
		{"SkerryLine.example", "a.b.skerryline.example", "A", "127.0.0.1", "a.b",
			"a.b.skerryline.example. 3600 IN A 127.0.0.1"},
		{"skerryline.example", "mail.kelpworks.example", "A", "127.0.0.1", "mail.kelpworks.example.",
			"mail.kelpworks.example. 3600 IN A 127.0.0.1"},
		{"skerryline.example", "badskerryline.example.", "CNAME", "x.example.", "badskerryline.example.",
			"badskerryline.example. 3600 IN CNAME x.example."},
	} {
		if r := New(c.zone, c.name, c.kind, c.value); r.Form.Host != c.host || r.Zone != c.line {
			t.Errorf("%s: host %s, line %s", c.name, r.Form.Host, r.Zone)
		}
	}
	for ip, want := range map[string]string{"127.20.1.5": "5.1.20.127.in-addr.arpa",
		"::ffff:127.0.0.1": "1.0.0.127.in-addr.arpa",
		"2001:db8::25":     "5.2.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa"} {
		if got := Reverse(netip.MustParseAddr(ip)); got != want {
			t.Errorf("%s: %s", ip, got)
		}
	}
}
