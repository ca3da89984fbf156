// Package inert keeps what strangers write from doing anything where it is shown:
// control characters, and those that turn the direction of writing, come out as
// escapes.
package inert

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Acts reports a character that does something in place of being shown. Line ends
// and tabs do too; marks of direction without effect on other text do not.
func Acts(r rune) bool {
	return r < ' ' || r >= 0x7f && r < 0xa0 || r == 0x2028 || r == 0x2029 ||
		r >= 0x202a && r <= 0x202e ||
		r >= 0x2066 && r <= 0x2069
}

// Text is s with such characters, and octets that are no UTF-8, as escapes; tabs stay.
func Text(s string) string {
	plain := true
	for i := 0; i < len(s) && plain; i++ {
		plain = s[i] >= ' ' && s[i] < 0x7f
	}
	if plain {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && n <= 1:
			fmt.Fprintf(&b, `\x%02x`, s[0])
		case r == '\t' || !Acts(r):
			b.WriteString(s[:n])
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		s = s[n:]
	}
	return b.String()
}

// Cell is s as a cell of a table file: what a spreadsheet would run as a formula
// becomes a text by an apostrophe before it, and what acts on a terminal an escape.
// Lines and tabs within stay.
func Cell(s string) string {
	if s == "" {
		return s
	}
	switch s[0] {
	case '=', '+', '-', '@', '\t', '\r', '\n', 0x1b:
		s = "'" + s
	}
	if !strings.ContainsFunc(s, func(r rune) bool {
		return r != '\n' && r != '\t' && r != '\r' && Acts(r) ||
			r == utf8.RuneError
	}) {
		return s
	}
	var b strings.Builder
	for line := range strings.Lines(s) {
		text := strings.TrimRight(line, "\r\n")
		b.WriteString(Text(text) + line[len(text):])
	}
	return b.String()
}

// Uncelled is what Cell was given, as far as a table file's reader can tell.
func Uncelled(s string) string {
	if len(s) > 1 && s[0] == '\'' && strings.ContainsRune("=+-@\t\r\n\x1b", rune(s[1])) {
		return s[1:]
	}
	return s
}
