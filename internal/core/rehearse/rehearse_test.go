package rehearse

import (
	"net/netip"
	"os"
	"strings"
	"testing"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
)

func demo(t *testing.T, edit ...string) *config.Compiled {
	t.Helper()
	text, err := os.ReadFile("../../../demo/skerryline.yaml")
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.NewReplacer(edit...).Replace(string(text))
	if len(edit) > 0 && changed == string(text) {
		t.Fatalf("the demo configuration does not hold %q", edit[0])
	}
	c, err := config.Parse([]byte(changed))
	if err != nil {
		t.Fatal(err)
	}
	return config.Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases))
}

func envelope(t *testing.T, client, listener, account, from string, waiting bool, to ...string) Envelope {
	t.Helper()
	parse := func(s string) address.Address {
		if s == "" {
			return address.Address{}
		}
		a, err := address.Parse(s)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	e := Envelope{
		Envelope: config.Envelope{
			Client:   netip.MustParseAddr(client),
			Listener: listener,
			Account:  parse(account),
			Sender:   parse(from),
			Size:     2000,
		},
		ID:      "X",
		Waiting: waiting,
	}
	for _, r := range to {
		e.Recipients = append(e.Recipients, parse(r))
	}
	return e
}

func traffic(t *testing.T) []Envelope {
	return []Envelope{
		envelope(t, "127.30.0.10", "edge", "", "ada@saltmarsh.example", false,
			"ines.harrow@skerryline.example", "x@kelpworks.example"),
		envelope(t, "127.20.1.5", "inside", "", "tickets@skerryline.example", false,
			"x@saltmarsh.example", "y@dunlin.example"),
		envelope(t, "127.20.2.5", "inside", "", "bridge@skerryline.example", false, "x@saltmarsh.example"),
		envelope(t, "127.0.0.1", "submission", "ines.harrow@skerryline.example",
			"ines.harrow@skerryline.example", false, "x@saltmarsh.example"),
		envelope(t, "127.30.0.66", "edge", "", "spam@driftnet.example", false, "x@saltmarsh.example"),
		envelope(t, "127.0.0.1", "inside", "", "ines.harrow@skerryline.example", true, "z@sunkenpier.example"),
	}
}

func TestWhatADraftWouldChange(t *testing.T) {
	for _, c := range []struct {
		name string
		edit []string
		want string // kind:count, in order
		text string // in the blocks or a group's after
	}{
		{"nothing", []string{"The demo world", "Our world"}, "", ""},
		{"a rule less", []string{"networks: [127.20.2.0/24]", "networks: [127.20.3.0/24]"},
			"newly_refused:1", "no-rule"},
		{"a rule wider", []string{"networks: [127.20.2.0/24]\n    listeners: [inside]\n",
			"networks: [127.30.0.0/16]\n"}, "newly_refused:1 newly_allowed:1 other_rule:1", ""},
		{"no way out", []string{`recipients: ["*.example"]`, `recipients: [dunlin.example]`},
			"newly_stranded:1 newly_stranded:1 newly_stranded:1 newly_stranded:1", "4 recipients that have " +
				"a route now would be stranded"},
		{"another route", []string{"recipients: [harbourmail.example]", "recipients: [saltmarsh.example]"},
			"other_way:1 other_way:1 other_way:1", ""},
		{"less TLS", []string{"    domains: [saltmarsh.example]\n    tls: verified",
			"    domains: [saltmarsh.example]\n    tls: offered"}, "less_tls:1 less_tls:1 less_tls:1", "verified to offered"},
		{"a smaller message", []string{"limits: {message_size: 25 MB, recipients: 500}",
			"limits: {message_size: 1500}"}, "newly_refused:2 newly_refused:1", "552"},
		{"a listener less", []string{"name: edge ", "name: world "},
			"newly_refused:1 newly_refused:1 other_rule:1", "there is no listener edge"},
		{"the world may relay", []string{"networks: [127.20.1.0/24]\n    listeners: [inside]\n",
			"networks: [0.0.0.0/0]\n"}, "", "lets anyone send anywhere"},
	} {
		now, draft := demo(t), demo(t, c.edit...)
		r := New(now, draft)
		for _, e := range traffic(t) {
			r.Add(e)
		}
		report := r.Report()
		var kinds []string
		all := strings.Join(report.Blocks, "; ")
		for _, g := range report.Groups {
			kinds = append(kinds, g.Kind+":"+string(rune('0'+g.Count)))
			all += "; " + g.After.Rule + " " + g.After.Reply + " " + g.Before.TLS + " to " + g.After.TLS
			if g.Example.Recipient == "" || g.Example.Sender == "" {
				t.Errorf("%s: %+v has no example", c.name, g)
			}
		}
		if got := strings.Join(kinds, " "); c.want != "" && got != c.want || c.name == "nothing" && got != "" {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
		if !strings.Contains(all, c.text) {
			t.Errorf("%s: %q lacks %q", c.name, all, c.text)
		}
		if report.Envelopes != 6 || report.Recipients != 8 || report.Attempts < 500 {
			t.Errorf("%s: %d envelopes, %d recipients, %d attempts", c.name, report.Envelopes,
				report.Recipients, report.Attempts)
		}
	}
}

func TestNoClassicalFormComesThroughTheDemo(t *testing.T) {
	if through, n := Attack(demo(t)); len(through) > 0 || n < 500 {
		t.Errorf("%d attempts, came through: %+v", n, through)
	}
	// each opening is found in the forms that it lets through
	for _, c := range []struct{ name, from, to, form string }{
		{"a sender", "networks: [127.20.1.0/24]\n    listeners: [inside]\n",
			"senders: [skerryline.example]\n", "plain"},
		{"the neighbours of a wide network", "networks: [127.20.1.0/24]\n    listeners: [inside]\n",
			"networks: [192.0.0.0/8]\n", "source route"},
		{"IPv6", "networks: [127.20.1.0/24]\n    listeners: [inside]\n", "networks: [\"2001::/16\"]\n",
			"address literal"},
	} {
		through, _ := Attack(demo(t, c.from, c.to, `recipients: ["*.example"]`, `recipients: ["*"]`))
		found := false
		for _, a := range through {
			found = found || a.Form == c.form && a.Rule == "ticket machines"
		}
		if !found {
			t.Errorf("%s: %d came through, none by %s", c.name, len(through), c.form)
		}
	}
}

func TestAttemptsGoThroughADomainOfEachKind(t *testing.T) {
	domains := []config.Domain{
		{Name: "a.example", Kind: "local"},
		{Name: "b.example", Kind: "local"},
		{Name: "c.example", Kind: "local"},
		{Name: "d.example", Kind: "local"},
		{Name: "e.example", Kind: "relay"},
		{Name: "f.example", Kind: "shared"},
	}
	if got := strings.Join(someOfEachKind(domains), " "); got != "a.example e.example f.example b.example" {
		t.Errorf("%s", got)
	}
	if got := someOfEachKind(nil); len(got) != 0 {
		t.Errorf("%v", got)
	}
}
