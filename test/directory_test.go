package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
)

// boxes is a stack with people of every sort.
func boxes(t *testing.T, name string) *stack {
	return own(t, name, func(c string) string {
		return strings.NewReplacer("name: Wren Castell, quota: 50 MB",
			"name: Wren Castell, quota: 4 KB", "  - {name: bølgevik.example, kind: local}",
			"  - {name: bølgevik.example, kind: local, catch_all: \"søren@bølgevik.example\"}",
			"  - {name: kelpworks.example, kind: relay, route: kelpworks}",
			"  - {name: kelpworks.example, kind: relay, route: kelpworks, verify: call}",
			"intervals: [1s]", "intervals: [1h]").Replace(c)
	})
}

func TestWhereAMailboxIsReached(t *testing.T) {
	s := boxes(t, "reached")
	for _, c := range []struct{ name, to, box string }{
		{"an addition", "ines.harrow+ferries@skerryline.example", inesAddress},
		{"a generated address", "tvik@skerryline.example", "tomas.vik@skerryline.example"},
		{"a catch-all", "anybody@bølgevik.example", "søren@bølgevik.example"},
	} {
		id := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message(c.name), c.to)
		s.until(t, id, mail.Delivered)
		if out := s.run(t, "mailbox", "messages", c.box); !strings.Contains(out, c.name) {
			t.Errorf("%s: not in %s:\n%s", c.name, c.box, out)
		}
	}
	d := dial(t, s.edge, "127.30.0.10")
	d.hear()
	d.want("250", "EHLO a")
	d.want("250", "MAIL FROM:<>")
	d.want("550 5.1.1", "RCPT TO:<nobody+x@skerryline.example>")
	// two of one name: the second gets a number, and keeps it when the first is gone
	s.run(t, "mailbox", "add", "th@skerryline.example", "--name", "Tove Hall")
	if out := s.run(
		t,
		"mailbox",
		"add",
		"th2@skerryline.example",
		"--name",
		"Tove Hall",
	); !strings.Contains(out, "tove.hall2@skerryline.example, thall2@skerryline.example too") {
		t.Errorf("collision: %s", out)
	}
	s.run(t, "mailbox", "remove", "th@skerryline.example")
	if out := s.run(
		t,
		"mailbox",
		"show",
		"th2@skerryline.example",
	); !strings.Contains(out, "tove.hall2@skerryline.example") {
		t.Errorf("after the first was removed: %s", out)
	}
	d.want("550 5.1.1", "RCPT TO:<tove.hall@skerryline.example>")
	if out := s.run(t, "change", "list", "--name",
		"th@skerryline.example"); strings.Count(out, "tests") != 2 ||
		!strings.Contains(out, "removed") {
		t.Errorf("the record:\n%s", out)
	}
}

func TestAFullMailboxDefersAndAnOverlargeMessageIsSentBack(t *testing.T) {
	s := boxes(t, "quota")
	const wren = "wren.castell@skerryline.example"
	big := message("big") + strings.Repeat(strings.Repeat("x", 70)+"\r\n", 45)
	s.until(t, s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", big, wren), mail.Delivered)
	// the size is not known at RCPT: delivery finds out
	d := s.until(t, s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", big, wren), mail.Deferred)
	if d.Cause != diagnose.MailboxFull || d.Last.Code != 452 || d.Last.Enhanced != "4.2.2" {
		t.Errorf("%s %+v", d.Cause, d.Last)
	}
	c := dial(t, s.edge, "127.30.0.10")
	c.hear()
	c.want("250", "EHLO a")
	for _, x := range [][2]string{{"MAIL FROM:<> SIZE=3500", "452 4.2.2 mailbox " + wren + " is full"},
		{"MAIL FROM:<> SIZE=50000", "552 5.2.3 the message has 50000 octets"}} {
		c.want("250", x[0])
		c.want(x[1], "RCPT TO:<"+wren+">")
		c.want("250", "RSET")
	}
	far := message("far too big") + strings.Repeat(strings.Repeat("x", 70)+"\r\n", 100)
	c.want("250", "MAIL FROM:<ada@saltmarsh.example>")
	c.want("250", "RCPT TO:<"+wren+">")
	c.want("354", "DATA")
	c.want("552 5.2.3", far+".") // now its size is known, and no notice has to go back
	s.run(t, "mailbox", "set", wren, "--quota", "1 MB")
	s.run(t, "queue", "flush", "--recipient", wren)
	s.until(t, d.MessageID.String(), mail.Delivered)
}

func TestForwardsGoOnStayAndDoNotCircle(t *testing.T) {
	s := boxes(t, "forward")
	to := func(address string) []mail.Delivery {
		id := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("forward"), address)
		s.until(t, id, mail.Delivered)
		tr, err := s.client().Trace(t.Context(), id, nil)
		if err != nil {
			t.Fatal(err)
		}
		return tr.Message.Deliveries
	}
	d := to("ailsa.brune@skerryline.example")
	if len(d) != 2 || d[0].Recipient != "ailsa@lightkeepers.example" || d[0].Route != "old post" ||
		d[1].Recipient != "ailsa.brune@skerryline.example" ||
		strings.Join(d[0].Via, " ") != "ailsa.brune@skerryline.example" {
		t.Errorf("with a copy: %+v", d)
	}
	s.run(t, "mailbox", "set", "ailsa.brune@skerryline.example", "--unset", "keep_copy",
		"--forward-to", "tomas.vik@skerryline.example")
	s.run(t, "mailbox", "set", "tomas.vik@skerryline.example", "--forward-to", "ailsa.brune@skerryline.example")
	if d := to("ailsa.brune@skerryline.example"); len(d) != 1 || d[0].Route != "mailbox" {
		t.Errorf("a circle loses the message or doubles it: %+v", d)
	}
	s.run(t, "mailbox", "set", "odile.marr@skerryline.example", "--forward-to",
		"x@dunlin.example") // agreed: no forwards to them
	if d := to("odile.marr@skerryline.example"); len(d) != 1 || d[0].Recipient != "odile.marr@skerryline.example" {
		t.Errorf("a forward that was agreed against: %+v", d)
	}
	if _, stderr, code := s.gull(t, "alias", "set", "crew@skerryline.example", "--to",
		"everyone@skerryline.example"); code != 1 ||
		!strings.Contains(
			stderr,
			"to: this alias leads back to itself: crew@skerryline.example → everyone@skerryline.example → "+
				"crew@skerryline.example",
		) {
		t.Errorf("an alias in a circle: %d %s", code, stderr)
	}
}

func TestAutomaticRepliesAreSentOnceAndToPeopleOnly(t *testing.T) {
	s := boxes(t, "replies")
	const piet = "piet.sandholm@skerryline.example"
	write := func(from, head string) {
		content := "From: <" + from + ">\r\nTo: <" + piet + ">\r\nSubject: Berth 4\r\nMessage-ID: " +
			"<b4@x.example>\r\n" + head + "\r\nAre you there?\r\n"
		listener, client := s.edge, "127.30.0.10"
		s.until(t, s.send(t, listener, client, from, content, piet), mail.Delivered)
	}
	got := func(host, to string) []string {
		var texts []string
		for _, l := range s.messages(t, host, to) {
			texts = append(texts, string(l.Content))
		}
		return texts
	}
	write("cleo@barelock.example", "")
	var texts []string
	if err := eventually(5*time.Second, func() error {
		if texts = got("mx.barelock.example", "cleo@barelock.example"); len(texts) == 0 {
			return fmt.Errorf("no reply")
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Auto-Submitted: auto-replied\r\n", "In-Reply-To: <b4@x.example>\r\n",
		"Subject: Auto: Berth 4\r\n", "From: Piet Sandholm <" + piet + ">\r\n", "please write to harbour@skerryline.example"} {
		if !strings.Contains(texts[0], want) {
			t.Errorf("the reply lacks %q:\n%s", want, texts[0])
		}
	}
	if s.messages(t, "mx.barelock.example", "cleo@barelock.example")[0].Sender != "" {
		t.Error("the reply does not come from the null sender")
	}
	write("cleo@barelock.example", "") // a second one within the week
	for _, head := range []string{"Auto-Submitted: auto-generated\r\n", "List-Id: <ferries.example>\r\n",
		"Precedence: bulk\r\n"} {
		write("other@barelock.example", head)
	}
	write("noreply@barelock.example", "")
	write("bo@saltmarsh.example", "") // agreed: they get the inside text
	if err := eventually(5*time.Second, func() error {
		if texts := got("mx.saltmarsh.example", "bo@saltmarsh.example"); len(texts) != 1 ||
			!strings.Contains(texts[0], "Tomas Vik has the keys") {
			return fmt.Errorf("the peer's reply: %v", texts)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	if n := s.host(t, "mx.barelock.example").Stats.Messages; n != 1 {
		t.Errorf("%d replies in all; machines, lists and a second message get none", n)
	}
}

func TestTheLimitsOfARuleStopAnAccountAndAMachine(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "limits", func(c string) string {
		return strings.NewReplacer(
			"limits: {messages_per_hour: 200, messages_per_day: 500, recipients_per_day: 1000}",
			"limits: {messages_per_day: 2}",
			"  - name: ticket machines\n",
			"  - name: ticket machines\n    limits: {recipients_per_hour: 3}\n",
		).Replace(c)
	})
	givePassword(t, s, inesAddress, inesPassword)
	for n, want := range []int{250, 250, 450} {
		if r := python(
			t,
			s.smtps,
			"tls",
			"smtp",
			"plain",
			inesAddress,
			inesPassword,
			inesAddress,
			"x@barelock.example",
		); r.Code != want {
			t.Errorf("message %d: %+v", n+1, r)
		}
	}
	if out, _, _ := s.gull(
		t,
		"explain",
		"--listener",
		"submission",
		"--account",
		inesAddress,
		"--from",
		inesAddress,
		"--to",
		"x@barelock.example",
	); !strings.Contains(
		out,
		"REFUSED  limits of people: "+inesAddress+" has sent its 2 messages of today",
	) {
		t.Errorf("explain:\n%s", out)
	}
	time.Sleep(6 * time.Second) // counts are in the database by now
	s.kill()
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	if r := python(t, s.smtps, "tls", "smtp", "plain", inesAddress, inesPassword, inesAddress,
		"x@barelock.example"); r.Code != 450 ||
		!strings.Contains(r.Text, inesAddress+" has sent its 2 messages of today under rule people") {
		t.Errorf("after a restart: %+v", r)
	}
	c := dial(t, s.inside, "127.20.1.5")
	c.hear()
	c.want("250", "EHLO a")
	c.want("250", "MAIL FROM:<tickets@skerryline.example>")
	for range 3 {
		c.want("250", "RCPT TO:<x@barelock.example>")
	}
	c.want("450 4.7.1 127.20.1.5 has sent its 3 recipients of this hour", "RCPT TO:<x@barelock.example>")
}

func TestMachinesSendersAreWrittenAsOurDomain(t *testing.T) {
	s := world(t)
	content := "From: Root <root@host7>\r\nSender: <root@host7>\r\nSubject: disk\r\n\r\nroot@host7 stays " +
		"in the text\r\n"
	s.until(t, s.send(t, s.inside, "127.20.1.5", "root@host7", content, "disk@barelock.example"),
		mail.Delivered)
	l := s.messages(t, "mx.barelock.example", "disk@barelock.example")[0]
	if l.Sender != "root@skerryline.example" ||
		!strings.Contains(string(l.Content),
			"From: Root <root@skerryline.example>\r\nSender: <root@skerryline.example>\r\n") ||
		!strings.Contains(string(l.Content), "\r\nroot@host7 stays") {
		t.Errorf("%s\n%s", l.Sender, l.Content)
	}
	c := dial(t, s.inside, "127.20.1.5")
	c.hear()
	c.want("250", "EHLO a")
	c.want("250", "MAIL FROM:<ticket-machine>") // completed with the default domain
	c.want("250", "RCPT TO:<bare@barelock.example>")
	c.want("354", "DATA")
	c.want("250", "hello\r\n.")
	if m := s.arrives(t, "bare@barelock.example"); m.Sender != "ticket-machine@skerryline.example" {
		t.Errorf("%q", m.Sender)
	}
}

func TestRecipientsThatARelayedDomainHasAreVerifiedAhead(t *testing.T) {
	s := boxes(t, "verify")
	s.behave(t, "in.kelpworks.example", `{"known":["orders"]}`)
	c := dial(t, s.edge, "127.30.0.10")
	c.hear()
	c.want("250", "EHLO a")
	c.want("250", "MAIL FROM:<>")
	c.want("250", "RCPT TO:<orders@kelpworks.example>")
	c.want("550 5.1.1 nobody@kelpworks.example is not known where its mail goes",
		"RCPT TO:<nobody@kelpworks.example>")
	c.want("550 5.7.1", "RCPT TO:<victim%saltmarsh.example@kelpworks.example>")
	s.behave(t, "in.kelpworks.example", `{"closed":true}`)
	c.want("250", "RCPT TO:<unsure@kelpworks.example>") // trouble on the way is no refusal
}

func TestLMTPInwardsAnswersForEachRecipient(t *testing.T) {
	s := world(t)
	c := dial(t, s.lmtp, "127.0.0.1")
	if g := c.hear(); !strings.Contains(g, "LMTP ready") {
		t.Errorf("greeting %q", g)
	}
	c.want("500 5.5.1 this is LMTP; say LHLO", "EHLO a")
	c.want("250", "LHLO a")
	c.want("250", "MAIL FROM:<ada@saltmarsh.example>")
	c.want("250", "RCPT TO:<ines.harrow@skerryline.example>")
	c.want("550", "RCPT TO:<nobody@skerryline.example>")
	c.want("250", "RCPT TO:<odile.marr@skerryline.example>")
	c.want("354", "DATA")
	c.want("250 2.0.0 accepted as ", "hi\r\n.")
	if second := c.hear(); !strings.HasPrefix(second, "250 2.0.0 accepted as ") {
		t.Errorf("the second recipient's reply: %q", second)
	}
	c.want("250", "NOOP")
}

func TestWhatWasAgreedWithAPeerHolds(t *testing.T) {
	t.Parallel()
	s := own(t, "peers", func(c string) string {
		return strings.Replace(
			c,
			"peers:\n",
			"peers:\n  - {name: bare, domains: [barelock.example], tls: required}\n  - {name: old, "+
				"domains: [oldlocks.example], tls: verified}\n  - {name: small, domains: "+
				"[smallhatch.example], message_size: 1 KB, no_8bit: true}\n  - {name: quiet, domains: "+
				"[nosuch.example], no_bounces: true}\n",
			1,
		)
	})
	if d := s.until(t, s.out(t, "x@barelock.example"),
		mail.Deferred); d.Cause != diagnose.TLSNotOffered ||
		!strings.Contains(d.Last.Text, "the agreement bare demands it") {
		t.Errorf("%+v", d.Last)
	}
	if d := s.until(t, s.out(t, "x@oldlocks.example"),
		mail.Deferred); d.Cause != diagnose.CertificateBad ||
		!strings.Contains(d.Last.Text, "expired") {
		t.Errorf("%+v", d.Last)
	}
	long := message("long") + strings.Repeat("0123456789\r\n", 150)
	if d := s.until(
		t,
		s.send(t, s.inside, "127.0.0.1", inesAddress, long, "x@smallhatch.example"),
		mail.Bounced,
	); d.Last.Text != fmt.Sprintf(
		"the message has %d octets; the agreement small takes at most 1 KB",
		sizeOf(t, s, "x@smallhatch.example"),
	) {
		t.Errorf("%+v", d.Last)
	}
	s.until(
		t,
		s.send(t, s.inside, "127.0.0.1", "known@nosuch.example", message("quiet"), "nobody@nosuch.example"),
		mail.Bounced,
	)
	if m, ok := s.find(t, "known@nosuch.example"); ok {
		t.Errorf("a notice went to a peer that gets none: %+v", m)
	}
}

func sizeOf(t *testing.T, s *stack, to string) int64 {
	m, _ := s.find(t, to)
	return m.Size
}
