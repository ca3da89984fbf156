package test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"gullroute/internal/core/mail"
	"gullroute/test/browser"
)

// Whoever looks into somebody's mailbox says why, and it is on record; the owner looks after
// password, reply and programs on a page of his own.
func TestConsoleLooksIntoMailboxesAndTheirOwnersLookAfterThem(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "consolebox", func(c string) string {
		return strings.Replace(c, "  resolvers:", "  people_forward: inside\n  resolvers:", 1)
	})
	givePassword(t, s, ines, password)
	s.until(
		t,
		s.send(t, s.inside, "127.20.1.5", tomas, "From: <"+tomas+">\r\nSubject: Berth nine\r\n\r\nfor Thursday\r\n",
			ines),
		mail.Delivered,
	)
	c := signedIn(t, s.imaps, ines)
	c.ok("CREATE Ferries")
	c.ok("COPY 1 Ferries")

	p := s.open(t, "keeper")
	p.visit("/setup/mailboxes/" + ines)
	p.shows("IMAP", "Ferries", "1 unread of 1", "Berth nine")
	p.click("nav[aria-label=Folders]", "Ferries1 unread of 1")
	p.shows("1 message")
	p.do(browser.Press(`//*[@role="gridcell"][contains(., "Berth nine")]`))
	p.do(chromedp.KeyEvent("\r"))
	p.fill(".mantine-Modal-content", "Why do you look?", "she asks where it came from")
	p.click(".mantine-Modal-content", "Look at it")
	p.shows("for Thursday")
	if text := s.run(t, "audit", "list", "--action", "mailbox-view"); !strings.Contains(text,
		"she asks where it came from") || !strings.Contains(text, "keeper") {
		t.Errorf("that somebody looked is not on record: %s", text)
	}
	p.visit("/setup/mailboxes?unused=30")
	p.shows("archive@skerryline.example")
	if strings.Contains(p.text(), ines) {
		t.Error("a mailbox that is in use is among those that are not")
	}

	// Her own page, in a window of its own.
	ctx, stop, err := browser.Start(context.Background(), 1000, 900, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	ctx, cancel := context.WithTimeout(ctx, 3*time.Minute)
	t.Cleanup(cancel)
	own := &page{t, ctx, "http://" + s.http}
	own.visit("/mailbox")
	own.shows("Your mailbox")
	own.fill("", "Address", ines)
	own.fill("", "Password", "wrong one")
	own.click("", "Sign in")
	own.shows("address or password is wrong")
	own.fill("", "Password", password)
	own.click("", "Sign in")
	own.shows(ines, "2 messages", "harbour@skerryline.example")
	own.fill("", "To people of this server", "I am at sea until Thursday.")
	own.click("", "Save the reply")
	own.shows("It is saved.")
	own.fill("", "Where your mail goes on to", "ines@saltmarsh.example")
	own.click("", "Save the forward")
	own.shows("of this server's domains only")
	own.fill("", "Where your mail goes on to", tomas)
	own.click("", "Save the forward")
	own.fill("", "Program", "phone")
	own.click("", "Make a password")
	own.shows("The password for phone, shown this once")
	app := value[string](own, `document.querySelector("code").textContent`)
	phone := reads(t, s.imaps)
	phone.ok("LOGIN " + ines + " " + app)
	own.click("", "Revoke phone")
	own.shows("It is revoked")
	s.until0(t, func() error {
		if _, last := phone.ask("NOOP"); last != "gone" {
			return fmt.Errorf("the phone is still signed in: %s", last)
		}
		return nil
	})
	own.fill("", "Old password", password)
	own.fill("", "New password", "password12")
	own.fill("", "The new one once more", "password12")
	own.click("", "Change the password")
	own.shows("password: ")
	own.fill("", "New password", "kelp-lantern-nine-ropes")
	own.fill("", "The new one once more", "kelp-lantern-nine-ropes")
	own.click("", "Change the password")
	own.shows("Your password is changed")
	reads(t, s.imaps).ok("LOGIN " + ines + " kelp-lantern-nine-ropes")
	if text := s.run(t, "mailbox", "show", ines); !strings.Contains(text, "at sea") || !strings.Contains(text, tomas) {
		t.Errorf("her mailbox: %s", text)
	}
	if text := s.run(t, "audit", "list", "--who", ines); !strings.Contains(text, "own-password") ||
		strings.Contains(text, "kelp") {
		t.Errorf("what she did: %s", text)
	}
	s.run(t, "service", "set", "--people-page", "off")
	s.run(t, "draft", "apply")
	own.visit("/mailbox")
	own.shows("no page of their own")
}
