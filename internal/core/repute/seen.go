package repute

import (
	"net/netip"
	"regexp"
	"strings"

	"gullroute/internal/core/message"
)

// maxInFront bounds how many relays in front of us are followed.
const maxInFront = 10

// literal is an address as trace fields write it (RFC 5321 section 4.4).
var literal = regexp.MustCompile(`\[(?i:ipv6:)?([0-9a-fA-F:.]+)\]`)

// seenIn is what the relay itself saw: it stands last. What stands before it, in brackets too,
// is what the client called itself.
var seenIn = regexp.MustCompile(`\(([^()]*)\)[^()]*$`)

// Seen is the client that relays in front of us saw, and the name that it gave: each such
// relay wrote the trace field on top of what it took. ok is false where that cannot be read;
// then nobody can be weighed.
func Seen(
	h message.Header,
	inFront func(netip.Addr) bool,
) (client netip.Addr, helo string, ok bool) {
	n := 0
	for _, f := range h {
		if !strings.EqualFold(f.Name, "Received") {
			continue
		}
		if n++; n > maxInFront {
			return netip.Addr{}, "", false
		}
		client, helo, ok = from(f.Value)
		if !ok || !inFront(client) {
			return client, helo, ok
		}
	}
	return netip.Addr{}, "", false
}

// from reads the clause of a trace field that says from whom the message came.
func from(value string) (client netip.Addr, helo string, ok bool) {
	text := strings.Join(strings.Fields(value), " ")
	rest, found := strings.CutPrefix(strings.ToLower(text), "from ")
	if !found {
		return netip.Addr{}, "", false
	}
	rest = text[len(text)-len(rest):]
	if at := strings.Index(strings.ToLower(rest), " by "); at >= 0 {
		rest = rest[:at]
	}
	helo, comment, _ := strings.Cut(rest, " ")
	text = helo // some write the address only as the name
	if m := seenIn.FindStringSubmatch(comment); m != nil {
		text = m[1]
	}
	if m := literal.FindStringSubmatch(text); m != nil {
		text = m[1]
	}
	ip, err := netip.ParseAddr(strings.TrimSpace(text))
	return ip.Unmap(), helo, err == nil
}
