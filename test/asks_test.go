package test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"gullroute/internal/core/mail"
)

// What is for a site that is offline most of the day waits in a lane that says so, and leaves
// when the site asks: from its address or signed in, and nobody else.
func TestAnOfflineSiteAsksForItsMail(t *testing.T) {
	t.Parallel()
	s := own(t, "asks", func(c string) string {
		return strings.NewReplacer("asks: {networks: [127.30.0.28/32]}",
			"asks: {networks: [127.30.0.28/32], accounts: ["+inesAddress+"]}", "    kind: inside\n",
			"    kind: inside\n    sign_in: [plain]\n    sign_in_without_tls: true\n").Replace(c)
	})
	givePassword(t, s, inesAddress, inesPassword)
	kept := s.out(t, "ferry@lee-shore.example")
	second := s.out(t, "post@lee-shore.example")
	var parked []mail.Lane
	s.until0(t, func() error {
		err := json.Unmarshal([]byte(s.run(t, "lane", "list", "--state", "parked", "-o", "json")), &parked)
		if err != nil || len(parked) != 1 || parked[0].Waiting != 2 {
			return fmt.Errorf("parked: %+v", parked)
		}
		return nil
	})
	if l := parked[0]; l.Route != "lee shore" || l.Bytes == 0 || l.OldestAt.IsZero() ||
		!strings.Contains(l.Why, "asks for it (ETRN)") {
		t.Errorf("what is kept: %+v", l)
	}
	if d := s.until(t, kept, mail.Waiting); d.Attempts != 0 || len(s.messages(t, "mx.lee-shore.example", "")) != 0 {
		t.Errorf("it was sent although nobody asked: %+v", d)
	}
	asks := func(listener, from string) (*talk, string) {
		c := dial(t, listener, from)
		c.hear()
		return c, c.want("250", "EHLO mx.lee-shore.example")
	}
	stranger, hello := asks(s.edge, "127.30.0.64")
	if strings.Contains(hello, "ETRN") {
		t.Errorf("offered to a stranger: %s", hello)
	}
	stranger.want("459 5.7.1", "ETRN lee-shore.example")
	site, hello := asks(s.edge, "127.30.0.28")
	if !strings.Contains(hello, "ETRN") {
		t.Errorf("not offered to the site: %s", hello)
	}
	site.want("501 5.5.4", "ETRN")
	site.want("501 5.5.4", "ETRN not..a.domain")
	site.want("459 5.7.1", "ETRN saltmarsh.example")
	site.want("459 5.7.1", "ETRN #to the world")
	if d := s.until(t, second, mail.Waiting); d.Attempts != 0 {
		t.Errorf("refused, and sent: %+v", d)
	}
	site.want("253 2.0.0", "ETRN Lee-Shore.Example")
	s.until(t, kept, mail.Delivered)
	s.until(t, second, mail.Delivered)
	site.want("251 2.0.0", "ETRN @lee-shore.example")
	site.want("250", "MAIL FROM:<ferry@lee-shore.example>")
	site.want("503 5.5.1", "ETRN lee-shore.example")

	third := s.out(t, "third@lee-shore.example")
	person := dial(t, s.inside, "127.0.0.1")
	person.hear()
	person.want("250", "EHLO cabin.skerryline.example")
	person.want("459 5.7.1", "ETRN #lee shore")
	person.want("235", "AUTH PLAIN "+base64.StdEncoding.EncodeToString([]byte("\x00"+inesAddress+"\x00"+inesPassword)))
	if hello := person.want("250", "EHLO cabin.skerryline.example"); !strings.Contains(hello, "ETRN") {
		t.Errorf("not offered to who signed in: %s", hello)
	}
	person.want("253 2.0.0", "ETRN #lee shore")
	s.until(t, third, mail.Delivered)
	// What set nothing moving is not on record, what did is, with who asked.
	if log := s.run(t, "queue", "actions", "-o", "json"); strings.Count(log, "asked for its mail") != 2 ||
		!strings.Contains(log, `"127.30.0.28"`) || !strings.Contains(log, inesAddress) {
		t.Errorf("who asked: %s", log)
	}
}
