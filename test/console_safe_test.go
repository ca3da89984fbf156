package test

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"gullroute/internal/core/mail"
	"gullroute/test/browser"
)

// value evaluates a script in the page.
func value[T any](p *page, script string) (v T) {
	p.t.Helper()
	p.do(chromedp.Evaluate(script, &v, awaitPromise))
	return v
}

// Two people edit one thing: nobody's change is written over without a word.
func TestConsoleKeepsWhatTwoPeopleChange(t *testing.T) {
	t.Parallel()
	s := own(t, "twoedit", nil)
	p := s.open(t, "keeper")
	const at = "tomas.vik@skerryline.example"
	p.visit("/setup/mailboxes?item=" + at)
	p.fill("[role=dialog]", "Name", "Tomas the Engineer")
	s.run(t, "mailbox", "set", at, "--quota", "40 MB")
	p.click("[role=dialog]", "Save")
	p.shows("Somebody else changed this while you had it open", "You changed other fields: both are kept",
		"Theirs are taken over: Quota")
	p.click("[role=dialog]", "Save")
	p.shows(at + " is changed")
	if shown := s.run(t, "mailbox", "show", at); !strings.Contains(shown, "Tomas the Engineer") ||
		!strings.Contains(shown, "40 MB") {
		t.Errorf("both changed another field:\n%s", shown)
	}
	p.visit("/setup/routes?item=to+the+world")
	p.fill("[role=dialog]", "Port", "2525")
	s.run(t, "route", "set", "to the world", "--port", "2626")
	p.click("[role=dialog]", "Save")
	p.shows("You both changed these", "theirs: 2626", "mine: 2525")
	p.do(browser.Press(`[role=dialog] input[value=mine]`))
	p.click("[role=dialog]", "Save")
	p.shows("In the draft: route to the world changed")
	if shown := s.run(t, "draft", "diff"); !strings.Contains(shown, "2525") {
		t.Errorf("the one that was chosen:\n%s", shown)
	}
	// A form that is not saved holds on, and outlives the session.
	p.visit("/setup/mailboxes?item=" + at)
	p.fill("[role=dialog]", "Name", "Not saved yet")
	p.do(chromedp.KeyEvent("\x1b"))
	p.shows("Leave without saving?")
	p.press("Go on with it")
	p.do(chromedp.ActionFunc(func(ctx context.Context) error { return network.ClearBrowserCookies().Do(ctx) }))
	p.click("[role=dialog]", "Save")
	p.shows("The session has ended")
	p.do(browser.Type(`input[autocomplete="username"]`, "keeper"),
		browser.Type(`input[autocomplete="current-password"]`, password+"\r"))
	if err := eventually(10*time.Second, func() error {
		if name := value[string](p, `[...document.querySelectorAll("[role=dialog] input")].map((e) => e.value).join("|")`); !strings.Contains(name, "Not saved yet") {
			return fmt.Errorf("the form after signing in again: %q", name)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

// What destroys asks, says what it touches, and can be taken back.
func TestConsoleAsksBeforeItDestroys(t *testing.T) {
	t.Parallel()
	s := own(t, "asks", nil)
	const at = "tomas.vik@skerryline.example"
	s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("private"), at)
	if err := eventually(10*time.Second, func() error {
		if n := len(s.mailbox(t, at)); n != 1 {
			return fmt.Errorf("%d messages in the mailbox", n)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	p := s.open(t, "keeper")
	p.visit("/setup/mailboxes?item=" + at)
	p.shows("Messages to this mailbox")
	p.click("[role=dialog]", "Remove")
	p.shows("its 1 message is set aside", "nobody who gets the address later sees them")
	p.press("Keep it")
	p.click("[role=dialog]", "Remove")
	p.press("Remove it")
	p.shows(at + " is removed")
	s.run(t, "mailbox", "add", at)
	if left := s.mailbox(t, at); len(left) != 0 {
		t.Errorf("the new owner of %s sees %d old messages", at, len(left))
	}
	// Until its time is over it can be given back: under another address while its own is somebody's.
	if _, errOut, code := s.gull(t, "mailbox", "give-back", at); code == 0 || !strings.Contains(errOut, "--as") {
		t.Errorf("given back over somebody else's: %d %s", code, errOut)
	}
	const old = "tomas.old@skerryline.example"
	p.visit("/setup/mailboxes")
	p.shows("Removed mailboxes", "1 message")
	p.fill("", "Another address for "+at, old)
	p.click("", "Give "+at+" back")
	p.shows(old + " is given back")
	if mail := s.mailbox(t, old); len(mail) != 1 || len(s.mailbox(t, at)) != 0 {
		t.Errorf("given back: %d messages", len(mail))
	}
	if out := s.run(t, "mailbox", "show", old); !strings.Contains(out, "Tomas Vik") {
		t.Errorf("it is not as it was: %s", out)
	}
	s.run(t, "mailbox", "remove", old)
	s.run(t, "mailbox", "give-back", old)
	if mail := s.mailbox(t, old); len(mail) != 1 {
		t.Errorf("given back again: %d messages", len(mail))
	}
	if out := s.run(t, "mailbox", "removed"); !strings.Contains(out, "None can be given back") {
		t.Error(out)
	}
	s.run(t, "route", "set", "to the world", "--port", "2626")
	p.visit("/setup/draft")
	p.press("Discard")
	p.shows("Discard the draft?", "1 change by tests")
	p.press("Discard it")
	p.shows("The draft is discarded")
	p.press("Undo")
	if err := eventually(5*time.Second, func() error {
		if diff := s.run(t, "draft", "diff"); !strings.Contains(diff, "2626") {
			return fmt.Errorf("after taking it back: %s", diff)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

// Ten thousand rows scroll, are filtered and chosen without drawing them all.
func TestConsoleHasRowsOnlyWhereTheyAreSeen(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := troubled(t, "manyrows")
	for i := range 200 {
		to := make([]string, 50)
		for n := range to {
			to[n] = fmt.Sprintf("p%d.%d@sunkenpier.example", i, n)
		}
		s.send(t, s.inside, "127.0.0.1", "ines.harrow@skerryline.example", message("Crossing"), to...)
	}
	p := s.open(t, "keeper")
	p.visit("/queue?view=messages")
	p.shows("200 messages read so far")
	began := time.Now()
	rows := value[int](p, `(async () => {
		const grid = document.querySelector("[role=grid]");
		for (let i = 0; i < 400; i++) {
			grid.scrollTop = grid.scrollHeight;
			await new Promise((f) => setTimeout(f, 20));
			const last = [...grid.querySelectorAll("[role=row][aria-rowindex]")].pop();
			if (Number(last?.getAttribute("aria-rowindex")) > 2000) {
				return Number(last.getAttribute("aria-rowindex"));
			}
		}
		return 0;
	})()`)
	elements := value[int](p, `document.querySelectorAll("*").length`)
	t.Logf("row %d after %v, %d elements", rows, time.Since(began).Round(time.Millisecond), elements)
	if took := time.Since(began); rows < 2000 || took > 30*time.Second || elements > 3000 {
		t.Errorf("row %d after %v with %d elements", rows, took, elements)
	}
	p.do(browser.Press(`input[aria-label="Choose all that match"]`))
	p.shows("all 10,000 that match are chosen")
	p.do(browser.Type(`input[aria-label="Recipient"]`, "p7.7@"))
	p.shows("1 message, all that match")
	if strings.Contains(p.text(), "are chosen") {
		t.Error("a choice among other rows is still one after the filter changed")
	}
	// The whole list as a file comes from the service.
	if _, body := s.request(t, "GET", "/api/v1/queue.csv", "", bearer(viewerToken)...); strings.Count(
		body,
		"\r\n",
	) != 10_001 {
		t.Errorf("the file has %d lines", strings.Count(body, "\r\n"))
	}
}

// A message is held and let go by the keyboard alone, in a few keys.
func TestConsoleHoldsAndUndoesByKeyboard(t *testing.T) {
	t.Parallel()
	// It is not tried again meanwhile: what is in hand at that moment cannot be held.
	s := own(t, "keys", func(c string) string { return strings.Replace(c, "intervals: [1s]", "intervals: [1h]", 1) })
	id := s.out(t, "a@sunkenpier.example")
	s.until(t, id, mail.Deferred)
	p := s.open(t, "keeper")
	p.visit("/queue?view=messages")
	p.shows("a@sunkenpier.example")
	keys := 0
	press := func(key string) {
		keys++
		p.do(chromedp.KeyEvent(key), chromedp.Sleep(120*time.Millisecond))
	}
	for _, key := range []string{"l", kb.ArrowDown, "a", "\t", "\r"} { // the list, down, what can be done, Hold
		press(key)
	}
	p.shows("1 delivery match")
	if err := eventually(5*time.Second, func() error {
		if !value[bool](p, `document.querySelector("[role=dialog]")?.contains(document.activeElement) ?? false`) {
			return errors.New("the keyboard is behind the dialog")
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	press("\r")
	s.until(t, id, mail.Held)
	p.shows("Undo")
	press("z")
	if d := s.until(t, id, mail.Deferred); keys > 25 {
		t.Errorf("%d keys; it is %s", keys, d.State)
	}
}

// The first view is small, few requests follow it, and the header fits everywhere.
func TestConsoleIsLightAndQuiet(t *testing.T) {
	t.Parallel()
	s := own(t, "light", nil)
	ctx, stop, err := browser.Start(context.Background(), 1280, 800, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	t.Cleanup(cancel)
	p := &page{t, ctx, "http://" + s.http}
	// The place for notices is read when the page stands, 2.5 s after it came.
	const onTheWire = `performance.getEntriesByType("resource").concat(performance.getEntriesByType("navigation"))
		.filter((r) => !/notices-/.test(r.name))
		.filter((r, i, all) => all.findIndex((x) => x.name === r.name) === i) // what is asked again is no first view
		.reduce((n, r) => n + r.encodedBodySize, 0)`
	p.do(chromedp.Navigate(p.url), browser.Visible(`input[autocomplete="username"]`))
	signIn := value[int](p, onTheWire)
	p.do(browser.SignIn(p.url, "keeper", password))
	p.visit("/")
	p.shows("What flows")
	p.do(chromedp.Sleep(time.Second))
	first := value[int](p, onTheWire)
	t.Logf("on the wire: sign-in %d octets, first view %d", signIn, first)
	if signIn > 120_000 || first > 200_000 {
		t.Errorf("on the wire: sign-in %d octets, first view %d", signIn, first)
	}
	if title := value[string](p, `document.title`); title == "Gull Route" {
		t.Errorf("the title says nothing of the page: %s", title)
	}
	const asked = `performance.getEntriesByType("resource").filter((r) => r.name.includes("/api/")).length`
	before := value[int](p, asked)
	p.do(chromedp.Sleep(15 * time.Second))
	if n := value[int](p, asked) - before; n > 2 {
		t.Errorf("%d requests in 15 quiet seconds", n)
	}
	for _, width := range []int64{360, 650, 1030, 1280, 2560} {
		p.do(emulation.SetDeviceMetricsOverride(width, 800, 1, false), chromedp.Sleep(300*time.Millisecond))
		if out := value[string](p, `[...document.querySelectorAll("header a, header button, header input")]
			.filter((e) => e.checkVisibility() && e.getBoundingClientRect().right > innerWidth && !e.closest(".skip, [class=skip]"))
			.map((e) => e.ariaLabel || e.textContent).join(", ")`); out != "" {
			t.Errorf("at %d pixels these are out of the window: %s", width, out)
		}
		if wide := value[int](p, `document.documentElement.scrollWidth - innerWidth`); wide > 0 {
			t.Errorf("at %d pixels the page is %d too wide", width, wide)
		}
	}
}

// No page has what axe calls a fault, light and wide or dark and narrow.
func TestConsoleCanBeUsedByEverybody(t *testing.T) {
	takesLong(t)
	t.Parallel()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	s := slow(t, "axe")
	id := s.out(t, "jo@sunkenpier.example")
	lane := s.until(t, id, mail.Deferred).LaneID.String()
	s.run(t, "route", "set", "to the world", "--port", "2626")
	var snagID string
	if err := eventually(20*time.Second, func() error {
		list, err := s.client().Snags(context.Background(), url.Values{})
		if err != nil || len(list.Items) == 0 {
			return fmt.Errorf("no snag: %v", err)
		}
		snagID = list.Items[0].ID.String()
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	paths := []string{"/", "/snags", "/snags/" + snagID, "/queue", "/queue?view=messages", "/queue?view=actions",
		"/queue?view=schedule", "/queue?view=nodes", "/queue/" + lane, "/trace", "/trace?view=sessions",
		"/trace?view=live", "/trace?view=archives", "/messages/" + id, "/reports", "/readiness",
		"/readiness/skerryline.example", "/setup", "/setup/domains", "/setup/routes?item=to+the+world",
		"/setup/mailboxes", "/setup/aliases", "/setup/secrets", "/setup/service", "/setup/review",
		"/setup/draft", "/setup/revisions", "/setup/certificates", "/setup/dns_servers", "/explain", "/probe", "/terms",
		"/held", "/reputation?about=127.30.0.65", "/setup/gates", "/setup/lists?item=partners", "/reputation",
		"/setup/operators", "/setup/audit", "/account", "/setup/mailboxes/" + inesAddress, "/mailbox"}
	for _, look := range []struct {
		name  string
		width int
		dark  bool
	}{{"light and wide", 1280, false}, {"dark and narrow", 390, true}} {
		ctx, stop, err := browser.Start(context.Background(), look.width, 800, look.dark)
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
		p := &page{t, ctx, "http://" + s.http}
		p.do(chromedp.Navigate(p.url), browser.Type(`input[autocomplete="username"]`, "keeper"),
			browser.Type(`input[autocomplete="current-password"]`, password+"\r"),
			browser.Visible(`header`))
		p.do(emulation.SetDeviceMetricsOverride(int64(look.width), 800, 1, false))
		for i, path := range paths {
			if look.dark && i%3 != 0 && path != "/reports" { // the colours are the same everywhere
				continue
			}
			p.visit(path)
			p.do(browser.Visible(`main`), browser.Visible(`h1`), chromedp.Sleep(400*time.Millisecond),
				chromedp.Evaluate(string(axe), nil))
			var faults []string
			p.do(chromedp.Evaluate(`axe.run(document, {resultTypes: ["violations"]}).then((r) => r.violations
				.map((v) => v.id + " (" + v.impact + "): " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(" | ")))`,
				&faults, chromedp.EvalAsValue, awaitPromise))
			for _, f := range faults {
				t.Errorf("%s, %s: %s", path, look.name, f)
			}
		}
		cancel()
		stop()
	}
}

func awaitPromise(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }
