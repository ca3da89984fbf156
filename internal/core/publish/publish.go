// Package publish writes DNS records in the forms in which people put them into
// zones: as a line of a zone file (RFC 1035 section 5.1), and as the fields of an
// editor's form.
package publish

import (
	"fmt"
	"net/netip"
	"strings"
)

// TTL is what records are suggested with, in seconds.
const TTL = 3600

// DNSRecord is one record that should be there.
type DNSRecord struct {
	Name  string `json:"name" doc:"Whole name, without the last dot"`
	Type  string `json:"type"`
	TTL   int    `json:"ttl"`
	Value string `json:"value" doc:"Unquoted and in one piece, as it is meant"`
	// The same in the forms in which it is pasted.
	Zone string     `json:"zone_line" doc:"A line of a zone file, quoted, long text in pieces of at most 255 octets"`
	Form EditorForm `json:"form" doc:"The fields of an editor's form"`
	// What it stands in place of, in plain form.
	Instead []string `json:"instead,omitempty" doc:"Values at the same name that go"`
}

// EditorForm is a record in the fields that DNS editors ask for.
type EditorForm struct {
	Host  string `json:"host" doc:"Name within the zone; @ is the zone itself"`
	Type  string `json:"type"`
	Value string `json:"value" doc:"As such editors take it: text of more than 255 octets in quoted pieces"`
}

// maxString is the longest character string of a TXT record (RFC 1035 section 3.3.14).
const maxString = 255

// New writes a record. zone is where the administrator edits it.
func New(zone, name, kind, value string) DNSRecord {
	r := DNSRecord{Name: strings.TrimSuffix(name, "."), Type: kind, TTL: TTL, Value: value}
	data := Data(kind, value)
	r.Zone = fmt.Sprintf("%s. %d IN %s %s", r.Name, r.TTL, kind, data)
	r.Form = EditorForm{Host: host(zone, r.Name), Type: kind, Value: value}
	if kind == "TXT" && len(value) > maxString {
		r.Form.Value = data
	}
	return r
}

// Data writes a value in plain form as a line of a zone file has it.
func Data(kind, value string) string {
	if kind == "TXT" {
		return Quote(value)
	}
	return dotted(kind, value)
}

// Quote writes text as the character strings of a TXT record.
func Quote(text string) string {
	var pieces []string
	for len(text) > maxString {
		pieces = append(pieces, text[:maxString])
		text = text[maxString:]
	}
	pieces = append(pieces, text)
	for i, p := range pieces {
		pieces[i] = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(p) + `"`
	}
	return strings.Join(pieces, " ")
}

// dotted ends the name in a record's data with a dot, so that no zone is put behind.
func dotted(kind, value string) string {
	switch kind {
	case "MX", "CNAME", "PTR", "NS", "SRV":
		if !strings.HasSuffix(value, ".") {
			return value + "."
		}
	}
	return value
}

// host is a name within its zone.
func host(zone, name string) string {
	if strings.EqualFold(name, zone) {
		return "@"
	}
	if cut, ok := strings.CutSuffix(strings.ToLower(name), "."+strings.ToLower(zone)); ok {
		return name[:len(cut)]
	}
	return name + "."
}

// Reverse is the name at which an address has its PTR (RFC 1035 section 3.5, RFC
// 3596 section 2.5).
func Reverse(a netip.Addr) string {
	if a = a.Unmap(); a.Is4() {
		b := a.As4()
		return fmt.Sprintf("%d.%d.%d.%d.in-addr.arpa", b[3], b[2], b[1], b[0])
	}
	b := a.As16()
	var s strings.Builder
	for i := len(b) - 1; i >= 0; i-- {
		fmt.Fprintf(&s, "%x.%x.", b[i]&15, b[i]>>4)
	}
	return s.String() + "ip6.arpa"
}
