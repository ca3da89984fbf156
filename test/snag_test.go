package test

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/snag"
)

// troubled is a stack that tries again only after an hour, without a route to one
// domain, and with terms that one host cannot keep.
func troubled(t *testing.T, name string) *stack {
	return own(t, name, func(c string) string {
		return strings.NewReplacer(
			"intervals: [1s]",
			"intervals: [1h]",
			`recipients: ["*.example"]     #`,
			`recipients: [saltmarsh.example, nosuch.example, strandwatch.example, homelines.example, fullshelf.example, sunkenpier.example, fogbank.example, oldlocks.example, hangup.example, foghorn.example, greywacke.example, barelock.example, lostbuoy.example, nomail.example, smallhatch.example, plainscript.example] #`,
			"\npeers:\n",
			"\npeers:\n  - {name: old locks, domains: [oldlocks.example], tls: verified}\n",
		).Replace(c)
	})
}

// snag waits for the open trouble of a cause at a place, until it is as wanted.
func (s *stack) snag(t *testing.T, cause diagnose.Cause, place string, is func(snag.Snag) bool) snag.Snag {
	t.Helper()
	var got snag.Snag
	if err := eventually(25*time.Second, func() error {
		p, err := s.client().Snags(context.Background(), url.Values{"parts": {"true"}, "limit": {"200"}})
		if err != nil {
			return err
		}
		i := slices.IndexFunc(p.Items,
			func(x snag.Snag) bool { return x.Cause == cause && x.Place.Name == place })
		if i < 0 {
			return fmt.Errorf("no snag %s at %s among %d", cause, place, len(p.Items))
		}
		if got = p.Items[i]; is != nil && !is(got) {
			return fmt.Errorf("%+v", got)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return got
}

// over waits until a trouble has ended, and says of what.
func (s *stack) over(t *testing.T, x snag.Snag) string {
	t.Helper()
	var now snag.Snag
	if err := eventually(20*time.Second, func() (err error) {
		if now, err = s.client().Snag(context.Background(),
			x.ID.String()); err == nil && now.State != "closed" {
			err = fmt.Errorf("%s at %s is still open", x.Cause, x.Place.Name)
		}
		return err
	}); err != nil {
		t.Error(err)
	}
	return now.Ended
}

func TestEachTroubleOfTheWorldIsOneSnagThatSaysWhoCanFixIt(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := troubled(t, "snags")
	wanted := []struct {
		to     string
		cause  diagnose.Cause
		kind   snag.Kind
		place  string
		who    string
		offers []diagnose.Fix
	}{
		{"a@dunlin.example", diagnose.NoRoute, snag.Domain, "dunlin.example", "us",
			[]diagnose.Fix{"add-route", "route", "return"}},
		{"a@nosuch.example", diagnose.NoSuchUser, snag.Address, "a@nosuch.example", "sender", nil},
		{
			"a@strandwatch.example",
			diagnose.BlockListed,
			snag.NextHop,
			"strandwatch.example",
			"block-list",
			[]diagnose.Fix{"route"},
		},
		{
			"a@homelines.example",
			diagnose.ResidentialAddress,
			snag.NextHop,
			"homelines.example",
			"us",
			[]diagnose.Fix{"route"},
		},
		{
			"a@fullshelf.example",
			diagnose.MailboxFull,
			snag.Address,
			"a@fullshelf.example",
			"recipient",
			[]diagnose.Fix{"flush", "return"},
		},
		{
			"a@sunkenpier.example",
			diagnose.ConnectRefused,
			snag.NextHop,
			"sunkenpier.example",
			"remote-administrator",
			[]diagnose.Fix{"smart-host", "route", "flush"},
		},
		{
			"a@fogbank.example",
			diagnose.NoAnswer,
			snag.NextHop,
			"fogbank.example",
			"remote-administrator",
			[]diagnose.Fix{"pause", "flush"},
		},
		{
			"a@oldlocks.example",
			diagnose.CertificateBad,
			snag.NextHop,
			"oldlocks.example",
			"remote-administrator",
			[]diagnose.Fix{"flush", "tls"},
		},
		{
			"a@hangup.example",
			diagnose.Dropped,
			snag.NextHop,
			"hangup.example",
			"remote-administrator",
			[]diagnose.Fix{"smart-host", "route", "flush"},
		},
		{
			"a@foghorn.example",
			diagnose.DNSTrouble,
			snag.NextHop,
			"foghorn.example",
			"remote-administrator",
			[]diagnose.Fix{"flush"},
		},
		{
			"a@greywacke.example",
			diagnose.Greylisted,
			snag.NextHop,
			"greywacke.example",
			"nobody",
			[]diagnose.Fix{"flush"},
		},
		{"a@lostbuoy.example", diagnose.NoSuchDomain, snag.Domain, "lostbuoy.example", "sender", nil},
		{"a@nomail.example", diagnose.NoMail, snag.Domain, "nomail.example", "recipient", nil},
	}
	for _, w := range wanted {
		s.out(t, w.to)
	}
	s.out(t, "logs@[127.30.0.60]")
	for _, w := range wanted {
		x := s.snag(t, w.cause, w.place, func(x snag.Snag) bool { return x.Waiting+x.Failed == 1 })
		var offers []diagnose.Fix
		for _, m := range x.Fixes {
			offers = append(offers, m.Do)
		}
		if x.Place.Kind != w.kind || x.WhoCanFix != w.who || fmt.Sprint(offers) != fmt.Sprint(w.offers) ||
			x.Deliveries != 1 ||
			x.Attempts != 1 ||
			x.Means == "" ||
			x.Advice == "" {
			t.Errorf("%s: %+v", w.to, x)
		}
		if x.Evidence.Recipient != w.to || x.Evidence.MessageID == 0 || x.Evidence.Last.Text == "" ||
			!slices.Equal(x.Senders, []string{"ines.harrow@skerryline.example"}) {
			t.Errorf("%s: the example %+v", w.to, x.Evidence)
		}
	}

	// Three hundred messages are one snag.
	for i := range 300 {
		s.send(t, s.inside, "127.20.1.9", fmt.Sprintf("t%d@skerryline.example", i%30),
			message("Crossing"), "a@sunkenpier.example")
	}
	x := s.snag(t, diagnose.ConnectRefused, "sunkenpier.example",
		func(x snag.Snag) bool { return x.Waiting == 301 })
	if x.Severity != snag.Critical || len(x.Senders) > 20 {
		t.Errorf("three hundred messages: %+v", x)
	}
	list := s.run(t, "snag", "list")
	if first := strings.Split(list, "\n")[1]; !strings.Contains(first, "critical") ||
		!strings.Contains(first, "The host refuses the connection") ||
		!strings.Contains(first, "301") {
		t.Errorf("the worst is not first:\n%s", list)
	}
	shown := s.run(t, "snag", "show", x.ID.String())
	for _, want := range []string{"sunkenpier.example: The host refuses the connection (critical, " +
		"connection-refused)", "301 messages wait", "gull session show", "gull snag fix " + x.ID.String() + " --do smart-host --route \"by provider\""} {
		if !strings.Contains(shown, want) {
			t.Errorf("%q is missing from:\n%s", want, shown)
		}
	}

	// What cannot be taken back is never done without being named.
	lost := s.snag(t, diagnose.NoRoute, "[127.30.0.60]", func(x snag.Snag) bool { return x.Waiting == 1 })
	if _, stderr, code := s.gull(t, "snag", "fix", lost.ID.String()); code != 2 ||
		!strings.Contains(stderr, "name it: --do return") {
		t.Errorf("a fix that is not named: %d %s", code, stderr)
	}

	// People write on it; who may only look does not.
	s.run(t, "snag", "note", x.ID.String(), "asked them <b>by telephone</b>")
	s.run(t, "snag", "mine", x.ID.String())
	s.run(t, "snag", "mute", x.ID.String(), "--for", "2h")
	if list := s.run(t, "snag", "list"); strings.Contains(list, "sunkenpier") {
		t.Errorf("muted and listed:\n%s", list)
	}
	if list := s.run(t, "snag", "list", "--muted", "-o",
		"json"); !strings.Contains(list, `"note": "asked them <b>by telephone</b>"`) ||
		!strings.Contains(list, `"mine": "tests"`) {
		t.Errorf("with muted ones:\n%.600s", list)
	}
	for _, args := range [][]string{{"snag", "fix", x.ID.String()}, {"snag", "note", x.ID.String(), "x"}} {
		if _, stderr, code := s.gull(
			t,
			append([]string{"--token", viewerToken}, args...)...); code != 3 && code != 1 ||
			!strings.Contains(stderr, "administrator") {
			t.Errorf("a viewer's %v: %d %s", args, code, stderr)
		}
	}
	for args, want := range map[string]string{"snag fix " + x.ID.String() + " --do pause": "is not offered",
		"snag mute " + x.ID.String() + " --for soon": "write a time like 4h", "snag show 0000000000000": "no such snag", "snag list --state odd": "open"} {
		if _, stderr, code := s.gull(t, strings.Fields(args)...); code == 0 || !strings.Contains(stderr, want) {
			t.Errorf("%s: %d %s", args, code, stderr)
		}
	}
}

// tells looks whether a trouble's story has things, in this order.
func (s *stack) tells(t *testing.T, x snag.Snag, want ...string) {
	t.Helper()
	out, all := s.run(t, "snag", "show", x.ID.String()), ""
	_, story, _ := strings.Cut(out, "In order of time:")
	all = story
	for _, w := range want {
		_, rest, ok := strings.Cut(story, w)
		if !ok {
			t.Errorf("%q is missing, or too early, in:%s", w, all)
		}
		story = rest
	}
}

// wouldChangeNothing says of every fix that is offered what it would do, and sees that
// nothing was done.
func (s *stack) wouldChangeNothing(t *testing.T) {
	t.Helper()
	state := func() string {
		return s.run(t, "queue", "list", "-o", "json") + s.run(t, "draft", "diff") +
			s.run(t, "alias", "list", "-o", "json")
	}
	before, asked := state(), 0
	p, err := s.client().Snags(context.Background(), url.Values{"limit": {"200"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range p.Items {
		for _, f := range x.Fixes {
			args := []string{"snag", "fix", x.ID.String(), "--do", string(f.Do), "--dry-run"}
			if f.Route != "" {
				args = append(args, "--route", f.Route)
			}
			if out := s.run(t, args...); !strings.Contains(strings.ToLower(out), "would") {
				t.Errorf("%v: %s", args, out)
			}
			if f.First && f.Costs != "" {
				t.Errorf("%s at %s: %s costs something and is first", x.Cause, x.Place.Name, f.Do)
			}
			asked++
		}
	}
	if asked < 8 {
		t.Errorf("%d fixes are offered", asked)
	}
	if after := state(); after != before {
		t.Errorf("to ask what would be done changed something:\n%s\n%s", before, after)
	}
}

func TestEveryFixFixes(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := troubled(t, "fixes")
	arrives := func(id, by string) {
		t.Helper()
		if d := s.until(t, id, mail.Delivered); by != "" && d.Route != by {
			t.Errorf("%s went by %s, not %s", id, d.Route, by)
		}
	}
	fix := func(x snag.Snag, words ...string) string {
		t.Helper()
		return s.run(t, append([]string{"snag", "fix", x.ID.String()}, words...)...)
	}
	noRoute, refused, full, locked := s.out(t, "a@dunlin.example"), s.out(t,
		"a@sunkenpier.example"), s.out(t, "a@fullshelf.example"), s.out(t, "a@oldlocks.example")
	s.until(t, s.out(t, "a@strandwatch.example"), mail.Bounced)
	for _, id := range []string{noRoute, refused, full, locked} {
		s.until(t, id, mail.Deferred)
	}
	// Messages that wait go another way, or again.
	x := s.snag(t, diagnose.ConnectRefused, "sunkenpier.example",
		func(x snag.Snag) bool { return x.Waiting == 1 })
	s.snag(t, diagnose.BlockListed, "strandwatch.example", nil)
	s.wouldChangeNothing(t)
	fix(x)
	arrives(refused, "by provider")
	if ended := s.over(t, x); !strings.HasSuffix(ended, ", after: Send what waits by “by provider”") {
		t.Errorf("ended: %s", ended)
	}
	s.behave(t, "mx.fullshelf.example", `{"rcpt_in_turn": []}`)
	x = s.snag(t, diagnose.MailboxFull, "a@fullshelf.example", func(x snag.Snag) bool { return x.Waiting == 1 })
	fix(x, "--do", "flush")
	arrives(full, "to the world")
	if ended := s.over(t, x); ended != "a message got through, after: Try now" {
		t.Errorf("ended: %s", ended)
	}
	// What concerns the configuration goes into the draft, and works when applied.
	none := s.snag(t, diagnose.NoRoute, "dunlin.example", func(x snag.Snag) bool { return x.Waiting == 1 })
	fix(none)
	s.snag(t, diagnose.NoRoute, "dunlin.example", func(x snag.Snag) bool { return x.Waiting == 1 })
	fix(s.snag(t, diagnose.BlockListed, "strandwatch.example", nil), "--do", "route")
	locks := s.snag(t, diagnose.CertificateBad, "oldlocks.example",
		func(x snag.Snag) bool { return x.Waiting == 1 })
	fix(locks, "--do", "tls")
	s.behave(t, "mx.plainscript.example", `{"rcpt": "450 4.7.1 slow down: too many messages"}`)
	s.out(t, "a@plainscript.example")
	fix(s.snag(t, diagnose.RateLimited, "plainscript.example", nil), "--do", "slower")
	s.behave(t, "mx.plainscript.example", `{"rcpt": ""}`)
	if diff := s.run(
		t,
		"draft",
		"diff",
	); !strings.Contains(diff, "messages_per_minute: 20") || !strings.Contains(diff, "dunlin.example") ||
		!strings.Contains(diff, "strandwatch.example") ||
		!strings.Contains(diff, "tls: required") {
		t.Errorf("the draft:\n%s", diff)
	}
	if _, stderr, code := s.gull(t, "snag", "fix", none.ID.String()); code != 1 ||
		!strings.Contains(stderr, "in the draft already") {
		t.Errorf("the same again: %d %s", code, stderr)
	}
	s.run(t, "draft", "apply")
	arrives(noRoute, "to dunlin.example")
	s.tells(t, x, "it was met for the first time", "flush of", "it ended: ")
	s.over(t, none)
	s.tells(t, none, "it was met for the first time", "came into force, by tests", "it ended: ")
	arrives(s.out(t, "b@strandwatch.example"), "by provider")
	s.over(t, none)
	fix(locks, "--do", "flush")
	arrives(locked, "to the world")
	s.over(t, locks)

	// Our resolver is away: many places show it, and it is one trouble of ours.
	_ = s.sim.Process.Kill()
	_ = s.sim.Wait()
	var ids []string
	for _, d := range []string{"saltmarsh", "nosuch", "homelines", "barelock", "greywacke", "smallhatch"} {
		ids = append(ids, s.out(t, "postmaster@"+d+".example"))
	}
	ours := s.snag(t, diagnose.DNSTrouble, "", func(x snag.Snag) bool { return x.Parts == 6 && x.Waiting == 6 })
	if ours.Place.Kind != snag.Ourselves || ours.Severity != snag.Critical || ours.WhoCanFix != "us" ||
		!strings.Contains(ours.Means, "our resolver is likely down") {
		t.Errorf("ours: %+v", ours)
	}
	if list := s.run(
		t,
		"snag",
		"list",
	); !strings.Contains(strings.Split(list, "\n")[1], "at many places at the same time") ||
		strings.Contains(list, "saltmarsh.example") {
		t.Errorf("its parts are not folded:\n%s", list)
	}
	if parts := s.run(
		t,
		"snag",
		"list",
		"--part-of",
		ours.ID.String(),
	); strings.Count(parts, "DNS gives no answer") != 6 {
		t.Errorf("its parts:\n%s", parts)
	}
	if err := s.startSim(); err != nil {
		t.Fatal(err)
	}
	fix(ours, "--do", "flush")
	s.until(t, ids[3], mail.Delivered)
	if ended := s.over(t, ours); ended != "fewer places show it" {
		t.Errorf("ended: %s", ended)
	}
}

// TestFromTheOverviewToTheFixInThreeClicks is what a newcomer does.
func TestFromTheOverviewToTheFixInThreeClicks(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := troubled(t, "clicks")
	refused, full := s.out(t, "a@sunkenpier.example"), s.out(t, "a@fullshelf.example")
	s.until(t, s.out(t, "a@strandwatch.example"), mail.Bounced)
	s.until(t, refused, mail.Deferred)
	s.until(t, full, mail.Deferred)
	s.snag(t, diagnose.ConnectRefused, "sunkenpier.example", func(x snag.Snag) bool { return x.Waiting == 1 })
	s.snag(t, diagnose.MailboxFull, "a@fullshelf.example", func(x snag.Snag) bool { return x.Waiting == 1 })
	p := s.open(t, "keeper")
	p.visit("/")
	p.press("The host refuses the connection")
	p.shows("nothing listens at the port", "Wait, or tell the administrator of the host",
		"a@sunkenpier.example", "connection refused by")
	p.press("Send what waits by “by provider”")
	if d := s.until(t, refused, mail.Delivered); d.Route != "by provider" {
		t.Errorf("it went by %s", d.Route)
	}
	p.shows("It is over")
	s.behave(t, "mx.fullshelf.example", `{"rcpt_in_turn": []}`)
	p.visit("/")
	p.press("The recipient's mailbox is full")
	p.shows("Waiting helps: days: until the recipient makes room", "the recipient can fix it",
		"is full just now", "code 4.2.2 means it")
	p.press("Try now")
	s.until(t, full, mail.Delivered)
	p.visit("/")
	p.press("Our address is on a block list")
	p.shows("Other hosts that ask the same list refuse us too",
		"550 5.7.1 your address is on the block list driftnet.example")
	p.press("Send to strandwatch.example by “by provider” from now on (draft)")
	p.shows("route by provider takes strandwatch.example")
	s.run(t, "draft", "apply")
	s.until(t, s.out(t, "b@strandwatch.example"), mail.Delivered)

	// From the message to its snag; and what hosts say is inert.
	s.behave(t, "mx.nosuch.example",
		`{"rcpt": "550 5.1.1 <img src=x onerror=document.title='pwned'> no mailbox here"}`)
	gone := s.out(t, "ned@nosuch.example")
	s.until(t, gone, mail.Bounced)
	s.snag(t, diagnose.NoSuchUser, "ned@nosuch.example", nil)
	p.visit("/messages/" + gone)
	p.press("Fix it at the snag")
	p.shows("There is no such mailbox", "<img src=x onerror=")
	var title string
	p.do(chromedp.Title(&title))
	if title == "pwned" {
		t.Error("a host's words ran in the console")
	}
}

// The same for what is ours to fix: no route, terms that a host cannot keep, a
// resolver that is down.
func TestWhatIsOursToFixIsFixedInThreeClicksToo(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := troubled(t, "ourclicks")
	none, locked := s.out(t, "a@dunlin.example"), s.out(t, "a@oldlocks.example")
	s.until(t, none, mail.Deferred)
	s.until(t, locked, mail.Deferred)
	s.snag(t, diagnose.NoRoute, "dunlin.example", func(x snag.Snag) bool { return x.Waiting == 1 })
	s.snag(t, diagnose.CertificateBad, "oldlocks.example", func(x snag.Snag) bool { return x.Waiting == 1 })
	p := s.open(t, "keeper")
	p.visit("/")
	p.press("No route leads to this recipient")
	p.shows("dunlin.example", "we can fix it")
	p.press("Send to dunlin.example by “by provider” (draft)")
	p.shows("route by provider takes dunlin.example")
	s.run(t, "draft", "apply")
	s.until(t, none, mail.Delivered)

	p.visit("/")
	p.press("The host's certificate is not valid")
	p.shows("oldlocks.example")
	p.press("Ask less of oldlocks.example in TLS (draft)")
	p.shows("It costs: messages to it may be read or changed on the way")
	p.press("Ask less of oldlocks.example in TLS")
	p.shows("agreed with oldlocks.example: tls required")
	s.run(t, "draft", "apply")
	p.press("Try now")
	s.until(t, locked, mail.Delivered)

	_ = s.sim.Process.Kill()
	_ = s.sim.Wait()
	var last string
	for _, d := range []string{"saltmarsh", "nosuch", "homelines", "barelock", "greywacke", "smallhatch"} {
		last = s.out(t, "postmaster@"+d+".example")
	}
	ours := s.snag(t, diagnose.DNSTrouble, "", func(x snag.Snag) bool { return x.Parts == 6 && x.Waiting == 6 })
	p.visit("/")
	p.press(ours.Title)
	p.shows("our side", "our resolver is likely down", "we can fix it")
	if err := s.startSim(); err != nil {
		t.Fatal(err)
	}
	p.press("Try now")
	s.until(t, last, mail.Delivered)
}

// What the world's slow, small and plain hosts do is told in their own causes.
func TestWhatHostsCannotTakeIsToldByItsCause(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := troubled(t, "cannot")
	for _, c := range []struct {
		to, content string
		cause       diagnose.Cause
		place       string
	}{
		{"a@smallhatch.example", message("large") + strings.Repeat("sea and sky\r\n", 20_000),
			diagnose.TooLarge, "smallhatch.example"},
		{"søren@plainscript.example", message("Ærlig talt"), diagnose.NeedsUTF8, "plainscript.example"},
		{"a@plainscript.example", message("8-bit") + "blå bølger\r\n", diagnose.Needs8Bit,
			"plainscript.example"},
	} {
		s.send(t, s.inside, "127.0.0.1", "ines.harrow@skerryline.example", c.content, c.to)
		if x := s.snag(t, c.cause, c.place,
			func(x snag.Snag) bool { return x.Failed == 1 }); x.WhoCanFix == "" || x.Advice == "" ||
			x.WaitingHelps.Yes {
			t.Errorf("%s: %+v", c.to, x)
		}
	}
	// An alias of ours that names somebody who is gone: he is taken out of it.
	s.run(t, "alias", "add", "divers@skerryline.example", "--to",
		"gone@nosuch.example,tomas.vik@skerryline.example")
	s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("to the divers"),
		"divers@skerryline.example")
	gone := s.snag(t, diagnose.NoSuchUser, "gone@nosuch.example", nil)
	if out := s.run(
		t,
		"snag",
		"fix",
		gone.ID.String(),
		"--do",
		"alias",
	); !strings.Contains(out, "ivers@skerryline.example no longer goes on to gone@nosuch.example") {
		t.Errorf("the fix says %s", out)
	}
	if out := s.run(t, "alias", "show",
		"divers@skerryline.example"); strings.Contains(out, "gone@") ||
		!strings.Contains(out, "tomas.vik@skerryline.example") {
		t.Errorf("the alias is %s", out)
	}
	s.behave(t, "mx.greywacke.example",
		`{"connections": 1, "greylist": "0s", "rcpt": "421 4.7.0 too many connections from you"}`)
	s.out(t, "many@greywacke.example")
	x := s.snag(t, diagnose.TooManySessions, "greywacke.example", nil)
	if !slices.ContainsFunc(x.Fixes, func(m snag.Fix) bool { return m.Do == diagnose.FixSlower }) {
		t.Errorf("going slower is not offered: %+v", x.Fixes)
	}
}

// A loop through somebody else's server is a snag at our address, and its alias goes.
func TestALoopIsASnagThatTheAliasFixes(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "loopsnag", nil)
	s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("round and round"),
		"carousel@skerryline.example")
	x := s.snag(t, diagnose.Loop, "carousel@skerryline.example", nil)
	if x.WaitingHelps.Yes || x.Advice == "" || !strings.Contains(x.Evidence.Last.Text, "goes round in a loop") {
		t.Errorf("the loop: %+v", x)
	}
	if out := s.run(
		t,
		"snag",
		"fix",
		x.ID.String(),
		"--do",
		"alias",
	); !strings.Contains(out, "carousel@skerryline.example is gone") {
		t.Errorf("the fix says %s", out)
	}
	if _, _, code := s.gull(t, "alias", "show", "carousel@skerryline.example"); code != 4 {
		t.Errorf("the alias is still there: %d", code)
	}
}
