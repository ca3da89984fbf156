package test

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/snag"
)

// ill is a trouble of the world: what a host does that makes it, and what cures it.
type ill struct {
	to     string
	cause  diagnose.Cause
	place  string
	host   string
	makes  string
	cures  string
	offers string
}

var ills = []ill{
	{to: "a@dunlin.example", cause: diagnose.NoRoute, place: "dunlin.example",
		offers: "add-route route return"},
	{to: "logs@[127.30.0.60]", cause: diagnose.NoRoute, place: "[127.30.0.60]", offers: "return"},
	{to: "a@strandwatch.example", cause: diagnose.BlockListed, place: "strandwatch.example",
		offers: "route"},
	{to: "a@homelines.example", cause: diagnose.ResidentialAddress, place: "homelines.example",
		offers: "route"},
	{to: "a@fullshelf.example", cause: diagnose.MailboxFull, place: "a@fullshelf.example",
		host: "mx.fullshelf.example", makes: `{"rcpt_in_turn": [], "rcpt": "452 4.2.2 the shelf is full"}`,
		cures: `{"rcpt_in_turn": [], "rcpt": ""}`, offers: "flush return"},
	{to: "a@sunkenpier.example", cause: diagnose.ConnectRefused, place: "sunkenpier.example",
		host: "mx.sunkenpier.example", makes: `{"closed": true}`, cures: `{"closed": false}`,
		offers: "smart-host route flush"},
	{to: "a@fogbank.example", cause: diagnose.NoAnswer, place: "fogbank.example",
		host: "mx.fogbank.example", makes: `{"silent": true}`, cures: `{"silent": false}`,
		offers: "pause flush"},
	{to: "a@oldlocks.example", cause: diagnose.CertificateBad, place: "oldlocks.example",
		host: "mx.oldlocks.example", makes: `{"tls": "expired"}`, cures: `{"tls": "valid"}`,
		offers: "flush tls"},
	{to: "a@hangup.example", cause: diagnose.Dropped, place: "hangup.example",
		host: "mx.hangup.example", makes: `{"drop_content_at": 200}`,
		cures: `{"drop_content_at": 0}`, offers: "smart-host route flush"},
	{to: "a@foghorn.example", cause: diagnose.DNSTrouble, place: "foghorn.example",
		offers: "flush"},
	{to: "a@greywacke.example", cause: diagnose.Greylisted, place: "greywacke.example",
		host: "mx.greywacke.example", makes: `{"greylist": "1h"}`, cures: `{"greylist": "0s"}`,
		offers: "flush"},
	{to: "a@plainscript.example", cause: diagnose.RateLimited, place: "plainscript.example",
		host: "mx.plainscript.example", makes: `{"rcpt": "450 4.7.1 slow down: too many messages"}`,
		cures: `{"rcpt": ""}`, offers: "slower pause"},
}

// TestEachOfferOfEachTroubleIsPressed takes the world's troubles and presses, in rounds,
// the first thing that is offered for each, then the second, and so on. At the end no
// message is lost, doubled or gone where it should not.
func TestEachOfferOfEachTroubleIsPressed(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := troubled(t, "pressed")
	sent := map[string]string{} // id of a message: its recipient
	for round, left := 0, true; left; round++ {
		left = false
		var pressed []press
		for _, w := range ills {
			if offers := strings.Fields(w.offers); round < len(offers) {
				left = true
				s.change(t, w.host, w.makes)
				p := press{ill: w, do: diagnose.Fix(offers[round]), id: s.out(t, w.to)}
				sent[p.id] = w.to
				pressed = append(pressed, p)
			}
		}
		s.pressAll(t, pressed)
		s.run(t, "revision", "revert", "1")
		for _, p := range pressed {
			s.change(t, p.host, p.cures)
		}
	}
	s.nothingWentAstray(t, sent)
}

// press is one fix for one message that is in trouble.
type press struct {
	ill
	do diagnose.Fix
	id string
	x  snag.Snag
}

// pressAll presses one fix of each trouble, puts into force what went into the draft,
// and sees what became of the messages.
func (s *stack) pressAll(t *testing.T, all []press) {
	t.Helper()
	drafted := false
	for i := range all {
		p := &all[i]
		p.x = s.snag(t, p.cause, p.place, func(x snag.Snag) bool {
			return x.Waiting+x.Failed > 0
		})
		var offers []string
		for _, f := range p.x.Fixes {
			offers = append(offers, string(f.Do))
		}
		if got := strings.Join(offers, " "); got != p.offers {
			t.Fatalf("%s at %s: %s is offered, not %s", p.cause, p.place, got, p.offers)
		}
		if p.do != diagnose.FixPause && p.do != diagnose.FixSmartHost && p.do != diagnose.FixRoute &&
			p.do != diagnose.FixReturn && p.do != diagnose.FixTLS {
			s.change(t, p.host, p.cures)
		}
		s.run(t, "snag", "fix", p.x.ID.String(), "--do", string(p.do))
		drafted = drafted || p.x.Fixes[slices.Index(offers, string(p.do))].Draft
	}
	if drafted {
		s.run(t, "draft", "apply")
	}
	for _, p := range all {
		t.Logf("| %s | %s | %s |", p.place, p.do, s.became(t, p))
	}
}

// became waits for what a fix should do to its message, and says what it was.
func (s *stack) became(t *testing.T, p press) string {
	t.Helper()
	const provider = "by provider"
	delivered := func(id, route string) string {
		d := s.until(t, id, mail.Delivered)
		if route != "" && d.Route != route {
			t.Errorf("%s after %s went by %s, not %s", p.to, p.do, d.Route, route)
		}
		return "delivered by “" + d.Route + "”"
	}
	switch p.do {
	case diagnose.FixSmartHost:
		return delivered(p.id, provider)
	case diagnose.FixRoute:
		if p.x.Waiting > 0 {
			return delivered(p.id, provider)
		}
		s.until(t, p.id, mail.Bounced)
		return "returned before; the next one " + delivered(s.out(t, p.to), provider)
	case diagnose.FixAddRoute:
		return delivered(p.id, "to dunlin.example")
	case diagnose.FixReturn:
		d := s.until(t, p.id, mail.Bounced)
		return fmt.Sprintf("%s, as was pressed", d.State)
	case diagnose.FixPause:
		lane := s.run(t, "lane", "show", p.place)
		if !strings.Contains(lane, "paused") {
			t.Errorf("the lane of %s after a pause:\n%s", p.place, lane)
		}
		s.change(t, p.host, p.cures)
		s.run(t, "lane", "resume", p.place)
		s.run(t, "lane", "flush", p.place)
		return "rested; " + delivered(p.id, "") + " after it was resumed"
	case diagnose.FixTLS, diagnose.FixSlower:
		s.run(t, "lane", "flush", p.place)
		return delivered(p.id, "to the world")
	}
	if p.cures == "" { // nobody can cure it from here: it was tried once more
		if err := eventually(20*time.Second, func() error {
			if n := s.attempts(t, p.id); n < 2 {
				return fmt.Errorf("%d attempts", n)
			}
			return nil
		}); err != nil {
			t.Errorf("%s after %s: %v", p.to, p.do, err)
		}
		return "tried again"
	}
	return delivered(p.id, "to the world")
}

func (s *stack) attempts(t *testing.T, id string) int {
	t.Helper()
	tr, err := s.client().Trace(context.Background(), id, nil)
	if err != nil {
		t.Fatal(err)
	}
	return tr.Message.Deliveries[0].Attempts
}

// change lets a host do something else, if there is something to change.
func (s *stack) change(t *testing.T, host, how string) {
	t.Helper()
	if host != "" && how != "" {
		s.behave(t, host, how)
	}
}

// nothingWentAstray compares what the hosts of the world received with what is on record:
// each delivered message once, at its own domain's host or at the provider, and no other.
func (s *stack) nothingWentAstray(t *testing.T, sent map[string]string) {
	t.Helper()
	got := map[string]int{} // by recipient
	for _, host := range decode[[]struct{ Name string }](t, "http://"+s.control+"/hosts") {
		for _, m := range decode[[]struct{ Recipients []string }](t,
			"http://"+s.control+"/hosts/"+host.Name+"/messages") {
			for _, to := range m.Recipients {
				_, domain, _ := strings.Cut(to, "@")
				if host.Name != "harbourlight.example" && !strings.HasSuffix(host.Name, "."+domain) {
					t.Errorf("a message to %s is at %s", to, host.Name)
				}
				got[to]++
			}
		}
	}
	p, err := s.client().Find(context.Background(), url.Values{
		"from": {"ines.harrow@skerryline.example"}, "limit": {"200"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range p.Items {
		d := m.Deliveries[0]
		delete(sent, m.ID.String())
		switch {
		case d.State == mail.Delivered:
			got[d.Recipient]--
		case !slices.Contains([]mail.State{mail.Bounced, mail.Deferred}, d.State):
			t.Errorf("the message to %s is %s", d.Recipient, d.State)
		}
	}
	for to, n := range got {
		if n != 0 {
			t.Errorf("the hosts have %d more for %s than is on record", n, to)
		}
	}
	if len(sent) > 0 {
		t.Errorf("lost: %v", sent)
	}
}
