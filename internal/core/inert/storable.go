package inert

import (
	"bytes"
	"strings"
	"unicode/utf8"
)

// Line is strangers' text as one line of ours: what acts and what is no UTF-8 comes
// out as escapes, tabs as blanks, and at most max octets are kept, whole characters.
// Every word of a stranger that goes on record passes here.
func Line(s string, max int) string {
	s = Clip(s, max) // escapes only lengthen: what is beyond can't be kept
	return Clip(strings.ReplaceAll(Text(s), "\t", " "), max)
}

// Clip keeps at most max octets of s, whole characters.
func Clip(s string, max int) string {
	if len(s) <= max {
		return s
	}
	for back := 0; back < utf8.UTFMax-1 && max > back; back++ {
		if utf8.RuneStart(s[max-back]) {
			return s[:max-back]
		}
	}
	return s[:max]
}

// Storable reports whether a database keeps s as a text: valid UTF-8 without NUL.
func Storable(s []byte) bool { return bytes.IndexByte(s, 0) < 0 && utf8.Valid(s) }

// Stored is s with what a database does not keep in a text as the replacement
// character U+FFFD.
func Stored(s []byte) []byte {
	return bytes.ReplaceAll(bytes.ToValidUTF8(s, replacement), []byte{0}, replacement)
}

var replacement = []byte("\uFFFD")

// StoredJSON is JSON whose strings hold only what a database keeps: the escape of a
// NUL, and escapes of surrogates that are no pair, become the replacement character.
func StoredJSON(text []byte) []byte {
	if !Storable(text) {
		text = Stored(text)
	}
	if !bytes.Contains(text, []byte(`\u`)) {
		return text
	}
	out := make([]byte, 0, len(text))
	for i := 0; i < len(text); {
		if text[i] != '\\' || i+1 >= len(text) {
			out = append(out, text[i])
			i++
			continue
		}
		n := 2 // of the escape
		keep := true
		if unit, ok := unitAt(text[i:]); ok {
			n = 6
			second, pair := unitAt(text[i+6:])
			switch {
			case unit == 0, unit >= 0xdc00 && unit < 0xe000:
				keep = false
			case unit >= 0xd800 && unit < 0xdc00 && pair && second >= 0xdc00 && second < 0xe000:
				n = 12
			case unit >= 0xd800 && unit < 0xdc00:
				keep = false
			}
		}
		if keep {
			out = append(out, text[i:i+n]...)
		} else {
			out = append(out, `\ufffd`...)
		}
		i += n
	}
	return out
}

// unitAt reads an escape \uXXXX at the head of text.
func unitAt(text []byte) (unit uint16, ok bool) {
	if len(text) < 6 || text[0] != '\\' || text[1] != 'u' {
		return 0, false
	}
	for _, c := range text[2:6] {
		switch {
		case c >= '0' && c <= '9':
			unit = unit<<4 | uint16(c-'0')
		case c >= 'a' && c <= 'f':
			unit = unit<<4 | uint16(c-'a'+10)
		case c >= 'A' && c <= 'F':
			unit = unit<<4 | uint16(c-'A'+10)
		default:
			return 0, false
		}
	}
	return unit, true
}
