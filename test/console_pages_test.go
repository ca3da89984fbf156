package test

import (
	"fmt"
	"io"
	"net"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"gullroute/internal/core/mail"
	"gullroute/test/browser"
)

// A colleague says "sent at ten, never came", by the clock on the wall, which is not the
// server's: three actions and ten seconds lead to why.
func TestConsoleAnswersACallFromAnotherZone(t *testing.T) {
	t.Parallel()
	s := own(t, "farzone", nil)
	s.until(t, s.out(t, "ned@nosuch.example"), mail.Bounced)
	s.until(t, s.out(t, "ada@saltmarsh.example"), mail.Delivered)
	p := s.open(t, "keeper")
	p.do(emulation.SetTimezoneOverride("Asia/Kathmandu"))
	p.visit("/")
	p.shows("What flows")
	zone, err := time.LoadLocation("Asia/Kathmandu")
	if err != nil {
		t.Fatal(err)
	}
	clock := time.Now().In(zone).Format("15:04")
	begin := time.Now()
	p.do(chromedp.KeyEvent("/"), chromedp.KeyEvent("nosuch.example "+clock+kb.Enter)) // 1
	p.shows("Copy link", "to ned@nosuch.example", clock[:2]+":", "Times are of UTC+5:45")
	p.press("to ned@nosuch.example") // 2
	p.shows("There is no such mailbox", "550 5.1.1", "said by mx.nosuch.example")
	if took := time.Since(begin); took > 10*time.Second {
		t.Errorf("it took %v", took)
	}
	// What is handed on names the zone.
	if text := value[string](p, `(async () => { let copied; navigator.clipboard.writeText = async (t) => { copied = t };
		[...document.querySelectorAll("button")].find((b) => b.innerText.includes("Copy for the user")).click();
		await new Promise((d) => setTimeout(d, 300)); return copied ?? "" })()`); !strings.Contains(text, "UTC") {
		t.Errorf("for the user: %s", text)
	}
	// Another hour finds nothing.
	p.visit("/trace?q=nosuch.example+" + url.QueryEscape(time.Now().In(zone).Add(-5*time.Hour).Format("15:04")))
	p.shows("Nothing matches")
}

// Figures lead to messages and back; each drawing can be taken along.
func TestConsoleReports(t *testing.T) {
	t.Parallel()
	s := own(t, "drawn", nil)
	for _, to := range []string{"ned@nosuch.example", "ada@saltmarsh.example", "bo@saltmarsh.example"} {
		s.out(t, to)
	}
	s.counted(t)
	p := s.open(t, "keeper")
	p.visit("/reports?since=" + time.Now().UTC().Truncate(time.Hour).Add(-3*time.Hour).Format("2006-01-02T15:04:05.000Z"))
	p.shows("Over time", "Hours of the week", "What moved most", "saltmarsh.example", "There is no such mailbox", "+2")
	received := `[...document.querySelectorAll("[title='messages taken']")][0].querySelector("a")`
	if got := value[string](p, received+`.innerText`); got < "3" {
		t.Errorf("received: %s", got)
	}
	p.do(chromedp.Evaluate(received+`.click()`, nil))
	p.shows("to ada@saltmarsh.example", "to ned@nosuch.example")
	p.do(chromedp.NavigateBack())
	p.shows("Hours of the week")
	// Files: what is drawn stands alone, with what it is and its colours.
	p.do(chromedp.Evaluate(`window.__files = [];
		URL.createObjectURL = (b) => { window.__files.push(b); return "#" }`, nil))
	for _, f := range []struct{ of, as, kind, has string }{
		{"Over time", "Save as SVG", "image/svg+xml", "<title>Over time</title>"},
		{"Hours of the week", "Save as SVG", "image/svg+xml", ">Mon</text>"},
		{"Over time", "Save as PNG", "image/png", "PNG"},
		{"Hours of the week", "Save as CSV", "text/plain;charset=utf-8", "hour,Mon,Tue"},
	} {
		p.press("Take along: " + f.of)
		p.click("[role=menu]", f.as)
		if err := eventually(5*time.Second, func() error {
			got := value[[]string](p, `(async () => { const b = window.__files.at(-1);
				return b ? [b.type, await b.text()] : ["", ""] })()`)
			if got[0] != f.kind || !strings.Contains(got[1], f.has) || len(got[1]) < 60 {
				return fmt.Errorf("%s, %s: %s, %.200s", f.of, f.as, got[0], got[1])
			}
			return nil
		}); err != nil {
			t.Error(err)
		}
	}
	// What is shown is chosen, and kept; a calendar chooses days.
	p.press("Charts")
	p.click("[role=menu]", "Delay over time")
	p.shows("Delay over time", "by hour")
	p.visit("/reports")
	p.shows("Delay over time by day")
	p.press(value[string](p, `document.querySelector("[title='Another period']").innerText`))
	p.press("Last month")
	now := time.Now().UTC()
	p.shows(time.Date(now.Year(), now.Month()-1, 1, 0, 0, 0, 0, time.UTC).Format("2006-01-02") + " – ")
	p.shows("Nothing was counted")
}

// Lists and forms that no other test opens.
func TestConsoleHasAPageForEverything(t *testing.T) {
	t.Parallel()
	s := slow(t, "pages")
	id := s.out(t, "jo@sunkenpier.example")
	s.until(t, id, mail.Deferred)
	s.until(t, s.out(t, "ada@saltmarsh.example"), mail.Delivered)
	p := s.open(t, "keeper")

	p.visit("/trace?view=sessions&direction=out")
	p.shows("mx.saltmarsh.example", "passed", "to the world")
	p.do(chromedp.Evaluate(`document.querySelector("[role=grid]").focus()`, nil), chromedp.KeyEvent(kb.ArrowDown+kb.Enter))
	p.shows("Transcript")
	p.do(chromedp.NavigateBack())
	p.shows("mx.saltmarsh.example")

	p.visit("/trace?view=live")
	p.shows("Events come in as they happen")
	s.until(t, s.out(t, "cy@saltmarsh.example"), mail.Delivered)
	p.shows("cy@saltmarsh.example", "delivered")

	p.visit("/snags")
	p.shows("The host refuses the connection", "sunkenpier.example")

	file := filepath.Join(t.TempDir(), "day.jsonl.zst")
	s.run(t, "log", "export", "-f", file, "--since", "1h")
	p.visit("/trace?view=archives")
	p.shows("No archive is open")
	p.do(chromedp.SetUploadFiles(`input[type=file]`, []string{file}, chromedp.ByQuery))
	p.shows("day.jsonl.zst", "is open")

	p.visit("/setup/aliases")
	p.press("Add")
	p.fill("[role=dialog]", "Address", "tide-desk@skerryline.example")
	p.fill("[role=dialog]", "To", "ines.harrow@skerryline.example\r") // Enter saves
	p.shows("tide-desk@skerryline.example is there")
	if out := s.run(t, "alias", "list"); !strings.Contains(out, "tide-desk@") {
		t.Errorf("aliases:\n%s", out)
	}

	p.visit("/setup/service")
	p.press("Change")
	p.fill("[role=dialog]", "Postmaster", "ines.harrow@skerryline.example")
	p.click("[role=dialog]", "Save")
	p.do(chromedp.WaitNotPresent("[role=dialog] form")) // it is saved, and the form lets go
	if out := s.run(t, "draft", "diff"); !strings.Contains(out, "postmaster") {
		t.Errorf("draft:\n%s", out)
	}

	// Filters are those of the address: Back and Forward, and what is typed.
	p.visit("/queue?view=messages")
	p.shows("jo@sunkenpier.example")
	p.do(browser.Type(`input[aria-label="Recipient"]`, "nobody-here"))
	p.shows("No messages")
	p.press("Trace")
	p.shows("Archives")
	p.do(chromedp.NavigateBack())
	p.shows("No messages")
	if got := value[string](p, `document.querySelector('input[aria-label="Recipient"]').value`); got != "nobody-here" {
		t.Errorf("after Back the field shows %q", got)
	}

	// Another language, chosen once.
	p.press("Signed in as keeper")
	p.click("[role=menu]", "Deutsch")
	p.shows("Warteschlange", "Keine Nachrichten")
	if lang := value[string](p, `document.documentElement.lang`); lang != "de" {
		t.Error(lang)
	}
	p.visit("/")
	p.shows("Was nicht stimmt", "Übersicht")
}

// cable leads to a service, and can be cut and joined.
func cable(t *testing.T, to string) (address string, cut, join func()) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	var mu sync.Mutex
	whole, open := true, map[net.Conn]bool{}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			mu.Lock()
			if err != nil || !whole {
				in.Close()
			} else {
				open[in] = true
				go func() { _, _ = io.Copy(out, in); out.Close() }()
				go func() { _, _ = io.Copy(in, out); in.Close() }()
			}
			mu.Unlock()
		}
	}()
	set := func(on bool) {
		mu.Lock()
		defer mu.Unlock()
		whole = on
		for c := range open {
			if !on {
				c.Close()
				delete(open, c)
			}
		}
	}
	return l.Addr().String(), func() { set(false) }, func() { set(true) }
}

// A page that is left open stays what it is: off the network it says so, and comes back by
// itself; half a minute costs nothing.
func TestConsoleLeftOpen(t *testing.T) {
	t.Parallel()
	s := slow(t, "leftopen")
	address, cut, join := cable(t, s.http)
	whole := *s
	whole.http = address
	p := whole.open(t, "keeper")
	p.visit("/queue?view=messages")
	p.shows("live")
	cut()
	id := s.send(t, s.inside, "127.20.1.9", "bridge@skerryline.example",
		message("While nobody heard"), "logs@[127.30.0.60]")
	s.until(t, id, mail.Deferred)
	p.shows("not live")
	join()
	p.shows("While nobody heard")
	if err := eventually(15*time.Second, func() error {
		if strings.Contains(p.text(), "not live") {
			return missing("live")
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	p.do(chromedp.Sleep(3 * time.Second)) // what may have been missed is read once
	begin := value[float64](p, `performance.getEntriesByType("resource").length`)
	elements := value[int](p, `document.querySelectorAll("*").length`)
	p.do(chromedp.Sleep(30 * time.Second))
	if n := value[float64](p, `performance.getEntriesByType("resource").length`) - begin; n > 6 {
		t.Errorf("%v requests in half a quiet minute: %s", n, value[string](p, `performance.getEntriesByType("resource")
			.slice(-30).map((e) => Math.round(e.startTime) + " " + e.name.replace(location.origin, "")).join("\n")`))
	}
	if now := value[int](p, `document.querySelectorAll("*").length`); now > elements+40 {
		t.Errorf("%d elements became %d", elements, now)
	}
}
