package gate

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
	"gullroute/internal/core/list"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
	"gullroute/internal/core/senderauth"
)

func patterns(t *testing.T, texts ...string) (out address.Patterns) {
	t.Helper()
	for _, s := range texts {
		p, err := address.ParsePattern(s)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, p)
	}
	return out
}

func to(t *testing.T, s string) address.Address {
	t.Helper()
	a, err := address.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

var lists = map[string]*list.Set{
	"partners": list.New(list.List{Name: "partners", Kind: list.Addresses,
		Entries: []string{"*.bølgevik.example", "harbour@ferry.example"}}),
	"offers": list.New(list.List{Name: "offers", Kind: list.Words,
		Entries: []string{"große gelegenheit", "*tide-offer*", `/\bwin [0-9]+ crowns/`}}),
	"nets": list.New(
		list.List{Name: "nets", Kind: list.Networks, Entries: []string{"127.40.0.0/16"}},
	),
	"office": list.New(
		list.List{
			Name:    "office",
			Kind:    list.Hours,
			Zone:    "Europe/Oslo",
			Entries: []string{"mon-fri 08:00-17:00", "not 2026-12-25"},
		},
	),
	"kinds": list.New(
		list.List{Name: "kinds", Kind: list.FileTypes, Entries: []string{"programs", "*.iso"}},
	),
}

// chain compiles gates that must be valid.
func chain(t *testing.T, gates ...Gate) *Chain {
	t.Helper()
	names := Names{Lists: map[string]string{}, Listeners: map[string]bool{"edge": true},
		Routes: map[string]bool{"by provider": true}, Scanner: true, Score: true}
	for name, s := range lists {
		names.Lists[name] = s.Kind
	}
	for i := range gates {
		if gates[i].Name == "" {
			gates[i].Name = fmt.Sprintf("gate %d", i+1)
		}
		for _, f := range Check(&gates[i], names) {
			t.Errorf("%s: %s: %s", gates[i].Name, f.Field, f.Text)
		}
	}
	return Compile(gates, func(name string) *list.Set { return lists[name] })
}

// asked is a message that meets no condition of the table below.
func asked(t *testing.T) *Message {
	at, _ := time.Parse(time.RFC3339, "2026-11-28T12:00:00Z") // a Saturday
	return &Message{
		Listener:   "inside",
		Client:     netip.MustParseAddr("127.1.2.3"),
		Sender:     to(t, "nobody@saltmarsh.example"),
		Ours:       func(d string) bool { return d == "skerryline.example" },
		At:         at,
		Late:       true,
		Recipients: 1,
		Size:       5000,
		Header: message.Header{
			{Name: "Subject", Value: "tides"},
			{Name: "From", Value: "x@saltmarsh.example"},
		},
		Identity: &senderauth.Assessment{SPF: senderauth.SPF{Result: senderauth.Pass}},
		Scan:     func() Verdict { return Verdict{Word: Clean} },
		Parts:    func() *parts.Report { return &parts.Report{Text: "high water at noon"} },
	}
}

type fact struct {
	name string
	set  func(*Conditions)
	hold func(*Message, *Recipient)
}

func withPart(m *Message, change func(*parts.Part)) {
	old := m.Parts
	m.Parts = func() *parts.Report {
		r := *old()
		p := parts.Part{Path: "2", Type: "application/octet-stream", Name: "chart.bin"}
		change(&p)
		r.Parts = append(slices.Clone(r.Parts), p)
		return &r
	}
}

// facts are every condition with what makes it hold; IDN, UTF-8 and lists among them.
func facts(t *testing.T) []fact {
	text := func(m *Message, s string) {
		old := m.Parts
		m.Parts = func() *parts.Report { r := *old(); r.Text += " " + list.Fold(s); return &r }
	}
	setSubject := func(m *Message, s string) {
		m.Header = append(message.Header{{Name: "Subject", Value: s}}, m.Header[1:]...)
	}
	return []fact{
		{"direction", func(c *Conditions) { c.Direction = []string{"between"} },
			func(m *Message, _ *Recipient) { m.Trusted = true }},
		{"listeners", func(c *Conditions) { c.Listeners = []string{"edge"} },
			func(m *Message, _ *Recipient) { m.Listener = "edge" }},
		{"networks", func(c *Conditions) { c.Networks = []string{"10.0.0.0/8", "list:nets"} },
			func(m *Message, _ *Recipient) { m.Client = netip.MustParseAddr("127.40.7.7") }},
		{"accounts", func(c *Conditions) { c.Accounts = patterns(t, "*") },
			func(m *Message, _ *Recipient) { m.Account = to(t, "odile@skerryline.example") }},
		{"senders", func(c *Conditions) { c.Senders = patterns(t, "list:partners") },
			func(m *Message, _ *Recipient) { m.Sender = to(t, "pål@post.xn--blgevik-q1a.example") }},
		{"recipients", func(c *Conditions) { c.Recipients = patterns(t, "fyr@bølgevik.example") },
			func(_ *Message, r *Recipient) { r.Finals = []address.Address{to(t, "fyr@xn--blgevik-q1a.example")} }},
		{"from", func(c *Conditions) { c.From = patterns(t, "harbour@ferry.example") },
			func(m *Message, _ *Recipient) {
				m.Header = append(
					m.Header[:1:1],
					message.Field{Name: "From", Value: "Harbour <harbour@ferry.example>"},
				)
			}},
		{"header", func(c *Conditions) { c.Header = []string{"X-Origin: kiosk"} },
			func(m *Message, _ *Recipient) {
				m.Header = append(
					m.Header,
					message.Field{Name: "x-origin", Value: "the KIOSK at pier 3"},
				)
			}},
		{"subject", func(c *Conditions) { c.Subject = []string{"list:offers"} },
			func(m *Message, _ *Recipient) { setSubject(m, "=?utf-8?q?Eine_GROSSE_Gelegenheit?=") }},
		{"body", func(c *Conditions) { c.Body = []string{"list:offers"} },
			func(m *Message, _ *Recipient) { text(m, "Now: Win 500 crowns!") }},
		{"size_over", func(c *Conditions) { c.SizeOver = 10_000 },
			func(m *Message, _ *Recipient) { m.Size = 10_001 }},
		{"recipients_over", func(c *Conditions) { c.RecipientsOver = 5 },
			func(m *Message, _ *Recipient) { m.Recipients = 6 }},
		{"attachment", func(c *Conditions) { c.Attachment = []string{"list:kinds"} },
			func(m *Message, _ *Recipient) {
				withPart(m, func(p *parts.Part) {
					p.Inside = []parts.Member{
						{Path: "a.zip/run", File: list.File{Groups: []string{list.Programs}}},
					}
				})
			}},
		{"two_endings", func(c *Conditions) { c.TwoEndings = true },
			func(m *Message, _ *Recipient) {
				withPart(m, func(p *parts.Part) { p.File.Name = "fahrplan.pdf  .exe" })
			}},
		{"encrypted_archive", func(c *Conditions) { c.EncryptedArchive = true },
			func(m *Message, _ *Recipient) { withPart(m, func(p *parts.Part) { p.Encrypted = true }) }},
		{"archive_bomb", func(c *Conditions) { c.ArchiveBomb = true },
			func(m *Message, _ *Recipient) { withPart(m, func(p *parts.Part) { p.Bomb = true }) }},
		{"unreadable", func(c *Conditions) { c.Unreadable = true },
			func(m *Message, _ *Recipient) {
				old := m.Parts
				m.Parts = func() *parts.Report { r := *old(); r.Wrong = []string{"two types"}; return &r }
			}},
		{"identity", func(c *Conditions) { c.Identity = []string{"forged"} },
			func(m *Message, _ *Recipient) {
				m.Identity = &senderauth.Assessment{SPF: senderauth.SPF{Result: senderauth.Fail}}
			}},
		{"scanner", func(c *Conditions) { c.Scanner = []string{Infected, NoAnswer} },
			func(m *Message, _ *Recipient) { m.Scan = func() Verdict { return Verdict{Word: Infected} } }},
		{"score_over", func(c *Conditions) { c.ScoreOver = 50 },
			func(m *Message, _ *Recipient) { n := 51; m.Score = &n }},
		{"hours", func(c *Conditions) { c.Hours = []string{"list:office"} },
			func(m *Message, _ *Recipient) { m.At = m.At.AddDate(0, 0, 2) }},
		{"first_contact", func(c *Conditions) { c.FirstContact = true },
			func(m *Message, _ *Recipient) { m.FirstContact = func(*Recipient) bool { return true } }},
	}
}

func TestEachConditionAloneAndInPairs(t *testing.T) {
	all := facts(t)
	named := form.FieldsOf(reflect.TypeFor[Conditions]())
	for _, f := range named {
		if f.Name != "size_up_to" &&
			!slices.ContainsFunc(all, func(x fact) bool { return x.name == f.Name }) {
			t.Errorf("condition %s is not among those that are tried", f.Name)
		}
	}
	meets := func(g Gate, made ...fact) bool {
		m, r := asked(t), Recipient{Given: to(t, "ines@skerryline.example")}
		for _, f := range made {
			f.hold(m, &r)
		}
		f := chain(t, g).Decide(m, r)
		return len(f.Met) > 0
	}
	gate := func(all, some, none []fact) Gate {
		g := Gate{Severity: "minor"}
		for _, f := range all {
			f.set(&g.When.Conditions)
		}
		for _, f := range some {
			f.set(&g.When.Any)
		}
		for _, f := range none {
			f.set(&g.When.None)
		}
		return g
	}
	for i, a := range all {
		one := []fact{a}
		if meets(gate(one, nil, nil)) || !meets(gate(one, nil, nil), a) {
			t.Errorf("%s alone does not decide", a.name)
		}
		if !meets(gate(nil, nil, one)) || meets(gate(nil, nil, one), a) {
			t.Errorf("none of %s does not decide", a.name)
		}
		for _, b := range all[i+1:] {
			both := []fact{a, b}
			if meets(gate(both, nil, nil), a) || meets(gate(both, nil, nil), b) ||
				!meets(gate(both, nil, nil), a, b) {
				t.Errorf("all of %s and %s", a.name, b.name)
			}
			if meets(gate(nil, both, nil)) || !meets(gate(nil, both, nil), a) ||
				!meets(gate(nil, both, nil), b) {
				t.Errorf("any of %s and %s", a.name, b.name)
			}
			if !meets(gate(one, nil, both[1:]), a) || meets(gate(one, nil, both[1:]), a, b) {
				t.Errorf("%s and not %s", a.name, b.name)
			}
		}
	}
}

func TestEffectsCombineOrExcludeEachOther(t *testing.T) {
	effects := []struct {
		name string
		set  func(*Gate)
	}{
		{"refuse", func(g *Gate) { g.Then.Refuse = "not here" }},
		{"discard", func(g *Gate) { g.Then.Discard, g.Severity = true, "critical" }},
		{"hold", func(g *Gate) { g.Then.Hold = true }},
		{
			"redirect_to",
			func(g *Gate) { g.Then.RedirectTo = []address.Address{to(t, "deck@skerryline.example")} },
		},
		{
			"copy_to",
			func(g *Gate) { g.Then.CopyTo = []address.Address{to(t, "archive@skerryline.example")} },
		},
		{"route", func(g *Gate) { g.Then.Route = "by provider" }},
		{"delay", func(g *Gate) { g.Then.Delay = []string{"list:office"} }},
		{"remove_attachments", func(g *Gate) { g.Then.RemoveAttachments = []string{"programs"} }},
		{"clean", func(g *Gate) { g.Then.Clean = "html" }},
		{"add_text", func(g *Gate) { g.Then.AddText = "Skerry Line" }},
		{"mark", func(g *Gate) {
			g.Then.Mark = Mark{Subject: "[outside]", Header: []string{"X-Skerry-Mark: outside"}}
		}},
	}
	ends := map[string]bool{"refuse": true, "discard": true}
	for i, a := range effects {
		if a.name != Effects[i] {
			t.Fatalf("effect %d is %s, and the order says %s", i, a.name, Effects[i])
		}
		for _, b := range effects[i+1:] {
			g := Gate{Name: "g"}
			a.set(&g)
			b.set(&g)
			faults := Check(
				&g,
				Names{
					Lists:  map[string]string{"office": list.Hours},
					Routes: map[string]bool{"by provider": true},
				},
			)
			excluded := ends[a.name] || a.name == "redirect_to" && b.name == "route"
			if excluded != (len(faults) > 0) {
				t.Errorf("%s with %s: %v", a.name, b.name, faults)
			}
			if excluded {
				continue
			}
			f := chain(t, g).Decide(asked(t), Recipient{Given: to(t, "ines@skerryline.example")})
			for _, name := range []string{a.name, b.name} {
				has := map[string]bool{
					"hold": f.Hold, "redirect_to": len(f.Redirect) == 1, "copy_to": len(f.Copies) == 1,
					"route": f.Route != "", "delay": !f.Until.IsZero(),
					"remove_attachments": len(
						f.Changes.Remove,
					) == 1, "clean": f.Changes.Harmless == "html",
					"add_text": len(
						f.Changes.AddText,
					) == 1, "mark": len(f.Changes.Mark) == 1 && len(f.Changes.Fields) == 1,
				}
				if !has[name] {
					t.Errorf("%s and %s: the fate has no %s", a.name, b.name, name)
				}
			}
		}
	}
	if f := Check(&Gate{Then: Then{Discard: true}, Severity: "minor"}, Names{}); len(f) != 1 ||
		f[0].Field != "severity" {
		t.Errorf("a gate that discards with severity minor: %v", f)
	}
}

func TestRefusalsAreDecidedAsEarlyAsTheyCanBe(t *testing.T) {
	sender := func() When {
		return When{Conditions: Conditions{Senders: patterns(t, "saltmarsh.example")}}
	}
	refuse := Gate{When: sender(), Then: Then{Code: "4.7.1", Refuse: "not today"}}
	words := Gate{When: When{All: Conditions{Body: []string{"tides"}}}, Severity: "minor"}
	early := func(gates ...Gate) bool {
		m := asked(t)
		m.Late = false
		f, decided := chain(
			t,
			gates...).Early(m, Recipient{Given: to(t, "ines@skerryline.example")})
		if decided && f.Refuse.String() != "451 4.7.1 not today" {
			t.Errorf("the reply is %s", f.Refuse)
		}
		return decided
	}
	stop := words
	stop.Stop = true
	both := refuse
	both.When.Body = []string{"tides"}
	pass := Gate{When: sender(), Stop: true}
	watching := refuse
	watching.Watch = true
	for name, c := range map[string]struct {
		early bool
		gates []Gate
	}{
		"by the envelope":                        {true, []Gate{refuse}},
		"behind one that asks for the content":   {true, []Gate{words, refuse}},
		"behind one that might stop":             {false, []Gate{stop, refuse}},
		"one that asks for the content":          {false, []Gate{both}},
		"behind one that lets the sender past":   {false, []Gate{pass, refuse}},
		"one that only watches":                  {false, []Gate{watching}},
		"behind one that watches and would stop": {true, []Gate{{When: sender(), Stop: true, Watch: true}, refuse}},
	} {
		if early(c.gates...) != c.early {
			t.Errorf("%s: early is %v", name, !c.early)
		}
	}
}

func TestAWatchingGateDecidesNothing(t *testing.T) {
	c := chain(
		t,
		Gate{Name: "would refuse", Watch: true, Then: Then{Refuse: "no"}, Severity: "critical"},
		Gate{Name: "marks", Then: Then{Mark: Mark{Subject: "[seen]"}}, Severity: "minor"},
	)
	f := c.Decide(asked(t), Recipient{Given: to(t, "ines@skerryline.example")})
	if f.Refuse != nil || f.Severity() != "minor" || len(f.Met) != 2 || !f.Met[0].Watching ||
		!strings.Contains(strings.Join(f.Met[0].Effects, " "), "refused") {
		t.Errorf("the fate is %+v", f)
	}
}

func TestFaultsOfGatesNameTheField(t *testing.T) {
	names := Names{Lists: map[string]string{"office": list.Hours, "nets": list.Networks}}
	for field, g := range map[string]Gate{
		"when.networks[0]":           {When: When{Conditions: Conditions{Networks: []string{"127.0.0.1/200"}}}},
		"when.senders[0]":            {When: When{Conditions: Conditions{Senders: patterns(t, "list:nets")}}},
		"when.any.body[0]":           {When: When{Any: Conditions{Body: []string{"/(/"}}}},
		"when.none.hours[0]":         {When: When{None: Conditions{Hours: []string{"monday"}}}},
		"when.all.header[0]":         {When: When{All: Conditions{Header: []string{"no colon"}}}},
		"when.attachment[1]":         {When: When{Conditions: Conditions{Attachment: []string{"*", "progams"}}}},
		"when.listeners[0]":          {When: When{Conditions: Conditions{Listeners: []string{"nowhere"}}}},
		"when.score_over":            {When: When{Conditions: Conditions{ScoreOver: 1}}},
		"when.scanner":               {When: When{Conditions: Conditions{Scanner: []string{Clean}}}},
		"then.route":                 {Then: Then{Route: "nowhere"}},
		"then.code":                  {Then: Then{Code: "5.7.1"}},
		"then.refuse":                {Then: Then{Refuse: "two\nlines"}},
		"then.mark.header[0]":        {Then: Then{Mark: Mark{Header: []string{"Subject: x"}}}},
		"then.delay[0]":              {Then: Then{Delay: []string{"400d"}}},
		"then":                       {},
		"then.remove_attachments[0]": {Then: Then{RemoveAttachments: []string{"list:missing"}}},
	} {
		if field != "then" && g.Severity == "" {
			g.Severity = "minor"
		}
		faults := Check(&g, names)
		if len(faults) != 1 || faults[0].Field != field {
			t.Errorf("want a fault of %s: %v", field, faults)
		}
	}
}
