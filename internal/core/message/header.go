// Package message reads and writes the format of mail itself (RFC 5322, RFC
// 2045 to 2047): header fields, their decoded text, and the trace fields that a
// server adds.
package message

import (
	"bytes"
	"fmt"
	"mime"
	"strings"
	"unicode/utf8"

	"gullroute/internal/core/inert"
)

// MaxHeader is the largest header section we take, in octets.
const MaxHeader = 256 << 10

// Field is one header field, its value unfolded but not decoded.
type Field struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Header is a header section in order.
type Header []Field

// ErrHeaderTooLarge reports a header section of more than MaxHeader octets.
var ErrHeaderTooLarge = fmt.Errorf("the header section is larger than %d octets", MaxHeader)

// SplitHeader finds the header section at the head of content: the fields up to
// the empty line, or to the first line that is no field (such content has a body
// without an empty line before it). complete is false if the section goes on
// beyond what is given.
func SplitHeader(content []byte) (section []byte, complete bool) {
	end := 0
	for {
		line, _, whole := bytes.Cut(content[end:], []byte("\r\n"))
		if !whole {
			return content, false
		}
		name, _, isField := bytes.Cut(line, []byte(":"))
		folded := end > 0 && len(line) > 0 && (line[0] == ' ' || line[0] == '\t')
		if !folded && !(isField && isFieldName(bytes.TrimRight(name, " \t"))) {
			return content[:end], true
		}
		end += len(line) + 2
	}
}

// ParseHeader reads a header section. Reading ends at the first line that is no
// field: such content has a body without an empty line before it.
func ParseHeader(section []byte) Header {
	var h Header
	for len(section) > 0 {
		line, rest, _ := bytes.Cut(section, []byte("\r\n"))
		section = rest
		if len(line) > 0 && (line[0] == ' ' || line[0] == '\t') {
			if len(h) > 0 {
				h[len(h)-1].Value += " " + strings.TrimSpace(string(line))
			}
			continue
		}
		name, value, ok := bytes.Cut(line, []byte(":"))
		if !ok || !isFieldName(bytes.TrimRight(name, " \t")) {
			break
		}
		h = append(h, Field{string(bytes.TrimRight(name, " \t")), strings.TrimSpace(string(value))})
	}
	return h
}

func isFieldName(name []byte) bool {
	for _, c := range name {
		if c <= ' ' || c >= 0x7f {
			return false
		}
	}
	return len(name) > 0
}

// First is the value of the first field of that name, "" if there is none.
func (h Header) First(name string) string {
	for _, f := range h {
		if strings.EqualFold(f.Name, name) {
			return f.Value
		}
	}
	return ""
}

var words = mime.WordDecoder{}

// Decode turns the encoded words of RFC 2047 into text. What is not valid is
// left as it stands; the result is valid UTF-8 without characters that act.
func Decode(value string) string {
	text, err := words.DecodeHeader(value)
	if err != nil {
		text = value
	}
	if !utf8.ValidString(text) {
		text = strings.ToValidUTF8(text, "\uFFFD")
	}
	return strings.Map(func(r rune) rune {
		switch {
		case r < ' ' || r == 0x7f:
			return ' '
		case inert.Acts(r):
			return '\uFFFD'
		}
		return r
	}, text)
}

// EncodeText writes unstructured text for a header field: as it is where that
// fits, else as folded encoded words (RFC 2047). White space becomes single
// spaces, so that no text can begin a new field.
func EncodeText(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	plain := len(s) <= 60
	for i := 0; plain && i < len(s); i++ {
		plain = s[i] >= ' ' && s[i] < 0x7f
	}
	if plain {
		return s
	}
	return strings.ReplaceAll(mime.QEncoding.Encode("utf-8", s), "?= =?", "?=\r\n =?")
}

// Summary is what the queue and the trace keep of a message's header.
type Summary struct {
	From      string // decoded, at most 500 octets
	Subject   string // decoded, at most 500 octets
	MessageID string
	Hops      int // Received fields
	OwnHops   int // those our own host wrote
}

// Summarize reads a header section for the server named ownName.
func Summarize(section []byte, ownName string) Summary {
	h := ParseHeader(section)
	s := Summary{
		From:      inert.Clip(Decode(h.First("From")), 500),
		Subject:   inert.Clip(Decode(h.First("Subject")), 500),
		MessageID: inert.Line(h.First("Message-ID"), 500),
	}
	by := "by " + strings.ToLower(ownName) + " "
	for _, f := range h {
		if strings.EqualFold(f.Name, "Received") {
			s.Hops++
			if strings.Contains(strings.ToLower(f.Value), by) {
				s.OwnHops++
			}
		}
	}
	return s
}
