package diagnose

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// plain is a text as phrases are looked for in it: lower case, without accents,
// one space between words and at both ends.
func plain(text string) string {
	if len(text) > maxText {
		text = text[:maxText]
	}
	ascii := true
	for i := 0; i < len(text) && ascii; i++ {
		ascii = text[i] < utf8.RuneSelf
	}
	if !ascii {
		text = norm.NFD.String(strings.ToLower(text))
	}
	b := make([]byte, 1, len(text)+2)
	b[0] = ' '
	for _, r := range text {
		switch {
		case 'a' <= r && r <= 'z' || '0' <= r && r <= '9':
			b = append(b, byte(r))
		case 'A' <= r && r <= 'Z':
			b = append(b, byte(r)+'a'-'A')
		case r == '\'': // doesn't
		case r < utf8.RuneSelf:
			b = space(b)
		case unicode.Is(unicode.Mn, r):
		default:
			if with, ok := lookalikes[r]; ok {
				b = append(b, with...)
			} else if unicode.IsLetter(r) {
				b = utf8.AppendRune(b, r)
			} else {
				b = space(b)
			}
		}
	}
	return string(space(b))
}

// maxText is how much of a reply is looked at, in octets.
const maxText = 2000

func space(b []byte) []byte {
	if b[len(b)-1] != ' ' {
		b = append(b, ' ')
	}
	return b
}

// lookalikes are letters that no decomposition makes plain.
var lookalikes = map[rune]string{
	'ß': "ss",
	'ø': "o",
	'æ': "ae",
	'œ': "oe",
	'ł': "l",
	'đ': "d",
	'ı': "i",
	'’': "",
}

// phrases finds all of many phrases in one pass over a text: an automaton after
// Aho and Corasick.
type phrases struct {
	next [][256]int32 // by state and octet
	ends [][]int32    // phrases that end in a state
	n    int
}

// newPhrases makes the automaton of a list of phrases in plain form.
func newPhrases(list []string) *phrases {
	p := &phrases{next: make([][256]int32, 1), ends: make([][]int32, 1), n: len(list)}
	for i, phrase := range list {
		at := int32(0)
		for k := 0; k < len(phrase); k++ {
			to := p.next[at][phrase[k]]
			if to == 0 {
				to = int32(len(p.next))
				p.next = append(p.next, [256]int32{})
				p.ends = append(p.ends, nil)
				p.next[at][phrase[k]] = to
			}
			at = to
		}
		p.ends[at] = append(p.ends[at], int32(i))
	}
	back := make([]int32, len(p.next))
	var queue []int32
	for _, to := range p.next[0] {
		if to != 0 {
			queue = append(queue, to)
		}
	}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		p.ends[at] = append(p.ends[at], p.ends[back[at]]...)
		for c, to := range p.next[at] {
			if to == 0 {
				p.next[at][c] = p.next[back[at]][c]
				continue
			}
			back[to] = p.next[back[at]][c]
			queue = append(queue, to)
		}
	}
	return p
}

// found marks which phrases stand in a text, a bit for each.
func (p *phrases) found(text string) []uint64 {
	out := make([]uint64, (p.n+63)/64)
	at := int32(0)
	for i := 0; i < len(text); i++ {
		at = p.next[at][text[i]]
		for _, e := range p.ends[at] {
			out[e/64] |= 1 << (e % 64)
		}
	}
	return out
}
