package repute

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
	"gullroute/internal/core/list"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
	"gullroute/internal/core/senderauth"
	"reflect"
)

func settings() *Settings {
	t := &Settings{}
	form.SetDefaults(reflect.ValueOf(t).Elem())
	t.Score, t.Points.Infected, t.Points.Unwanted = On, 100, 50
	return t
}

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
	if s == "" {
		return address.Address{}
	}
	a, err := address.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

var good = message.Header{
	{Name: "From", Value: "ada@saltmarsh.example"},
	{Name: "Date", Value: "today"},
}

// Every signal counts what the settings say, once, and tells why.
func TestEachSignalCounts(t *testing.T) {
	type facts struct {
		c Client
		m Message
	}
	for signal, c := range map[string]struct {
		points int
		set    func(*facts)
	}{
		"nothing":             {0, func(*facts) {}},
		"no reverse name":     {10, func(f *facts) { f.c.NameState = NameNone }},
		"forged reverse name": {15, func(f *facts) { f.c.NameState = NameForged }},
		"false greeting":      {20, func(f *facts) { f.c.Greeting = "it calls itself us" }},
		"SPF fails":           {30, func(f *facts) { f.c.SPF = senderauth.Fail }},
		"SPF softfails":       {10, func(f *facts) { f.c.SPF = senderauth.SoftFail }},
		"list driftnet": {40, func(f *facts) {
			f.c.Listings = []Listing{{List: "driftnet", Kind: Block, Listed: true, Points: 40}, {List: "b", Points: 40}}
		}},
		"list fair": {-20, func(f *facts) {
			f.m.Listings = []Listing{{List: "fair", Kind: Welcome, Listed: true, Points: 20}}
		}},
		"DKIM fails": {10, func(f *facts) {
			f.m.Identity = &senderauth.Assessment{DKIM: []senderauth.Signature{{Result: senderauth.Fail}}}
		}},
		"DMARC fails": {40, func(f *facts) {
			f.m.Identity = &senderauth.Assessment{DMARC: senderauth.DMARC{Result: senderauth.Fail}}
		}},
		"DMARC fails, noted": {10, func(f *facts) {
			f.m.Identity = &senderauth.Assessment{DMARC: senderauth.DMARC{Result: senderauth.Fail, Policy: "none"}}
		}},
		"first contact":    {5, func(f *facts) { f.m.FirstContact = true }},
		"malformed header": {20, func(f *facts) { f.m.Header = f.m.Header[:1] }},
		"deceiving link": {25, func(f *facts) {
			f.m.Links = []parts.Link{{Host: "undertow.example", Shown: "saltmarsh.example"}, {Host: "b.example", Shown: "c.example"}}
		}},
		"infected": {100, func(f *facts) { f.m.Infected = true }},
		"unwanted": {50, func(f *facts) { f.m.Unwanted = true }},
	} {
		f := facts{m: Message{Header: good}}
		c.set(&f)
		s := settings().Late(&f.c, &f.m)
		if s.Points != c.points ||
			c.points != 0 && (len(s.Parts) != 1 || s.Parts[0].Signal != signal) {
			t.Errorf("%s: %+v", signal, s)
		}
		if c.points != 0 && !strings.Contains(s.Field(), signal) {
			t.Errorf("%s is not in the field %q", signal, s.Field())
		}
	}
}

func TestThresholdsDecide(t *testing.T) {
	x := settings()
	for points, want := range map[int]string{0: Pass, 29: Pass, 30: Marked, 59: Marked, 60: Held, 99: Held, 100: Refuse} {
		if got := x.Fate(Score{Points: points}); got != want {
			t.Errorf("%d is %s, want %s", points, got, want)
		}
	}
	x.Thresholds.Hold = 0
	if got := x.Fate(Score{Points: 99}); got != Marked {
		t.Errorf("without holding 99 is %s", got)
	}
	late := []DNSList{{Kind: Welcome, Asks: []string{AsksFrom}, Points: 20}}
	if !x.Final(Score{Points: 119}, nil) || x.Final(Score{Points: 119}, late) ||
		!x.Final(Score{Points: 120}, late) {
		t.Error(
			"a refusal before the content does not wait for what may still speak for the message",
		)
	}
	x.Greylisting = ByScore
	if x.Greylisted(Score{Points: 19}) || !x.Greylisted(Score{Points: 20}) {
		t.Error("greylisting by score does not begin at its threshold")
	}
	x.Score = Watch
	if x.Greylisted(Score{Points: 99}) {
		t.Error("a score that watches asks clients to come again")
	}
	now := time.Now()
	if x.Wait(Known{Passed: true, First: now}, now) != 0 ||
		x.Wait(Known{First: now.Add(-time.Minute)}, now) != 4*time.Minute {
		t.Error("who is known waits, or who is not does not")
	}
}

func TestExceptionsComeFirst(t *testing.T) {
	x := settings()
	x.Allow = Exceptions{
		Networks:   []string{"127.40.0.0/16", "list:ours"},
		Senders:    patterns(t, "*.saltmarsh.example", "bølgevik.example"),
		Recipients: patterns(t, "tickets@skerryline.example"),
	}
	x.Deny = Exceptions{
		Networks:   []string{"127.0.0.0/8"},
		Senders:    patterns(t, "flotsam.example"),
		Recipients: patterns(t, "old@skerryline.example"),
	}
	ours := list.New(list.List{Kind: list.Networks, Entries: []string{"2001:db8::/32"}})
	d := NewDoor(x, func(string) *list.Set { return ours }, []Standing{
		{Kind: OfNetwork, Value: "192.0.2.7/32", Says: Deny},
		{Kind: OfSender, Value: "parcels@flotsam.example", Says: Allow},
		{Kind: OfRecipient, Value: "ines@skerryline.example", Says: Deny},
	})
	open := NewDoor(
		settings(),
		nil,
		nil,
	).Ask(netip.MustParseAddr("127.0.0.1"), to(t, "a@b.example"), to(t, "c@d.example"), "")
	if open != (Ruling{}) {
		t.Errorf("without any exception: %+v", open)
	}
	for _, c := range []struct {
		client, from, to string
		proved           senderauth.Result
		says             string
	}{
		{"127.0.0.1", "x@flotsam.example", "POSTMASTER@skerryline.example", "", Allow},
		{"127.40.1.1", "x@flotsam.example", "old@skerryline.example", "", Allow},
		{"2001:db8::1", "", "old@skerryline.example", "", Allow},
		{"127.41.1.1", "x@a.saltmarsh.example", "tickets@skerryline.example", senderauth.Pass, Deny},
		{"192.0.2.7", "", "tickets@skerryline.example", "", Deny},
		{"192.0.2.8", "", "tickets@skerryline.example", "", Allow},
		{"192.0.2.8", "parcels@flotsam.example", "wren@skerryline.example", senderauth.Pass, Deny},
		{"192.0.2.8", "", "ines@skerryline.example", "", Deny},
		{"192.0.2.8", "x@a.saltmarsh.example", "wren@skerryline.example", senderauth.Pass, Allow},
		{"192.0.2.8", "x@a.saltmarsh.example", "wren@skerryline.example", "", ""},
		{"192.0.2.8", "fyr@xn--blgevik-q1a.example", "wren@skerryline.example", senderauth.Pass, Allow},
	} {
		got := d.Ask(netip.MustParseAddr(c.client), to(t, c.from), to(t, c.to), c.proved)
		if got.Says != c.says || c.says != "" && got.Why == "" {
			t.Errorf("%+v: %+v", c, got)
		}
	}
}

// A message that proves the domain in From does not prove whoever stands in the envelope.
func TestOnlyTheSendersOwnProofAllowsIt(t *testing.T) {
	partner := to(t, "ada@saltmarsh.example")
	pass := senderauth.DMARC{Result: senderauth.Pass, Domain: "flotsam.example"}
	for _, c := range []struct {
		i    *senderauth.Assessment
		want senderauth.Result
	}{
		{nil, ""},
		{&senderauth.Assessment{SPF: senderauth.SPF{Result: senderauth.Fail}, DMARC: pass}, ""},
		{&senderauth.Assessment{SPF: senderauth.SPF{Result: senderauth.Pass}}, senderauth.Pass},
		{&senderauth.Assessment{DMARC: senderauth.DMARC{Result: senderauth.Pass, Domain: "post.saltmarsh.example"}}, senderauth.Pass},
	} {
		if got := Proved(c.i, partner); got != c.want {
			t.Errorf("%+v: %q", c.i, got)
		}
	}
}

func TestARelayInFrontSaysWhoSent(t *testing.T) {
	front := func(ip netip.Addr) bool { return netip.MustParsePrefix("127.30.0.80/30").Contains(ip) }
	field := func(v string) message.Field { return message.Field{Name: "Received", Value: v} }
	theirs := field(
		"from mx.undertow.example (mx.undertow.example [127.30.0.65])\r\n by pilotage.example with ESMTP id 7; today",
	)
	for _, c := range []struct {
		h    message.Header
		want string
	}{
		{message.Header{theirs, field("from liar ([192.0.2.1]) by x")}, "127.30.0.65"},
		{message.Header{field("from a ([127.30.0.81]) by b"), theirs}, "127.30.0.65"},
		{message.Header{field("from [IPv6:2001:db8::7] by b; x")}, "2001:db8::7"},
		{message.Header{field("from unknown (HELO [192.0.2.1]) (192.0.2.9) by b")}, "192.0.2.9"},
		{message.Header{field("by pilotage.example id 7 from [192.0.2.1]")}, ""},
		{message.Header{field("from x by y ([192.0.2.1])")}, ""},
		{nil, ""},
	} {
		ip, _, ok := Seen(c.h, front)
		if ok != (c.want != "") || ok && ip.String() != c.want {
			t.Errorf("%v: %v %v, want %q", c.h, ip, ok, c.want)
		}
	}
}

func TestGreetingsThatLie(t *testing.T) {
	client := netip.MustParseAddr("127.30.0.65")
	exists := func(name string) bool { return name == "mx.undertow.example" }
	for helo, lies := range map[string]bool{
		"mx.undertow.example": false, "[127.30.0.65]": false, "[127.30.0.66]": true, "127.30.0.65": true, "localhost": true,
		"mail.skerryline.example": true, "nowhere.example": true, "xn--\x01": true,
	} {
		why := FalseGreeting(helo, client, []string{"mail.skerryline.example"}, exists)
		if (why != "") != lies {
			t.Errorf("%q: %q", helo, why)
		}
	}
}
