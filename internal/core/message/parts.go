package message

import (
	"bytes"
	"fmt"
	"html"
	"io"
	"mime"
	"mime/multipart"
	"regexp"
	"strings"
	"unicode/utf8"
)

// Part is a part of a message (RFC 2045).
type Part struct {
	Path        string // 1.2 is the second part of the first
	Type        string
	Charset     string
	Encoding    string
	Name        string
	Disposition string
	Size        int64 // octets as they are in the message
	// Text is what people read of a text part, decoded and cut to a limit.
	Text string
}

// Bounds on what is looked at.
const (
	maxDepth = 10
	maxParts = 200
	// MaxText is how much of a message's text is shown, in octets.
	MaxText = 256 << 10
)

// Structure takes a message apart. What is broken is shown as far as it goes.
func Structure(content []byte) []Part {
	section, _ := SplitHeader(content)
	body := content[len(section):]
	var parts []Part
	walk(ParseHeader(section), bytes.TrimPrefix(body, []byte("\r\n")), "", 0, &parts)
	return parts
}

func walk(h Header, body []byte, path string, depth int, parts *[]Part) {
	kind, params, err := mime.ParseMediaType(h.First("Content-Type"))
	if err != nil || kind == "" {
		kind = "text/plain"
	}
	if path == "" {
		path = "1"
		if strings.HasPrefix(kind, "multipart/") {
			path = "0"
		}
	}
	p := Part{
		Path:     path,
		Type:     kind,
		Charset:  params["charset"],
		Encoding: strings.ToLower(h.First("Content-Transfer-Encoding")),
		Size:     int64(len(body)),
	}
	disposition, attributes, _ := mime.ParseMediaType(h.First("Content-Disposition"))
	p.Disposition, p.Name = disposition, Decode(attributes["filename"])
	if p.Name == "" {
		p.Name = Decode(params["name"])
	}
	if strings.HasPrefix(kind, "text/") {
		p.Text = text(p, body)
	}
	*parts = append(*parts, p)
	if !strings.HasPrefix(kind, "multipart/") || params["boundary"] == "" || depth >= maxDepth {
		return
	}
	r := multipart.NewReader(bytes.NewReader(body), params["boundary"])
	for n := 1; len(*parts) < maxParts; n++ {
		sub, err := r.NextRawPart()
		if err != nil {
			return
		}
		inner, _ := io.ReadAll(sub)
		var ih Header
		for name, values := range sub.Header {
			for _, v := range values {
				ih = append(ih, Field{Name: name, Value: v})
			}
		}
		below := fmt.Sprint(n)
		if path != "0" {
			below = path + "." + below
		}
		walk(ih, inner, below, depth+1, parts)
	}
}

// text decodes a part for people. HTML becomes its words: nothing in it is run
// or fetched.
func text(p Part, body []byte) string {
	decoded, _ := io.ReadAll(
		io.LimitReader(DecodeTransfer(p.Encoding, bytes.NewReader(body)), MaxText),
	)
	s := string(decoded)
	if charset := strings.ToLower(
		p.Charset,
	); !utf8.ValidString(s) || strings.HasPrefix(charset, "iso-8859-1") ||
		strings.HasPrefix(charset, "windows-125") {
		if !utf8.ValidString(s) {
			s = latin1(decoded)
		}
	}
	if p.Type == "text/html" {
		s = wordsOf(s)
	}
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0x7f || r >= 0x202a && r <= 0x202e ||
			r >= 0x2066 && r <= 0x2069 {
			return -1
		}
		return r
	}, strings.ReplaceAll(s, "\r\n", "\n"))
}

func latin1(b []byte) string {
	var out strings.Builder
	for _, c := range b {
		out.WriteRune(rune(c))
	}
	return out.String()
}

var (
	unseen = regexp.MustCompile(
		`(?is)<(script|style|head|title)\b.*?</(script|style|head|title)\s*>|<!--.*?-->`,
	)
	breaks  = regexp.MustCompile(`(?i)<(br|/p|/div|/tr|/li|/h[1-6]|/table)\b[^>]*>`)
	anyTag  = regexp.MustCompile(`(?s)<[^>]*>`)
	manyGap = regexp.MustCompile(`\n[ \t]*\n[\s]*\n`)
)

// wordsOf is the text of HTML.
func wordsOf(s string) string {
	s = unseen.ReplaceAllString(s, "")
	s = breaks.ReplaceAllString(s, "\n")
	s = html.UnescapeString(anyTag.ReplaceAllString(s, ""))
	return strings.TrimSpace(manyGap.ReplaceAllString(s, "\n\n"))
}

// Readable chooses what people read: the first plain text, else the words of the
// first HTML.
func Readable(parts []Part) (text, kind string) {
	for _, want := range []string{"text/plain", "text/html", "text/"} {
		for _, p := range parts {
			if strings.HasPrefix(p.Type, want) && p.Disposition != "attachment" &&
				strings.TrimSpace(p.Text) != "" {
				return p.Text, p.Type
			}
		}
	}
	return "", ""
}
