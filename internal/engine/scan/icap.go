// Package scan shows messages to scanners beside us, by ICAP (RFC 3507): which of several is
// asked, how long is waited, and what is known of one that does not answer.
package scan

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http/httputil"
	"net/textproto"
	"net/url"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/gate"
	"gullroute/internal/core/inert"
)

// defaultPort is ICAP's (RFC 3507 section 4.2).
const defaultPort = "1344"

// Bounds of what a scanner may say.
const (
	maxReply    = 256 << 10 // beside the content, which some give back
	maxPreview  = 64 << 10
	chunk       = 32 << 10
	optionsLast = 10 * time.Minute
	// sentSoon is how long the end of what is sent may take behind the answer to it.
	sentSoon = 100 * time.Millisecond
)

// client speaks with one scanner over one connection.
type client struct {
	conn    net.Conn
	br      *bufio.Reader
	limit   *io.LimitedReader // how much of an answer is read
	host    string
	service string // the URL as it is asked
	preview int    // octets that it wants to see first; -1 if it wants all
	allows  bool   // it may say that nothing is to be changed (204)
	asked   time.Time
	idle    time.Time // since when it has waited
	back    int64     // octets that may come back beside an answer
	spent   bool      // it cannot be used again
}

// dial connects to a scanner and asks what it can do (RFC 3507 section 4.10).
func dial(ctx context.Context, address string) (*client, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	host := u.Host
	if u.Port() == "" {
		host = net.JoinHostPort(u.Hostname(), defaultPort)
	}
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", host)
	if err != nil {
		return nil, err
	}
	limit := &io.LimitedReader{R: conn, N: maxReply}
	c := &client{conn: conn, br: bufio.NewReader(limit), limit: limit, host: u.Host,
		service: address, preview: -1}
	if err := c.options(ctx); err != nil {
		_ = conn.Close()
		return nil, err
	}
	return c, nil
}

func (c *client) deadline(ctx context.Context) {
	if at, ok := ctx.Deadline(); ok {
		_ = c.conn.SetDeadline(at)
	}
}

func (c *client) options(ctx context.Context) error {
	c.deadline(ctx)
	fmt.Fprintf(c.conn, "OPTIONS %s ICAP/1.0\r\nHost: %s\r\nUser-Agent: Gull Route\r\n"+
		"Encapsulated: null-body=0\r\n\r\n", c.service, c.host)
	r, err := c.reply()
	if err != nil {
		return err
	}
	if r.code != 200 {
		return fmt.Errorf("it answers %d %s to OPTIONS", r.code, r.text)
	}
	if m := r.header.Get("Methods"); m != "" && !strings.Contains(m, "RESPMOD") {
		return fmt.Errorf("its service scans no content: it offers %s", inert.Clip(m, 60))
	}
	if n, err := strconv.Atoi(r.header.Get("Preview")); err == nil && n >= 0 {
		c.preview = min(n, maxPreview)
	}
	c.allows = strings.Contains(r.header.Get("Allow"), "204")
	c.asked = time.Now()
	return c.drop(r)
}

// reply is the head of an answer.
type reply struct {
	code   int
	text   string
	header textproto.MIMEHeader
}

// errReply reports an answer that is none.
var errReply = errors.New("it answers what is not ICAP")

func (c *client) reply() (reply, error) {
	c.limit.N = maxReply + c.back
	tp := textproto.NewReader(c.br)
	line, err := tp.ReadLine()
	if err != nil {
		return reply{}, err
	}
	proto, rest, _ := strings.Cut(line, " ")
	code, text, _ := strings.Cut(rest, " ")
	n, err := strconv.Atoi(code)
	if !strings.HasPrefix(proto, "ICAP/1.") || err != nil || n < 100 || n > 599 {
		return reply{}, errReply
	}
	h, err := tp.ReadMIMEHeader()
	if err != nil && !errors.Is(err, io.EOF) {
		return reply{}, errReply
	}
	return reply{n, inert.Clip(text, 100), h}, nil
}

// drop reads what an answer encapsulates and forgets it, so that the connection can be used
// again.
func (c *client) drop(r reply) error {
	parts := r.header.Get("Encapsulated")
	if parts == "" || strings.Contains(parts, "null-body=0") {
		return nil
	}
	// The headers stand before the body, whose place is their length.
	n, err := strconv.Atoi(strings.TrimSpace(parts[strings.LastIndexByte(parts, '=')+1:]))
	if err != nil || n < 0 {
		return errReply
	}
	if _, err := c.br.Discard(n); err != nil || strings.Contains(parts, "null-body") {
		return err
	}
	if _, err := io.Copy(io.Discard, httputil.NewChunkedReader(c.br)); err != nil {
		return err
	}
	_, err = textproto.NewReader(c.br).ReadMIMEHeader() // the trailer, most often empty
	return err
}

// scan shows a content of so many octets.
func (c *client) scan(
	ctx context.Context,
	name string,
	content io.Reader,
	size int64,
) (gate.Verdict, error) {
	c.deadline(ctx)
	c.back = size + size/8 // what may come back: the content itself, in chunks
	request := fmt.Sprintf("GET http://%s/message HTTP/1.1\r\nHost: %s\r\n\r\n", name, name)
	head := fmt.Sprintf(
		"HTTP/1.1 200 OK\r\nContent-Type: message/rfc822\r\nContent-Length: %d\r\n\r\n",
		size,
	)
	var b strings.Builder
	fmt.Fprintf(&b, "RESPMOD %s ICAP/1.0\r\nHost: %s\r\nUser-Agent: Gull Route\r\nAllow: 204\r\n",
		c.service, c.host)
	if c.preview >= 0 {
		fmt.Fprintf(&b, "Preview: %d\r\n", c.preview)
	}
	fmt.Fprintf(&b, "Encapsulated: req-hdr=0, res-hdr=%d, res-body=%d\r\n\r\n%s%s", len(request),
		len(request)+len(head), request, head)
	w := bufio.NewWriterSize(c.conn, chunk)
	if _, err := w.WriteString(b.String()); err != nil {
		return gate.Verdict{}, err
	}
	if c.preview >= 0 {
		over, err := c.sendPreview(w, content, size)
		if err != nil {
			return gate.Verdict{}, err
		}
		r, err := c.reply()
		if err != nil {
			return gate.Verdict{}, err
		}
		if over || r.code != 100 {
			return c.verdict(r)
		}
	}
	return c.exchange(w, content)
}

// exchange sends the content and reads the answer at the same time: some give the content
// back while it still comes, and would wait for us to read as we wait for them.
func (c *client) exchange(w *bufio.Writer, content io.Reader) (v gate.Verdict, err error) {
	sent := make(chan error, 1)
	go func() { sent <- sendChunks(w, content) }()
	r, err := c.reply()
	if err == nil {
		v, err = c.verdict(r)
	}
	select {
	case e := <-sent:
		if err == nil {
			err = e
		}
	// It answered before it had all: what is left is not sent, nor this connection used again.
	case <-time.After(sentSoon):
		c.spent = true
		_ = c.conn.SetWriteDeadline(time.Now())
		if e := <-sent; err != nil {
			err = errors.Join(err, e)
		}
	}
	return v, err
}

// sendPreview sends the first octets; over says that these are all (RFC 3507 section 4.5).
func (c *client) sendPreview(
	w *bufio.Writer,
	content io.Reader,
	size int64,
) (over bool, err error) {
	first := make([]byte, min(int64(c.preview), size))
	if _, err := io.ReadFull(content, first); err != nil {
		return false, err
	}
	if len(first) > 0 {
		fmt.Fprintf(w, "%x\r\n", len(first))
		_, _ = w.Write(first)
		_, _ = w.WriteString("\r\n")
	}
	over = size <= int64(c.preview)
	end := "0\r\n\r\n"
	if over {
		end = "0; ieof\r\n\r\n"
	}
	_, _ = w.WriteString(end)
	return over, w.Flush()
}

func sendChunks(w *bufio.Writer, content io.Reader) error {
	chunks := httputil.NewChunkedWriter(w)
	if _, err := io.CopyBuffer(chunks, struct{ io.Reader }{content}, make([]byte, chunk)); err != nil {
		return err
	}
	if err := chunks.Close(); err != nil {
		return err
	}
	_, _ = w.WriteString("\r\n") // no trailer
	return w.Flush()
}

// verdict reads an answer to a scan. What is encapsulated is not taken.
func (c *client) verdict(r reply) (gate.Verdict, error) {
	v := gate.Verdict{Word: gate.Clean}
	found := inert.Clip(r.header.Get("X-Infection-Found"), 300)
	virus := inert.Clip(r.header.Get("X-Virus-Id"), 200)
	violations := inert.Clip(r.header.Get("X-Violations-Found"), 300)
	switch {
	case found != "":
		v.Word, v.Threat = gate.Infected, threat(found)
		if kind := field(found, "Type"); kind != "" && kind != "0" {
			v.Word = gate.Unwanted
		}
	case virus != "":
		v.Word, v.Threat = gate.Infected, virus
	case violations != "":
		v.Word, v.Threat = gate.Unwanted, strings.Join(strings.Fields(violations), " ")
	case r.code == 204:
		return v, nil
	case r.code == 200:
		blocked, err := c.blocked(r)
		if blocked {
			v.Word, v.Threat = gate.Unwanted, "the scanner gives another content in its place"
		}
		return v, err
	case r.code == 403:
		v.Word, v.Threat = gate.Unwanted, "forbidden by the scanner"
	default:
		return v, fmt.Errorf("it answers %d %s", r.code, r.text)
	}
	return v, c.drop(r)
}

// blocked reports an answer whose HTTP status is no success: a page that says that the
// content is kept back.
func (c *client) blocked(r reply) (bool, error) {
	parts := r.header.Get("Encapsulated")
	if !strings.HasPrefix(parts, "res-hdr=0") {
		return false, c.drop(r)
	}
	line, err := c.br.Peek(12)
	blocked := err == nil && strings.HasPrefix(string(line), "HTTP/1.") && line[9] != '2'
	return blocked, c.drop(r)
}

// threat is the name in "Type=0; Resolution=2; Threat=NAME;".
func threat(text string) string {
	if t := field(text, "Threat"); t != "" {
		return t
	}
	return text
}

func field(text, name string) string {
	for part := range strings.SplitSeq(text, ";") {
		k, v, _ := strings.Cut(strings.TrimSpace(part), "=")
		if strings.EqualFold(k, name) {
			return strings.TrimSpace(v)
		}
	}
	return ""
}
