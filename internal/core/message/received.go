package message

import (
	"net/netip"
	"strings"
	"time"

	"gullroute/internal/core/address"
)

// DateFormat is the date of RFC 5322 section 3.3.
const DateFormat = "Mon, 02 Jan 2006 15:04:05 -0700"

// Received is a trace field (RFC 5321 section 4.4).
type Received struct {
	Helo     string // what the client called itself
	Client   netip.Addr
	By       string // our name
	Protocol string // a value of RFC 3848 or RFC 6531, such as ESMTP
	ID       string
	For      address.Address // the recipient if there is one only
	At       time.Time
}

// String is the field, folded, with its CRLF.
func (r Received) String() string {
	var b strings.Builder
	b.WriteString("Received: from ")
	b.WriteString(cleanHelo(r.Helo))
	b.WriteString(" (")
	b.WriteString(TCPInfo(r.Client))
	b.WriteString(")\r\n\tby ")
	b.WriteString(r.By)
	b.WriteString(" with ")
	b.WriteString(r.Protocol)
	b.WriteString(" id ")
	b.WriteString(r.ID)
	if !r.For.IsNull() && (!r.For.NeedsUTF8() || strings.HasPrefix(r.Protocol, "UTF8")) {
		b.WriteString("\r\n\tfor <")
		b.WriteString(r.For.String())
		b.WriteString(">")
	}
	b.WriteString(";\r\n\t")
	b.WriteString(r.At.Format(DateFormat))
	b.WriteString("\r\n")
	return b.String()
}

// TCPInfo is a client's address as the trace field shows it.
func TCPInfo(ip netip.Addr) string {
	if ip = ip.Unmap(); ip.Is6() {
		return "[IPv6:" + ip.String() + "]"
	}
	return "[" + ip.String() + "]"
}

// cleanHelo keeps a lying client from writing comments or folds into our field.
func cleanHelo(helo string) string {
	ok := helo != "" && len(helo) <= address.MaxDomain
	for i := 0; ok && i < len(helo); i++ {
		c := helo[i]
		ok = c > ' ' && c < 0x7f && !strings.ContainsRune("()<>;,\"\\@", rune(c))
	}
	if !ok {
		return "unknown"
	}
	return helo
}
