package access

import (
	"bytes"
	"mime"
	"strings"

	"gullroute/internal/core/message"
)

// asciiHeader is a header section for programs that know no UTF-8 in it (RFC 6856 section
// 3.1): words that are not ASCII become encoded words (RFC 2047).
func asciiHeader(section []byte) []byte {
	if message.IsASCII(section) {
		return section
	}
	var out []byte
	for line := range bytes.Lines(section) {
		if message.IsASCII(line) {
			out = append(out, line...)
			continue
		}
		text := strings.TrimRight(string(line), "\r\n")
		words := strings.Split(text, " ")
		for i, w := range words {
			if !message.IsASCII([]byte(w)) {
				words[i] = mime.QEncoding.Encode("utf-8", strings.ToValidUTF8(w, "\ufffd"))
			}
		}
		out = append(out, strings.Join(words, " ")+"\r\n"...)
	}
	return out
}
