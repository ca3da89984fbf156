package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// What somebody new to it wishes of gates, by the console alone: from a proposal and from
// nothing, rehearsed, in force, seen in the trace, explained from a file, taken back.
func TestConsoleSetsGatesUp(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "consolegates", func(c string) string {
		head, rest, _ := strings.Cut(c, "\nlists:\n")
		_, tail, _ := strings.Cut(rest, "\nmailboxes:\n")
		return head + "\nmailboxes:\n" + tail
	})
	p := s.open(t, "keeper")
	apply := func(rehearsed string) {
		t.Helper()
		p.visit("/setup/draft")
		p.click("", "Rehearse on recent mail")
		p.shows(rehearsed)
		p.click("", "Apply")
		p.shows("There is no draft")
	}
	program := marked("program", mixed, "--b\r\n\r\nsee\r\n"+file("tides.scr", "MZ"+strings.Repeat("\x00", 200))+
		"--b--\r\n")
	if got := s.try(t, "ada@saltmarsh.example", program, inesAddress); !strings.HasPrefix(got, "250") {
		t.Fatal(got)
	}
	p.visit("/setup/gates")
	p.click("", "Proposals")
	p.click(".mantine-Modal-content", "No programs from outside")
	p.click(".mantine-Modal-content", "Add to the draft")
	p.shows("1 change in the draft")
	p.visit("/setup/gates")
	p.click("", "Proposals")
	p.click(".mantine-Modal-content", "A partner's mail by another route")
	p.fill(".mantine-Modal-content", "The partner's domain", "kelpworks.example")
	p.fill(".mantine-Modal-content", "The route", "by provider")
	p.click(".mantine-Modal-content", "Add to the draft")
	p.shows("2 changes in the draft")
	apply("no programs from outside")
	if got := s.try(t, "ada@saltmarsh.example", program, inesAddress); !strings.HasPrefix(got,
		"550 5.7.1 programs are not taken by mail here") {
		t.Errorf("a program: %s", got)
	}

	// From nothing: hold what comes for the office after hours.
	p.visit("/setup/lists?item=%2B")
	p.fill(".mantine-Drawer-content", "Name", "office hours")
	p.choose(".mantine-Drawer-content", "Kind", "hours")
	p.fill(".mantine-Drawer-content", "Entries", "2099-01-01 08:00-17:00")
	p.click(".mantine-Drawer-content", "Save")
	p.shows("1 change in the draft")
	p.visit("/setup/gates?item=%2B")
	p.fill(".mantine-Drawer-content", "Name", "after hours")
	p.choose(".mantine-Drawer-content", "Add a field", "Recipients")
	p.fill(".mantine-Drawer-content", "Recipients", inesAddress)
	p.choose(".mantine-Drawer-content", "Add a field", "None")
	p.choose(".mantine-Drawer-content", "Add a field", "Hours")
	p.fill(".mantine-Drawer-content", "Hours", "list:office hours")
	p.do(chromedp.Evaluate(`[...document.querySelectorAll(".mantine-Drawer-content label")].find((l) =>
		l.textContent === "Hold").click()`, nil))
	p.choose(".mantine-Drawer-content", "Severity", "serious")
	p.click(".mantine-Drawer-content", "Save")
	p.shows("2 changes in the draft")
	apply("after hours")
	if got := s.try(t, "ada@saltmarsh.example", marked("late", "", "hi\r\n"), inesAddress); !strings.HasPrefix(
		got,
		"250",
	) {
		t.Errorf("a late message: %s", got)
	}
	p.visit("/held")
	p.shows("gate after hours", "serious", "ada@saltmarsh.example")
	p.visit("/trace?q=gate%3A%22no+programs+from+outside%22")
	p.shows("refused", "ada@saltmarsh.example", "1 message, all that match")

	// The same file, dropped into Explain.
	path := filepath.Join(t.TempDir(), "program.eml")
	if err := os.WriteFile(path, []byte(program), 0o600); err != nil {
		t.Fatal(err)
	}
	p.visit("/explain?to=" + inesAddress + "&from=ada@saltmarsh.example&client=127.30.0.10&listener=edge")
	p.do(chromedp.SetUploadFiles(`input[type=file]`, []string{path}, chromedp.ByQuery))
	p.shows("program.eml", "no programs from outside", "programs are not taken by mail here")

	p.visit("/setup/revisions")
	p.click("", "Go back to it")
	p.click(".mantine-Modal-content", "Go back")
	p.shows("back to 2")
	if got := s.try(t, "ada@saltmarsh.example", marked("early", "", "hi\r\n"), inesAddress); !strings.HasPrefix(
		got,
		"250",
	) {
		t.Errorf("taken back: %s", got)
	}
	if held := s.held(t); len(held) != 1 {
		t.Errorf("the gate that was taken back holds: %+v", held)
	}
}
