package route

import (
	"net/netip"
	"os"
	"strings"
	"testing"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/relay"
)

// demo is the demo world's configuration, changed by edit.
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
	return config.Compile(c, 3, directory.Of(c.Mailboxes, c.Aliases))
}

func addr(t *testing.T, s string) address.Address {
	t.Helper()
	if s == "" {
		return address.Address{}
	}
	if s == "postmaster" {
		return address.Address{Local: s}
	}
	a, err := address.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// show writes legs as "recipient by route to next hop".
func show(legs []Leg) string {
	var out []string
	for _, l := range legs {
		out = append(out, l.Recipient.String()+" by "+l.Route.Name+" to "+l.NextHop)
	}
	return strings.Join(out, "; ")
}

// bySender limits the route to the world to the senders of one domain.
var bySender = []string{"  - name: to the world\n",
	"  - name: to the world\n    senders: [kelpworks.example]\n"}

func TestWhereMailGoes(t *testing.T) {
	for _, c := range []struct {
		name, from, to, want string
		edit                 []string
	}{
		{name: "a mailbox", to: "ines.harrow@skerryline.example",
			want: "ines.harrow@skerryline.example by mailbox to local"},
		{name: "in other messages", to: "INES.harrow@skerryline.example",
			want: "ines.harrow@skerryline.example by mailbox to local"},
		{name: "a second address", to: "harbour@skerryline.example",
			want: "ines.harrow@skerryline.example by mailbox to local"},
		{name: "an alias", to: "info@skerryline.example",
			want: "odile.marr@skerryline.example by mailbox to local"},
		{name: "an alias that leads outside", to: "carousel@skerryline.example",
			want: "ferry@roundabout.example by to the world to roundabout.example"},
		{name: "aliases within aliases, each person once", to: "everyone@skerryline.example",
			want: "crew.north@skerryline.example by mailbox to local; crew.south@skerryline.example by " +
				"mailbox to local; tomas.vik@skerryline.example by mailbox to local; " +
				"ines.harrow@skerryline.example by mailbox to local; odile.marr@skerryline.example by mailbox " +
				"to local; mette.lund@lightkeepers.example by mailbox to local"},
		{name: "nobody", to: "nobody@skerryline.example",
			want: "550 5.1.1 there is no mailbox nobody@skerryline.example here"},
		{name: "known at a shared domain", to: "mette.lund@lightkeepers.example",
			want: "mette.lund@lightkeepers.example by mailbox to local"},
		{name: "unknown at a shared domain", to: "anders@lightkeepers.example",
			want: "anders@lightkeepers.example by old post to old-post.lightkeepers.example:2530"},
		{name: "a relay domain", to: "x@kelpworks.example",
			want: "x@kelpworks.example by kelpworks to in.kelpworks.example:2530"},
		{name: "outside", to: "x@saltmarsh.example",
			want: "x@saltmarsh.example by to the world to saltmarsh.example"},
		{name: "the first route wins", to: "x@harbourmail.example",
			want: "x@harbourmail.example by by provider to harbourlight.example:2587"},
		{name: "a route for one address of ours", to: "archive@skerryline.example",
			want: "archive@skerryline.example by shelf to shelf.skerryline.example:2424"},
		{name: "no route", to: "x@[127.30.0.60]", want: "x@[127.30.0.60] by no-route to [127.30.0.60]"},
		{name: "another script", to: "søren@bølgevik.example",
			want: "søren@xn--blgevik-q1a.example by mailbox to local"},
		{name: "bare postmaster", to: "postmaster", want: "keeper@skerryline.example by mailbox to local"},
		{name: "postmaster of a local domain", to: "Postmaster@bølgevik.example",
			want: "keeper@skerryline.example by mailbox to local"},
		{name: "postmaster of a shared domain", to: "postmaster@lightkeepers.example",
			want: "keeper@skerryline.example by mailbox to local"},
		{name: "postmaster elsewhere", to: "postmaster@saltmarsh.example",
			want: "postmaster@saltmarsh.example by to the world to saltmarsh.example"},
		{name: "an asterisk does not take our domains", to: "ines.harrow@skerryline.example",
			want: "ines.harrow@skerryline.example by mailbox to local", edit: []string{`["*.example"]`,
				`["*"]`}},
		{name: "naming our domain does", to: "ines.harrow@skerryline.example",
			want: "ines.harrow@skerryline.example by to the world to skerryline.example", edit: []string{`["*.example"]`, `[skerryline.example]`}},
		{name: "by sender", from: "a@kelpworks.example", to: "x@saltmarsh.example",
			want: "x@saltmarsh.example by to the world to saltmarsh.example", edit: bySender},
		{name: "a route that refuses", to: "x@saltmarsh.example", want: "550 5.7.1 not to the marsh",
			edit: []string{"routes:\n",
				"routes:\n  - {name: no marsh, recipients: [saltmarsh.example], next_hop: refuse, say: not to " +
					"the marsh}\n"}},
		{name: "a route that refuses without a sentence", to: "x@saltmarsh.example",
			want: "550 5.7.1 mail to x@saltmarsh.example is refused by route no marsh", edit: []string{"routes:\n", "routes:\n  - {name: no marsh, recipients: [saltmarsh.example], next_hop: refuse}\n"}},
		{name: "a mailbox route for nobody", to: "x@lightkeepers.example",
			want: "550 5.1.1 there is no mailbox x@lightkeepers.example here", edit: []string{"routes:\n",
				"routes:\n  - {name: ours, recipients: [lightkeepers.example], next_hop: mailbox}\n"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			k := demo(t, c.edit...)
			legs, refusal := Plan(k, config.Envelope{Sender: addr(t, c.from)}, addr(t, c.to))
			got := show(legs)
			if refusal != nil {
				got = refusal.String()
			}
			if got != c.want {
				t.Errorf("got  %s\nwant %s", got, c.want)
			}
			for _, l := range legs {
				if l.Why == "" || l.Lane() != Lane(l.Route.Name, l.NextHop) ||
					l.Stranded() != (l.Route.Name == config.RouteNone) {
					t.Errorf("%+v", l)
				}
			}
		})
	}
	if legs, _ := Plan(
		demo(t, bySender...),
		config.Envelope{Sender: addr(t, "a@skerryline.example")},
		addr(t, "x@saltmarsh.example"),
	); !legs[0].Stranded() {
		t.Errorf("a route for another sender was taken: %s", show(legs))
	}
}

func TestTheWayThroughAliasesIsKept(t *testing.T) {
	legs, _ := Plan(demo(t), config.Envelope{}, addr(t, "everyone@skerryline.example"))
	var via []string
	for _, a := range legs[0].Via {
		via = append(via, a.String())
	}
	if strings.Join(via, " ") != "everyone@skerryline.example crew@skerryline.example" {
		t.Errorf("%v", via)
	}
}

func TestWhoMaySend(t *testing.T) {
	for _, c := range []struct {
		name, client, listener, from, to string
		allow                            bool
		rule                             string
	}{
		{"anyone to us", "192.0.2.1", "edge", "a@saltmarsh.example", "ines.harrow@skerryline.example", true,
			"our-domain"},
		{"anyone to a relay domain", "192.0.2.1", "edge", "", "x@kelpworks.example", true, "our-domain"},
		{"anyone to postmaster", "192.0.2.1", "edge", "", "postmaster", true, "our-domain"},
		{"anyone outside", "192.0.2.1", "edge", "ines.harrow@skerryline.example", "x@saltmarsh.example",
			false, "no-rule"},
		{"a ticket machine", "127.20.1.5", "inside", "tickets@skerryline.example", "x@saltmarsh.example",
			true, "ticket machines"},
		{"mapped into IPv6", "::ffff:127.20.1.5", "inside", "tickets@skerryline.example",
			"x@saltmarsh.example", true, "ticket machines"},
		{"at the edge", "127.20.1.5", "edge", "tickets@skerryline.example", "x@saltmarsh.example", false,
			"no-rule"},
		{"beyond its network", "127.20.4.5", "inside", "tickets@skerryline.example", "x@saltmarsh.example",
			false, "no-rule"},
		{"a recipient beyond its rule", "127.20.2.5", "inside", "bridge@skerryline.example",
			"x@dunlin.example", false, "no-rule"},
		{"a recipient of its rule", "127.20.2.5", "inside", "bridge@skerryline.example",
			"x@saltmarsh.example", true, "bridge logs"},
		{"refused before allowed", "127.20.9.9", "inside", "a@skerryline.example", "x@saltmarsh.example",
			false, "quarantined machine"},
		{"refused to us too", "127.20.9.9", "edge", "a@skerryline.example",
			"ines.harrow@skerryline.example", false, "quarantined machine"},
	} {
		k := demo(t)
		d := relay.Decide(
			k,
			config.Envelope{Client: netip.MustParseAddr(c.client), Listener: c.listener,
				Sender: addr(t, c.from)},
			addr(t, c.to),
		)
		if d.Allow != c.allow || d.Rule != c.rule || d.Revision != 3 || d.Why == "" {
			t.Errorf("%s: %+v", c.name, d)
		}
		if !d.Allow && (d.Reply.Code != 550 || d.Reply.Enhanced != "5.7.1" || d.Reply.Text() == "") {
			t.Errorf("%s: reply %s", c.name, d.Reply)
		}
		if named := c.rule != "our-domain" && c.rule != "no-rule"; named != (d.Line > 0) {
			t.Errorf("%s: line %d", c.name, d.Line)
		}
	}
}

func TestLaneNumbersTellRoutesAndNextHopsApart(t *testing.T) {
	if Lane("a", "b") == Lane("ab", "") || Lane("a", "b") == Lane("b", "a") || Lane("a", "b") < 0 {
		t.Error("lane numbers")
	}
}
