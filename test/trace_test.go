package test

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"

	"gullroute/internal/core/mail"
	"gullroute/test/browser"
)

// TestTenSupportCalls answers each call by one search and one page.
func TestTenSupportCalls(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "calls", func(c string) string {
		c = strings.Replace(c, "quota: 50 MB", "quota: 2000", 1)
		return strings.Replace(
			c,
			"\npeers:\n",
			"\npeers:\n  - {name: brief, domains: [sunkenpier.example], retry: {intervals: [1s], "+
				"warn_after: 1s, expire_after: 4s}}\n",
			1,
		)
	})
	// 1: the client never got further than MAIL.
	d := dial(t, s.submission, "127.30.0.90")
	d.hear()
	d.want("250", "EHLO laptop.skerryline.example")
	d.want("530 5.7.0", "MAIL FROM:<odile.marr@skerryline.example>")
	// 2: refused at RCPT.
	d = dial(t, s.edge, "127.30.0.10")
	d.hear()
	d.want("250", "EHLO mx.saltmarsh.example")
	d.want("250", "MAIL FROM:<ada@saltmarsh.example>")
	d.want("550 5.1.1", "RCPT TO:<ines.harow@skerryline.example>")
	// 8: the mailbox is full.
	big := "Subject: Charts\r\n\r\n" + strings.Repeat("The tide is out.\r\n", 90)
	s.until(
		t,
		s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", big, "wren.castell@skerryline.example"),
		mail.Delivered,
	)
	d = dial(t, s.edge, "127.30.0.10")
	d.hear()
	d.want("250", "EHLO mx.saltmarsh.example")
	d.want("250", "MAIL FROM:<ada@saltmarsh.example> SIZE=900")
	d.want("452 4.2.2", "RCPT TO:<wren.castell@skerryline.example>")
	id := map[string]string{
		"waiting": s.send(t, s.inside, "127.20.1.9", "bridge@skerryline.example",
			message("Old recorder"), "logs@[127.30.0.60]"),
		"bounced": s.out(t, "ned@nosuch.example"),
		"alias": s.send(t, s.edge, "127.30.0.10", "bo@saltmarsh.example",
			message("Bicycles on board"), "info@skerryline.example"),
		"forwarded": s.send(t, s.edge, "127.30.0.10", "cleo@dunlin.example", message("Watch list"),
			"ailsa.brune@skerryline.example"),
		"mailbox": s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example",
			message("Lost umbrella"), "tomas.vik@skerryline.example"),
		"expired": s.out(t, "jo@sunkenpier.example"),
		"looped": s.send(t, s.edge, "127.30.0.26", "rota@dunlin.example",
			message("Round and round"), "carousel@skerryline.example"),
	}
	s.until(t, id["bounced"], mail.Bounced)
	s.until(t, id["mailbox"], mail.Delivered)
	s.until(t, id["forwarded"], mail.Delivered)
	s.until(t, id["expired"], mail.Expired)
	if err := eventually(20*time.Second, func() error {
		p, err := s.client().Search(context.Background(),
			url.Values{"q": {"refused cause:loop rota@dunlin.example"}})
		if err == nil && len(p.Items) == 0 {
			err = fmt.Errorf("the loop has not ended")
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	p := s.open(t, "keeper")
	for _, call := range []struct {
		name, search string
		shows        []string
	}{
		{"never sent", "odile.marr@skerryline.example refused today",
			[]string{"at stage sender", "530 5.7.0 say STARTTLS first",
				"This listener takes no mail before TLS", "Read the transcript"}},
		{"refused at RCPT", "ines.harow", []string{"550 5.1.1", "There is no such mailbox",
			"ada@saltmarsh.example", "127.30.0.10"}},
		{"waiting", "“recorder”", []string{"deferred", "No route leads to this recipient",
			"Waiting does not help"}},
		{"bounced", "ned@nosuch.example", []string{"bounced", "550 5.1.1", "said by mx.nosuch.example",
			"notice to the sender", "Not delivered"}},
		{"elsewhere by an alias", "info@skerryline.example",
			[]string{"delivered", "odile.marr@skerryline.example", "alias leads here"}},
		{"forwarded", "to:ailsa.brune@skerryline.example",
			[]string{"ailsa@lightkeepers.example", "old-post.lightkeepers.example", "delivered"}},
		{"in the mailbox", "umbrella tomas.vik@skerryline.example",
			[]string{"delivered", "put into mailbox tomas.vik@skerryline.example", "messages,"}},
		{"quota", "mailbox-full wren.castell@skerryline.example",
			[]string{"452 4.2.2", "The recipient's mailbox is full", "The recipient must make room"}},
		{"expired", "jo@sunkenpier.example expired", []string{"expired", "connection refused by",
			"attempt in session"}},
		{"looped", "rota@dunlin.example cause:loop", []string{"554 5.4.6", "goes round in a loop",
			"Find the forward that sends it back"}},
	} {
		p.visit("/trace?q=" + url.QueryEscape(strings.Trim(call.search, "“”")))
		p.do(browser.Visible(`[role=grid] [role=row] a`),
			browser.Press(`[role=grid] [role=row] a`))
		if err := eventually(10*time.Second, func() error {
			text := p.text()
			for _, w := range call.shows {
				if !strings.Contains(text, w) {
					return missing(w)
				}
			}
			return nil
		}); err != nil {
			t.Errorf("%s: %v\nthe page shows:\n%.1500s", call.name, err, p.text())
		}
	}
	// What one hands on says how it is, and no more.
	words := s.run(t, "trace", "show", id["bounced"], "--for", "user")
	if !strings.Contains(words,
		"It could not be delivered to ned@nosuch.example") || strings.Contains(words, "127.") ||
		strings.Count(words, ". ") > 5 {
		t.Errorf("for the user: %s", words)
	}
	if far := s.run(
		t,
		"trace",
		"show",
		id["bounced"],
		"--for",
		"remote",
	); !strings.Contains(far, "UTC") || !strings.Contains(far, "550 5.1.1") ||
		!strings.Contains(far, id["bounced"]) ||
		!strings.Contains(far, "At: mx.nosuch.example [127.30.0.15]") {
		t.Errorf("for the remote administrator: %s", far)
	}
}

// tap passes connections on to another address and keeps what both sides sent.
type tap struct {
	net.Listener
	mu    sync.Mutex
	lines []string
}

func newTap(t *testing.T, from, to string) *tap {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p := &tap{Listener: l}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
			far, err := d.Dial("tcp", to)
			if err != nil {
				c.Close()
				continue
			}
			go p.copy("client ", c, far)
			go p.copy("server ", far, c)
		}
	}()
	return p
}

func (p *tap) copy(who string, from, to net.Conn) {
	defer to.Close()
	var rest []byte
	buf := make([]byte, 64<<10)
	for {
		n, err := from.Read(buf)
		rest = append(rest, buf[:n]...)
		for {
			i := bytes.Index(rest, []byte("\r\n"))
			if i < 0 {
				break
			}
			p.mu.Lock()
			p.lines = append(p.lines, who+string(rest[:i]))
			p.mu.Unlock()
			rest = rest[i+2:]
		}
		if n > 0 {
			_, _ = to.Write(buf[:n])
		}
		if err != nil {
			return
		}
	}
}

// said is what the wire carried of one side, less content and credentials.
func (p *tap) said(who string) []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	var out []string
	content, secret := false, false
	for _, l := range p.lines {
		line, mine := strings.CutPrefix(l, who+" ")
		if !mine {
			secret = strings.HasPrefix(l, "server 334") || secret && who == "client"
			continue
		}
		switch {
		case content:
			content = line != "."
			continue
		case line == "DATA" && who == "client":
			content = true
		case strings.HasPrefix(line, "AUTH PLAIN "):
			line = "AUTH PLAIN (credentials left out)"
		case strings.HasPrefix(line, "334"):
			line = "334 (challenge left out)"
		case secret && who == "client":
			line, secret = "(credentials left out)", false
		}
		out = append(out, line)
	}
	return out
}

// recorded is what is on record of one side of a session.
func (s *stack) recorded(t *testing.T, id, who string) (out []string, all string) {
	t.Helper()
	v, err := s.client().Session(context.Background(), id, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range v.Lines {
		all += l.Who + " " + l.Text + "\n"
		if l.Who == who {
			out = append(out, l.Text)
		}
	}
	return out, all
}

// ended waits for the session that matches and has ended.
func (s *stack) ended(t *testing.T, q url.Values) mail.Session {
	t.Helper()
	var found mail.Session
	if err := eventually(15*time.Second, func() error {
		p, err := s.client().Sessions(context.Background(), q)
		if err != nil {
			return err
		}
		for _, x := range p.Items {
			if !x.EndedAt.IsZero() {
				found = x
				return nil
			}
		}
		return fmt.Errorf("no session %v has ended", q)
	}); err != nil {
		t.Fatal(err)
	}
	return found
}

func TestTheTranscriptIsWhatTheWireCarried(t *testing.T) {
	t.Parallel()
	takesLong(t)
	s := own(t, "wire", func(c string) string {
		return strings.Replace(c, "    kind: inside\n",
			"    kind: inside\n    sign_in: [plain, login]\n    sign_in_without_tls: true\n", 1)
	})
	givePassword(t, s, inesAddress, inesPassword)
	in := newTap(t, "127.20.1.44", s.inside)
	d := dial(t, in.Addr().String(), "127.0.0.1")
	d.hear()
	d.want("250", "EHLO kiosk.skerryline.example")
	d.want("535", "AUTH PLAIN "+base64.StdEncoding.EncodeToString([]byte("\x00"+inesAddress+"\x00wrong-one")))
	d.want("334", "AUTH LOGIN")
	d.want("334", base64.StdEncoding.EncodeToString([]byte(inesAddress)))
	d.want("235", base64.StdEncoding.EncodeToString([]byte(inesPassword)))
	d.want("500", "WHAT is \xff this")
	d.raw(
		"MAIL FROM:<" + inesAddress + ">\r\nRCPT TO:<x@saltmarsh.example>\r\nRCPT " +
			"TO:<nobody@skerryline.example>\r\nDATA\r\n",
	)
	for _, want := range []string{"250 2.1.0", "250 2.1.5", "550 5.1.1", "354"} {
		if got := d.hear(); !strings.HasPrefix(got, want) {
			t.Fatalf("%s, want %s", got, want)
		}
	}
	d.want("250 2.0.0", "Subject: Berth\r\n\r\nThe marmalade is in the hold.\r\n..leading\r\n.")
	d.want("221", "QUIT")
	session := s.ended(t, url.Values{"peer": {"127.20.1.44"}})
	for _, who := range []string{"client", "server"} {
		got, all := s.recorded(t, session.ID.String(), who)
		want := in.said(who)
		want = slices.DeleteFunc(
			want,
			func(line string) bool { return strings.HasPrefix(line, "WHAT") },
		) // no command: only its length is kept
		if strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Errorf("%s:\n%s\nthe wire carried\n%s", who, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
		for _, secret := range []string{"marmalade",
			base64.StdEncoding.EncodeToString([]byte(inesPassword)), inesPassword, "wrong-one"} {
			if strings.Contains(all, secret) {
				t.Errorf("the transcript holds %q:\n%s", secret, all)
			}
		}
	}
	if session.MessageCount != 1 || session.Refused != 2 || session.Outcome != mail.Partly ||
		session.Account != inesAddress ||
		len(session.Messages) != 1 {
		t.Errorf("%+v", session)
	}

	// Outwards, through a smart host behind a tap.
	out := newTap(t, "127.0.0.1", "127.30.0.15:"+s.mxPort(t))
	s.run(t, "route", "add", "tapped", "--recipients", "tapped.example", "--next-hop", "smarthost",
		"--hosts", out.Addr().String(), "--tls", "off", "--position", "1")
	s.run(t, "draft", "apply")
	id := s.send(t, s.inside, "127.20.1.5", "tickets@skerryline.example", message("To the tap"),
		"harbour@tapped.example", "ned@tapped.example")
	if err := eventually(15*time.Second, func() error {
		tr, err := s.client().Trace(context.Background(), id, nil)
		if err == nil && (!tr.Message.Deliveries[0].State.Final() || !tr.Message.Deliveries[1].State.Final()) {
			err = fmt.Errorf("on its way")
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	away := s.ended(t, url.Values{"direction": {"out"}, "route": {"tapped"}})
	for _, who := range []string{"client", "server"} {
		got, _ := s.recorded(t, away.ID.String(), who)
		if want := out.said(who); strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Errorf("outwards, %s:\n%s\nthe wire carried\n%s", who, strings.Join(got, "\n"),
				strings.Join(want, "\n"))
		}
	}
	if away.Messages[0].String() != id || away.Outcome != mail.Partly {
		t.Errorf("%+v", away)
	}
	// And back: the message names its sessions.
	tr, err := s.client().Trace(context.Background(), id, nil)
	if err != nil || tr.Session == nil || tr.Session.Address != "127.20.1.5" || len(tr.Sessions) != 1 ||
		tr.Sessions[0].ID != away.ID {
		t.Errorf("%v %+v %+v", err, tr.Session, tr.Sessions)
	}
}

func TestTranscriptsAreKeptAsTheSettingsSayAndWhileOneWatches(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "kept", func(c string) string {
		c = strings.Replace(c, "    kind: inside\n", "    kind: inside\n    transcript: trouble\n", 1)
		return strings.Replace(c, "  - name: to the world\n",
			"  - name: to the world\n    transcript: none\n", 1)
	})
	kept := func(q url.Values) bool {
		t.Helper()
		return s.ended(t, q).TranscriptKept
	}
	s.until(
		t,
		s.send(t, s.inside, "127.20.1.61", "tickets@skerryline.example", message("a"), "a@barelock.example"),
		mail.Delivered,
	)
	if kept(url.Values{"peer": {"127.20.1.61"}}) ||
		kept(url.Values{"direction": {"out"}, "peer": {"mx.barelock.example"}}) {
		t.Error("a transcript without trouble was kept")
	}
	d := dial(t, s.inside, "127.20.1.62")
	d.hear()
	d.want("250", "EHLO a.example")
	d.want("250", "MAIL FROM:<tickets@skerryline.example>")
	d.want("550", "RCPT TO:<nobody@skerryline.example>")
	d.want("221", "QUIT")
	if !kept(url.Values{"peer": {"127.20.1.62"}}) {
		t.Error("a transcript with trouble was not kept")
	}
	s.run(t, "session", "watch", "barelock.example")
	s.run(t, "session", "watch", "127.20.1.0/24", "--for", "10m")
	if out := s.run(t, "session", "watch"); !strings.Contains(out, "barelock.example") ||
		!strings.Contains(out, "127.20.1.0/24") {
		t.Error(out)
	}
	s.until(
		t,
		s.send(t, s.inside, "127.20.1.63", "tickets@skerryline.example", message("b"), "b@barelock.example"),
		mail.Delivered,
	)
	if !kept(url.Values{"peer": {"127.20.1.63"}}) {
		t.Error("a watched client's transcript was not kept")
	}
	if err := eventually(10*time.Second, func() error {
		p, err := s.client().Sessions(
			context.Background(),
			url.Values{"direction": {"out"}, "peer": {"mx.barelock.example"}, "outcome": {"passed"}},
		)
		if err == nil && !(len(p.Items) > 0 && p.Items[0].TranscriptKept) {
			err = fmt.Errorf("a watched domain's transcript was not kept")
		}
		return err
	}); err != nil {
		t.Error(err)
	}
	s.run(t, "session", "watch", "barelock.example", "--end")
	if _, errOut, code := s.gull(t, "session", "watch", "not a thing"); code != 2 ||
		!strings.Contains(errOut, "IP address") {
		t.Errorf("%d %s", code, errOut)
	}
}

func TestContentAndCredentialsAreNowhereButInTheMessage(t *testing.T) {
	t.Parallel()
	takesLong(t)
	s := own(t, "quiet", nil)
	givePassword(t, s, inesAddress, inesPassword)
	const secret = "periwinkle-marmalade"
	s.run(t, "log", "level", "debug")
	id := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example",
		"Subject: Hello\r\n\r\n"+secret+"\r\n", "ines.harrow@skerryline.example",
		"ailsa.brune@skerryline.example")
	s.until(t, id, mail.Delivered)
	if r := python(
		t,
		s.submission,
		"starttls",
		"smtp",
		"plain",
		inesAddress,
		inesPassword,
		inesAddress,
		"x@barelock.example",
	); r.Code != 250 {
		t.Fatalf("%+v", r)
	}
	s.until(t, s.out(t, "ned@nosuch.example"), mail.Bounced)
	encoded := base64.StdEncoding.EncodeToString([]byte(inesPassword))
	unheeding(t, s.submission, "EHLO laptop.example", "AUTH LOGIN", encoded, "AUTH PLAIN "+encoded, encoded,
		"QUIT")
	unheeding(t, s.edge, "EHLO laptop.example", "DATA", "Subject: "+secret, "", secret,
		"RCPT "+secret, ".", "BDAT 22 LAST", secret, "QUIT")
	unheeding(t, s.edge, "EHLO laptop.example", secret+"\nAUTH PLAIN "+encoded, strings.Repeat(secret, 200),
		"QUIT")
	time.Sleep(1500 * time.Millisecond)
	archive := s.dir + "/all.jsonl.zst"
	s.run(t, "log", "export", "-f", archive)
	s.run(t, "log", "open", archive)
	_, metrics := s.request(t, "GET", "/metrics", "", bearer(viewerToken)...)
	sessions := s.run(t, "session", "list", "-o", "json")
	places := map[string]string{
		"the log":    readFile(t, s.log.Name()),
		"metrics":    metrics,
		"sessions":   sessions,
		"trace":      s.run(t, "trace", "show", id, "-o", "json"),
		"an archive": unpacked(t, archive),
		"the tables": s.everything(t, "event", "session", "refusal", "find_text", "count_sum", "archive"),
	}
	all, err := s.client().Sessions(context.Background(), url.Values{"limit": {"100"}})
	if err != nil || len(all.Items) < 6 {
		t.Fatalf("%d sessions, %v", len(all.Items), err)
	}
	for _, x := range all.Items {
		places["session "+x.ID.String()] = s.run(t, "session", "show", x.ID.String())
	}
	for place, text := range places {
		for _, word := range []string{secret, inesPassword, encoded,
			base64.StdEncoding.EncodeToString([]byte("\x00" + inesAddress + "\x00" + inesPassword))} {
			if strings.Contains(text, word) {
				t.Errorf("%s holds %q", place, word)
			}
		}
	}
	if !strings.Contains(places["the log"], `"level":"DEBUG"`) &&
		!strings.Contains(places["the log"], "log level changed") {
		t.Error("the level of the log did not change")
	}
}

// unheeding sends its lines whatever the replies are.
func unheeding(t *testing.T, listener string, lines ...string) {
	t.Helper()
	c := dial(t, listener, "127.30.0.10")
	c.hear()
	for _, line := range lines {
		c.raw(line + "\r\n")
		if _, err := c.read(); err != nil {
			return
		}
	}
}

func TestViewersSeeOfMessagesWhatTheSettingsLetThemSee(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "masked", func(c string) string {
		return strings.Replace(c, "  retention: 30d\n",
			"  retention: 30d\n  viewers_see: {addresses: masked, subjects: hidden}\n", 1)
	})
	id := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("Night boat"),
		"ines.harrow@skerryline.example")
	s.until(t, id, mail.Delivered)
	session := s.ended(t, url.Values{"peer": {"127.30.0.10"}})
	s.counted(t)
	for _, path := range []string{"/api/v1/trace?q=ada@saltmarsh.example", "/api/v1/messages/" + id,
		"/api/v1/sessions/" + session.ID.String(), "/api/v1/report", "/api/v1/report/tables/sender", "/api/v1/report.html", "/api/v1/report/messages?kind=received"} {
		if _, all := s.request(t, "GET", path, "", "Authorization",
			"Bearer "+adminToken); strings.Contains(all, "…") {
			t.Errorf("%s hides something from the administrator", path)
		}
		resp, seen := s.request(t, "GET", path, "", "Authorization", "Bearer "+viewerToken)
		if resp.StatusCode != 200 || strings.Contains(seen, "ada@") || strings.Contains(seen, "ines.harrow@") ||
			strings.Contains(seen, "Night boat") ||
			len(seen) < 100 {
			t.Errorf("%s for a viewer: %s\n%s", path, resp.Status, seen)
		}
	}
	if _, seen := s.request(t, "GET", "/api/v1/trace?q=ada@saltmarsh.example", "", "Authorization",
		"Bearer "+viewerToken); !strings.Contains(seen, "a…@saltmarsh.example") ||
		!strings.Contains(seen, "(hidden)") {
		t.Errorf("a viewer does not find it: %s", seen)
	}
	s.until(t, s.out(t, "ada@saltmarsh.example"), mail.Delivered)
	s.run(t, "route", "remove", "to the world")
	for token, want := range map[string]string{adminToken: "ada@saltmarsh.example",
		viewerToken: "a…@saltmarsh.example"} {
		if _, seen := s.request(t, "POST", "/api/v1/draft/rehearse", "", "Authorization",
			"Bearer "+token); !strings.Contains(seen, "\""+want) ||
			token == viewerToken && strings.Contains(seen, "ada@") {
			t.Errorf("a rehearsal does not name %s: %s", want, seen)
		}
	}
}

func TestTheDailyReportIsMailed(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "daily", func(c string) string {
		return strings.Replace(
			c,
			"  retention: 30d\n",
			"  retention: 30d\n  daily_report: {at: \"00:00\", zone: UTC, to: [keeper@skerryline.example]}\n",
			1,
		)
	})
	s.second(t, "reef")
	if err := eventually(45*time.Second, func() error {
		if n := len(s.mailbox(t, "keeper@skerryline.example")); n == 0 {
			return fmt.Errorf("no report came")
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Second)
	box := s.mailbox(t, "keeper@skerryline.example")
	raw := s.run(t, "mailbox", "raw", "keeper@skerryline.example", box[0].ID.String())
	if len(box) != 1 || !strings.Contains(box[0].Subject, "Mail on ") || !strings.Contains(raw, "text/html") ||
		!strings.Contains(raw, "Auto-Submitted: auto-generated") ||
		!strings.Contains(raw, "Return-Path: <>") {
		t.Errorf("%d messages\n%s", len(box), raw)
	}
}

func TestWhatHappensGoesToALogServer(t *testing.T) {
	t.Parallel()
	pc, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer pc.Close()
	s := own(t, "syslog", nil, "--syslog", "udp://"+pc.LocalAddr().String())
	id := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("x"),
		"ines.harrow@skerryline.example")
	buf := make([]byte, 4096)
	_ = pc.SetReadDeadline(time.Now().Add(10 * time.Second))
	for {
		n, _, err := pc.ReadFrom(buf)
		if err != nil {
			t.Fatal("no line of the message came: ", err)
		}
		line := string(buf[:n])
		if !strings.HasPrefix(line, "<") || !strings.Contains(line, ">1 20") {
			t.Fatalf("not of RFC 5424: %s", line)
		}
		if strings.Contains(line, " delivered [gull@32473 message=\""+id) &&
			strings.Contains(line, `recipient="ines.harrow@skerryline.example"`) {
			return
		}
	}
}

// mailbox lists a mailbox.
func (s *stack) mailbox(t *testing.T, address string) []mail.MailboxItem {
	t.Helper()
	p, err := s.client().Mailbox(context.Background(), address, "", 100, "")
	if err != nil {
		t.Fatal(err)
	}
	return p.Items
}

// unpacked is an archive's text.
func unpacked(t *testing.T, file string) string {
	t.Helper()
	z, err := zstd.NewReader(strings.NewReader(readFile(t, file)))
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	text, err := io.ReadAll(z)
	if err != nil || len(text) == 0 {
		t.Fatal(err)
	}
	return string(text)
}

// everything is what tables hold.
func (s *stack) everything(t *testing.T, tables ...string) string {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), s.database)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	all := ""
	for _, name := range tables {
		var text *string
		if err := conn.QueryRow(
			context.Background(),
			"SELECT string_agg(x::text, E'\\n') FROM "+name+" x",
		).Scan(&text); err != nil {
			t.Fatal(err)
		}
		if text != nil {
			all += *text
		}
	}
	return all
}
