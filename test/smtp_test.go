package test

import (
	"bufio"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"
)

// talk is a plain SMTP client: what it sends is what the test says.
type talk struct {
	t    *testing.T
	conn net.Conn
	br   *bufio.Reader
}

// dial connects to a listener from an address of this machine.
func dial(t *testing.T, listener, from string) *talk {
	t.Helper()
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: 5 * time.Second}
	conn, err := d.Dial("tcp", listener)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
	return &talk{t, conn, bufio.NewReader(conn)}
}

// hear reads one reply, its lines joined.
func (c *talk) hear() string {
	c.t.Helper()
	text, err := c.read()
	if err != nil {
		c.t.Fatalf("no reply: %v (%q)", err, text)
	}
	return text
}

func (c *talk) read() (string, error) {
	var lines []string
	for {
		line, err := c.br.ReadString('\n')
		if err != nil {
			return strings.Join(lines, " "), err
		}
		line = strings.TrimRight(line, "\r\n")
		lines = append(lines, line)
		if len(line) < 4 || line[3] == ' ' {
			return strings.Join(lines, " "), nil
		}
	}
}

// say sends a line and reads its reply.
func (c *talk) say(line string) string {
	c.t.Helper()
	c.raw(line + "\r\n")
	return c.hear()
}

func (c *talk) raw(text string) { _, _ = c.conn.Write([]byte(text)) }

// want says a line and checks the head of the reply.
func (c *talk) want(head, line string) string {
	c.t.Helper()
	reply := c.say(line)
	if !strings.HasPrefix(reply, head) {
		c.t.Fatalf("%.80q: %q, want %s", line, reply, head)
	}
	return reply
}

// send hands a message in and returns its id.
func (s *stack) send(t *testing.T, listener, client, from, content string, to ...string) string {
	t.Helper()
	c := dial(t, listener, client)
	c.hear()
	c.want("250", "EHLO machine.skerryline.example")
	option := ""
	if strings.ContainsFunc(from+strings.Join(to, "")+content, func(r rune) bool { return r > 127 }) {
		option = " SMTPUTF8 BODY=8BITMIME"
	}
	c.want("250", "MAIL FROM:<"+from+">"+option)
	for _, r := range to {
		c.want("250", "RCPT TO:<"+r+">")
	}
	c.want("354", "DATA")
	reply := c.want("250 2.0.0 accepted as ", strings.ReplaceAll(content, "\r\n.", "\r\n..")+".")
	c.say("QUIT")
	return strings.Fields(reply)[4]
}

// message is content with a subject.
func message(subject string) string {
	return fmt.Sprintf(
		"From: <ines.harrow@skerryline.example>\r\nTo: <somebody@saltmarsh.example>\r\nSubject: "+
			"%s\r\nMessage-ID: <%d@skerryline.example>\r\n\r\nThe tide is out.\r\n.hidden\r\n",
		subject,
		time.Now().UnixNano(),
	)
}

// out sends a message from one of our people through the inside listener.
func (s *stack) out(t *testing.T, to string) string {
	t.Helper()
	return s.send(t, s.inside, "127.0.0.1", "ines.harrow@skerryline.example", message("to "+to), to)
}
