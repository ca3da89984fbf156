package test

import (
	"fmt"
	"gullroute/test/browser"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// fill types into the field with a label, within a part of the page ("" is all).
func (p *page) fill(within, label, text string) {
	p.t.Helper()
	var id string
	find := fmt.Sprintf(`(() => {
		const part = document.querySelector(%q);
		const label = [...(part?.querySelectorAll("label") ?? [])].find((l) => l.textContent.replace("*", "").trim() === %q);
		return label?.htmlFor || (part?.querySelector(%[3]q)?.id ?? "");
	})()`, orBody(within), label, fmt.Sprintf("input[aria-label=%q]", label))
	if err := eventually(5*time.Second, func() error {
		p.do(chromedp.Evaluate(find, &id))
		if id == "" {
			return missing("field " + label)
		}
		return nil
	}); err != nil {
		p.t.Fatalf("%v\nthe page shows:\n%s", err, p.text())
	}
	at := fmt.Sprintf(`[id=%q]`, id)
	p.do(browser.Focus(at), chromedp.KeyEvent("a", chromedp.KeyModifiers(2)),
		chromedp.KeyEvent(kb.Delete), browser.Type(at, text))
}

func orBody(selector string) string {
	if selector == "" {
		return "body"
	}
	return selector
}

// choose opens a selection by its label and takes an option.
func (p *page) choose(within, label, option string) {
	p.t.Helper()
	p.fill(within, label, "")
	p.click("", option)
}

// click presses a button by its words or label, within a part of the page.
func (p *page) click(within, name string) {
	p.t.Helper()
	press := fmt.Sprintf(`(() => {
		const part = document.querySelector(%q);
		const button = [...(part?.querySelectorAll("button, a, [role=option]") ?? [])].find((b) => (b.textContent.trim() === %[2]q || b.getAttribute("aria-label") === %[2]q) && !b.disabled);
		button?.click();
		return !!button;
	})()`, orBody(within), name)
	if err := eventually(10*time.Second, func() error {
		var done bool
		p.do(chromedp.Evaluate(press, &done))
		if !done {
			return missing("button " + name)
		}
		return nil
	}); err != nil {
		p.t.Fatalf("%v\nthe page shows:\n%s", err, p.text())
	}
}

func TestConsoleLeadsFromNothingToAMessageInAndAMessageOut(t *testing.T) {
	t.Parallel()
	s := blank(t, "firststeps")
	p := s.open(t, "keeper")
	p.visit("/setup")
	step := func(name string) string { return fmt.Sprintf(`section[aria-label=%q]`, name) }
	p.shows("First steps", "Add your domain first")

	domain := step("Your domain")
	p.fill(domain, "Domain", "skerry!line.example")
	p.click(domain, "Add the domain")
	p.shows("not allowed in a domain") // the service's own words, beside the field
	p.fill(domain, "Domain", "skerryline.example")
	p.click(domain, "Add the domain")
	p.shows("skerryline.example (local)")

	listeners := step("Where mail comes in")
	p.fill(listeners, "For people", s.submission)
	p.fill(listeners, "For machines", s.inside)
	p.click(listeners, "Open 2 listeners")
	p.shows("inside at " + s.inside)

	box := step("A mailbox")
	p.fill(box, "Name", "Ines Harrow")
	p.fill(box, "Address", "ines.harrow")
	p.fill(box, "Password, to sign in and send", inesPassword)
	p.click(box, "Add the mailbox")
	p.shows("ines.harrow@skerryline.example")

	p.click(step("Who may send to others"), "Let them send")
	p.shows("people (allow), this machine (allow)")

	// out without a route: the message waits, and the page says why and what to do
	out := step("A test message out, as from a machine of yours")
	p.click(out, "Send it")
	p.shows("It was taken.", "deferred", "No route leads there.")
	p.visit("/")
	p.shows("1 lane is stranded: no route leads on", "no route leads to saltmarsh.example", "Add a route")
	p.visit("/queue")
	p.shows("stranded", "Add a route", "they leave by themselves")
	p.visit("/setup")
	p.click(step("A route out"), "Add the route")
	p.shows("to the world (mx)")
	s.arrives(t, "harbour@saltmarsh.example") // without another click

	in := step("A test message in, as from a stranger")
	p.click(in, "Send it")
	p.shows("It was taken.", "delivered", "put into mailbox ines.harrow@skerryline.example")
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
		t.Errorf("the password given on the page does not sign in: %+v", r)
	}
}

func TestConsoleRefusesAnOpenRelayAndShowsItOnEveryPage(t *testing.T) {
	t.Parallel()
	s := own(t, "consolerelay", nil)
	p := s.open(t, "keeper")
	p.visit("/setup/relay_rules?item=%2B")
	p.fill(".mantine-Drawer-content", "Name", "visitors")
	p.fill(".mantine-Drawer-content", "Networks", "10.0.0.1/8")
	p.do(chromedp.KeyEvent(kb.Tab))
	p.shows("did you mean 10.0.0.0/8?") // while one types
	p.do(browser.Focus(`.mantine-Drawer-content .mantine-TagsInput-inputField`),
		chromedp.KeyEvent(kb.Backspace))
	p.fill(".mantine-Drawer-content", "Networks", "0.0.0.0/0")
	p.choose(".mantine-Drawer-content", "Action", "allow")
	p.click(".mantine-Drawer-content", "Save")
	p.shows("1 change in the draft")
	p.visit("/setup/draft")
	p.shows("This draft is dangerous", "lets anyone send anywhere (an open relay)")
	p.click("", "Rehearse on recent mail")
	p.shows("came through", "It is applied only by force, with a reason")
	p.do(browser.Type(`input[aria-label="Reason"]`, "the auditors test it"))
	p.click("", "Apply all the same")
	p.shows("There is no draft")
	for _, path := range []string{"/", "/queue", "/messages", "/setup/peers", "/explain"} {
		p.visit(path)
		p.shows("This server is not safe as it is set up", "0.0.0.0/0 is the whole world", "Fix it")
	}
	p.visit("/setup/revisions")
	p.shows("by force: the auditors test it")
	p.click("", "Go back to it")
	p.click(".mantine-Modal-content", "Go back")
	p.shows("back to 1")
	p.visit("/")
	time.Sleep(time.Second)
	if strings.Contains(p.text(), "not safe") {
		t.Error("the warning stays after it was fixed")
	}
}

func TestConsoleChangesTheOrderByKeyboardAndExplains(t *testing.T) {
	t.Parallel()
	s := own(t, "consoleorder", nil)
	p := s.open(t, "keeper")
	p.visit("/setup/routes")
	p.shows("to the world", "by provider")
	grip := `button[aria-label="Drag shelf"]`
	p.do(browser.Focus(grip))
	for _, key := range []string{" ", kb.ArrowUp, " "} {
		p.do(chromedp.KeyEvent(key), chromedp.Sleep(300*time.Millisecond))
	}
	p.shows("1 change in the draft")
	p.click("", "Move shelf up")
	if err := eventually(5*time.Second, func() error {
		if out := s.run(t, "route", "list"); !strings.Contains(out, "    2  shelf") {
			return missing(out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	p.visit("/explain?to=x@saltmarsh.example&client=127.20.1.5&listener=inside&other_client=127.20.9.9")
	p.shows("x@saltmarsh.example is taken", "x@saltmarsh.example is refused",
		"relay rule quarantined machine", "next hop, TLS verified",
		"as agreed with saltmarsh ferries", "mx.saltmarsh.example port")

	viewer := s.open(t, "deck")
	viewer.visit("/setup/routes?item=shelf")
	viewer.shows("A viewer may look, not change.")
	var disabled bool
	viewer.do(
		chromedp.Evaluate(
			`document.querySelector(".mantine-Drawer-content fieldset").disabled && [...document.querySelectorAll(".mantine-Drawer-content button[type=submit]")].every((b) => b.disabled)`,
			&disabled,
		),
	)
	if !disabled {
		t.Error("a viewer's form can be filled in")
	}
}

func TestConsoleMailboxesAreFoundChangedAndImported(t *testing.T) {
	t.Parallel()
	s := own(t, "consolemailboxes", nil)
	p := s.open(t, "keeper")
	p.visit("/setup/mailboxes?find=harrow")
	p.shows("ines.harrow@skerryline.example", "iharrow@skerryline.example")
	p.visit("/setup/mailboxes?item=wren.castell@skerryline.example")
	p.shows("mailbox: wren.castell@skerryline.example", "wcastell@skerryline.example")
	p.fill(".mantine-Drawer-content", "Quota", "a lot")
	p.shows(`"a lot" is not a size`)
	p.fill(".mantine-Drawer-content", "Quota", "10 MB")
	p.click(".mantine-Drawer-content", "Save")
	p.shows("is changed")
	if out := s.run(t, "change", "list", "--name",
		"wren.castell@skerryline.example"); !strings.Contains(out, `quota "50 MB" → "10 MB"`) ||
		!strings.Contains(out, "keeper") {
		t.Errorf("the record:\n%s", out)
	}
}
