package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// slow is a stack on which nothing that failed is tried again by itself.
func slow(t *testing.T, name string) *stack {
	return own(t, name, func(c string) string {
		return strings.NewReplacer("intervals: [1s]", "intervals: [1h]", "back_off: 1s",
			"back_off: 1h").Replace(c)
	})
}

// stuck sends messages to a host that is down, and returns their ids.
func (s *stack) stuck(t *testing.T, to ...string) []string {
	t.Helper()
	var ids []string
	for _, r := range to {
		id := s.out(t, r)
		if len(ids) == 0 {
			s.until(t, id, mail.Deferred)
		}
		ids = append(ids, id)
	}
	return ids
}

func (s *stack) mxPort(t *testing.T) string {
	text, err := os.ReadFile(s.config)
	if err != nil {
		t.Fatal(err)
	}
	return regexp.MustCompile(`mx_port: (\d+)`).FindStringSubmatch(string(text))[1]
}

func TestEveryActionOnMessagesByCommand(t *testing.T) {
	t.Parallel()
	takesLong(t)
	s := slow(t, "actions")
	s.behave(t, "mx.saltmarsh.example", `{"closed": true}`)
	ids := s.stuck(t, "a@saltmarsh.example", "b@saltmarsh.example", "c@saltmarsh.example",
		"d@saltmarsh.example", "e@saltmarsh.example")
	state := func(id string, want mail.State) mail.Delivery { t.Helper(); return s.until(t, id, want) }

	if out := s.run(
		t,
		"queue",
		"hold",
		"--domain",
		"saltmarsh.example",
		"--dry-run",
	); out != "5 deliveries would be held.\n" {
		t.Errorf("a dry run says %q", out)
	}
	if out := s.run(
		t,
		"queue",
		"hold",
		"--domain",
		"saltmarsh.example",
		"--why",
		"wrong prices",
	); out != "5 deliveries are held. On record as action 1.\n" {
		t.Errorf("hold says %q", out)
	}
	state(ids[4], mail.Held)
	if out := s.run(t, "queue", "list", "--state", "held", "-o", "jsonl"); strings.Count(out, "\n") != 5 {
		t.Errorf("held:\n%s", out)
	}
	if out := s.run(t, "trace", "show", ids[0]); !strings.Contains(out, "held by tests: wrong prices") {
		t.Errorf("the message's story lacks who and why:\n%s", out)
	}
	if out := s.run(t, "queue", "undo", "1"); !strings.HasPrefix(out, "5 deliveries are released.") {
		t.Errorf("undo says %q", out)
	}
	// What is released is tried immediately and fails again; then each goes its own way.
	if err := eventually(10*time.Second, func() error {
		if out := s.run(t, "lane", "show", "saltmarsh.example"); !strings.Contains(out, "resting") {
			return fmt.Errorf("%s", out)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if out, _, code := s.gull(t, "queue", "undo", "1"); code != 1 || out != "" {
		t.Errorf("an action was taken back twice: %d %q", code, out)
	}
	s.run(t, "queue", "reroute", ids[0], "--host", "127.30.0.12:"+s.mxPort(t))
	if d := state(ids[0], mail.Delivered); d.Route != "detour" || d.Last.Address != "127.30.0.12" {
		t.Errorf("rerouted by %s to %s", d.Route, d.Last.Address)
	}
	s.run(t, "queue", "reroute", ids[1], "--by", "by provider", "--keep")
	if d := state(ids[1], mail.Delivered); d.Route != "by provider" {
		t.Errorf("rerouted by %s", d.Route)
	}
	s.run(t, "queue", "change-domain", "--recipient", "c@saltmarsh.example", "--to-domain", "dunlin.example")
	if d := state(ids[2], mail.Delivered); d.Recipient != "c@dunlin.example" || d.Original != "c@saltmarsh.example" {
		t.Errorf("sent to %s", d.Recipient)
	}
	s.run(t, "queue", "return", ids[3], "--say", "the marsh is flooded")
	d := state(ids[3], mail.Bounced)
	notice := s.notice(t, ids[3], 0)
	if d.Cause != "returned" || !strings.Contains(notice.Text, "sent it back: the marsh") ||
		notice.Groups[1]["action"] != "failed" ||
		notice.Groups[1]["status"] != "5.7.0" {
		t.Errorf("returned for %s with %+v", d.Cause, notice)
	}

	if out, stderr, code := s.gull(t, "queue", "drop", ids[4]); code != 2 || out != "" ||
		!strings.Contains(stderr, "dropping needs --yes") {
		t.Errorf("dropped without asking: %d %s", code, stderr)
	}
	s.run(t, "queue", "drop", ids[4], "--yes")
	state(ids[4], mail.Discarded)
	var acts []mail.Action
	if err := json.Unmarshal([]byte(s.run(t, "queue", "actions", "-o", "json")), &acts); err != nil {
		t.Fatal(err)
	}
	if acts[0].Verb != "drop" || acts[0].Touched != 1 || acts[0].Who != "tests" || !acts[0].CanUndo ||
		len(acts) != 7 {
		t.Errorf("on record: %+v", acts)
	}
	s.run(t, "queue", "restore", fmt.Sprint(acts[0].ID))
	// Restored, it goes on as before; expiring sooner, it comes back to its sender.
	before := state(ids[4], mail.Waiting) // its lane rests
	s.run(t, "queue", "expire", ids[4], "--in", "+2d")
	if after := state(ids[4], mail.Waiting); after.ExpiresAt.Sub(before.ExpiresAt.Time) != 48*time.Hour {
		t.Errorf("expired at %s, before at %s", after.ExpiresAt, before.ExpiresAt)
	}
	s.run(t, "queue", "expire", ids[4], "--in", "1s")
	time.Sleep(1200 * time.Millisecond)
	s.run(t, "queue", "flush", ids[4])
	state(ids[4], mail.Expired)
	if n := s.notice(t, ids[4], 0); n.Groups[1]["status"] != "4.4.7" || !strings.Contains(n.Text,
		"has expired") {
		t.Errorf("%+v", n)
	}
}

func TestActionsOnWhatIsUnderWayAndBadRequests(t *testing.T) {
	t.Parallel()
	takesLong(t)
	s := slow(t, "underway")
	s.behave(t, "mx.slowtide.example", `{"pause": "700ms"}`)
	for i := range 12 {
		s.out(t, fmt.Sprintf("r%d@slowtide.example", i))
	}
	// What waits in memory is gone through again: nothing may be done to it twice.
	s.run(t, "queue", "expire", "--domain", "slowtide.example", "--in", "+1d")
	late := 0
	items, err := s.client().Queue(context.Background(), url.Values{"domain": {"slowtide.example"}})
	for _, it := range items.Items {
		if d := it.Delivery.ExpiresAt.Sub(it.ReceivedAt).Round(time.Hour); d > 72*time.Hour || err != nil {
			t.Errorf("expired after %s", d)
		} else if d == 72*time.Hour {
			late++
		}
	}
	if late < 5 {
		t.Errorf("only %d of %d expire later", late, len(items.Items))
	}
	out := s.run(t, "queue", "hold", "--domain", "slowtide.example", "-o", "json")
	var done api.Done
	if err := json.Unmarshal([]byte(out),
		&done); err != nil || done.Touched+done.Sending != done.Matched || done.Touched < 6 ||
		done.Sending == 0 {
		t.Errorf("of what waits in memory and what is being sent: %s", out)
	}
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"queue", "hold"}, 2, "say which messages"},
		{[]string{"queue", "hold", "--older", "soon"}, 1, "neither a length of time"},
		{[]string{"queue", "hold", "--larger", "big"}, 1, "is not a size"},
		{[]string{"queue", "hold", "not-an-id-1"}, 1, "is not a delivery's id"},
		{[]string{"queue", "reroute", "--all"}, 1, "either a route or a host"},
		{[]string{"queue", "reroute", "--all", "--by", "nowhere"}, 1, "there is no route nowhere"},
		{[]string{"queue", "reroute", "--all", "--host", "a b"}, 1, "is no host"},
		{[]string{"queue", "expire", "--all", "--in", "later"}, 1, "is not a duration"},
		{[]string{"queue", "change-domain", "--all", "--to-domain", "@"}, 1, "the right domain"},
		{[]string{"queue", "undo", "99"}, 4, "no such action"},
		{[]string{"queue", "undo", "one"}, 2, "no number of an action"},
		{[]string{"lane", "pause", "nobody.example"}, 4, "nothing waits in a lane"},
		{[]string{"route", "pause", "nowhere"}, 1, "there is no route nowhere"},
		{[]string{"route", "resume", "to the world"}, 1, "is not paused"},
		{[]string{"node", "drain", "nowhere"}, 1, "there is no node nowhere; there are shore"},
		{[]string{"queue", "pause", "--for", "long"}, 2, "is no length of time"},
		{[]string{"schedule", "preview", "--intervals", "x"}, 1, "is not a duration"},
		{[]string{"lane", "list", "--sort", "beauty"}, 2, "sort"},
		{[]string{"--token", viewerToken, "queue", "flush", "--all"}, 1, "administrator"},
		{[]string{"--token", viewerToken, "queue", "pause"}, 1, "administrator"},
	} {
		out, stderr, code := s.gull(t, c.args...)
		if code != c.code || !strings.Contains(stderr, c.want) {
			t.Errorf("%v: exit %d, %q %q; want %d, %q", c.args, code, out, stderr, c.code, c.want)
		}
	}
}

func TestWhatIsPausedWaitsAndGoesOn(t *testing.T) {
	t.Parallel()
	takesLong(t)
	s := slow(t, "pauses")
	first := s.stuck(t, "jo@sunkenpier.example")[0]
	s.run(t, "lane", "pause", "sunkenpier.example", "--why", "their storm")
	s.behave(t, "mx.sunkenpier.example", `{"closed": false}`)
	s.run(t, "queue", "flush", "--all")
	s.run(t, "route", "pause", "to the world", "--for", "1h")
	second := s.out(t, "ada@saltmarsh.example")
	time.Sleep(300 * time.Millisecond)
	if d := s.until(t, second, mail.Waiting); d.Attempts != 0 {
		t.Error("a paused route was used")
	}
	if out := s.run(t, "lane", "list"); !strings.Contains(out, "paused by tests: their storm") &&
		!strings.Contains(out, "route to the world is paused by tests") {
		t.Errorf("the list does not say who paused it and why:\n%s", out)
	}
	s.run(t, "route", "resume", "to the world")
	s.until(t, second, mail.Delivered)
	if d := s.until(t, first, mail.Deferred); d.Attempts != 1 {
		t.Error("a paused lane was used")
	}
	s.run(t, "lane", "resume", "sunkenpier.example")
	s.until(t, first, mail.Delivered)

	s.run(t, "queue", "pause", "--why", "new disks")
	inward := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("in"), inesAddress)
	time.Sleep(300 * time.Millisecond)
	s.until(t, inward, mail.Waiting)
	s.run(
		t,
		"queue",
		"undo",
		strings.TrimSuffix(strings.Fields(lastLine(s.run(t, "queue", "actions", "--limit", "1")))[0], "\n"),
	)
	s.until(t, inward, mail.Delivered)

	s.run(t, "listener", "pause", "edge")
	if c := dial(t, s.edge, "127.30.0.10"); !strings.HasPrefix(c.hear(), "421 4.3.2") {
		t.Error("a paused listener greets")
	}
	s.run(t, "listener", "resume", "edge")
	s.run(t, "node", "drain", "shore")
	if err := eventually(5*time.Second, func() error {
		if out := s.run(t, "node", "list"); !strings.Contains(out, "drained") {
			return fmt.Errorf("%s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	if c := dial(t, s.inside, "127.0.0.1"); !strings.HasPrefix(c.hear(), "421 4.3.2") {
		t.Error("a drained node takes mail")
	}
	s.run(t, "node", "resume", "shore")
	s.until(t, s.out(t, "una@saltmarsh.example"), mail.Delivered)
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return lines[len(lines)-1]
}

// report is a notification as an independent reader sees it.
type report struct {
	Type       string              `json:"type"`
	ReportType string              `json:"report_type"`
	Subject    string              `json:"subject"`
	Auto       string              `json:"auto"`
	Parts      []string            `json:"parts"`
	Text       string              `json:"text"`
	Groups     []map[string]string `json:"groups"`
	Original   string              `json:"original"`
	Defects    []string            `json:"defects"`
}

// notice waits for the n-th notice about a message and has it read by Python.
func (s *stack) notice(t *testing.T, id string, n int) report {
	t.Helper()
	var notice string
	if err := eventually(20*time.Second, func() error {
		tr, err := s.client().Trace(context.Background(), id, nil)
		if err == nil && len(tr.Notices) <= n {
			err = fmt.Errorf("%s has %d notices", id, len(tr.Notices))
		}
		if err == nil {
			notice = tr.Notices[n].String()
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	s.until(t, notice, mail.Delivered)
	var raw bytes.Buffer
	if err := s.client().MailboxRaw(context.Background(), inesAddress, notice, &raw); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("python3", "clients/report.py")
	cmd.Stdin = &raw
	out, err := cmd.Output()
	var r report
	if err == nil {
		err = json.Unmarshal(out, &r)
	}
	if err != nil {
		t.Fatalf("the notice cannot be read: %v %s", err, out)
	}
	if r.Type != "multipart/report" || r.ReportType != "delivery-status" || r.Auto != "auto-replied" ||
		len(r.Parts) != 3 ||
		len(r.Defects) != 0 {
		t.Errorf("%+v", r)
	}
	return r
}

func TestEveryKindOfNoticeIsReadByAnIndependentReader(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "notices", func(c string) string {
		return strings.NewReplacer("expire_after: 2d", "expire_after: 2d\n    warn_after: 1s",
			"  retry:\n", "  notices: {copy_to: failures}\n  retry:\n").Replace(c)
	})
	s.behave(t, "mx.saltmarsh.example", `{"lacks": ["DSN"]}`)
	more := "" // of the header
	send := func(option string, recipients ...string) string {
		t.Helper()
		c := dial(t, s.inside, "127.0.0.1")
		c.hear()
		c.want("250", "EHLO machine.skerryline.example")
		c.want("250", "MAIL FROM:<"+inesAddress+"> ENVID=QQ+2B7 RET=FULL")
		for _, r := range recipients {
			c.want("250", "RCPT TO:<"+r+"> NOTIFY="+option+" ORCPT=rfc822;"+strings.ReplaceAll(r, "@", "+40"))
		}
		c.want("354", "DATA")
		return strings.Fields(c.want("250", message("=?utf-8?q?=C3=9Cnter_Segeln?="+more)+"."))[4]
	}
	for _, c := range []struct {
		option, to, action, status, subject, says string
	}{
		{"SUCCESS", inesAddress, "delivered", "2.1.5", "Delivered: Ünter Segeln", "in the mailbox"},
		{"SUCCESS,FAILURE", "ada@saltmarsh.example", "relayed", "2.1.9", "Passed on: Ünter Segeln",
			"does not tell us"},
		{"SUCCESS", "crew@skerryline.example", "expanded", "2.0.0", "Passed on to a list: Ünter Segeln",
			"stands for several"},
		{"FAILURE", "gone@nosuch.example", "failed", "5.1.1", "Not delivered: Ünter Segeln",
			"There is no mailbox of that name"},
		{"DELAY", "jo@sunkenpier.example", "delayed", "4.4.7", "Not delivered yet: Ünter Segeln",
			"We keep trying until"},
	} {
		id := send(c.option, c.to)
		r := s.notice(t, id, 0)
		group := r.Groups[1]
		if r.Subject != c.subject || !strings.Contains(r.Text,
			c.says) || group["action"] != c.action || group["status"] != c.status || len(r.Groups) != 2 ||
			r.Groups[0]["original-envelope-id"] != "QQ+7" ||
			r.Groups[0]["reporting-mta"] != "dns; mail.skerryline.example" ||
			group["original-recipient"] != "rfc822;"+c.to ||
			group["final-recipient"] != "rfc822;"+c.to && c.action != "expanded" ||
			!strings.Contains(r.Original, "Subject:") {
			t.Errorf("%s to %s: %+v", c.option, c.to, r)
		}
		if (r.Parts[2] == "message/rfc822") != (c.action == "failed") {
			t.Errorf("%s: of the original comes back %s", c.action, r.Parts[2])
		}
	}
	// Who writes in German is answered so.
	more = "\r\nContent-Language: de-AT"
	r := s.notice(t, send("FAILURE", "gone@nosuch.example"), 0)
	if r.Subject != "Nicht zugestellt: Ünter Segeln" || r.Groups[1]["status"] != "5.1.1" ||
		!strings.Contains(r.Text, "gibt es kein Postfach dieses") ||
		!strings.Contains(r.Text, "Der Server mx.nosuch.example sagte:") {
		t.Errorf("in German: %+v", r)
	}
	// Asked for nothing, nobody is told.
	for _, to := range []string{"gone@nosuch.example", "ada@saltmarsh.example"} {
		id := send("NEVER", to)
		time.Sleep(500 * time.Millisecond)
		if tr, err := s.client().Trace(context.Background(), id, nil); err != nil || len(tr.Notices) != 0 {
			t.Errorf("NEVER to %s: %v %v", to, tr.Notices, err)
		}
	}
	if err := eventually(5*time.Second, func() error {
		out := s.run(t, "mailbox", "messages", "keeper@skerryline.example", "-o", "json")
		if !strings.Contains(out, "Not delivered: ") || strings.Contains(out, "Delivered: Ü") {
			return fmt.Errorf("the postmaster has %s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

func TestAReportFromElsewhereIsTiedToItsMessage(t *testing.T) {
	s := world(t)
	id := s.out(t, "ada@saltmarsh.example")
	s.until(t, id, mail.Delivered)
	text := "From: MAILER <postmaster@saltmarsh.example>\r\nTo: <" + inesAddress + ">\r\nSubject: failed\r\nMIME-Version: 1.0\r\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n" +
		"--b\r\n\r\nIt could not be delivered.\r\n--b\r\nContent-Type: " +
		"message/delivery-status\r\n\r\nReporting-MTA: dns; " +
		"mx.saltmarsh.example\r\n\r\nFinal-Recipient: rfc822; ada@saltmarsh.example\r\nAction: " +
		"failed\r\nStatus: 5.2.2\r\nDiagnostic-Code: smtp; 552 5.2.2 the boathouse is full\r\n\r\n" +
		"--b\r\nContent-Type: text/rfc822-headers\r\n\r\nReceived: from machine.skerryline.example " +
		"([127.0.0.1])\r\n\tby mail.skerryline.example with ESMTP id " + id + ";\r\n\tMon, 23 Nov 2026 " +
		"05:00:00 +0000\r\nSubject: x\r\n--b--\r\n"
	notice := s.send(t, s.edge, "127.30.0.10", "", text, inesAddress)
	tr, err := s.client().Trace(context.Background(), id, nil)
	if err != nil || len(tr.Notices) != 1 || tr.Notices[0].String() != notice {
		t.Fatalf("notices %v, %v", tr.Notices, err)
	}
	found := false
	for _, e := range tr.Events {
		found = found ||
			e.Kind == mail.EventReport && e.Delivery != "" &&
				strings.Contains(e.Text, "mx.saltmarsh.example reports: failed 5.2.2 552 5.2.2 the "+
					"boathouse is full")
	}
	if !found {
		t.Errorf("the message's story: %+v", tr.Events)
	}
	if other, err := s.client().Trace(context.Background(), notice,
		nil); err != nil || other.Message.NoticeOf.String() != id ||
		!strings.HasPrefix(other.Events[0].Text, "received from 127.30.0.10") {
		t.Errorf("the notice: %+v %v", other, err)
	}
}

func TestTheScheduleIsShownAsItWillBe(t *testing.T) {
	s := world(t)
	out := s.run(t, "schedule", "preview", "--intervals", "1h", "--expire-after", "6h", "--warn-after", "2h")
	for _, want := range []string{"is tried 7 times, 1 of them in the first hour",
		"hears of the delay after 2 h and 3 attempts", "A host that is down for a day loses the message", "|···········|···········w···········|···········|···········|···········x"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing in\n%s", want, out)
		}
	}
}

func TestWhatIsDoneOnOneNodeCountsOnTheOther(t *testing.T) {
	t.Parallel()
	takesLong(t)
	s := slow(t, "nodes")
	other := s.second(t, "reef")
	s.behave(t, "mx.slowtide.example", `{"pause": "600ms"}`)
	for i := range 10 {
		s.send(t, other.inside, "127.0.0.1", inesAddress, message("x"), fmt.Sprintf("r%d@slowtide.example", i))
	}
	// The messages wait in the other node's memory; this one holds them.
	var done api.Done
	out := s.run(t, "queue", "hold", "--domain", "slowtide.example", "-o", "json")
	if err := json.Unmarshal([]byte(out),
		&done); err != nil || done.Touched < 5 || done.Touched+done.Sending > 10 {
		t.Errorf("held from the other node: %s", out)
	}
	s.run(t, "queue", "pause")
	id := s.send(t, other.inside, "127.0.0.1", inesAddress, message("x"), "ada@saltmarsh.example")
	time.Sleep(500 * time.Millisecond)
	if d := s.until(t, id, mail.Waiting); d.Attempts != 0 {
		t.Error("the other node delivers on")
	}
	other.run(t, "queue", "resume")
	s.until(t, id, mail.Delivered)
	// A host that one node finds down is left alone by the other.
	s.send(t, s.inside, "127.0.0.1", inesAddress, message("x"), "jo@sunkenpier.example")
	if err := eventually(5*time.Second, func() error {
		if out := other.run(t, "lane", "list", "--find", "sunkenpier"); !strings.Contains(out, "resting") {
			return fmt.Errorf("%s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	late := s.send(t, other.inside, "127.0.0.1", inesAddress, message("x"), "kit@sunkenpier.example")
	time.Sleep(500 * time.Millisecond)
	if d := s.until(t, late, mail.Waiting); d.Attempts != 0 {
		t.Error("the other node tried a host that is known to be down")
	}
	if out := s.run(t, "node", "list"); !strings.Contains(out, "reef") || !strings.Contains(out, "shore") {
		t.Errorf("nodes:\n%s", out)
	}
}
