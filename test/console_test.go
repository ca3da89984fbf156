package test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"gullroute/internal/core/mail"
	"gullroute/test/browser"
)

// page is a browser window on the console.
type page struct {
	t   *testing.T
	ctx context.Context
	url string
}

// open signs in to the console in a window of its own.
func (s *stack) open(t *testing.T, name string) *page {
	t.Helper()
	ctx, stop, err := browser.Start(context.Background(), 1280, 800, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	ctx, cancel := context.WithTimeout(ctx, 6*time.Minute)
	t.Cleanup(cancel)
	p := &page{t, ctx, "http://" + s.http}
	p.do(browser.SignIn(p.url, name, password))
	return p
}

func (p *page) do(actions ...chromedp.Action) {
	p.t.Helper()
	if err := chromedp.Run(p.ctx, actions...); err != nil {
		p.t.Fatalf("%v\nthe page shows:\n%s", err, p.text())
	}
}

func (p *page) visit(path string) { p.t.Helper(); p.do(chromedp.Navigate(p.url + path)) }

func (p *page) text() string {
	var text string
	_ = chromedp.Run(p.ctx, chromedp.Evaluate(`document.body.innerText`, &text))
	return strings.ReplaceAll(text, "\u200b", "")
}

// shows waits until the page shows every one of the words.
func (p *page) shows(words ...string) {
	p.t.Helper()
	err := eventually(15*time.Second, func() error {
		text := p.text()
		for _, w := range words {
			if !strings.Contains(text, w) {
				return missing(w)
			}
		}
		return nil
	})
	if err != nil {
		p.t.Fatalf("%v; the page shows:\n%s", err, p.text())
	}
}

type missing string

func (m missing) Error() string { return "the page lacks " + string(m) }

// press clicks what carries exactly that text or label.
func (p *page) press(name string) {
	p.t.Helper()
	p.do(
		browser.Press(`//*[self::a or self::button][normalize-space(.)="` + name + `" or @aria-label="` + name + `"]`),
	)
}

func TestConsoleShowsTroubleAndLeadsToIt(t *testing.T) {
	s := slow(t, "console")
	stuck := s.out(t, "jo@sunkenpier.example")
	s.until(t, stuck, mail.Deferred)
	s.until(t, s.out(t, "ada@saltmarsh.example"), mail.Delivered)
	s.until(
		t,
		s.send(
			t,
			s.inside,
			"127.20.1.9",
			"bridge@skerryline.example",
			message("To the recorder"),
			"logs@[127.30.0.60]",
		),
		mail.Deferred,
	)
	p := s.open(t, "keeper")

	// Overview: the sentence on top, the numbers, what is in trouble, and why.
	p.shows(
		"1 lane is stranded: no route leads on",
		"In trouble",
		"sunkenpier.example",
		"connection refused by 127.30.0.20",
		"no route leads to [127.30.0.60]",
		"to ada@saltmarsh.example",
	)
	// In three clicks to why a message waits.
	p.press("sunkenpier.example")
	p.shows("by route to the world", "connect", "jo@sunkenpier.example", "ines.harrow@skerryline.example")
	p.press("to jo@sunkenpier.example")
	p.shows(
		"127.0.0.1",
		"listener inside",
		"let in by rule this machine",
		"route to the world",
		"attempt",
		"deferred",
		"The host refuses the connection",
		"Who can fix it: remote administrator",
		"expires",
	)

	// It is live: fixed at the remote host, the message's end shows by itself.
	s.behave(t, "mx.sunkenpier.example", `{"closed": false}`)
	p.press("Try now")
	p.shows("1 delivery match")
	p.click("[role=dialog]", "Try now")
	p.shows("to be tried immediately", "delivered", "250 2.0.0 taken")
}

func TestConsoleQueueIsFilteredByKeyboardAndDeepLinks(t *testing.T) {
	t.Parallel()
	s := own(t, "lanes", nil)
	s.until(t, s.out(t, "a@sunkenpier.example"), mail.Deferred)
	id := s.out(t, "b@foghorn.example")
	lane := s.until(t, id, mail.Deferred).LaneID.String()
	p := s.open(t, "keeper")
	p.press("Queue")
	p.shows("2 lanes with mail waiting", "sunkenpier.example", "foghorn.example", "resting")
	p.do(browser.Type(`input[aria-label^="Host, route"]`, "dns-trouble"))
	if err := eventually(5*time.Second, func() error {
		if strings.Contains(p.text(), "sunkenpier.example") {
			return missing("the filter's effect")
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	var address string
	p.do(chromedp.Location(&address))
	if !strings.HasSuffix(address, "/queue?find=dns-trouble") {
		t.Errorf("the filter is not in the address: %s", address)
	}
	p.visit("/queue/" + lane + "?recipient=nobody")
	p.shows("No messages")
	p.visit("/queue/" + lane)
	p.shows("b@foghorn.example", "DNS gives no answer for foghorn.example")
	// "/" goes to the search; an id leads to its message.
	p.do(chromedp.KeyEvent("/"), browser.Type(`input[aria-label="Find messages"]`, strings.ToLower(id)+"\r"))
	p.shows("to b@foghorn.example", "DNS gives no answer", "What happened")
	p.visit("/messages/0000000000001")
	p.shows("This cannot be shown", "there is no such message")
	p.visit("/messages?to=foghorn&state=deferred")
	p.shows("b@foghorn.example", id)
	p.visit("/nowhere")
	p.shows("There is no such page")
}

func TestConsoleOfAViewerAndOfAStranger(t *testing.T) {
	t.Parallel()
	s := own(t, "viewer", nil)
	id := s.out(t, "a@sunkenpier.example")
	s.until(t, id, mail.Deferred)
	p := s.open(t, "deck")
	p.visit("/messages/" + id)
	p.shows("Try now")
	var disabled bool
	p.do(browser.Disabled(`//button[contains(., "Try now")]`, &disabled))
	if !disabled {
		t.Error("a viewer may press what is not for viewers")
	}
	p.press("Signed in as deck")
	p.shows("deck, may look, not change")
	p.click("[role=menu]", "Sign out")
	p.shows("Sign in to see where the mail is.")
	p.do(
		browser.Type(`input[autocomplete="username"]`, "deck"),
		browser.Type(`input[autocomplete="current-password"]`, "guess\r"),
	)
	p.shows("name or password is wrong")
}

func TestConsoleSaysWhenTheServiceIsDownAndComesBack(t *testing.T) {
	t.Parallel()
	s := own(t, "down", nil)
	p := s.open(t, "keeper")
	p.shows("Mail moves", "No mail yet", "Nothing is in trouble")
	s.kill()
	p.shows("The service cannot be reached", "What you see is from", "not live")
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	if err := eventually(25*time.Second, func() error {
		if strings.Contains(p.text(), "The service cannot be reached") {
			return missing("a sign of life")
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

func TestConsoleActsOnMessagesAndTakesItBack(t *testing.T) {
	t.Parallel()
	s := slow(t, "acting")
	ids := s.stuck(t, "a@sunkenpier.example", "b@sunkenpier.example", "c@sunkenpier.example")
	lane := s.until(t, ids[0], mail.Deferred).LaneID.String()
	p := s.open(t, "keeper")
	p.visit("/queue/" + lane)
	p.shows("All in this lane", "a@sunkenpier.example", "3 received")
	// Chosen ones: hold, with how many and why.
	p.do(
		browser.Press(`input[aria-label="Choose `+ids[0]+`-1"]`),
		browser.Press(`input[aria-label="Choose `+ids[1]+`-1"]`),
	)
	p.press("2 chosen messages")
	p.click("[role=menu]", "Hold")
	p.shows("2 deliveries match")
	p.fill("[role=dialog]", "Why", "their storm")
	p.click("[role=dialog]", "Hold")
	p.shows("2 deliveries are held", "Undo")
	s.until(t, ids[1], mail.Held)
	p.click("", "Undo") // the note moves as it comes
	p.shows("2 deliveries are released")
	// The whole lane, gone for good only after two confirmations.
	p.press("All in this lane")
	p.click("[role=menu]", "Drop …")
	p.shows("3 deliveries match", "Yes, drop 3 deliveries and tell nobody")
	p.do(browser.Press(`[role=dialog] input[type=checkbox]`))
	p.click("[role=dialog]", "Drop")
	p.shows("3 deliveries are dropped")
	s.until(t, ids[2], mail.Discarded)
	p.visit("/queue?view=actions")
	p.shows("drop", "hold", "their storm", "keeper")
	p.press("Restore")
	p.shows("3 deliveries are restored")
	// Another way, from the message's own page.
	p.visit("/messages/" + ids[0])
	p.press("More")
	p.click("[role=menu]", "Send by another route …")
	p.shows("1 delivery match")
	p.do(browser.Press(`[role=dialog] input[value=host]`))
	p.fill("[role=dialog]", "Host", "127.30.0.12:"+s.mxPort(t))
	p.click("[role=dialog]", "Send")
	s.until(t, ids[0], mail.Delivered)
	p.shows("sent by host 127.30.0.12", "delivered")
	p.do(browser.Press(`//label[normalize-space(.)="Text"]`))
	p.shows("The tide is out.")
	// All delivery stands still until it is resumed.
	p.visit("/queue")
	p.press("Pause all delivery")
	p.fill("[role=dialog]", "Why", "new disks")
	p.click("[role=dialog]", "Pause")
	p.shows("All delivery by keeper", "All delivery by keeper", "new disks")
	waits := s.out(t, "ada@saltmarsh.example")
	time.Sleep(300 * time.Millisecond)
	s.until(t, waits, mail.Waiting)
	p.press("Resume all delivery")
	s.until(t, waits, mail.Delivered)
	p.visit("/queue?view=schedule")
	p.shows("What it costs", "is tried", "attempts")
	p.visit("/queue?view=nodes")
	p.shows("shore", "running", "takes and delivers mail")
}
