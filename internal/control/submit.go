package control

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/message"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/receive"
	"gullroute/internal/inforce"
)

// Submitter sends test messages through our own listeners.
type Submitter struct {
	InForce *inforce.State
	Receive *receive.Server
}

// Submit sends a test message through a real listener of this node. It goes the
// way that any message goes; a refusal is a result, not an error.
func (s *Submitter) Submit(ctx context.Context, t api.TestMessage) (api.Submitted, error) {
	l, err := pickListener(s.InForce.Config(), t.Listener)
	if err != nil {
		return api.Submitted{}, err
	}
	out := api.Submitted{
		Listener: l.Name,
		Address:  s.Receive.Addresses()[l.Name],
		Steps:    []api.Step{},
	}
	if out.Address == "" {
		return out, fmt.Errorf("listener %s is not open", l.Name)
	}
	content, utf8, err := compose(&t, string(s.InForce.Config().Service.HostName))
	if err != nil {
		return out, err
	}
	dialer := net.Dialer{Timeout: 5 * time.Second}
	if t.Client != "" {
		ip, err := netip.ParseAddr(t.Client)
		if err != nil {
			return out, fmt.Errorf("client: %q is not an IP address", t.Client)
		}
		dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(ip, 0))
	}
	conn, err := dialer.DialContext(ctx, "tcp", out.Address)
	if err != nil {
		return out, fmt.Errorf("client: cannot connect from %s: %w", t.Client, err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(time.Minute))
	c := caller{Submitted: &out, conn: conn, br: bufio.NewReader(conn)}
	c.talk(t, content, utf8)
	return out, nil
}

// compose writes the message. Addresses come out in their form for the wire.
func compose(t *api.TestMessage, hostName string) (content string, utf8 bool, err error) {
	tidy := func(text string) (string, error) {
		if text == "" || text == "<>" || strings.EqualFold(text, "postmaster") {
			return strings.Trim(text, "<>"), nil
		}
		a, err := address.Parse(text)
		utf8 = utf8 || a.NeedsUTF8()
		return a.String(), err
	}
	if t.From, err = tidy(t.From); err != nil {
		return "", false, fmt.Errorf("from: %w", err)
	}
	t.To = slices.Clone(t.To)
	for i := range t.To {
		if t.To[i], err = tidy(t.To[i]); err != nil {
			return "", false, fmt.Errorf("to: %w", err)
		}
	}
	subject, text := t.Subject, t.Text
	if subject == "" {
		subject = "Test message"
	}
	if text == "" {
		text = "This is a test message. It shows that mail arrives."
	}
	now := time.Now()
	lines := strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n")
	return fmt.Sprintf(
		"From: <%s>\r\nTo: <%s>\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: "+
			"<test.%d@%s>\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; "+
			"charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\n%s\r\n",
		t.From,
		strings.Join(t.To, ">, <"),
		message.EncodeText(subject),
		now.Format(message.DateFormat),
		now.UnixNano(),
		hostName,
		strings.ReplaceAll(lines, "\n", "\r\n"),
	), utf8, nil
}

// caller is the client's side of submitting.
type caller struct {
	*api.Submitted
	conn net.Conn
	br   *bufio.Reader
}

// talk goes through the conversation up to the first refusal.
func (c *caller) talk(t api.TestMessage, content string, utf8 bool) {
	options := " BODY=8BITMIME"
	if utf8 {
		options += " SMTPUTF8"
	}
	say := []string{"", "EHLO gull.test", "MAIL FROM:<" + t.From + ">" + options}
	for _, to := range t.To {
		say = append(say, "RCPT TO:<"+to+">")
	}
	taken := 0
	for _, line := range append(say, "DATA") {
		if line == "DATA" && taken == 0 {
			break
		}
		step := c.step(line, line)
		if step.Positive && strings.HasPrefix(line, "RCPT") {
			taken++
		}
		if !step.Positive && !strings.HasPrefix(line, "RCPT") {
			return
		}
		if line == "DATA" {
			var wire strings.Builder
			w := smtp.NewContentWriter(bufio.NewWriter(&wire))
			_, _ = w.Write([]byte(content))
			_ = w.Close()
			last := c.step(strings.TrimSuffix(wire.String(), "\r\n"),
				fmt.Sprintf("(%d octets of content)", len(content)))
			if _, id, ok := strings.Cut(last.Heard, "accepted as "); ok {
				if _, err := ident.Parse(id); err == nil {
					c.ID = id
				}
			}
		}
	}
	_, _ = fmt.Fprint(c.conn, "QUIT\r\n")
}

// step says something and notes the answer.
func (c *caller) step(line, shown string) api.Step {
	began := time.Now()
	s := api.Step{Said: shown}
	var err error
	if line != "" {
		_, err = fmt.Fprintf(c.conn, "%s\r\n", line)
	}
	var r smtp.Reply
	if err == nil {
		r, err = smtp.ReadReply(c.br)
	}
	s.Heard, s.Positive = r.String(), err == nil && r.Positive()
	if err != nil {
		s.Heard = "the connection ended: " + err.Error()
	}
	s.Seconds = time.Since(began).Seconds()
	c.Steps = append(c.Steps, s)
	return s
}
