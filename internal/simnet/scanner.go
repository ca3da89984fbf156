package simnet

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"strconv"
	"strings"
	"time"
)

// A scanner of the simulated world: an ICAP server (RFC 3507) that knows two things. It acts
// by the behaviour of a host: pause, silent, closed; and greeting is what it says in place of
// ICAP.

// What it knows.
const (
	TestVirus  = `X5O!P%@AP[4\PZX54(P^)7CC)7}$EICAR-STANDARD-ANTIVIRUS-TEST-FILE!$H+H*`
	TestPhrase = "free lighthouse oil for everybody"
)

const scannerPreview = 1024

// scan holds the conversation of a connection.
func (h *host) scan(conn net.Conn) {
	br := bufio.NewReader(conn)
	for {
		if h.scanOne(br, conn) != nil {
			return
		}
	}
}

func (h *host) scanOne(br *bufio.Reader, conn net.Conn) error {
	tp := textproto.NewReader(br)
	line, err := tp.ReadLine()
	if err != nil {
		return err
	}
	header, err := tp.ReadMIMEHeader()
	if err != nil {
		return err
	}
	b := h.behaviour()
	if b.Silent {
		_, _ = io.Copy(io.Discard, br)
		return io.EOF
	}
	time.Sleep(time.Duration(b.Pause))
	if b.Greeting != "" {
		_, err := fmt.Fprintf(conn, "%s\r\n\r\n", b.Greeting)
		return err
	}
	if strings.HasPrefix(line, "OPTIONS ") {
		_, err := fmt.Fprintf(conn, "ICAP/1.0 200 OK\r\nMethods: RESPMOD\r\nISTag: \"lookout-1\"\r\n"+
			"Allow: 204\r\nPreview: %d\r\nEncapsulated: null-body=0\r\n\r\n", scannerPreview)
		return err
	}
	content, err := encapsulated(br, conn, header)
	if err != nil {
		return err
	}
	h.mu.Lock()
	h.stats.Messages++
	h.stats.Octets += int64(len(content))
	h.mu.Unlock()
	found := ""
	switch text := decoded(content); {
	case bytes.Contains(text, []byte(TestVirus)):
		found = "Type=0; Resolution=2; Threat=Test-File;"
	case bytes.Contains(bytes.ToLower(text), []byte(TestPhrase)):
		found = "Type=2; Resolution=2; Threat=Bulk.Lighthouse;"
	}
	if found == "" {
		_, err := io.WriteString(conn, "ICAP/1.0 204 No Modifications Needed\r\nISTag: \"lookout-1\"\r\n\r\n")
		return err
	}
	page := "this message is kept back\n"
	head := "HTTP/1.1 403 Forbidden\r\nContent-Type: text/plain\r\n\r\n"
	_, err = fmt.Fprintf(conn, "ICAP/1.0 200 OK\r\nISTag: \"lookout-1\"\r\nX-Infection-Found: %s\r\n"+
		"Encapsulated: res-hdr=0, res-body=%d\r\n\r\n%s%x\r\n%s\r\n0\r\n\r\n", found, len(head), head,
		len(page), page)
	return err
}

// encapsulated reads the body that a request holds; after the preview it asks for the rest.
func encapsulated(br *bufio.Reader, conn io.Writer, header textproto.MIMEHeader) ([]byte, error) {
	parts := header.Get("Encapsulated")
	n, err := strconv.Atoi(strings.TrimSpace(parts[strings.LastIndexByte(parts, '=')+1:]))
	if err != nil {
		return nil, err
	}
	if _, err := io.CopyN(io.Discard, br, int64(n)); err != nil {
		return nil, err
	}
	content, over, err := chunked(br)
	if err != nil || over || header.Get("Preview") == "" {
		return content, err
	}
	if _, err := io.WriteString(conn, "ICAP/1.0 100 Continue\r\n\r\n"); err != nil {
		return nil, err
	}
	rest, _, err := chunked(br)
	return append(content, rest...), err
}

// chunked reads chunks up to the last; over says that it was all (ieof).
func chunked(br *bufio.Reader) (content []byte, over bool, err error) {
	for {
		line, err := br.ReadString('\n')
		if err != nil {
			return nil, false, err
		}
		size, extension, _ := strings.Cut(strings.TrimSpace(line), ";")
		n, err := strconv.ParseInt(size, 16, 32)
		if err != nil {
			return nil, false, err
		}
		if n == 0 {
			_, err := br.ReadString('\n')
			return content, strings.Contains(extension, "ieof"), err
		}
		piece := make([]byte, n+2)
		if _, err := io.ReadFull(br, piece); err != nil {
			return nil, false, err
		}
		content = append(content, piece[:n]...)
	}
}

// decoded is a content with what stands in base64 beside it, read as far as it goes.
func decoded(content []byte) []byte {
	out := bytes.Clone(content)
	for line := range bytes.Lines(content) {
		text := bytes.TrimSpace(line)
		if len(text) < 8 || bytes.ContainsAny(text, " :<>") {
			continue
		}
		piece := make([]byte, len(text))
		if n, err := base64.StdEncoding.Decode(piece, text); err == nil {
			out = append(out, piece[:n]...)
		}
	}
	return out
}
