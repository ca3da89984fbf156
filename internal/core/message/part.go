package message

import (
	"encoding/base64"
	"io"
	"mime/quotedprintable"
	"strings"
)

// DecodeTransfer undoes a content transfer encoding (RFC 2045 section 6).
func DecodeTransfer(encoding string, r io.Reader) io.Reader {
	switch strings.ToLower(strings.TrimSpace(encoding)) {
	case "base64":
		return base64.NewDecoder(base64.StdEncoding, &withoutSpace{r})
	case "quoted-printable":
		return quotedprintable.NewReader(r)
	}
	return r
}

// withoutSpace leaves out what does not belong into base64.
type withoutSpace struct{ r io.Reader }

func (w *withoutSpace) Read(p []byte) (int, error) {
	n, err := w.r.Read(p)
	k := 0
	for _, c := range p[:n] {
		if c > ' ' {
			p[k] = c
			k++
		}
	}
	return k, err
}

// IsASCII reports octets below 128 only.
func IsASCII(p []byte) bool {
	for _, c := range p {
		if c >= 0x80 {
			return false
		}
	}
	return true
}
