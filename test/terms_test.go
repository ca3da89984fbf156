package test

import (
	"strings"
	"testing"

	"gullroute/internal/core/mail"
)

// What is known beforehand is said at RCPT, and no notice has to tell it: a size that a route or an
// agreement does not take, and people whom the server behind a shared domain does not know.
func TestWhatIsKnownBeforehandIsRefusedAtOnce(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "beforehand", func(c string) string {
		c = strings.Replace(
			c,
			"    domains: [dunlin.example]\n",
			"    domains: [dunlin.example]\n    message_size: 10 KB\n",
			1,
		)
		return strings.Replace(c, "kind: shared, route: old post}", "kind: shared, route: old post, verify: call}", 1)
	})
	c := dial(t, s.inside, "127.20.1.5")
	c.hear()
	c.want("250", "EHLO machine.skerryline.example")
	c.want("250", "MAIL FROM:<tickets@skerryline.example> SIZE=20000")
	if reply := c.want("552 5.3.4", "RCPT TO:<ada@dunlin.example>"); !strings.Contains(reply,
		"the agreement dunlin post takes at most 10 KB") {
		t.Errorf("%s", reply)
	}
	c.want("250", "RCPT TO:<ada@saltmarsh.example>")
	c.want("250", "RSET")
	c.want("250", "MAIL FROM:<tickets@skerryline.example> SIZE=9000")
	c.want("250", "RCPT TO:<ada@dunlin.example>")
	// The old server knows oskar, and not nobody; what is ours is not asked about.
	edge := dial(t, s.edge, "127.30.0.10")
	edge.hear()
	edge.want("250", "EHLO mx.saltmarsh.example")
	edge.want("250", "MAIL FROM:<ada@saltmarsh.example>")
	edge.want("250", "RCPT TO:<oskar@lightkeepers.example>")
	if reply := edge.want("550 5.1.1", "RCPT TO:<nobody@lightkeepers.example>"); !strings.Contains(reply,
		"is not known where its mail goes") {
		t.Errorf("%s", reply)
	}
}

// Machines that write no Date and no Message-ID have them written where the listener is to.
func TestMachinesMessagesAreCompletedWhereThatIsSet(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "complete", func(c string) string {
		return strings.Replace(c, "    kind: inside\n", "    kind: inside\n    complete: true\n", 1)
	})
	id := s.send(t, s.inside, "127.20.1.5", "tickets@skerryline.example", "Subject: bare\r\n\r\nx\r\n",
		"bare@saltmarsh.example")
	s.until(t, id, mail.Delivered)
	content := string(s.messages(t, "mx.saltmarsh.example", "bare@saltmarsh.example")[0].Content)
	head, _, _ := strings.Cut(content, "\r\n\r\n")
	for _, field := range []string{"Date: ", "Message-ID: <", "From: <tickets@skerryline.example>"} {
		if !strings.Contains(head, "\r\n"+field) {
			t.Errorf("it lacks %s:\n%s", field, head)
		}
	}
}
