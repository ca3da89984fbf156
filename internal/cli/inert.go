package cli

import (
	"fmt"
	"io"
	"unicode/utf8"

	"gullroute/internal/core/inert"
)

// harmless writes text for people so that what strangers put into it does nothing to
// a terminal: control characters and those that turn the direction of writing come
// out as escapes. Lines and tabs stay.
type harmless struct{ w io.Writer }

// Write writes p, escaped.
func (i harmless) Write(p []byte) (int, error) {
	out := make([]byte, 0, len(p))
	for rest := p; len(rest) > 0; {
		r, n := utf8.DecodeRune(rest)
		switch {
		case r == utf8.RuneError && n == 1:
			out = fmt.Appendf(out, `\x%02x`, rest[0])
		case r == '\n' || r == '\t' || !inert.Acts(r):
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
