package test

import (
	"encoding/json"
	"fmt"
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
	if h.By != mail.HeldByGate || h.Name != "doubtful" || h.Severity != "minor" || h.Sender != sender || h.Recipient != ines ||
		!strings.Contains(h.Why, "doubtful") || time.Until(h.Expires.Time) < 29*24*time.Hour {
		t.Errorf("held: %+v", h)
	}
	if out := s.run(t, "held", "show", h.ID.String()); !strings.Contains(out, "held by gate doubtful") || !strings.Contains(out, "pier.png") ||
		!strings.Contains(out, "\nsee") {
		t.Errorf("shown:\n%s", out)
	}

	out := s.run(t, "held", "release", h.ID.String(), "--without-attachments", "--why", "the text will do")
	fresh := strings.TrimSuffix(strings.Fields(strings.SplitN(out, "goes on as ", 2)[1])[0], ",")
	if d := s.until(t, fresh, mail.Delivered); d.Recipient != ines {
		t.Errorf("released: %s\n%+v", out, d)
	}
	p, text := s.read(t, ines, fresh)
	if !strings.Contains(text, "pier.png was taken out by the person who released the message") || !strings.Contains(p.Parts[0].Text, "see") || strings.Contains(text, "iVBOR") {
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
