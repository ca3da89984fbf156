package cli

import (
	"fmt"
	"io"
	"unicode/utf8"
)

// inert writes text for people so that what strangers put into it does nothing to
// a terminal: control characters and those that turn the direction of writing come
// out as escapes. Lines and tabs stay.
type inert struct{ w io.Writer }

// Write writes p, escaped.
func (i inert) Write(p []byte) (int, error) {
	out := make([]byte, 0, len(p))
	for rest := p; len(rest) > 0; {
		r, n := utf8.DecodeRune(rest)
		switch {
		case r == utf8.RuneError && n == 1:
			out = fmt.Appendf(out, `\x%02x`, rest[0])
		case r == '\n' || r == '\t' || !acts(r):
			out = append(out, rest[:n]...)
		case r < 0x100:
			out = fmt.Appendf(out, `\x%02x`, r)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		rest = rest[n:]
	}
	if _, err := i.w.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// acts reports a character that does something in place of being shown.
func acts(r rune) bool {
	return r < ' ' || r >= 0x7f && r < 0xa0 || r == 0x061c || r == 0x200e || r == 0x200f || r >= 0x2028 && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}
