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
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
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
	p.do(chromedp.Click(`//*[self::a or self::button][normalize-space(.)="`+name+`" or @aria-label="`+name+`"]`, chromedp.BySearch))
}

func TestConsoleShowsTroubleAndLeadsToIt(t *testing.T) {
	s := own(t, "console", nil)
	stuck := s.out(t, "jo@sunkenpier.example")
	s.until(t, stuck, mail.Deferred)
	s.until(t, s.out(t, "ada@saltmarsh.example"), mail.Delivered)
	s.until(t, s.send(t, s.inside, "127.20.1.9", "bridge@skerryline.example", letter("To the recorder"), "logs@[127.30.0.60]"), mail.Deferred)
	p := s.open(t, "keeper")

	// Overview: the sentence on top, the numbers, what does not get on, and why.
	p.shows("1 lane is stranded: no route leads on", "What does not get on", "sunkenpier.example", "connection refused by 127.30.0.20", "no route leads to [127.30.0.60]", "to ada@saltmarsh.example")
	// In three clicks to why a letter waits.
	p.press("sunkenpier.example")
	p.shows("by route to the world", "connect", "jo@sunkenpier.example", "ines.harrow@skerryline.example")
	p.press("to jo@sunkenpier.example")
	p.shows("127.0.0.1", "listener inside", "let in by rule this machine", "route to the world", "tried", "deferred", "The host refuses the connection", "Who can mend it: far administrator", "given up")

	// It is live: mended at the far side, the letter's end shows by itself.
	s.behave(t, "mx.sunkenpier.example", `{"closed": false}`)
	p.press("Try now")
	p.shows("tried now", "delivered", "250 2.0.0 taken")
}

func TestConsoleQueueIsFilteredByKeyboardAndDeepLinks(t *testing.T) {
	s := own(t, "lanes", nil)
	s.until(t, s.out(t, "a@sunkenpier.example"), mail.Deferred)
	id := s.out(t, "b@foghorn.example")
	lane := s.until(t, id, mail.Deferred).LaneID.String()
	p := s.open(t, "keeper")
	p.press("Queue")
	p.shows("2 lanes with mail waiting", "sunkenpier.example", "foghorn.example", "resting")
	p.do(chromedp.SendKeys(`input[aria-label^="Show lanes"]`, "dns-trouble"))
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
	p.shows("No letters")
	p.visit("/queue/" + lane)
	p.shows("b@foghorn.example", "DNS gives no answer for foghorn.example")
	// "/" goes to the search; an id leads to its message.
	p.do(chromedp.KeyEvent("/"), chromedp.SendKeys(`input[aria-label^="Find messages"]`, strings.ToLower(id)+"\r"))
	p.shows("to b@foghorn.example", "DNS gives no answer", "What happened")
	p.visit("/messages/0000000000001")
	p.shows("This cannot be shown", "there is no such message")
	p.visit("/messages?to=foghorn&state=deferred")
	p.shows("b@foghorn.example", id)
	p.visit("/nowhere")
	p.shows("There is no such page")
}

func TestConsoleOfAViewerAndOfAStranger(t *testing.T) {
	s := own(t, "viewer", nil)
	id := s.out(t, "a@sunkenpier.example")
	s.until(t, id, mail.Deferred)
	p := s.open(t, "deck")
	p.visit("/messages/" + id)
	p.shows("Try now")
	var disabled string
	p.do(chromedp.AttributeValue(`//button[contains(., "Try now")]`, "aria-disabled", &disabled, nil, chromedp.BySearch))
	if disabled != "true" {
		t.Error("a viewer may press what is not for viewers")
	}
	p.press("Signed in as deck")
	p.shows("deck, may look, not change")
	p.do(chromedp.Click(`//*[@role="menuitem"]`, chromedp.BySearch))
	p.shows("Sign in to see where the mail is.")
	p.do(chromedp.SendKeys(`input[autocomplete="username"]`, "deck"), chromedp.SendKeys(`input[autocomplete="current-password"]`, "guess\r"))
	p.shows("name or password is wrong")
}

func TestConsoleSaysWhenTheServiceIsDownAndComesBack(t *testing.T) {
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
