package reshape

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"gullroute/internal/core/message"
)

// oneWord is one encoded word, and encodedRun those that belong together (RFC 2047).
var (
	oneWord    = regexp.MustCompile(`=\?[^?\s]+\?[BbQq]\?[^?\s]*\?=`)
	encodedRun = regexp.MustCompile(oneWord.String() + `(?:[ \t\r\n]+` + oneWord.String() + `)*`)
)

// unstructured are fields whose text stands for itself.
var unstructured = []string{"subject", "comments"}

// encodedWords writes the encoded words of a header section in the partner's charset.
func (p *partner) encodedWords(header []byte) {
	for _, at := range encodedRun.FindAllIndex(header, -1) {
		run := header[at[0]:at[1]]
		text := message.Decode(string(bytes.Join(oneWord.FindAll(run, -1), []byte(" "))))
		if oneWord.MatchString(text) {
			continue // in a charset that nobody knows
		}
		name, _, _ := bytes.Cut(header[fieldStart(header, at[0]):], []byte(":"))
		field := strings.ToLower(string(name))
		if strings.HasPrefix(field, "content-") {
			continue
		}
		encoded, lost := p.text.Encode(text)
		p.lost += lost
		words := string(encoded)
		switch {
		case !message.IsASCII(encoded) || bytes.ContainsRune(encoded, 0x1b):
			words = p.inWords(text)
		case !slices.Contains(unstructured, field):
			words = quoted(words)
		}
		if strings.ContainsAny(strings.ReplaceAll(words, "\r\n ", ""), "\r\n") {
			continue
		}
		p.edits = append(p.edits, Edit{From: int64(at[0]), To: int64(at[1]), New: []byte(words)})
	}
}

// inWords writes a text as encoded words, each on a line of its own and whole in itself.
func (p *partner) inWords(text string) string {
	const longest = 75 // characters of an encoded word (RFC 2047 section 2)
	var words []string
	word, chunk := "", ""
	for _, r := range text {
		encoded, _ := p.text.Encode(chunk + string(r))
		next := qWord(p.text.Name(), encoded)
		room := longest
		if len(words) == 0 {
			room -= 16 // the field's name stands on the line of the first one
		}
		if len(next) > room && chunk != "" {
			words, chunk = append(words, word), ""
			encoded, _ = p.text.Encode(string(r))
			next = qWord(p.text.Name(), encoded)
		}
		word, chunk = next, chunk+string(r)
	}
	return strings.Join(append(words, word), "\r\n ")
}

// qWord is an encoded word that may stand in every field (RFC 2047 section 5).
func qWord(name string, encoded []byte) string {
	var b strings.Builder
	b.WriteString("=?" + name + "?Q?")
	for _, c := range encoded {
		switch {
		case c == ' ':
			b.WriteByte('_')
		case c >= '0' && c <= '9', c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z',
			strings.IndexByte("!*+-/", c) >= 0:
			b.WriteByte(c)
		default:
			fmt.Fprintf(&b, "=%02X", c)
		}
	}
	return b.String() + "?="
}

// fieldStart is where the field begins in which an octet stands.
func fieldStart(header []byte, at int) int {
	for {
		i := bytes.LastIndexByte(header[:at], '\n')
		if i < 0 {
			return 0
		}
		if header[i+1] != ' ' && header[i+1] != '\t' {
			return i + 1
		}
		at = i
	}
}

// quoted is a phrase that may hold what has a meaning in an address field.
func quoted(s string) string {
	if strings.ContainsAny(s, `"\`) {
		s = strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s)
	}
	return `"` + s + `"`
}
