package test

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"
)

func TestWhoMaySendWhere(t *testing.T) {
	s := world(t)
	for _, c := range []struct{ name, listener, client, from, to, want string }{
		{"a stranger to us", s.edge, "127.30.0.10", "ada@saltmarsh.example",
			"ines.harrow@skerryline.example", "250 2.1.5"},
		{"a stranger to outside", s.edge, "127.30.0.10", "ada@saltmarsh.example", "x@dunlin.example",
			"550 5.7.1 relaying to dunlin.example is not allowed from 127.30.0.10"},
		{"a stranger as one of us to outside", s.edge, "127.30.0.10", "ines.harrow@skerryline.example",
			"x@dunlin.example", "550 5.7.1"},
		{"a stranger by percent trick", s.edge, "127.30.0.10", "ada@saltmarsh.example",
			"x%dunlin.example@skerryline.example", "550 5.1.1"},
		{"a stranger by source route", s.edge, "127.30.0.10", "ada@saltmarsh.example",
			"@skerryline.example:x@dunlin.example", "550 5.7.1"},
		{"a stranger to a literal", s.edge, "127.30.0.10", "ada@saltmarsh.example", "x@[127.30.0.11]",
			"550 5.7.1"},
		{"a known machine at the wrong listener", s.edge, "127.20.1.5", "tickets@skerryline.example",
			"x@dunlin.example", "550 5.7.1"},
		{"a known machine", s.inside, "127.20.1.5", "tickets@skerryline.example", "x@dunlin.example",
			"250 2.1.5"},
		{"a machine beside the network", s.inside, "127.20.3.1", "tickets@skerryline.example",
			"x@dunlin.example", "550 5.7.1"},
		{"a machine with limited recipients", s.inside, "127.20.2.3", "bridge@skerryline.example",
			"x@dunlin.example", "550 5.7.1"},
		{"the quarantined machine", s.inside, "127.20.9.9", "a@skerryline.example", "x@saltmarsh.example",
			"550 5.7.1 this machine was found sending rubbish"},
		{"the quarantined machine to us", s.inside, "127.20.9.9", "a@skerryline.example",
			"ines.harrow@skerryline.example", "550 5.7.1"},
		{"nobody of that name", s.edge, "127.30.0.10", "ada@saltmarsh.example", "nobody@skerryline.example",
			"550 5.1.1 there is no mailbox nobody@skerryline.example here"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := dial(t, c.listener, c.client)
			d.hear()
			d.want("250", "EHLO a.example")
			d.want("250", "MAIL FROM:<"+c.from+">")
			d.want(c.want, "RCPT TO:<"+c.to+">")
		})
	}
}

func TestTheConversationIsStrict(t *testing.T) {
	s := world(t)
	hello := []string{"EHLO a.example\r\n", "250"}
	begin := append(hello, "MAIL FROM:<>\r\n", "250 2.1.0",
		"RCPT TO:<ines.harrow@skerryline.example>\r\n", "250 2.1.5", "DATA\r\n", "354")
	for _, c := range []struct {
		name  string
		steps []string // what is sent, and the head of what is heard
	}{
		{"order", []string{"MAIL FROM:<>\r\n", "503 5.5.1 say EHLO", "DATA\r\n", "503 5.5.1", "EHLO\r\n",
			"501 5.5.4", "HELO a\r\n", "250 mail.skerryline.example", "RCPT TO:<a@b.example>\r\n", "503 5.5.1"}},
		{"small commands", append(hello, "NOOP\r\n", "250 2.0.0", "VRFY ines\r\n", "252 2.5.0", "HELP\r\n",
			"214", "RSET\r\n", "250 2.0.0", "AUTH PLAIN\r\n", "502 5.5.1 AUTH is not offered", "EXPN crew\r\n", "502 5.5.1", "WHAT\r\n", "500 5.5.2", "QUIT\r\n", "221 2.0.0")},
		{"a second MAIL", append(hello, "MAIL FROM:<>\r\n", "250", "MAIL FROM:<>\r\n", "503 5.5.1")},
		{"DATA with nobody", append(hello, "MAIL FROM:<>\r\n", "250", "DATA\r\n",
			"554 5.5.1 no valid recipients")},
		{"a declared size", append(hello, "MAIL FROM:<> SIZE=999999999\r\n",
			"552 5.3.4 the message has 999999999 octets; 50000000 are allowed")},
		{"a bare LF in a command", append(hello, "NOOP\n", "500 5.5.2 the line ends in a bare LF")},
		{"a NUL in a command", append(hello, "NO\x00OP\r\n", "500 5.5.2 the line holds a NUL")},
		{"a long command", append(hello, "NOOP "+strings.Repeat("x", 5000)+"\r\n", "500 5.5.6")},
		{"more after EHLO in one piece", []string{"EHLO a.example\r\nMAIL FROM:<>\r\n",
			"554 5.5.1 you sent more before the reply to EHLO"}},
		{"content before 354", append(hello,
			"MAIL FROM:<>\r\nRCPT TO:<ines.harrow@skerryline.example>\r\nDATA\r\nSubject: x\r\n", "250 2.1.0", "", "250 2.1.5", "", "554 5.5.1 you sent more before the reply to DATA")},
		{"smuggling by LF", append(begin, "a\r\n\n.\nMAIL FROM:<x>\r\n.\r\n",
			"554 5.6.0 line 2 ends in a bare LF", "NOOP\r\n", "250 2.0.0")},
		{"smuggling by CR", append(begin, "a\r.\r\r\n.\r\n", "554 5.6.0 line 1 holds a bare CR")},
		{"a NUL in content", append(begin, "Subject: a\r\n\r\nb\x00\r\n.\r\n", "554 5.6.0 line 3 holds a NUL")},
		{"a long line in content", append(begin, strings.Repeat("x", 1200)+"\r\n.\r\n",
			"554 5.6.0 line 1 is longer than 998")},
		{"a header of 3 MB", append(begin, strings.Repeat("X-Long: "+strings.Repeat("y", 900)+"\r\n",
			3300)+"\r\nhi\r\n.\r\n", "552 5.3.4 the header section is larger than 262144")},
		{"a loop of strangers", append(begin, strings.Repeat("Received: from a by b;\r\n",
			101)+"\r\nhi\r\n.\r\n", "554 5.4.6")},
		{"errors without end", append(hello, strings.Repeat("WHAT\r\n", 20), "500", "", "500", "", "500",
			"", "500", "", "500", "", "500", "", "500", "", "500", "", "500", "", "500", "", "421 4.7.0 too many errors")},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := dial(t, s.edge, "127.30.0.10")
			if g := d.hear(); g != "220 mail.skerryline.example ESMTP ready" {
				t.Fatalf("greeting %q", g)
			}
			for i := 0; i < len(c.steps); i += 2 {
				d.raw(c.steps[i])
				if got := d.hear(); !strings.HasPrefix(got, c.steps[i+1]) {
					t.Fatalf("%.60q: %q, want %q", c.steps[i], got, c.steps[i+1])
				}
			}
		})
	}
}

func TestAClientThatSpeaksFirstIsTurnedAway(t *testing.T) {
	s := world(t)
	d := dial(t, s.edge, "127.30.0.10")
	d.raw("EHLO hasty.example\r\n")
	if got := d.hear(); !strings.HasPrefix(got, "554 5.5.1 you spoke before the greeting") {
		t.Errorf("an early talker hears %q", got)
	}
}

func TestSlowGreedyAndDeafClientsAreBounded(t *testing.T) {
	t.Parallel()
	s := own(t, "bounds", func(c string) string {
		return strings.Replace(
			c,
			"    kind: edge\n",
			"    kind: edge\n    limits: {command_timeout: 1s, content_timeout: 2s, connections: 8, "+
				"connections_per_address: 3, recipients: 5, message_size: 100 KB, messages_per_connection: "+
				"2}\n",
			1,
		)
	})
	before := rss(t, s)
	quiet := dial(t, s.edge, "127.30.0.10")
	quiet.hear()
	if got := quiet.hear(); !strings.HasPrefix(got, "421 4.4.2 no command for 1s") {
		t.Errorf("a client that says nothing hears %q", got)
	}
	for range 3 {
		dial(t, s.edge, "127.30.0.11").hear()
	}
	if got := dial(
		t,
		s.edge,
		"127.30.0.11",
	).hear(); !strings.HasPrefix(
		got,
		"421 4.7.0 too many connections from 127.30.0.11; at most 3",
	) {
		t.Errorf("the fourth connection of an address hears %q", got)
	}
	many := dial(t, s.edge, "127.30.0.12")
	many.hear()
	many.want("250", "EHLO a.example")
	many.want("250", "MAIL FROM:<>")
	replies := map[string]int{}
	go func() {
		for i := range 100_000 {
			if _, err := fmt.Fprintf(
				many.conn,
				"RCPT TO:<ines.harrow@skerryline.example> ORCPT=rfc822;x%d\r\n",
				i,
			); err != nil {
				return
			}
		}
	}()
	for {
		reply, err := many.read()
		if err != nil {
			break
		}
		replies[reply[:9]]++
	}
	if replies["250 2.1.5"] != 5 || replies["452 4.5.3"] == 0 || replies["421 4.7.0"] != 1 {
		t.Errorf("100,000 recipients: %v", replies)
	}
	large := dial(t, s.edge, "127.30.0.13")
	large.hear()
	for _, step := range []string{"EHLO a.example", "MAIL FROM:<>",
		"RCPT TO:<ines.harrow@skerryline.example>", "DATA"} {
		large.say(step)
	}
	large.raw(strings.Repeat("0123456789\r\n", 12_000))
	if got := large.say("."); !strings.HasPrefix(got,
		"552 5.3.4 the message has 144000 octets; 100000 are allowed") {
		t.Errorf("a message that is too large: %q", got)
	}
	deaf(t, s.edge)
	if after := rss(t, s); after > before+80<<20 {
		t.Errorf("memory grew from %d to %d", before, after)
	}
	if _, err := s.client().Status(context.Background()); err != nil {
		t.Errorf("the service is not well: %v", err)
	}
}

// deaf sends commands and never reads; the server must not wait for ever, nor
// hold all the replies.
func deaf(t *testing.T, listener string) {
	t.Helper()
	conn, err := net.Dial("tcp", listener)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(3 * time.Second))
	w := bufio.NewWriter(conn)
	time.Sleep(100 * time.Millisecond)
	fmt.Fprint(w, "EHLO deaf.example\r\n")
	w.Flush()
	time.Sleep(50 * time.Millisecond)
	for range 400_000 {
		if _, err := w.WriteString("NOOP\r\n"); err != nil {
			return
		}
	}
}

// rss is the service's memory in octets.
func rss(t *testing.T, s *stack) int64 {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", s.serve.Process.Pid))
	if err != nil {
		t.Fatal(err)
	}
	pages, _ := strconv.ParseInt(strings.Fields(string(text))[1], 10, 64)
	return pages * int64(os.Getpagesize())
}
