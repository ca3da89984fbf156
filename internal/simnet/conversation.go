package simnet

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"
)

// conversation is one session of a simulated host. It is deliberately a separate,
// simple server: what it says must not depend on the code that it tests.
type conversation struct {
	host    *host
	conn    net.Conn
	br      *bufio.Reader
	bw      *bufio.Writer
	crowd   bool
	tls     bool
	account string
	helo    string
	message Message
}

// silence is how long a silent host holds a connection.
const silence = 10 * time.Minute

func (d *conversation) run() {
	d.br, d.bw = bufio.NewReader(d.conn), bufio.NewWriter(d.conn)
	b := d.host.behaviour()
	_ = d.conn.SetDeadline(time.Now().Add(silence))
	switch {
	case b.DropAt == "greeting":
		return
	case b.Silent:
		_, _ = io.Copy(io.Discard, d.conn)
		return
	case d.crowd:
		d.say("421 4.7.0 too many connections from you; at most %d", b.Connections)
		_ = d.bw.Flush()
		return
	case b.Endless == "greeting":
		d.goOn("220")
		return
	case b.Greeting != "":
		d.say("%s", b.Greeting)
	default:
		d.say("220 %s ESMTP", d.host.spec.Name)
	}
	for {
		if d.br.Buffered() == 0 && d.bw.Flush() != nil {
			return
		}
		line, err := d.br.ReadString('\n')
		if err != nil {
			return
		}
		if !d.command(strings.TrimRight(line, "\r\n")) {
			_ = d.bw.Flush()
			return
		}
	}
}

func (d *conversation) say(format string, args ...any) {
	if p := d.host.behaviour().Pause; p > 0 {
		_ = d.bw.Flush()
		time.Sleep(time.Duration(p))
	}
	fmt.Fprintf(d.bw, format+"\r\n", args...)
}

// maxGoOn bounds an endless reply, in lines.
const maxGoOn = 10_000_000

// goOn says lines of one reply until the other side has had enough.
func (d *conversation) goOn(code string) {
	for n := range maxGoOn {
		if _, err := fmt.Fprintf(d.bw, "%s-and there is more, line %d\r\n", code, n); err != nil {
			return
		}
	}
}

// command answers one line; false ends the session.
func (d *conversation) command(line string) bool {
	b := d.host.behaviour()
	verb, arg, _ := strings.Cut(line, " ")
	if b.DropAt != "" && strings.EqualFold(verb, b.DropAt) {
		return false
	}
	switch strings.ToUpper(verb) {
	case "EHLO", "LHLO":
		d.hello(arg, b)
	case "HELO":
		d.helo = arg
		d.say("250 %s", d.host.spec.Name)
	case "STARTTLS":
		return d.startTLS()
	case "AUTH":
		d.auth(arg, b)
	case "MAIL":
		d.mail(arg, b)
	case "RCPT":
		d.rcpt(arg)
	case "DATA":
		return d.data(b)
	case "RSET", "NOOP":
		d.message.Recipients, d.message.Sender = nil, ""
		d.say("250 2.0.0 ok")
	case "QUIT":
		d.say("221 2.0.0 goodbye")
		return false
	default:
		d.say("500 5.5.2 not known")
	}
	return true
}

// client is the address of who talks to us.
func (d *conversation) client() string {
	client, _, _ := net.SplitHostPort(d.conn.RemoteAddr().String())
	return client
}

func (d *conversation) hello(name string, b Behaviour) {
	d.helo = name
	lines := []string{d.host.spec.Name}
	offers := []string{"PIPELINING", "8BITMIME", "SMTPUTF8", "DSN", "ENHANCEDSTATUSCODES"}
	if b.Size > 0 {
		offers = append(offers, fmt.Sprintf("SIZE %d", b.Size))
	}
	offers = append(offers, b.Offers...)
	if b.TLS != "" && !d.tls {
		offers = append(offers, "STARTTLS")
	}
	if b.Account != "" && d.tls {
		offers = append(offers, "AUTH PLAIN")
	}
	for _, o := range offers {
		if !contains(b.Lacks, strings.Fields(o)[0]) {
			lines = append(lines, o)
		}
	}
	for i, l := range lines {
		sep := "-"
		if i == len(lines)-1 {
			sep = " "
		}
		d.say("250%s%s", sep, l)
	}
}

func (d *conversation) startTLS() bool {
	settings, err := d.host.tls()
	if err != nil || d.tls {
		d.say("454 4.7.0 no TLS now")
		return true
	}
	d.say("220 2.0.0 go on")
	if d.bw.Flush() != nil {
		return false
	}
	secured := tls.Server(d.conn, settings)
	if secured.Handshake() != nil {
		return false
	}
	d.conn, d.tls = secured, true
	d.br.Reset(secured)
	d.bw.Reset(secured)
	return true
}

// shows reports a client that proved to have a certificate for a name.
func (d *conversation) shows(name string) bool {
	secured, ok := d.conn.(*tls.Conn)
	if !ok {
		return false
	}
	chain := secured.ConnectionState().PeerCertificates
	return len(chain) > 0 && d.host.certs.issuedFor(chain[0], name)
}

func (d *conversation) auth(arg string, b Behaviour) {
	kind, token, _ := strings.Cut(arg, " ")
	plain, err := base64.StdEncoding.DecodeString(token)
	want := "\x00" + b.Account + "\x00" + b.Password
	if !d.tls || !strings.EqualFold(kind, "PLAIN") || err != nil || string(plain) != want {
		d.say("535 5.7.8 that is not an account here")
		return
	}
	d.account = b.Account
	d.say("235 2.7.0 welcome")
}

func (d *conversation) mail(arg string, b Behaviour) {
	path, rest, _ := strings.Cut(strings.TrimPrefix(arg, "FROM:<"), ">")
	var size int64
	for _, p := range strings.Fields(rest) {
		_, _ = fmt.Sscanf(p, "SIZE=%d", &size)
	}
	switch {
	case b.TLSDemanded && !d.tls:
		d.say("530 5.7.0 must issue a STARTTLS command first")
	case b.KnowsBy != "" && !d.shows(b.KnowsBy):
		d.say("530 5.7.0 show a certificate for %s first", b.KnowsBy)
	case b.Account != "" && d.account == "":
		d.say("530 5.7.0 sign in first: authentication required")
	case b.POPFirst > 0 && !d.host.lookedAt(d.client(), time.Duration(b.POPFirst)):
		d.say("450 4.7.1 fetch your mail by POP first, then send")
	case b.Mail != "":
		d.say("%s", b.Mail)
	case b.Size > 0 && size > b.Size:
		d.say("552 5.3.4 at most %d octets", b.Size)
	default:
		d.message = Message{Sender: path, Parameters: strings.TrimSpace(rest)}
		d.say("250 2.1.0 ok")
	}
	if b.Mail != "" || b.TLSDemanded && !d.tls {
		d.message = Message{}
	}
}

func (d *conversation) rcpt(arg string) {
	path, _, _ := strings.Cut(strings.TrimPrefix(arg, "TO:<"), ">")
	client := d.client()
	switch b := d.host.behaviour(); {
	case b.Endless == "rcpt":
		d.goOn("250")
		return
	case b.LongLine > 0:
		d.say("450 4.2.0 %s", strings.Repeat("x", b.LongLine))
		return
	}
	reply := d.host.recipientReply(client, d.message.Sender, path)
	if strings.HasPrefix(reply, "250") {
		d.message.Recipients = append(d.message.Recipients, path)
	}
	d.say("%s", reply)
}

// data takes the content.
func (d *conversation) data(b Behaviour) bool {
	if len(d.message.Recipients) == 0 {
		d.say("503 5.5.1 no recipients")
		return true
	}
	d.say("354 go on")
	if d.bw.Flush() != nil {
		return false
	}
	var content bytes.Buffer
	size := 0
	for {
		line, err := d.br.ReadBytes('\n')
		if err != nil {
			return false
		}
		if string(line) == ".\r\n" {
			break
		}
		line = bytes.TrimPrefix(line, []byte("."))
		size += len(line)
		if b.DropContentAt > 0 && size >= b.DropContentAt {
			return false
		}
		if !b.Forgets {
			content.Write(line)
		}
	}
	l := d.message
	l.At, l.Helo, l.TLS, l.Account, l.Size, l.Content = time.Now().UTC(), d.helo, d.tls, d.account,
		size, content.Bytes()
	l.Client, _, _ = net.SplitHostPort(d.conn.RemoteAddr().String())
	d.message = Message{}
	replies := 1
	if b.DropAt == "final" { // it took the message, and nobody hears of it
		d.host.took(l)
		return false
	}
	if b.LMTP {
		replies = len(l.Recipients)
	}
	for range replies {
		if b.Content != "" {
			d.say("%s", b.Content)
		} else {
			d.say("250 2.0.0 taken")
		}
	}
	if b.Content == "" || strings.HasPrefix(b.Content, "250") {
		d.host.took(l)
	}
	return true
}

// sendBack passes a message to an address at our edge, as a forward elsewhere
// would; if that is refused for good, the sender gets a short notice.
func (h *host) sendBack(l Message, to string) {
	trace := fmt.Sprintf("Received: from %s ([%s])\r\n\tby %s with ESMTP;\r\n\t%s\r\n", l.Helo,
		l.Client, h.spec.Name, time.Now().Format("Mon, 02 Jan 2006 15:04:05 -0700"))
	reply := h.admitEntered(l.Sender, to, append([]byte(trace), l.Content...))
	if strings.HasPrefix(reply, "5") && l.Sender != "" {
		notice := fmt.Sprintf(
			"From: <postmaster@%s>\r\nTo: <%s>\r\nSubject: Your message came "+
				"back\r\nAuto-Submitted: auto-replied\r\n\r\nIt could not be passed on to "+
				"%s:\r\n%s\r\n",
			h.spec.Name,
			l.Sender,
			to,
			reply,
		)
		h.admitEntered("", l.Sender, []byte(notice))
	}
}

// admitEntered sends one message to our edge and returns the last reply.
func (h *host) admitEntered(from, to string, content []byte) string {
	conn, err := h.net.dialEdge(netip.MustParseAddr(h.spec.Address))
	if err != nil {
		return ""
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
	br := bufio.NewReader(conn)
	read := func() string {
		for {
			line, err := br.ReadString('\n')
			if err != nil || len(line) < 4 || line[3] != '-' {
				return strings.TrimRight(line, "\r\n")
			}
		}
	}
	read()
	reply := ""
	for _, line := range []string{"EHLO " + h.spec.Name, "MAIL FROM:<" + from + ">", "RCPT TO:<" +
		to + ">", "DATA"} {
		fmt.Fprintf(conn, "%s\r\n", line)
		if reply = read(); !strings.HasPrefix(reply, "2") && !strings.HasPrefix(reply, "354") {
			return reply
		}
	}
	stuffed := bytes.ReplaceAll(append([]byte("\r\n"), content...), []byte("\r\n."),
		[]byte("\r\n.."))[2:]
	_, _ = conn.Write(append(stuffed, ".\r\n"...))
	reply = read()
	fmt.Fprint(conn, "QUIT\r\n")
	return reply
}
