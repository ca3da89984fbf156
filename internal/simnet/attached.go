package simnet

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"strings"
)

// Kinds of files that messages of the demo world carry.
const (
	Program = "program" // under a name that deceives
	Zip     = "zip"     // an archive with a text in it
	Packed  = "packed"  // a program within an archive
	Chart   = "chart"   // a PDF
	Bulk    = "bulk"    // no file: HTML with a link, from a client that greets falsely
)

// Attached is what stands behind the header of a message: its last fields, an empty line,
// and the text, with a file of a kind or without one.
func Attached(kind, text string) string {
	if kind == Bulk {
		return "MIME-Version: 1.0\r\nContent-Type: text/html; charset=utf-8\r\n\r\n<p>" + text +
			"</p>\r\n<a href=\"https://shop.undertow.example/now\">See all offers</a>" +
			"<img src=\"https://shop.undertow.example/seen.png\" width=1 height=1>\r\n"
	}
	name, media, content := file(kind)
	if name == "" {
		return "\r\n" + text
	}
	const boundary = "quay-side"
	encoded := base64.StdEncoding.EncodeToString(content)
	var b strings.Builder
	b.WriteString("MIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=" + boundary +
		"\r\n\r\n--" + boundary + "\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n" + text + "\r\n--" +
		boundary + "\r\nContent-Type: " + media + "; name=\"" + name +
		"\"\r\nContent-Disposition: attachment; filename=\"" + name +
		"\"\r\nContent-Transfer-Encoding: base64\r\n\r\n")
	for len(encoded) > 76 {
		b.WriteString(encoded[:76] + "\r\n")
		encoded = encoded[76:]
	}
	b.WriteString(encoded + "\r\n--" + boundary + "--\r\n")
	return b.String()
}

func file(kind string) (name, media string, content []byte) {
	program := append([]byte("MZ\x90\x00"), bytes.Repeat([]byte{0}, 600)...)
	switch kind {
	case Program:
		return "parcel-4411.pdf.exe", "application/octet-stream", program
	case Packed:
		return "voice-message.zip", "application/zip", archive("voice-message.scr", program)
	case Zip:
		return "tickets.zip", "application/zip", archive("tickets.txt", []byte("two adults, one bicycle\n"))
	case Chart:
		return "north-channel.pdf", "application/pdf", []byte("%PDF-1.4\n% a chart\n" +
			strings.Repeat("0 0 m 10 10 l S\n", 200))
	}
	return "", "", nil
}

func archive(name string, content []byte) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(name)
	if err == nil {
		_, _ = w.Write(content)
	}
	_ = z.Close()
	return b.Bytes()
}
