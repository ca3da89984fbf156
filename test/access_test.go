package test

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/smtp"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

const (
	ines  = inesAddress
	tomas = "tomas.vik@skerryline.example"
	odile = "odile.marr@skerryline.example"
)

// imapTalk is a conversation by IMAP.
type imapTalk struct {
	t    *testing.T
	conn net.Conn
	in   *bufio.Reader
	n    int
}

func insecure() *tls.Config { return &tls.Config{InsecureSkipVerify: true} }

// reads opens a connection to a listener with TLS from the start.
func reads(t *testing.T, at string) *imapTalk {
	t.Helper()
	conn, err := tls.Dial("tcp", at, insecure())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	c := &imapTalk{t: t, conn: conn, in: bufio.NewReader(conn)}
	if line := c.line(10 * time.Second); !strings.HasPrefix(line, "* OK") {
		t.Fatalf("greeting: %s", line)
	}
	return c
}

// signedIn is a connection of somebody who has signed in and opened the inbox.
func signedIn(t *testing.T, at, login string) *imapTalk {
	t.Helper()
	c := reads(t, at)
	c.ok("LOGIN " + login + " " + password)
	c.ok("SELECT INBOX")
	return c
}

// line reads one line; "" if the connection ends or the time does.
func (c *imapTalk) line(patience time.Duration) string {
	_ = c.conn.SetReadDeadline(time.Now().Add(patience))
	line, err := c.in.ReadString('\n')
	if err != nil {
		return ""
	}
	return strings.TrimRight(line, "\r\n")
}

// ask says a command, and gives all that is answered.
func (c *imapTalk) ask(command string) (answer, last string) {
	c.t.Helper()
	c.n++
	tag := "t" + strconv.Itoa(c.n)
	fmt.Fprintf(c.conn, "%s %s\r\n", tag, command)
	var all strings.Builder
	for {
		line := c.line(15 * time.Second)
		if line == "" && c.ended() {
			return all.String(), "gone"
		}
		if rest, is := strings.CutPrefix(line, tag+" "); is {
			return all.String(), rest
		}
		all.WriteString(line + "\n")
	}
}

func (c *imapTalk) ended() bool {
	_ = c.conn.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
	_, err := c.in.Peek(1)
	return err != nil
}

// ok says a command that must be done.
func (c *imapTalk) ok(command string) string {
	c.t.Helper()
	answer, last := c.ask(command)
	if !strings.HasPrefix(last, "OK") {
		c.t.Fatalf("%s: %s%s", command, answer, last)
	}
	return answer
}

// refused says a command that must be answered with NO or BAD and some words.
func (c *imapTalk) refused(command, words string) {
	c.t.Helper()
	if answer, last := c.ask(command); strings.HasPrefix(last, "OK") || !strings.Contains(last, words) {
		c.t.Errorf("%s: %s%s; want %s", command, answer, last, words)
	}
}

// puts sends a message from a machine of ours, and returns when it was taken.
func (s *stack) puts(t *testing.T, from, to, content string) {
	t.Helper()
	s.send(t, s.inside, "127.20.1.5", from, content, to)
}

// reading is a stack where people have passwords.
func reading(t *testing.T, name string, edit func(string) string) *stack {
	s := own(t, name, edit)
	for _, who := range []string{ines, tomas, odile} {
		givePassword(t, s, who, password)
	}
	return s
}

func converse(t *testing.T, script string, args ...string) {
	t.Helper()
	out, err := exec.Command("python3", append([]string{script}, args...)...).CombinedOutput()
	t.Logf("%s: %s", script, out)
	m := regexp.MustCompile(`(\d+) commands`).FindSubmatch(out)
	if err != nil || m == nil {
		t.Fatalf("%s: %v", script, err)
	}
	if n, _ := strconv.Atoi(string(m[1])); n < 40 {
		t.Errorf("%s said %d commands only", script, n)
	}
}

func sessionsOf(t *testing.T, s *stack) (out []mail.Session) {
	t.Helper()
	text := s.run(t, "session", "list", "--limit", "100", "-o", "json")
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		t.Fatal(err, text)
	}
	return out
}

func TestMailProgramsReadByIMAPAndPOP3(t *testing.T) {
	s := reading(t, "programs", nil)
	host, port, _ := net.SplitHostPort(s.imap)
	converse(t, "clients/imap.py", host, port, ines, password)

	for i := range 5 {
		s.puts(t, "deck@skerryline.example", tomas, fmt.Sprintf("Subject: of five %d ⚓\r\n\r\nfirst line\r\n"+
			".starts with a dot\r\nlast\r\n", i))
	}
	host, port, _ = net.SplitHostPort(s.pop3)
	converse(t, "clients/pop.py", host, port, tomas, password)

	for url, want := range map[string]string{
		"imap://" + s.imap + "/INBOX;MAILINDEX=1":   "Subject: message 3",
		"imaps://" + s.imaps + "/INBOX;MAILINDEX=1": "Subject: message 3",
	} {
		out, err := exec.Command("curl", "-sk", "--ssl-reqd", "-u", ines+":"+password, url).Output()
		if err != nil || !strings.Contains(string(out), want) {
			t.Errorf("%s: %v %s", url, err, out)
		}
	}
	for _, url := range []string{"pop3://" + s.pop3 + "/1", "pop3s://" + s.pop3s + "/1"} {
		out, err := exec.Command("curl", "-sk", "--ssl-reqd", "-u", tomas+":"+password, url).Output()
		if err != nil || !strings.Contains(string(out), "first line\r\n.starts with a dot") {
			t.Errorf("%s: %v %s", url, err, out)
		}
	}

	// All of it is on record, without credentials and content.
	transcripts := ""
	for _, x := range sessionsOf(t, s) {
		if x.Protocol != "IMAP" && x.Protocol != "POP3" {
			continue
		}
		text := s.run(t, "session", "show", x.ID.String())
		transcripts += text
		for _, secret := range []string{password, "AGluZXM", "inner text", "first line", "AAECAw"} {
			if strings.Contains(text, secret) {
				t.Errorf("the transcript of %s %s holds %q:\n%s", x.Protocol, x.ID, secret, text)
			}
		}
	}
	for _, part := range []string{"BODY.PEEK[HEADER.FIELDS", "credentials left out", "AUTHENTICATE PLAIN", "RETR 5",
		"STARTTLS", "PASS (credentials"} {
		if !strings.Contains(transcripts, part) {
			t.Errorf("no transcript has %q", part)
		}
	}
}

func TestWordOfNewMailReachesWhoIdles(t *testing.T) {
	s := reading(t, "idle", nil)
	reef := s.second(t, "reef")
	for _, at := range []string{s.imaps, reef.imaps} {
		c := signedIn(t, at, ines)
		fmt.Fprint(c.conn, "i IDLE\r\n")
		if line := c.line(5 * time.Second); !strings.HasPrefix(line, "+") {
			t.Fatalf("IDLE: %s", line)
		}
		s.puts(t, tomas, ines, "Subject: word\r\n\r\nof it\r\n")
		began := time.Now()
		if line := c.line(5 * time.Second); !strings.HasSuffix(line, "EXISTS") || time.Since(began) > time.Second {
			t.Errorf("at %s after %s: %q", at, time.Since(began), line)
		}
		// What another session does is told too.
		other := signedIn(t, s.imaps, ines)
		other.ok("STORE 1 +FLAGS.SILENT (\\Flagged)")
		if line := c.line(2 * time.Second); !strings.Contains(line, `\Flagged`) {
			t.Errorf("the flag is not told: %q", line)
		}
		other.ok("STORE 1 +FLAGS.SILENT (\\Deleted)")
		c.line(2 * time.Second)
		other.ok("EXPUNGE")
		if line := c.line(2 * time.Second); line != "* 1 EXPUNGE" {
			t.Errorf("that a message is gone is not told: %q", line)
		}
		fmt.Fprint(c.conn, "DONE\r\n")
		if line := c.line(5 * time.Second); !strings.HasPrefix(line, "i OK") {
			t.Errorf("DONE: %q", line)
		}
	}
}

func TestWhoReadsSignsInUnderTLSOnlyAndIsBounded(t *testing.T) {
	s := reading(t, "readingdoor", nil)
	for at, commands := range map[string][][2]string{
		s.imap: {{"* OK", ""}, {"PRIVACYREQUIRED", "a LOGIN ines x"}, {"PRIVACYREQUIRED", "b AUTHENTICATE PLAIN"},
			{"BAD", "c SELECT INBOX"}, {"BAD", "nonsense"}, {"BYE", "d STARTTLS\r\ne LOGIN ines x"}},
		s.pop3: {{"+OK", ""}, {"say STLS first", "USER ines"}, {"say STLS first", "AUTH PLAIN"},
			{"sign in first", "STAT"}, {"no such command", "GET / HTTP/1.1"}, {"in the clear", "STLS\r\nUSER ines"}},
	} {
		conn, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		c := &imapTalk{t: t, conn: conn, in: bufio.NewReader(conn)}
		for _, step := range commands {
			if step[1] != "" {
				fmt.Fprint(conn, step[1]+"\r\n")
			}
			reply := c.line(5 * time.Second)
			if !strings.Contains(reply, step[0]) {
				t.Errorf("%q: %q, want %q", step[1], reply, step[0])
			}
		}
	}

	// A password in the wrong place is not on record either.
	slip := reads(t, s.imaps)
	slip.ask(" LOGIN " + ines + " " + password)
	slip.conn.Close()
	mistyped, err := tls.Dial("tcp", s.pop3s, insecure())
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(mistyped, password+"\r\nQUIT\r\n")
	_, _ = io.ReadAll(mistyped)
	s.until0(t, func() error {
		seen := 0
		for _, x := range sessionsOf(t, s) {
			text := s.run(t, "session", "show", x.ID.String())
			if strings.Contains(text, password) {
				t.Errorf("the transcript of %s %s holds a password:\n%s", x.Protocol, x.ID, text)
			}
			if strings.Contains(text, "left out") {
				seen++
			}
		}
		if seen < 2 {
			return fmt.Errorf("%d transcripts leave something out", seen)
		}
		return nil
	})

	// Guesses are slow, and a session that goes on with them ends.
	c := reads(t, s.imaps)
	began := time.Now()
	for range 5 {
		c.refused("LOGIN "+ines+" wrong", "AUTHENTICATIONFAILED")
	}
	if took := time.Since(began); took < 2*time.Second {
		t.Errorf("five guesses took %s", took)
	}
	c.refused("LOGIN "+ines+" wrong", "too many")
	s.until0(t, func() error {
		if text := s.run(t, "snag", "list"); !strings.Contains(text, "sign-ins") {
			return fmt.Errorf("no snag tells of wrong passwords: %s", text)
		}
		return nil
	})

	// A mailbox may hold a number of messages.
	s.run(t, "mailbox", "set", tomas, "--reading-messages", "1")
	s.puts(t, ines, tomas, "Subject: one\r\n\r\nx\r\n")
	s.until0(t, func() error {
		if text := s.run(t, "mailbox", "messages", tomas); !strings.Contains(text, "one") {
			return fmt.Errorf("the first is not there: %s", text)
		}
		return nil
	})
	s.puts(t, ines, tomas, "Subject: two\r\n\r\nx\r\n")
	s.until0(t, func() error {
		if text := s.run(t, "queue", "list", "--recipient", tomas, "-o", "json"); !strings.Contains(text,
			"it holds 1 messages, and 1 at most") {
			return fmt.Errorf("the second does not wait: %s", text)
		}
		return nil
	})
	full := signedIn(t, s.imaps, tomas)
	full.refused("COPY 1 Archive", "OVERQUOTA")
	full.ok(`STORE 1 +FLAGS (\Deleted)`)
	full.ok("EXPUNGE")

	// A mailbox that is not for reading lets nobody in, and who is in has to leave.
	c = signedIn(t, s.imaps, odile)
	s.run(t, "mailbox", "set", odile, "--reading-by", "pop3")
	s.until0(t, func() error {
		if _, last := c.ask("NOOP"); last != "gone" {
			return fmt.Errorf("she is still signed in: %s", last)
		}
		return nil
	})
	reads(t, s.imaps).refused("LOGIN "+odile+" "+password, "AUTHENTICATIONFAILED")
}

func TestHostileIMAPHarmsNobody(t *testing.T) {
	s := reading(t, "hostileimap", nil)
	other := signedIn(t, s.imaps, tomas)
	for name, text := range map[string]string{
		"a literal that nobody asked for":  "x LOGIN {5000+}\r\n" + strings.Repeat("a", 5000),
		"a huge literal":                   "x APPEND INBOX {99999999999}\r\n",
		"a line without end":               strings.Repeat("a", 200_000),
		"no tag":                           "\r\n\r\n \r\n",
		"octets":                           "\x00\xff\xfe\r\n\x16\x03\x01\r\n",
		"deep brackets":                    "x SEARCH " + strings.Repeat("(", 20_000) + "\r\n",
		"many terms":                       "x SEARCH " + strings.Repeat("OR ALL ", 5000) + "ALL\r\n",
		"a set that ends beyond the world": "x FETCH 1:4294967295 BODY[]\r\nx UID FETCH 4294967295:* FLAGS\r\n",
		"an append that breaks off":        "x APPEND INBOX {500}\r\nhalf",
	} {
		c := signedIn(t, s.imaps, ines)
		if _, err := c.conn.Write([]byte(text)); err != nil {
			t.Logf("%s: %v", name, err)
		}
		c.line(time.Second)
		c.conn.Close()
		other.ok("NOOP")
	}
	c := signedIn(t, s.imaps, ines)
	if answer := c.ok("STATUS INBOX (MESSAGES)"); !strings.Contains(answer, "MESSAGES 0") {
		t.Errorf("something is in the mailbox: %s", answer)
	}
	// What stands in a literal is no command, whoever reads along.
	fmt.Fprint(c.conn, "l APPEND INBOX {33}\r\n")
	if line := c.line(5 * time.Second); !strings.HasPrefix(line, "+") {
		t.Fatalf("APPEND: %s", line)
	}
	fmt.Fprint(c.conn, "Subject: x\r\n\r\nq GETQUOTAROOT x\r\n\r\n")
	for line := c.line(5 * time.Second); ; line = c.line(5 * time.Second) {
		if strings.Contains(line, "QUOTA") || line == "" {
			t.Fatalf("the text of a message was a command: %q", line)
		}
		if strings.HasPrefix(line, "l OK") {
			break
		}
	}
}

func TestSharedMailboxesObeyTheirRights(t *testing.T) {
	s := reading(t, "shared", nil)
	s.run(t, "mailbox", "set", "lost-and-found@skerryline.example", "--quota", "3 KB")
	s.puts(t, tomas, "logbook@skerryline.example", "Subject: gale\r\n\r\nsix boats in\r\n")
	s.puts(t, tomas, "lost-and-found@skerryline.example", "Subject: a glove\r\n\r\nleft one\r\n")
	look := signedIn(t, s.imaps, tomas) // may look at both
	if list := look.ok(`LIST "" "Shared/*"`); !strings.Contains(list, `"Shared/logbook"`) ||
		strings.Contains(list, "Trash") {
		t.Errorf("his list: %s", list)
	}
	look.ok(`SELECT Shared/logbook`)
	if text := look.ok("FETCH 1 BODY[TEXT]"); !strings.Contains(text, "six boats in") {
		t.Error(text)
	}
	look.refused(`STORE 1 +FLAGS (\Flagged)`, "NOPERM")
	look.refused(`COPY 1 Shared/lost-and-found`, "NOPERM")
	look.refused(`CREATE Shared/logbook/mine`, "NOPERM")
	look.refused(`DELETE Shared/logbook`, "NOPERM")
	look.refused(`SELECT Shared/accounts`, "NONEXISTENT")
	look.refused(`SELECT "Shared/../tickets"`, "NONEXISTENT")
	look.ok(`SELECT Shared/logbook`)
	look.ok(`COPY 1 INBOX`)

	add := signedIn(t, s.imaps, ines) // of the bridge: may add to the logbook
	add.ok(`SELECT Shared/logbook`)
	add.ok(`STORE 1 +FLAGS (\Flagged)`)
	add.refused(`STORE 1 +FLAGS (\Deleted)`, "NOPERM")
	add.refused(`MOVE 1 INBOX`, "NOPERM")
	add.refused(`EXPUNGE`, "NOPERM")

	manage := signedIn(t, s.imaps, odile)
	manage.ok(`CREATE "Shared/lost-and-found/Given back"`)
	manage.ok(`SELECT Shared/lost-and-found`)
	manage.ok(`MOVE 1 "Shared/lost-and-found/Given back"`)
	manage.ok(`SELECT "Shared/lost-and-found/Given back"`)
	manage.ok(`MOVE 1 INBOX`) // into her own
	if answer := manage.ok("STATUS INBOX (MESSAGES)"); !strings.Contains(answer, "MESSAGES 1") {
		t.Error(answer)
	}
	// The quota is that of the mailbox it goes into.
	s.puts(t, tomas, odile, "Subject: large\r\n\r\n"+strings.Repeat("x", 70)+"\r\n"+strings.Repeat(
		strings.Repeat("y", 70)+"\r\n", 50))
	manage.ok("SELECT INBOX")
	manage.refused(`COPY 2 Shared/lost-and-found`, "OVERQUOTA")
	manage.refused(`MOVE 2 Shared/lost-and-found`, "OVERQUOTA")
	if text := manage.ok(`GETQUOTAROOT Shared/lost-and-found`); !strings.Contains(text, "(STORAGE 0 2)") {
		t.Error(text)
	}
	if folders := s.run(t, "mailbox", "folders", "lost-and-found@skerryline.example"); !strings.Contains(folders,
		"Given back") {
		t.Error(folders)
	}
}

func TestAnAppPasswordEndsWithItsSessions(t *testing.T) {
	s := reading(t, "apps", nil)
	reef := s.second(t, "reef")
	app := strings.TrimSpace(s.run(t, "mailbox", "app-password", "add", ines, "phone"))
	if len(app) != 29 {
		t.Fatalf("the app password is %q", app)
	}
	c := reads(t, reef.imaps)
	c.ok("LOGIN " + ines + " " + app)
	own := signedIn(t, s.imaps, ines)
	reads(t, s.imaps).refused("LOGIN "+tomas+" "+app, "AUTHENTICATIONFAILED")
	if text := s.run(t, "mailbox", "app-password", "list", ines); !strings.Contains(text, "imap from 127.0.0.1") ||
		strings.Contains(text, app) {
		t.Error(text)
	}
	if text := s.run(t, "mailbox", "list", "--search", "ines"); !strings.Contains(text, "by imap") {
		t.Errorf("its last use: %s", text)
	}
	if text := s.run(t, "mailbox", "list", "--unused-days", "1"); strings.Contains(text, ines) ||
		!strings.Contains(text, "archive@") {
		t.Errorf("those that are not used: %s", text)
	}
	if _, errOut, code := s.gull(t, "mailbox", "app-password", "add", ines, "phone"); code != 1 {
		t.Errorf("twice the same name: %d %s", code, errOut)
	}
	s.run(t, "mailbox", "app-password", "revoke", ines, "phone")
	s.until0(t, func() error {
		if _, last := c.ask("NOOP"); last != "gone" && !strings.Contains(last, "BYE") {
			return fmt.Errorf("it is still signed in: %s", last)
		}
		return nil
	})
	own.ok("NOOP")
	reads(t, s.imaps).refused("LOGIN "+ines+" "+app, "AUTHENTICATIONFAILED")
	if text := s.run(t, "audit", "list"); !strings.Contains(text, "app-password-revoke") {
		t.Error(text)
	}
	givePassword(t, s, ines, "another-lantern")
	s.until0(t, func() error {
		if _, last := own.ask("NOOP"); last != "gone" {
			return fmt.Errorf("with the old password she is still signed in: %s", last)
		}
		return nil
	})
}

func TestWhoGetsAnAddressSeesNoMailOfItsFormerOwner(t *testing.T) {
	s := reading(t, "heirs", nil)
	s.puts(t, tomas, odile, "Subject: private\r\n\r\nof Odile\r\n")
	c := signedIn(t, s.imaps, odile)
	c.ok("CREATE Berths")
	c.ok("COPY 1 Berths")
	app := strings.TrimSpace(s.run(t, "mailbox", "app-password", "add", odile, "phone"))
	s.run(t, "mailbox", "remove", odile, "--yes")
	s.run(t, "mailbox", "add", odile, "--name", "Odile the Younger")
	givePassword(t, s, odile, password)
	heir := signedIn(t, s.imaps, odile)
	if answer := heir.ok("STATUS INBOX (MESSAGES)") + heir.ok(`LIST "" "*"`); !strings.Contains(answer, "MESSAGES 0") ||
		strings.Contains(answer, "Berths") {
		t.Errorf("she sees: %s", answer)
	}
	reads(t, s.imaps).refused("LOGIN "+odile+" "+app, "AUTHENTICATIONFAILED")
}

// A person reads, moves and deletes on one node while the other is killed: what got its 250
// is there once, in whichever folder.
func TestNoMessageIsLostOrDoubledWhileANodeIsKilled(t *testing.T) {
	s := reading(t, "readkill", nil)
	reef := s.second(t, "reef")
	var mu sync.Mutex
	taken := map[string]bool{}
	done := make(chan struct{})
	var senders sync.WaitGroup
	for k, at := range []string{s.inside, reef.inside, s.inside, reef.inside} {
		senders.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-done:
					return
				default:
				}
				subject := fmt.Sprintf("n%dx%d", k, i)
				if handIn(at, ines, subject) {
					mu.Lock()
					taken[subject] = true
					mu.Unlock()
				} else {
					time.Sleep(50 * time.Millisecond)
				}
			}
		})
	}
	c := signedIn(t, reef.imaps, ines)
	c.ok("CREATE Done")
	began := time.Now()
	for round := 0; time.Since(began) < 6*time.Second; round++ {
		c.ok("NOOP")
		if answer := c.ok("STATUS INBOX (MESSAGES)"); !strings.Contains(answer, "MESSAGES 0)") {
			c.ok(
				[]string{"UID MOVE 1:* Done", "STORE 1 +FLAGS (\\Deleted)", "COPY 1 Archive", "SEARCH TEXT n1x"}[round%4],
			)
		}
		if round == 20 {
			s.kill()
			if err := s.start(); err != nil {
				t.Fatal(err)
			}
		}
	}
	close(done)
	senders.Wait()
	c.ok("NOOP")
	seen := map[string]int{}
	for _, folder := range []string{"INBOX", "Done"} {
		c.ok("SELECT " + folder)
		for _, m := range regexp.MustCompile(`Subject: (n\dx\d+)`).FindAllStringSubmatch(
			c.ok("UID FETCH 1:* BODY.PEEK[HEADER.FIELDS (SUBJECT)]"), -1) {
			seen[m[1]]++
		}
	}
	lost := 0
	for subject := range taken {
		switch seen[subject] {
		case 0:
			lost++
		case 1:
		default:
			t.Errorf("%s is there %d times", subject, seen[subject])
		}
	}
	t.Logf("%d messages got their 250; %d are there", len(taken), len(seen))
	if lost > 0 || len(taken) < 100 {
		t.Errorf("%d of %d are lost", lost, len(taken))
	}
}

// handIn hands a message in, and reports whether it got its 250.
func handIn(at, to, subject string) bool {
	c, err := smtp.Dial(at)
	if err != nil {
		return false
	}
	defer c.Close()
	if c.Mail("bridge@skerryline.example") != nil || c.Rcpt(to) != nil {
		return false
	}
	w, err := c.Data()
	if err != nil {
		return false
	}
	fmt.Fprintf(w, "Subject: %s\r\n\r\nentry %s\r\n", subject, subject)
	return w.Close() == nil
}

// until0 waits until f is content.
func (s *stack) until0(t *testing.T, f func() error) {
	t.Helper()
	if err := eventually(10*time.Second, f); err != nil {
		t.Error(err)
	}
}

// Somebody who looks after one domain of several sees and does what is about it, and only that.
func TestWhoIsBoundedToADomainLooksAfterIt(t *testing.T) {
	s := reading(t, "bounded", nil)
	const mette, jon = "mette.lund@lightkeepers.example", "jon.aas@lightkeepers.example"
	made := s.run(t, "token", "add", "keepers' script", "--role", "administrator", "--domain",
		"lightkeepers.example", "--lasts", "30d")
	token := strings.Fields(made)[0]
	bounded := func(args ...string) (string, string, int) {
		c := s.command(args...)
		c.Env = append(c.Env, "GULL_TOKEN="+token)
		var out, errOut bytes.Buffer
		c.Stdout, c.Stderr = &out, &errOut
		_ = c.Run()
		return out.String(), errOut.String(), c.ProcessState.ExitCode()
	}
	both := s.send(t, s.inside, "127.20.1.5", tomas, "Subject: to both\r\n\r\nx\r\n", mette, odile)
	s.send(t, s.inside, "127.20.1.5", tomas, "Subject: not for them\r\n\r\nx\r\n", odile)
	s.send(t, s.inside, "127.20.1.5", tomas, "Subject: waits\r\n\r\nx\r\n", "new.keeper@lightkeepers.example")
	waits := s.send(t, s.inside, "127.20.1.5", tomas, "Subject: waits too\r\n\r\nx\r\n", "ferry@sunkenpier.example")
	s.until0(t, func() error {
		out, errOut, _ := bounded("trace", "find", "--since", "1h", "-o", "json")
		if !strings.Contains(out, "to both") {
			return fmt.Errorf("%s %s", out, errOut)
		}
		return nil
	})
	for command, want := range map[string][2]string{
		"trace find -o json":                       {mette, odile},
		"trace show " + both:                       {mette, odile},
		"mailbox list":                             {jon, "skerryline"},
		"mailbox export":                           {jon, "skerryline"},
		"mailbox messages " + mette:                {"to both", "not for them"},
		"queue list -o json":                       {"", "sunkenpier"},
		"held list -o json":                        {"", "skerryline"},
		"alias list -o json":                       {"", "skerryline"},
		"mailbox set " + jon + " --quota \"1 GB\"": {"is changed", ""},
		"whoami": {"lightkeepers.example", ""},
		"report": {"Only recipient domain lightkeepers.example.", "skerryline"},
		"report --only sender_domain=lightkeepers.example":                                           {"Only sender domain lightkeepers.example.", "skerryline"},
		"report messages --kind received --by recipient_domain --value lightkeepers.example -o json": {mette, odile},
	} {
		out, errOut, code := bounded(shellWords(command)...)
		if code != 0 || !strings.Contains(out, want[0]) || want[1] != "" && strings.Contains(out, want[1]) {
			t.Errorf("%s: %d %s%s", command, code, out, errOut)
		}
	}
	for command, want := range map[string]string{
		"status":                           "whole server",
		"trace show " + waits:              "no such message",
		"mailbox show " + odile:            "there is no mailbox",
		"mailbox messages " + odile:        "there is no mailbox",
		"mailbox remove " + odile:          "there is no mailbox",
		"mailbox add x@skerryline.example": "beyond the domains",
		"mailbox set " + jon + " --send-as skerryline.example": "beyond the domains",
		"mailbox set " + jon + " --send-as *":                  "beyond the domains",
		"alias add a@skerryline.example --to " + jon:           "beyond the domains",
		"operator list": "whole server",
		"report --only recipient_domain=skerryline.example": "of lightkeepers.example",
		"report --only client=127.20.1.5":                   "of lightkeepers.example",
		"report --by client":                                "whole server",
		"config export":                                     "whole server",
		"queue drop --message " + waits + " --why x":        "",
	} {
		out, errOut, code := bounded(shellWords(command)...)
		if code == 0 && want != "" || !strings.Contains(out+errOut, want) {
			t.Errorf("%s: %d %s%s; want %s", command, code, out, errOut, want)
		}
	}
	if text := s.run(t, "queue", "list", "--message", waits); !strings.Contains(text, "sunkenpier") {
		t.Errorf("a message of others was dropped: %s", text)
	}

	// What happens live: only what is his.
	req, _ := http.NewRequest(http.MethodGet, "http://"+s.http+"/api/v1/live", nil)
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	heard := make(chan string, 1000)
	go func() {
		in := bufio.NewScanner(resp.Body)
		for in.Scan() {
			heard <- in.Text()
		}
	}()
	time.Sleep(300 * time.Millisecond)
	s.send(t, s.inside, "127.20.1.5", tomas, "Subject: live\r\n\r\nx\r\n", odile)
	s.send(t, s.inside, "127.20.1.5", tomas, "Subject: live\r\n\r\nx\r\n", mette)
	saw := ""
	for begin := time.Now(); time.Since(begin) < 2*time.Second; {
		select {
		case line := <-heard:
			saw += line + "\n"
		case <-time.After(100 * time.Millisecond):
		}
	}
	if !strings.Contains(saw, mette) || strings.Contains(saw, odile) {
		t.Errorf("live: %s", saw)
	}
}

// shellWords are the words of a command, of which one in quotes may hold spaces.
func shellWords(command string) (out []string) {
	for i, part := range strings.Split(command, `"`) {
		if i%2 == 1 {
			out = append(out, part)
		} else {
			out = append(out, strings.Fields(part)...)
		}
	}
	return out
}
