package test

import (
	"crypto/tls"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
)

// handIn hands a message in from our machines with parameters of MAIL, under TLS if it is to be.
func (s *stack) handIn(t *testing.T, under bool, parameters, to string) string {
	t.Helper()
	c := dial(t, s.inside, "127.20.1.5")
	c.hear()
	c.want("250", "EHLO machine.skerryline.example")
	if under {
		c.want("220", "STARTTLS")
		over := tls.Client(c.conn, &tls.Config{InsecureSkipVerify: true})
		c.conn = over
		c.br.Reset(over)
		if offers := c.want("250", "EHLO machine.skerryline.example"); !strings.Contains(offers, "REQUIRETLS") {
			t.Errorf("not offered under TLS: %s", offers)
		}
	}
	c.want("250", "MAIL FROM:<ines.harrow@skerryline.example> "+parameters)
	c.want("250", "RCPT TO:<"+to+">")
	c.want("354", "DATA")
	return strings.Fields(c.want("250 2.0.0 accepted as ", message("asked")+"."))[4]
}

func (s *stack) mailWas(t *testing.T, host, to string) string {
	t.Helper()
	list := s.messages(t, host, to)
	if len(list) != 1 {
		t.Fatalf("%s has %d messages", to, len(list))
	}
	return list[0].Parameters
}

func insideTLS(c string) string {
	return strings.Replace(c, "    kind: inside\n", "    kind: inside\n    tls: starttls\n", 1)
}

// Who demands TLS all the way gets it, or the message back (REQUIRETLS, RFC 8689).
func TestTLSIsDemandedAllTheWay(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "requiretls", insideTLS)
	s.behave(t, "mx.brightbuoy.example", `{"offers": ["REQUIRETLS"]}`)
	// Pinned by signed DNS and asking the same: it goes, and says so.
	s.until(t, s.handIn(t, true, "REQUIRETLS RET=FULL", "a@brightbuoy.example"), mail.Delivered)
	if p := s.mailWas(t, "mx.brightbuoy.example", "a@brightbuoy.example"); !strings.Contains(p, "REQUIRETLS") {
		t.Errorf("passed on as %q", p)
	}
	// Pinned, but it would ask nobody; a certificate that verifies, but nothing says that the host is the one.
	for to, why := range map[string]string{"a@saltmarsh.example": "and this one does not",
		"a@barelock.example": "nothing proves that this is the one"} {
		id := s.handIn(t, true, "REQUIRETLS RET=FULL", to)
		d := s.until(t, id, mail.Bounced)
		if d.Cause != diagnose.SenderNeedsTLS || d.Last.Enhanced != "5.7.30" || !strings.Contains(d.Last.Text, why) {
			t.Errorf("%s: %+v", to, d.Last)
		}
		if n := s.notice(t, id, 0); strings.Contains(n.Original, "The tide is out") {
			t.Errorf("%s: its text went back in a notice that need not go by TLS", to)
		}
	}
	if n := len(s.messages(t, "mx.saltmarsh.example", "a@saltmarsh.example")); n != 0 {
		t.Errorf("%d messages went all the same", n)
	}
	// Without TLS it is neither offered nor taken; and the parameter has no value.
	c := dial(t, s.inside, "127.20.1.5")
	c.hear()
	if offers := c.want("250", "EHLO machine.skerryline.example"); strings.Contains(offers, "REQUIRETLS") {
		t.Error("offered in the clear")
	}
	c.want("530 5.7.0", "MAIL FROM:<tickets@skerryline.example> REQUIRETLS")
	c.want("501 5.5.4", "MAIL FROM:<tickets@skerryline.example> REQUIRETLS=yes")
}

// A sender says by when a message must arrive (DELIVERBY, RFC 2852), and before which others it
// stands (MT-PRIORITY, RFC 6710).
func TestASendersTimeAndPriorityCount(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "intime", nil)
	s.behave(t, "mx.saltmarsh.example", `{"offers": ["DELIVERBY", "MT-PRIORITY"]}`)
	s.until(t, s.handIn(t, false, "BY=3600;R MT-PRIORITY=4", "a@saltmarsh.example"), mail.Delivered)
	p := s.mailWas(t, "mx.saltmarsh.example", "a@saltmarsh.example")
	var left int
	_, rest, _ := strings.Cut(p, " BY=")
	if _, err := fmt.Sscanf(rest, "%d;R", &left); err != nil || left < 3500 || left > 3600 ||
		!strings.Contains(p, "MT-PRIORITY=4") {
		t.Errorf("passed on as %q", p)
	}
	// A host that knows of no times: the message goes back; who only wants to be told lets it go on.
	if d := s.until(t, s.handIn(t, false, "BY=3600;R", "a@barelock.example"), mail.Bounced); d.Cause != diagnose.SenderNeedsTime ||
		d.Last.Enhanced != "5.3.3" {
		t.Errorf("%+v", d.Last)
	}
	s.until(t, s.handIn(t, false, "BY=3600;N", "b@barelock.example"), mail.Delivered)
	// It goes back when its time is over.
	began := time.Now()
	d := s.until(t, s.handIn(t, false, "BY=4;R", "late@sunkenpier.example"), mail.Expired)
	if took := time.Since(began); took < 3*time.Second || took > 30*time.Second {
		t.Errorf("it expired after %s: %+v", took, d.Last)
	}
	c := dial(t, s.inside, "127.20.1.5")
	c.hear()
	if offers := c.want("250", "EHLO machine.skerryline.example"); !strings.Contains(offers, "DELIVERBY") ||
		!strings.Contains(offers, "MT-PRIORITY") {
		t.Errorf("offered: %s", offers)
	}
	for _, wrong := range []string{"BY=0;R", "BY=x;R", "BY=10", "BY=10;Q", "BY=9999999999;N", "MT-PRIORITY=10",
		"MT-PRIORITY=+1", "MT-PRIORITY=", "MT-PRIORITY=1.5"} {
		c.want("501 5.5.4", "MAIL FROM:<tickets@skerryline.example> "+wrong)
	}
}

// Of what waits for the same host, the higher priority leaves first, the lower one last; strangers
// cannot put themselves first.
func TestThePriorityDecidesWhoLeavesFirst(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "priority", func(c string) string {
		return strings.Replace(c, "    connections: 5\n", "    connections: 1\n    messages_per_connection: 100\n", 1)
	})
	s.run(t, "queue", "pause")
	for i, p := range []string{"MT-PRIORITY=-3", "", "MT-PRIORITY=2", "MT-PRIORITY=7"} {
		s.handIn(t, false, p, fmt.Sprintf("p%d@saltmarsh.example", i))
	}
	id := s.send(t, s.edge, "127.30.0.10", "ada@dunlin.example", message("x"), "harbour@skerryline.example")
	if m := s.run(t, "trace", "show", id, "-o", "json"); strings.Contains(m, `"priority"`) {
		t.Errorf("a stranger has a priority: %s", m)
	}
	s.run(t, "queue", "resume")
	var order []string
	s.until0(t, func() error {
		order = nil
		var at []string
		for i := range 4 {
			for _, m := range s.messages(t, "mx.saltmarsh.example", fmt.Sprintf("p%d@saltmarsh.example", i)) {
				at = append(at, fmt.Sprintf("%06d p%d", m.N, i))
			}
		}
		slices.Sort(at)
		for _, one := range at {
			order = append(order, strings.Fields(one)[1])
		}
		if len(order) < 4 {
			return fmt.Errorf("%d left: %s", len(order), s.run(t, "queue", "list"))
		}
		return nil
	})
	if got := strings.Join(order, " "); got != "p3 p2 p1 p0" {
		t.Errorf("they left as %s", got)
	}
}
