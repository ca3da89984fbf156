package list

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/address"
)

func set(t *testing.T, l List) *Set {
	t.Helper()
	for _, e := range Check(l) {
		t.Errorf("%s entry %d: %s", l.Kind, e.N, e.Text)
	}
	return New(l)
}

func TestAddressesAndNetworks(t *testing.T) {
	s := set(t, List{Kind: Addresses, Entries: []string{"harbour@ferry.example", "kelpworks.example",
		"*.tern.example", "abuse@*", "<>", "bølgevik.example"}})
	for text, want := range map[string]bool{
		"Harbour@ferry.example": true, "deck@ferry.example": false, "x@kelpworks.example": true,
		"x@sub.kelpworks.example": false, "x@a.b.tern.example": true, "x@tern.example": false,
		"abuse@anywhere.example": true, "": true, "fyr@xn--blgevik-q1a.example": true,
		"fyr@bølgevik.example": true,
	} {
		a := address.Address{}
		if text != "" {
			var err error
			if a, err = address.Parse(text); err != nil {
				t.Fatal(err)
			}
		}
		if _, ok := s.Match(a); ok != want {
			t.Errorf("%q is in the list: %v", text, ok)
		}
	}
	n := set(t, List{Kind: Networks, Entries: []string{"127.20.0.0/16", "127.20.9.9", "2001:db8::/32"}})
	for text, want := range map[string]string{
		"127.20.9.9": "127.20.9.9/32", "127.20.1.1": "127.20.0.0/16", "127.21.0.1": "",
		"2001:db8::5": "2001:db8::/32", "::ffff:127.20.1.1": "127.20.0.0/16",
	} {
		p, ok := n.Holds(netip.MustParseAddr(text))
		if ok != (want != "") || ok && p.String() != want {
			t.Errorf("%s is in %v", text, p)
		}
	}
}

func TestWords(t *testing.T) {
	s := set(t, List{Kind: Words, Entries: []string{"free ferry", "*kelp*", "Straße", `/a{3,}h/`, "*中文*", "*$$*", "o'clock"}})
	for text, want := range map[string]string{
		"a FREE   ferry today": "free ferry", "carefree ferry": "", "free ferryman": "",
		"the seakelping": "*kelp*", "in der STRASSE.": "Straße", "strassen": "", "aaaAh": `/a{3,}h/`,
		"学习中文吧": "*中文*", "only 5$$ now": "*$$*", "at five O'Clock": "o'clock", "nothing": "",
		"ﬁsh and free\nferry": "free ferry",
	} {
		got, _ := s.Find(Fold(text))
		if got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	for _, bad := range []string{"", "half*", "/(/", "/x*/", "!!"} {
		if len(Check(List{Kind: Words, Entries: []string{bad}})) != 1 {
			t.Errorf("%q is taken for an entry", bad)
		}
	}
}

func TestHours(t *testing.T) {
	s := set(t, List{Kind: Hours, Zone: "Europe/Oslo", Entries: []string{"mon-fri 08:00-17:00",
		"sat 22:00-02:00", "not 2026-12-25", "2026-12-24 08:00-12:00", "wed 2026-12-30"[4:] + " 10:00-11:00"}})
	for at, want := range map[string]bool{
		"2026-11-30T07:30:00Z": true, // 08:30 there
		"2026-11-30T06:59:00Z": false,
		"2026-11-30T16:00:00Z": false,
		"2026-11-28T22:30:00Z": true,  // Saturday 23:30
		"2026-11-29T00:30:00Z": true,  // Sunday 01:30
		"2026-11-29T01:30:00Z": false, // 02:30
		"2026-12-25T09:00:00Z": false,
		"2026-12-24T09:00:00Z": true,
		"2026-12-24T12:00:00Z": false,
		"2026-07-01T06:30:00Z": true, // summer: 08:30
	} {
		when, _ := time.Parse(time.RFC3339, at)
		if s.Open(when) != want {
			t.Errorf("%s is open: %v", at, !want)
		}
	}
	for from, want := range map[string]string{
		"2026-12-24T15:00:00Z": "2026-12-26T21:00:00Z", // a holiday and a Saturday's day lie between
		"2026-11-28T12:00:00Z": "2026-11-28T21:00:00Z",
		"2026-11-29T12:00:00Z": "2026-11-30T07:00:00Z",
		"2026-11-30T09:00:00Z": "2026-11-30T09:00:00Z",
	} {
		when, _ := time.Parse(time.RFC3339, from)
		next, ok := s.Next(when)
		if !ok || next.UTC().Format(time.RFC3339) != want {
			t.Errorf("after %s: %s, want %s", from, next.UTC().Format(time.RFC3339), want)
		}
	}
	for _, bad := range []string{"", "monday", "25:00-26:00", "mon 8-17", "not tomorrow", "mon-fri 08:00"} {
		if len(Check(List{Kind: Hours, Entries: []string{bad}})) != 1 {
			t.Errorf("%q is taken for an entry", bad)
		}
	}
}

func TestASourceThatIsNoListIsRefusedWhole(t *testing.T) {
	l := List{Kind: Networks}
	entries, wrong, err := ReadSource(l, "# comment\n127.20.0.0/16\n\n 127.30.0.1 \r\n")
	if err != nil || len(wrong) > 0 || strings.Join(entries, " ") != "127.20.0.0/16 127.30.0.1" {
		t.Errorf("%v %v %v", entries, wrong, err)
	}
	if _, _, err := ReadSource(l, "<html>\n<body>moved</body>\n127.20.0.0/16\n"); err == nil {
		t.Error("a page is taken for a list of networks")
	}
	s := New(List{Kind: Networks, Entries: []string{"127.9.0.0/16"}})
	s.Replace(entries)
	all, from := s.Len()
	if _, in := s.Holds(netip.MustParseAddr("127.20.5.5")); !in || all != 3 || from != 2 {
		t.Errorf("the source's entries are not in force: %d, %d", all, from)
	}
}

// A list of a hundred thousand entries answers at most twice as slowly as one of ten.
func BenchmarkLists(b *testing.B) {
	for _, n := range []int{10, 100_000} {
		var addresses, nets, words []string
		for i := range n {
			addresses = append(addresses, fmt.Sprintf("a%d@d%d.example", i, i%1000))
			nets = append(nets, fmt.Sprintf("10.%d.%d.0/24", i/256%256, i%256))
			words = append(words, fmt.Sprintf("phrase number%d", i))
		}
		a, _ := address.Parse("somebody@elsewhere.example")
		s, ns, w := New(List{Kind: Addresses, Entries: addresses}), New(List{Kind: Networks, Entries: nets}),
			New(List{Kind: Words, Entries: words})
		text := Fold(strings.Repeat("the ferry leaves at noon with a phrase or two ", 100))
		b.Run(fmt.Sprintf("addresses/%d", n), func(b *testing.B) {
			for b.Loop() {
				s.Match(a)
			}
		})
		b.Run(fmt.Sprintf("networks/%d", n), func(b *testing.B) {
			for b.Loop() {
				ns.Holds(netip.MustParseAddr("192.0.2.1"))
			}
		})
		b.Run(fmt.Sprintf("words/%d", n), func(b *testing.B) {
			for b.Loop() {
				w.Find(text)
			}
		})
	}
}
