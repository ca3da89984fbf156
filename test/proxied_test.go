package test

import (
	"strings"
	"testing"

	"gullroute/internal/core/mail"
)

// Behind a load balancer the client is whom it names (PROXY protocol, versions 1 and 2); from
// elsewhere nobody can name another, and a balancer that names nobody is turned away.
func TestALoadBalancerNamesTheClient(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "proxied", func(c string) string {
		return strings.Replace(c, "    kind: inside\n", "    kind: inside\n    proxies: [127.50.0.0/24]\n", 1)
	})
	begin := func(from, header string) (*talk, string) {
		c := dial(t, s.inside, from)
		c.raw(header)
		greeting, _ := c.read()
		return c, greeting
	}
	v2 := "\r\n\r\n\x00\r\nQUIT\n" + "\x21\x11\x00\x0c" + "\x7f\x14\x01\x05" + "\x7f\x00\x00\x01" + "\x30\x39\x09\xe2"
	for name, header := range map[string]string{
		"version 1": "PROXY TCP4 127.20.1.5 127.0.0.1 12345 2526\r\n",
		"version 2": v2,
	} {
		c, greeting := begin("127.50.0.9", header)
		if !strings.HasPrefix(greeting, "220 ") {
			t.Fatalf("%s: %q", name, greeting)
		}
		c.want("250", "EHLO machine.skerryline.example")
		c.want("250", "MAIL FROM:<tickets@skerryline.example>")
		c.want("250", "RCPT TO:<ada@saltmarsh.example>") // the ticket machines' rule
		c.want("354", "DATA")
		id := strings.Fields(c.want("250 2.0.0 accepted as ", message("proxied")+"."))[4]
		s.until(t, id, mail.Delivered)
		if out := s.run(t, "trace", "show", id); !strings.Contains(out, "127.20.1.5") ||
			strings.Contains(out, "127.50.0.9") {
			t.Errorf("%s: the message is from\n%s", name, out)
		}
	}
	// A forbidden client stays forbidden behind the balancer.
	c, _ := begin("127.50.0.9", "PROXY TCP4 127.20.9.9 127.0.0.1 12345 2526\r\n")
	c.want("250", "EHLO machine.skerryline.example")
	c.want("250", "MAIL FROM:<tickets@skerryline.example>")
	c.want("550", "RCPT TO:<ada@saltmarsh.example>")
	// Who is no balancer names nobody: the line is a command that there is not, sent too early.
	if _, greeting := begin("127.20.9.9", "PROXY TCP4 127.20.1.5 127.0.0.1 12345 2526\r\n"); strings.HasPrefix(
		greeting,
		"220 ",
	) {
		c, _ := begin("127.20.9.9", "")
		if reply := c.say("PROXY TCP4 127.20.1.5 127.0.0.1 12345 2526"); !strings.HasPrefix(reply, "5") {
			t.Errorf("a client names another: %q", reply)
		}
	}
	// A balancer that names nobody, or nonsense, is hung up on.
	for _, header := range []string{"EHLO x\r\n", "PROXY TCP4 one two 1 2\r\n", "PROXY UDP9 x\r\n",
		"\r\n\r\n\x00\r\nQUIT\n\x21\x11\x00\x02ab"} {
		if _, greeting := begin("127.50.0.9", header); greeting != "" {
			t.Errorf("%q: %q", header, greeting)
		}
	}
	// Its own health check is from itself.
	if _, greeting := begin("127.50.0.9", "PROXY UNKNOWN\r\n"); !strings.HasPrefix(greeting, "220 ") {
		t.Errorf("a health check: %q", greeting)
	}
}
