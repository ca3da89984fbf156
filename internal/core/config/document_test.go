package config

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"strings"
	"testing"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
)

func demoText(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile("../../../demo/skerryline.yaml")
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func document(t *testing.T) *Document {
	t.Helper()
	d, err := ParseDocument(demoText(t))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func section(word string) Section {
	s, _ := FindSection(word)
	return s
}

func TestWhatIsNotEditedKeepsItsComments(t *testing.T) {
	d := document(t)
	for _, err := range []error{
		d.Add(section("route"), map[string]any{"name": "north", "next_hop": "mx",
			"recipients": []any{"*.north.example"}}, 1),
		d.Set(section("listener"), "inside",
			map[string]any{"limits": map[string]any{"message_size": "10 MB"}}, false),
		d.Set(section("service"), "service", map[string]any{"retention": "60d",
			"default_sender_domain": nil}, false),
		d.Remove(section("peer"), "dunlin post"),
		d.Move(section("relay"), "this machine", 1),
		d.Set(section("domain"), "xn--blgevik-q1a.example", map[string]any{"plus_addressing": true}, false),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	text := d.String()
	for _, want := range []string{"# The demo world: Skerry Line", "# the simulated internet's",
		"retention: 60d", "# a mailbox server beside us", "routes:\n  - name: north\n    recipients: " +
			"['*.north.example']\n    next_hop: mx\n", "bølgevik.example, kind: local, plus_addressing: true}", "\n\nroutes:\n"} {
		if !strings.Contains(text, want) {
			t.Errorf("the text lacks %q", want)
		}
	}
	for _, gone := range []string{"default_sender_domain", "dunlin post"} {
		if strings.Contains(text, gone) {
			t.Errorf("%q is still there", gone)
		}
	}
	c, err := Parse([]byte(text))
	if err != nil || c.RelayRules[0].Name != "this machine" || c.Listeners[3].Limits.MessageSize != 10_000_000 {
		t.Errorf("%v", err)
	}
	if err := d.Add(section("route"), map[string]any{"name": "north"}, 0); !errors.Is(err, ErrIsThere) {
		t.Errorf("a name twice: %v", err)
	}
	if err := d.Remove(section("route"), "nowhere"); !errors.Is(err, ErrNoItem) {
		t.Errorf("a name that is not there: %v", err)
	}
}

func TestADifferenceIsToldInWordsAndMadeAgainElsewhere(t *testing.T) {
	base, draft := document(t), document(t)
	_ = draft.Set(section("route"), "by provider", map[string]any{"port": 587, "off": true}, false)
	_ = draft.Add(section("domain"), map[string]any{"name": "new.example", "kind": "local"}, 0)
	_ = draft.Remove(section("peer"), "dunlin post")
	_ = draft.Move(section("relay"), "this machine", 1)
	var words []string
	for _, c := range Diff(base, draft) {
		words = append(words, c.Text)
	}
	got := strings.Join(words, "\n")
	for _, want := range []string{"domain new.example is new", "relay this machine moves from position 5 to 1",
		"route by provider: off is now yes; port 2587 → 587", "peer dunlin post is taken out"} {
		if !strings.Contains(got, want) {
			t.Errorf("the difference lacks %q:\n%s", want, got)
		}
	}
	if len(words) != 4 {
		t.Errorf("%d differences:\n%s", len(words), got)
	}
	other := document(t)
	_ = other.Set(section("route"), "by provider", map[string]any{"port": 465, "connections": 3}, false)
	met := Replay(Diff(base, draft), other)
	item, _ := other.Item(section("route"), "by provider")
	if fmt.Sprintf("%v %v %v", item.Fields["port"], item.Fields["connections"],
		item.Fields["off"]) != "587 3 true" ||
		len(met) != 2 ||
		!strings.Contains(strings.Join(met, " "), "route by provider was changed meanwhile too") {
		t.Errorf("%v %v", item.Fields, met)
	}
}

func TestARenamedRouteIsFollowed(t *testing.T) {
	d := document(t)
	_ = d.Set(section("route"), "old post", map[string]any{"name": "old server"}, false)
	if n := d.Rename(section("route"), "old post", "old server"); n != 1 {
		t.Errorf("%d mentions", n)
	}
	if _, err := Parse([]byte(d.String())); err != nil {
		t.Error(err)
	}
}

func TestTheDirectoryIsTakenOutOfAWholeText(t *testing.T) {
	text := demoText(t)
	alone, err := SplitDirectory(text + "\n# the end\nsecrets:\n  - {name: a, value: b}\n")
	if err != nil || strings.Contains(alone, "mailboxes:") || strings.Contains(alone, "value: b") ||
		!strings.HasPrefix(text, strings.TrimRight(alone, "\n#thend ")[:len(alone)-40]) {
		t.Errorf("%v\n%s", err, alone)
	}
	if c, err := Parse(
		[]byte(alone),
	); err != nil || len(c.Mailboxes)+len(c.Aliases)+len(c.Secrets) > 0 ||
		len(c.Peers) != 2 {
		t.Errorf("%v", err)
	}
}

func compile(t *testing.T, text string) *Compiled {
	t.Helper()
	c, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases))
}

func TestHazards(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"none", head + tail + "routes:\n  - {name: out, next_hop: mx, recipients: [\"*\"]}\n", ""},
		{"everybody", head + tail + "relay_rules:\n  - {name: all, action: allow}\n", "open_relay no_way_out"},
		{"the whole world", head + tail + "relay_rules:\n  - {name: all, action: allow, networks: " +
			"[10.0.0.0/8, 128.0.0.0/1]}\n", "open_relay no_way_out"},
		{"a sender proves nothing",
			head + tail + "relay_rules:\n  - {name: ours, action: allow, senders: [skerryline.example]}\n", "open_relay no_way_out"},
		{"people who sign in", head + tail + "relay_rules:\n  - {name: people, action: allow, accounts: " +
			"[\"*\"]}\n", "no_way_out"},
		{"behind a refusal of all",
			head + tail + "relay_rules:\n  - {name: no, action: refuse}\n  - {name: all, action: allow}\n", "no_way_out"},
		{"passwords in the clear",
			head + tail + "listeners:\n  - {name: s, address: '0.0.0.0:587', kind: submission, " +
				"sign_in_without_tls: true}\n", "clear_sign_in no_way_out"},
		{"on loopback", head + tail + "listeners:\n  - {name: s, address: '127.0.0.1:587', kind: " +
			"submission, sign_in_without_tls: true}\n", "no_way_out"},
		{"no postmaster", strings.Replace(head, "keeper@", "nobody@", 1) + tail, "no_postmaster no_way_out"},
	} {
		var kinds []string
		for _, h := range compile(t, c.text).Hazards() {
			kinds = append(kinds, h.Kind)
			if h.Text == "" || h.Fix == "" || h.Where == "" {
				t.Errorf("%s: %+v", c.name, h)
			}
		}
		if got := strings.Join(kinds, " "); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	k := compile(
		t,
		head+tail+"relay_rules:\n  - {name: wide, action: allow, networks: [127.20.0.0/16]}\n  - {name: "+
			"narrow, action: refuse, networks: [127.20.9.0/24]}\nroutes:\n  - {name: all, next_hop: mx, "+
			"recipients: [\"*\"]}\n  - {name: some, next_hop: mx, recipients: [a.example]}\n  - {name: "+
			"ours, next_hop: mailbox, recipients: [skerryline.example]}\n",
	)
	never := k.NeverUsed()
	if len(never) != 2 || never[0].Where != "relay rule narrow" || never[1].Where != "route some" {
		t.Errorf("%+v", never)
	}
}

// TestTheIndexFindsWhatAskingEachWouldFind compares it with the plain way, on
// rules made by chance from few domains, accounts and networks.
func TestTheIndexFindsWhatAskingEachWouldFind(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	pattern := func() address.Pattern {
		p, err := address.ParsePattern(
			pick("*", "a.example", "b.example", "*.example", "*.b.example", "x@a.example", "x@*", "<>",
				"c.b.example"),
		)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	some := func() (ps address.Patterns) {
		for range r.IntN(3) {
			ps = append(ps, pattern())
		}
		return ps
	}
	networks := func() (ns []netip.Prefix) {
		for range r.IntN(3) {
			ns = append(
				ns,
				netip.MustParsePrefix(
					pick("127.0.0.0/8", "127.20.1.0/24", "127.20.1.5/32", "2001:db8::/32", "0.0.0.0/0"),
				),
			)
		}
		return ns
	}
	var list []conditions
	index := newFirstMatch()
	for i := range 60 {
		list = append(list, conditions{some(), some(), some(), networks()})
		index.add(i, list[i])
	}
	matches := func(c conditions, to, from, account address.Address, client netip.Addr) bool {
		for _, m := range []struct {
			ps address.Patterns
			a  address.Address
		}{{c.recipients, to}, {c.senders, from}, {c.accounts, account}} {
			if _, ok := m.ps.Match(m.a); !ok {
				return false
			}
		}
		for _, n := range c.networks {
			if n.Contains(client) {
				return true
			}
		}
		return len(c.networks) == 0
	}
	addr := func() address.Address {
		a, _ := address.Parse(
			pick("x@a.example", "y@a.example", "x@b.example", "x@c.b.example", "x@d.c.b.example",
				"x@other.org", ""),
		)
		return a
	}
	for range 3000 {
		to, from, account := addr(), addr(), addr()
		client := netip.MustParseAddr(
			pick("127.20.1.5", "127.20.1.6", "127.9.9.9", "10.0.0.1", "2001:db8::1", "2001:db9::1"),
		)
		want, got, last := -1, -1, -1
		for i, c := range list {
			if matches(c, to, from, account, client) {
				want = i
				break
			}
		}
		index.each(to, from, account, client, func(i int) bool {
			if i <= last {
				t.Fatalf("out of order: %d after %d", i, last)
			}
			last = i
			if matches(list[i], to, from, account, client) {
				got = i
			}
			return got >= 0
		})
		if got != want {
			t.Fatalf("%v from %v by %v at %v: %d, want %d", to, from, account, client, got, want)
		}
	}
}
