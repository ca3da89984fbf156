package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	netmail "net/mail"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
)

func TestAMessageGoesOutByteForByteUnderOneReceivedLine(t *testing.T) {
	s := world(t)
	content := message("byte for byte")
	id := s.send(t, s.inside, "127.20.1.5", "tickets@skerryline.example", content, "bytes@saltmarsh.example")
	d := s.until(t, id, mail.Delivered)
	got := s.messages(t, "mx.saltmarsh.example", "bytes@saltmarsh.example")
	if len(got) != 1 || !got[0].TLS {
		t.Fatalf("the host has %d messages: %+v", len(got), got)
	}
	rest, ok := bytes.CutSuffix(got[0].Content, []byte(content))
	want := fmt.Sprintf(
		"Received: from machine.skerryline.example ([127.20.1.5])\r\n\tby mail.skerryline.example with "+
			"ESMTP id %s\r\n\tfor <bytes@saltmarsh.example>;\r\n\t",
		id,
	)
	if !ok || !strings.HasPrefix(string(rest), want) || bytes.Count(rest, []byte("\n")) != 4 {
		t.Errorf("on top of the message stands:\n%s", rest)
	}
	if d.Rule != "ticket machines" || d.Route != "to the world" || d.Revision != 1 ||
		!strings.Contains(d.Last.TLS, "verified") ||
		strings.Contains(d.Last.TLS, "not verified") {
		t.Errorf("the decision is not on record: %+v %+v", d, d.Last)
	}
}

func TestAMessageComesIntoAMailbox(t *testing.T) {
	s := world(t)
	content := message("into the mailbox")
	id := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", content, "Harbour@skerryline.example")
	s.until(t, id, mail.Delivered)
	var raw bytes.Buffer
	if err := s.client().MailboxRaw(context.Background(), "ines.harrow@skerryline.example", id,
		&raw); err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(
		raw.String(),
		"Return-Path: <ada@saltmarsh.example>\r\nAuthentication-Results: mail.skerryline.example;\r\n\tspf=",
	) ||
		!strings.HasSuffix(raw.String(), content) {
		t.Errorf("the mailbox holds:\n%s", raw.String())
	}
}

// Every host of the simulated internet gives the outcome, stage and cause that
// its behaviour asks for.
func TestWhatBecomesOfMailToEachHost(t *testing.T) {
	s := world(t)
	for _, c := range []struct {
		to    string
		state mail.State
		stage diagnose.Stage
		cause diagnose.Cause
		code  string // enhanced
	}{
		{"a@barelock.example", mail.Delivered, diagnose.StageContent, "", "2.0.0"},
		{"a@oldlocks.example", mail.Delivered, diagnose.StageContent, "", "2.0.0"},
		{"a@dunlin.example", mail.Delivered, diagnose.StageContent, "", "2.0.0"},
		{"a@lowtide.example", mail.Delivered, diagnose.StageContent, "", "2.0.0"},
		{"a@slowtide.example", mail.Delivered, diagnose.StageContent, "", "2.0.0"},
		{"a@[127.30.0.60]", mail.Deferred, diagnose.StageRoute, diagnose.NoRoute, "4.4.4"},
		{"a@nosuch.example", mail.Bounced, diagnose.StageRecipient, diagnose.NoSuchUser, "5.1.1"},
		{"a@strandwatch.example", mail.Bounced, diagnose.StageRecipient, diagnose.BlockListed, "5.7.1"},
		{"a@homelines.example", mail.Bounced, diagnose.StageGreeting, diagnose.ResidentialAddress, "5.7.1"},
		{"a@lostbuoy.example", mail.Bounced, diagnose.StageDNS, diagnose.NoSuchDomain, "5.1.2"},
		{"a@nomail.example", mail.Bounced, diagnose.StageDNS, diagnose.NoMail, "5.1.10"},
		{"a@sunkenpier.example", mail.Deferred, diagnose.StageConnect, diagnose.ConnectRefused, "4.4.1"},
		{"a@fogbank.example", mail.Deferred, diagnose.StageGreeting, diagnose.NoAnswer, "4.4.2"},
		{"a@foghorn.example", mail.Deferred, diagnose.StageDNS, diagnose.DNSTrouble, "4.4.3"},
		{"a@hangup.example", mail.Deferred, diagnose.StageContent, diagnose.Dropped, "4.4.2"},
		{"a@kelpworks.example", mail.Delivered, diagnose.StageContent, "", "2.0.0"},
		{"anders@lightkeepers.example", mail.Delivered, diagnose.StageContent, "", "2.0.0"},
		{"nobody@lightkeepers.example", mail.Bounced, diagnose.StageRecipient, diagnose.NoSuchUser, "5.1.1"},
		{"mette.lund@lightkeepers.example", mail.Delivered, diagnose.StageMailbox, "", "2.1.5"},
		{"archive@skerryline.example", mail.Delivered, diagnose.StageContent, "", "2.0.0"},
		{"a@harbourmail.example", mail.Delivered, diagnose.StageContent, "", "2.0.0"},
		{"postmaster@kelpworks.example", mail.Delivered, diagnose.StageContent, "", "2.0.0"},
		{"postmaster", mail.Delivered, diagnose.StageMailbox, "", "2.1.5"},
		{"Postmaster@lightkeepers.example", mail.Delivered, diagnose.StageMailbox, "", "2.1.5"},
	} {
		t.Run(c.to, func(t *testing.T) {
			t.Parallel()
			d := s.until(t, s.out(t, c.to), c.state)
			if d.Last.Stage != c.stage || d.Cause != c.cause || d.Last.Enhanced != c.code {
				t.Errorf("%s at %s: %s (%s), want %s %s %s", d.State, d.Last.Stage, d.Last, d.Cause,
					c.stage, c.code, c.cause)
			}
		})
	}
}

func TestMXHostsAreTriedInOrderAndEachFailureIsKept(t *testing.T) {
	s := world(t)
	d := s.until(t, s.out(t, "order@dunlin.example"), mail.Delivered)
	if len(d.Last.Tried) != 1 || d.Last.Tried[0].Host != "mx1.dunlin.example" || d.Last.Host != "mx2.dunlin.example" {
		t.Errorf("tried %+v, then %s", d.Last.Tried, d.Last.Host)
	}
}

func TestTLSIsUsedWhereOfferedAndWhatIsWrongIsNoted(t *testing.T) {
	s := world(t)
	d := s.until(t, s.out(t, "tls@oldlocks.example"), mail.Delivered)
	if !strings.Contains(d.Last.TLS, "not verified") || !strings.Contains(d.Last.TLS, "expired") {
		t.Errorf("TLS with an expired certificate: %q", d.Last.TLS)
	}
	s.until(t, s.out(t, "signed@harbourmail.example"), mail.Delivered)
	if got := s.messages(t, "harbourlight.example",
		"signed@harbourmail.example"); len(got) != 1 || got[0].Account != "skerryline" ||
		!got[0].TLS {
		t.Errorf("the smart host saw %+v", got)
	}
}

func TestGreylistedMailIsDeferredAndLeavesByItself(t *testing.T) {
	takesLong(t)
	s := world(t)
	id := s.out(t, "patience@greywacke.example")
	if d := s.until(t, id,
		mail.Deferred); d.Cause != diagnose.Greylisted || d.NextAttemptAt.IsZero() ||
		d.ExpiresAt.IsZero() {
		t.Errorf("deferred: %+v", d)
	}
	if d := s.until(t, id, mail.Delivered); d.Attempts < 2 {
		t.Errorf("delivered after %d attempts", d.Attempts)
	}
	tr, err := s.client().Trace(context.Background(), id, nil)
	if err != nil {
		t.Fatal(err)
	}
	var kinds []string
	for _, e := range tr.Events {
		kinds = append(kinds, string(e.Kind))
	}
	if got := strings.Join(kinds,
		" "); !strings.HasPrefix(got, "received allowed routed deferred") ||
		!strings.HasSuffix(got, "delivered") {
		t.Errorf("the story is: %s", got)
	}
}

func TestAFailureIsToldToTheSenderAsADSN(t *testing.T) {
	s := world(t)
	id := s.out(t, "gone@nosuch.example")
	s.until(t, id, mail.Bounced)
	var notice string
	if err := eventually(5*time.Second, func() error {
		tr, err := s.client().Trace(context.Background(), id, nil)
		if err == nil && len(tr.Notices) != 1 {
			err = fmt.Errorf("%d notices", len(tr.Notices))
		}
		if err == nil {
			notice = tr.Notices[0].String()
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	s.until(t, notice, mail.Delivered)
	var raw bytes.Buffer
	if err := s.client().MailboxRaw(context.Background(), "ines.harrow@skerryline.example", notice,
		&raw); err != nil {
		t.Fatal(err)
	}
	parts := readReport(t, raw.Bytes())
	for i, want := range [][]string{
		{"To:           gone@nosuch.example", "There is no mailbox of that name",
			"there is nobody of that name here"},
		{"Reporting-MTA: dns; mail.skerryline.example", "Final-Recipient: rfc822;gone@nosuch.example",
			"Action: failed", "Status: 5.1.1", "Remote-MTA: dns; mx.nosuch.example", "Diagnostic-Code: smtp; 550 " +
				"5.1.1"},
		{"Subject: to gone@nosuch.example", "Received: from machine"},
	} {
		for _, w := range want {
			if !strings.Contains(parts[i], w) {
				t.Errorf("part %d lacks %q:\n%s", i+1, w, parts[i])
			}
		}
	}
	// A failing notice generates no further one.
	id = s.send(t, s.edge, "127.30.0.10", "", message("null sender"), "nobody@lightkeepers.example")
	s.until(t, id, mail.Bounced)
	if tr, _ := s.client().Trace(context.Background(), id, nil); len(tr.Notices) != 0 {
		t.Errorf("a message from the null sender was answered by %v", tr.Notices)
	}
}

// readReport parses a multipart/report into its three parts.
func readReport(t *testing.T, raw []byte) []string {
	t.Helper()
	m, err := netmail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	kind, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil || kind != "multipart/report" || params["report-type"] != "delivery-status" ||
		m.Header.Get("Auto-Submitted") != "auto-replied" {
		t.Fatalf("the notice is %s %v %v", kind, params, err)
	}
	var parts []string
	for r := multipart.NewReader(m.Body, params["boundary"]); ; {
		p, err := r.NextPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(p)
		parts = append(parts, string(body))
	}
	if len(parts) != 3 {
		t.Fatalf("the notice has %d parts:\n%s", len(parts), raw)
	}
	return parts
}

func TestALoopIsStopped(t *testing.T) {
	s := world(t)
	s.out(t, "x@roundabout.example")
	count := func() int { return len(s.messages(t, "mx.roundabout.example", "ferry@roundabout.example")) }
	var seen int
	if err := eventually(15*time.Second, func() error {
		before := count()
		time.Sleep(700 * time.Millisecond)
		if seen = count(); seen == 0 || seen != before {
			return fmt.Errorf("the message still goes round: %d", seen)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if seen > 6 {
		t.Errorf("the message went round %d times", seen)
	}
	// The remote host tells the sender what stopped it.
	if m, ok := s.find(t, "ines.harrow@skerryline.example"); !ok || m.Sender != "" {
		t.Errorf("no notice came back: %+v", m)
	}
}

func TestAnAliasIsExpandedAndEachPersonGetsItOnce(t *testing.T) {
	s := world(t)
	id := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("to everyone"),
		"everyone@skerryline.example", "tomas.vik@skerryline.example")
	var m mail.Message
	if err := eventually(10*time.Second, func() error {
		tr, err := s.client().Trace(context.Background(), id, nil)
		m = tr.Message
		for _, d := range m.Deliveries {
			if err == nil && d.State != mail.Delivered {
				err = fmt.Errorf("%s is %s", d.Recipient, d.State)
			}
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if len(m.Deliveries) != 6 ||
		strings.Join(m.Deliveries[0].Via, ">") != "everyone@skerryline.example>crew@skerryline.example" {
		t.Errorf("%d deliveries, the first by %v", len(m.Deliveries), m.Deliveries[0].Via)
	}
}

func TestAddressesAndHeadersInEveryScript(t *testing.T) {
	s := world(t)
	id := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("blåbær"), "søren@bølgevik.example")
	d := s.until(t, id, mail.Delivered)
	if d.Recipient != "søren@xn--blgevik-q1a.example" {
		t.Errorf("the recipient is %q", d.Recipient)
	}
	id = s.send(t, s.inside, "127.0.0.1", "søren@bølgevik.example", message("ja"), "å@plainscript.example")
	if d := s.until(t, id, mail.Bounced); d.Cause != diagnose.NeedsUTF8 || d.Last.Enhanced != "5.6.7" {
		t.Errorf("a host without SMTPUTF8: %s %s", d.Cause, d.Last)
	}
	if m, ok := s.find(t, "søren@xn--blgevik-q1a.example"); !ok || !m.UTF8 {
		t.Errorf("the notice about a UTF-8 address: %+v", m)
	}
	id = s.send(t, s.inside, "127.0.0.1", "ines.harrow@skerryline.example", message("æ"),
		"ascii@saltmarsh.example")
	s.until(t, id, mail.Delivered)
}

func TestLargeMailStreamsAndSizeIsHeeded(t *testing.T) {
	s := world(t)
	content := message("large") + strings.Repeat(strings.Repeat("x", 76)+"\r\n", 40_000) // 3 MB
	id := s.send(t, s.inside, "127.0.0.1", "ines.harrow@skerryline.example", content,
		"large@saltmarsh.example", "odile.marr@skerryline.example")
	s.until(t, id, mail.Delivered)
	got := s.messages(t, "mx.saltmarsh.example", "large@saltmarsh.example")
	if len(got) != 1 || !bytes.HasSuffix(got[0].Content, []byte(content)) {
		t.Errorf("the host has %d messages", len(got))
	}
	id = s.send(t, s.inside, "127.0.0.1", "ines.harrow@skerryline.example", content, "a@smallhatch.example")
	if d := s.until(t, id, mail.Bounced); d.Cause != diagnose.TooLarge || d.Last.Enhanced != "5.3.4" {
		t.Errorf("too large for the host: %s %s", d.Cause, d.Last)
	}
}

func TestAHostsLimitOfConnectionsIsLearnt(t *testing.T) {
	s := world(t)
	var ids []string
	for range 20 {
		ids = append(ids, s.out(t, "many@ebbandflow.example"))
	}
	for _, id := range ids {
		s.until(t, id, mail.Delivered)
	}
	if h := s.host(t, "mx.ebbandflow.example"); h.Stats.Messages != 20 || h.Stats.Connections > 12 {
		t.Errorf("20 messages took %d connections: %+v", h.Stats.Connections, h.Stats)
	}
}

func TestADeadHostRestsItsLaneAndMailLeavesWhenItIsBack(t *testing.T) {
	t.Parallel()
	s := slow(t, "rest")
	s.behave(t, "mx.saltmarsh.example", `{"closed": true}`)
	var ids []string
	for range 30 {
		ids = append(ids, s.out(t, "later@saltmarsh.example"))
	}
	lane := s.until(t, ids[0], mail.Deferred).LaneID
	page, err := s.client().Lanes(context.Background(), nil)
	lanes := page.Items
	if err != nil || len(lanes) != 1 || lanes[0].ID != lane || lanes[0].State != mail.LaneResting ||
		lanes[0].Waiting+lanes[0].Deferred != 30 ||
		lanes[0].Last == nil {
		t.Fatalf("the lanes are %+v, %v", lanes, err)
	}
	s.behave(t, "mx.saltmarsh.example", `{"closed": false}`)
	if out, errOut, code := s.gull(t, "queue", "flush", "--lane", lane.String()); code != 0 ||
		!strings.Contains(out, "to be tried immediately") {
		t.Fatalf("flush: %s %s", out, errOut)
	}
	for _, id := range ids {
		s.until(t, id, mail.Delivered)
	}
}

func TestFixingTheConfigurationLetsStrandedMailLeave(t *testing.T) {
	t.Parallel()
	s := own(t, "fix", func(c string) string {
		return strings.NewReplacer("intervals: [1s]", "intervals: [1h]",
			`recipients: ["*.example"]`, `recipients: [dunlin.example]`).Replace(c)
	})
	id := s.out(t, "fixed@saltmarsh.example")
	s.until(t, id, mail.Deferred)
	out, _, _ := s.gull(t, "status")
	if !strings.Contains(out, "1 stranded") || !strings.Contains(out, "no route leads to saltmarsh.example") {
		t.Errorf("status does not say so:\n%s", out)
	}
	s.run(t, "route", "set", "to the world", "--recipients", "*")
	if out := s.run(
		t,
		"draft",
		"apply",
	); !strings.HasPrefix(
		out,
		"Revision 2 is in force.\n1 deliveries that were without a route have one and are tried now.",
	) {
		t.Errorf("apply: %s", out)
	}
	if d := s.until(t, id, mail.Delivered); d.Revision != 2 || d.Route != "to the world" {
		t.Errorf("delivered by %s of revision %d", d.Route, d.Revision)
	}
}

func TestMailExpiresInTheEnd(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(
		t,
		"expire",
		func(c string) string { return strings.Replace(c, "expire_after: 2d", "expire_after: 3s", 1) },
	)
	id := s.out(t, "late@sunkenpier.example")
	d := s.until(t, id, mail.Expired)
	if d.Attempts < 2 || d.Cause != diagnose.ConnectRefused {
		t.Errorf("expired after %d attempts with %s", d.Attempts, d.Cause)
	}
	if err := eventually(5*time.Second, func() error {
		m, ok := s.find(t, "ines.harrow@skerryline.example")
		if !ok || !strings.HasPrefix(m.Subject, "Not delivered: ") {
			return fmt.Errorf("the sender was not told: %+v", m)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

func TestFinalDeliveryWritesTheOnlyReturnPath(t *testing.T) {
	s := world(t)
	id := s.send(
		t,
		s.edge,
		"127.30.0.10",
		"ada@saltmarsh.example",
		"Return-Path: <forged@dunlin.example>\r\nreturn-path:\r\n <other@dunlin.example>\r\nFrom: "+
			"ada@saltmarsh.example\r\nSubject: Paths\r\n\r\nhi\r\n",
		"keeper@skerryline.example",
	)
	s.until(t, id, mail.Delivered)
	raw := s.run(t, "mailbox", "raw", "keeper@skerryline.example", id)
	if strings.Count(strings.ToLower(raw), "return-path:") != 1 ||
		!strings.HasPrefix(raw, "Return-Path: <ada@saltmarsh.example>") {
		t.Errorf("%s", raw)
	}
}
