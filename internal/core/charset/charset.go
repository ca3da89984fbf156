// Package charset writes text in the charsets of programs that do not know UTF-8. What a
// charset lacks is written with characters that it has, as people would.
package charset

import (
	"strings"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/ianaindex"
	"golang.org/x/text/unicode/norm"
)

// ASCII is the charset of characters below 128.
const ASCII = "us-ascii"

// Text writes text in one charset.
type Text struct {
	name string
	enc  *encoding.Encoder // nil of ASCII
	has  map[rune]bool     // outside ASCII
}

// New writes in a charset by its IANA name; an unknown one is ASCII.
func New(name string) *Text {
	t := &Text{name: strings.ToLower(name), has: map[rune]bool{}}
	if t.name == ASCII {
		return t
	}
	e, err := ianaindex.MIME.Encoding(name)
	if err != nil || e == nil {
		t.name = ASCII
		return t
	}
	t.enc = e.NewEncoder()
	return t
}

// Name is the charset's name.
func (t *Text) Name() string { return t.name }

// Encode writes a text. Lost counts the characters for which another stands.
func (t *Text) Encode(text string) (encoded []byte, lost int) {
	var b strings.Builder
	for _, r := range norm.NFC.String(text) {
		if t.knows(r) {
			b.WriteRune(r)
			continue
		}
		b.WriteString(t.near(r))
		lost++
	}
	if t.enc == nil {
		return []byte(b.String()), lost
	}
	out, err := t.enc.Bytes([]byte(b.String()))
	if err != nil { // it knows each of them
		return []byte(strings.Map(func(r rune) rune {
			if r < 0x80 {
				return r
			}
			return '?'
		}, b.String())), lost
	}
	return out, lost
}

func (t *Text) knows(r rune) bool {
	if r < 0x80 {
		return true
	}
	if t.enc == nil {
		return false
	}
	known, ok := t.has[r]
	if !ok {
		_, err := t.enc.String(string(r))
		t.enc.Reset()
		known = err == nil
		t.has[r] = known
	}
	return known
}

// usual is how people write what a charset lacks.
var usual = map[rune]string{
	'ä': "ae", 'ö': "oe", 'ü': "ue", 'Ä': "Ae", 'Ö': "Oe", 'Ü': "Ue", 'ß': "ss", 'ẞ': "SS",
	'å': "aa", 'Å': "Aa", 'æ': "ae", 'Æ': "Ae", 'ø': "oe", 'Ø': "Oe", 'œ': "oe", 'Œ': "Oe",
	'þ': "th", 'Þ': "Th", 'ð': "d", 'Ð': "D", 'đ': "d", 'Đ': "D", 'ł': "l", 'Ł': "L", 'ı': "i",
	'‘': "'", '’': "'", '‚': "'", '‛': "'", '“': `"`, '”': `"`, '„': `"`, '‟': `"`,
	'«': `"`, '»': `"`, '‹': "'", '›': "'", '‐': "-", '‑': "-", '‒': "-", '–': "-", '—': "-",
	'―': "-", '−': "-", '…': "...", '•': "*", '·': "*", '€': "EUR", '£': "GBP", '¥': "JPY",
	'©': "(c)", '®': "(R)", '™': "(TM)", '°': " deg", '×': "x", '÷': "/", '→': "->", '←': "<-",
	'½': "1/2", '¼': "1/4", '¾': "3/4", '²': "2", '³': "3", '№': "No.",
	'\u00a0': " ", '\u202f': " ", '\u2009': " ", '\u00ad': "", '\u200b': "", '\u200c': "",
	'\u200d': "", '\u2060': "", '\ufeff': "", '\ufe0f': "",
}

// near is what stands for a character that the charset lacks.
func (t *Text) near(r rune) string {
	words, ok := usual[r]
	if !ok {
		words = norm.NFKD.String(string(r))
	}
	var b strings.Builder
	for _, c := range words {
		if t.knows(c) {
			b.WriteRune(c)
		}
	}
	if b.Len() == 0 && !(ok && words == "") {
		return "?"
	}
	return b.String()
}
