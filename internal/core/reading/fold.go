package reading

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// fold is a text in the form in which words are compared: lower case, without
// accents and vowel signs, ae, oe and ue as a, o and u, since both are written for
// one letter. What is no letter and no digit is a space.
func fold(text string) string {
	plain := true
	for i := 0; i < len(text) && plain; i++ {
		plain = text[i] < utf8.RuneSelf
	}
	if !plain {
		text = norm.NFD.String(strings.ToLower(text))
	}
	b := make([]byte, 0, len(text))
	for i, r := range text {
		switch {
		case 'a' <= r && r <= 'z' || '0' <= r && r <= '9':
			b = append(b, byte(r))
		case 'A' <= r && r <= 'Z':
			b = append(b, byte(r)+'a'-'A')
		case r == '\'' || r == '’' || r == '`':
			if elided(b) && i+1 < len(text) {
				b = append(b, ' ')
			}
		case r < utf8.RuneSelf:
			b = append(b, ' ')
		case unicode.IsMark(r) || unicode.Is(unicode.Cf, r):
		default:
			if with, ok := lookalikes[r]; ok {
				b = append(b, with...)
			} else if unicode.IsLetter(r) || unicode.IsDigit(r) {
				b = utf8.AppendRune(b, r)
			} else {
				b = append(b, ' ')
			}
		}
	}
	return string(single(b))
}

// elided reports that what ends b is an article or the like before an apostrophe
// (l'adresse, dell'utente), and not the stem of a contraction (doesn't).
func elided(b []byte) bool {
	n := len(b)
	for n > 0 && b[n-1] != ' ' {
		n--
	}
	switch before := string(b[n:]); before {
	case "dell", "all", "nell", "sull", "dall", "un", "qu", "l", "d", "n", "s", "c", "j", "m", "t":
		return true
	default:
		return false
	}
}

// single puts one space where several are, and one letter where two stand for it.
func single(b []byte) []byte {
	out := b[:0]
	for i, c := range b {
		if c == ' ' && (len(out) == 0 || out[len(out)-1] == ' ') {
			continue
		}
		if c == 'e' && i > 0 && len(out) > 0 {
			if p := out[len(out)-1]; p == 'a' || p == 'o' || p == 'u' {
				continue
			}
		}
		out = append(out, c)
	}
	if n := len(out); n > 0 && out[n-1] == ' ' {
		out = out[:n-1]
	}
	return out
}

// lookalikes are letters that no decomposition makes plain.
var lookalikes = map[rune]string{
	'ß': "ss", 'ø': "o", 'æ': "a", 'œ': "o", 'ł': "l", 'đ': "d", 'ð': "d", 'þ': "th", 'ı': "i",
	'ς': "σ", 'ё': "е", 'ی': "ي", 'ک': "ك",
}
