package test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

// Whatever holds a message, one place shows it, says why, and lets it go as people wish.
func TestWhatIsHeldIsLookedAtAndLetGo(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := gated(t)
	ines, sender := "ines.harrow@skerryline.example", "ada@saltmarsh.example"
	hold := func(body string) mail.HeldItem {
		t.Helper()
		reply := s.try(t, sender, marked("hold", mixed, "--b\r\n\r\nsee\r\n"+body+"--b--\r\n"), ines)
		if !strings.HasPrefix(reply, "250") {
			t.Fatalf("not taken: %s", reply)
		}
		id := strings.Fields(reply)[4]
		for _, h := range s.held(t) {
			if h.MessageID.String() == id {
				return h
			}
		}
		t.Fatalf("%s is not among what is held", id)
		return mail.HeldItem{}
	}

	h := hold(file("pier.png", picture))
	if h.By != mail.HeldByGate || h.Name != "doubtful" || h.Severity != "minor" || h.Sender != sender ||
		h.Recipient != ines ||
		!strings.Contains(h.Why, "doubtful") ||
		time.Until(h.Expires.Time) < 29*24*time.Hour {
		t.Errorf("held: %+v", h)
	}
	if out := s.run(t, "held", "show", h.ID.String()); !strings.Contains(out, h.ID.String()) ||
		!strings.Contains(out, "held by gate doubtful") ||
		!strings.Contains(out, "pier.png") ||
		!strings.Contains(out, "\nsee") {
		t.Errorf("shown:\n%s", out)
	}

	out := s.run(t, "held", "release", h.ID.String(), "--without-attachments", "--why", "the text will do")
	fresh := strings.TrimSuffix(strings.Fields(strings.SplitN(out, "goes on as ", 2)[1])[0], ",")
	if d := s.until(t, fresh, mail.Delivered); d.Recipient != ines {
		t.Errorf("released: %s\n%+v", out, d)
	}
	p, text := s.read(t, ines, fresh)
	if !strings.Contains(p.Parts[1].Text, "pier.png was taken out by the person who released the message") ||
		!strings.Contains(p.Parts[0].Text, "see") ||
		strings.Contains(text, "iVBOR") {
		t.Errorf("without attachments:\n%s", text)
	}
	if out := s.run(t, "trace", "show", h.MessageID.String()); !strings.Contains(out, fresh) {
		t.Errorf("the original does not say what became of it:\n%s", out)
	}

	again := hold("")
	s.run(t, "held", "release", "--find", sender, "--allow-sender", "7d", "--yes")
	s.until(t, again.MessageID.String(), mail.Delivered)
	if out := s.run(t, "reputation"); !strings.Contains(out, "sender  "+sender) {
		t.Errorf("the sender is not allowed:\n%s", out)
	}

	back, gone := hold(""), hold("")
	s.run(t, "held", "return", back.ID.String(), "--say", "not in this form", "--yes")
	s.until(t, back.MessageID.String(), mail.Bounced)
	s.run(t, "held", "drop", gone.ID.String(), "--yes")
	s.until(t, gone.MessageID.String(), mail.Discarded)
	if n := len(s.held(t)); n != 0 {
		t.Errorf("%d are held still", n)
	}

	over := hold("")
	s.run(t, "service", "set", "--held-keep", "1s")
	s.run(t, "draft", "apply")
	if err := eventually(30*time.Second, func() error {
		if n := len(s.held(t)); n != 0 {
			return fmt.Errorf("%d are held beyond their time", n)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	s.until(t, over.MessageID.String(), mail.Discarded)
}

// held is all that is held.
func (s *stack) held(t *testing.T) (items []mail.HeldItem) {
	t.Helper()
	for line := range strings.Lines(s.run(t, "held", "list", "-o", "jsonl")) {
		var h mail.HeldItem
		if err := json.Unmarshal([]byte(line), &h); err != nil {
			t.Fatal(err)
		}
		items = append(items, h)
	}
	return items
}

var heldLink = regexp.MustCompile(`http://127\.0\.0\.1:\d+(/held/link/[A-Za-z0-9_-]+)`)

// People are told by mail what came for them and is held; by their links they see that message
// and no other, and let go what is left to them.
func TestPeopleAreToldWhatIsHeldForThem(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := gated(t)
	ines, wren, sender := "ines.harrow@skerryline.example", "wren.castell@skerryline.example", "ada@saltmarsh.example"
	hold := func(subject string, to ...string) {
		t.Helper()
		content := strings.Replace(
			marked("hold", "", "the text of "+subject+" <script>steal()</script>\r\n"),
			"Gezeiten f\u00fcr \u00c6r\u00f8",
			subject,
			1,
		)
		if reply := s.try(t, sender, content, to...); !strings.HasPrefix(reply, "250") {
			t.Fatalf("not taken: %s", reply)
		}
	}
	hold("first for ines", ines)
	hold("second for ines", ines)
	hold("for wren", wren)
	soon := time.Now().Add(time.Minute).Truncate(time.Minute) // the next whole minute
	s.run(t, "service", "set", "--held-digest-to", ines, "--held-digest-at", soon.UTC().Format("15:04"),
		"--held-digest-link", "http://"+s.http)
	s.run(t, "draft", "apply")

	var digest string
	if err := eventually(100*time.Second, func() error {
		p, err := s.client().Mailbox(context.Background(), ines, "", 50, "")
		if err != nil {
			return err
		}
		for _, m := range p.Items {
			if m.Subject == "2 messages are held for you" {
				parsed, _ := s.read(t, ines, m.ID.String())
				digest = parsed.Parts[0].Text
				return nil
			}
		}
		return fmt.Errorf("nothing was told: %d messages", len(p.Items))
	}); err != nil {
		t.Fatal(err)
	}
	links := heldLink.FindAllStringSubmatch(digest, -1)
	if len(links) != 2 || !strings.Contains(digest, "first for ines") || strings.Contains(digest, "wren") {
		t.Fatalf("the digest is:\n%s", digest)
	}
	get := func(path string) (int, string) {
		t.Helper()
		resp, err := http.Get("http://" + s.http + path)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(text)
	}
	path := links[0][1] // the newest
	code, page := get(path)
	if code != 200 || !strings.Contains(page, "the text of second for ines") ||
		strings.Contains(page, "<script>") ||
		strings.Contains(page, "wren") ||
		!strings.Contains(page, "Let it go on") {
		t.Errorf("the page: %d\n%s", code, page)
	}
	if n := len(s.held(t)); n != 3 {
		t.Errorf("looking let something go: %d are held", n)
	}
	for name, bad := range map[string]string{"changed": path[:len(path)-3] + "AAA", "cut": path[:40], "none": "/held/link/x"} {
		if code, page := get(bad); code != 404 || strings.Contains(page, "ines") {
			t.Errorf("a link that is %s: %d\n%s", name, code, page)
		}
	}
	post := func() int {
		t.Helper()
		resp, err := http.Post("http://"+s.http+path, "application/x-www-form-urlencoded", nil)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	if code := post(); code != 200 {
		t.Errorf("letting go: %d", code)
	}
	if code := post(); code != 404 {
		t.Errorf("a link is used twice: %d", code)
	}
	if list := s.held(t); len(list) != 2 {
		t.Errorf("held: %+v", list)
	}
	s.run(t, "service", "set", "--held-digest-release", "none", "--held-digest-language", "de")
	s.run(t, "draft", "apply")
	path = links[1][1]
	if code, page := get(path); code != 200 || !strings.Contains(page, "Nur die Administration kann sie weiterlassen.") {
		t.Errorf("in German: %d %s", code, page)
	}
	if code := post(); code != 403 {
		t.Errorf("what is left to administrators is let go: %d", code)
	}
}
