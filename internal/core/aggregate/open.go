package aggregate

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"strings"
)

// Bounds of a message with a report.
const (
	maxPacked   = 10 << 20
	maxUnpacked = 50 << 20
	maxParts    = 50
	maxDepth    = 5
)

// ErrNone reports a message in which there is no report.
var ErrNone = errors.New("there is no report in it")

// Open finds the report in a message; one of the two is nil.
func Open(content io.Reader) (*DMARC, *TLS, error) {
	m, err := mail.ReadMessage(content)
	if err != nil {
		return nil, nil, fmt.Errorf("the message cannot be read: %w", err)
	}
	parts := 0
	text, err := find(m.Header.Get, m.Body, 0, &parts)
	if err != nil {
		return nil, nil, err
	}
	switch first := bytes.TrimLeft(text, " \t\r\n\ufeff"); {
	case len(first) == 0:
		return nil, nil, ErrNone
	case first[0] == '{':
		r, err := ParseTLS(first)
		return nil, r, err
	default:
		r, err := ParseDMARC(first)
		return r, nil, err
	}
}

// find returns the unpacked text of the first part that looks like a report.
func find(get func(string) string, body io.Reader, depth int, parts *int) ([]byte, error) {
	if *parts++; *parts > maxParts || depth > maxDepth {
		return nil, ErrNone
	}
	kind, params, err := mime.ParseMediaType(get("Content-Type"))
	if err != nil {
		kind = "text/plain"
	}
	if strings.HasPrefix(kind, "multipart/") {
		r := multipart.NewReader(body, params["boundary"])
		for {
			p, err := r.NextRawPart()
			if errors.Is(err, io.EOF) {
				return nil, ErrNone
			}
			if err != nil {
				return nil, fmt.Errorf("the message cannot be read: %w", err)
			}
			text, err := find(p.Header.Get, p, depth+1, parts)
			if err == nil || !errors.Is(err, ErrNone) {
				return text, err
			}
		}
	}
	_, disposition, _ := mime.ParseMediaType(get("Content-Disposition"))
	name := strings.ToLower(disposition["filename"] + " " + params["name"])
	if !reportKind(kind, name) {
		return nil, ErrNone
	}
	switch strings.ToLower(strings.TrimSpace(get("Content-Transfer-Encoding"))) {
	case "base64":
		body = base64.NewDecoder(base64.StdEncoding, body)
	case "quoted-printable":
		body = quotedprintable.NewReader(body)
	}
	packed, err := bounded(body, maxPacked)
	if err != nil {
		return nil, err
	}
	return unpack(packed)
}

func reportKind(kind, name string) bool {
	switch kind {
	case "application/zip",
		"application/x-zip-compressed",
		"application/gzip",
		"application/x-gzip",
		"text/xml",
		"application/xml",
		"application/tlsrpt+json",
		"application/tlsrpt+gzip":
		return true
	case "application/octet-stream", "application/json":
		for _, end := range []string{".xml", ".gz", ".zip", ".json"} {
			if strings.Contains(name, end) {
				return true
			}
		}
	}
	return false
}

// unpack opens gzip and zip, in which the first file is the report.
func unpack(packed []byte) ([]byte, error) {
	switch {
	case bytes.HasPrefix(packed, []byte{0x1f, 0x8b}):
		r, err := gzip.NewReader(bytes.NewReader(packed))
		if err != nil {
			return nil, fmt.Errorf("the report cannot be unpacked: %w", err)
		}
		return bounded(r, maxUnpacked)
	case bytes.HasPrefix(packed, []byte("PK")):
		r, err := zip.NewReader(bytes.NewReader(packed), int64(len(packed)))
		if err != nil {
			return nil, fmt.Errorf("the report cannot be unpacked: %w", err)
		}
		if len(r.File) == 0 {
			return nil, ErrNone
		}
		f, err := r.File[0].Open()
		if err != nil {
			return nil, fmt.Errorf("the report cannot be unpacked: %w", err)
		}
		defer f.Close()
		return bounded(f, maxUnpacked)
	}
	return packed, nil
}

func bounded(r io.Reader, most int64) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(r, most+1))
	if err != nil {
		return nil, fmt.Errorf("the report cannot be read: %w", err)
	}
	if int64(len(text)) > most {
		return nil, fmt.Errorf("the report has more than %d MB", most>>20)
	}
	return text, nil
}
