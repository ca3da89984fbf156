package route

import (
	"net/netip"
	"testing"

	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
)

func TestTermsAreThoseOfRouteAndPeer(t *testing.T) {
	c, err := config.Parse([]byte(`
service: {host_name: mail.skerryline.example, postmaster: a@saltmarsh.example}
routes:
  - {name: out, recipients: ["*"], next_hop: mx, connections: 5, messages_per_minute: 60}
  - {name: strict, recipients: [a.example], next_hop: mx, tls: verified}
  - {name: bare, recipients: [b.example], next_hop: mx, tls: "off"}
  - {name: smart, recipients: [c.example], next_hop: smarthost, hosts: [harbourlight.example], tls: "off"}
  - {name: both, recipients: [d.example], next_hop: direct, hosts: [harbourlight.example], tls: verified}
peers:
  - {name: exact, domains: [in.saltmarsh.example], tls: verified, pinned_name: mx.pinned.example}
  - {name: salt, domains: ["*.saltmarsh.example", saltmarsh.example], tls: required, connections: 9, messages_per_minute: 10}
  - {name: few, domains: [dunlin.example], connections: 2, messages_per_connection: 3}
`))
	if err != nil {
		t.Fatal(err)
	}
	k := config.Compile(c, 1, directory.New())
	for _, x := range []struct {
		route, hop string
		want       Terms
	}{
		{"out", "greywacke.example", Terms{TLS: "offered", Connections: 5, MessagesPerConnection: 100,
			MessagesPerMinute: 60}},
		{"out", "saltmarsh.example", Terms{Peer: "salt", TLS: "required", Connections: 5,
			MessagesPerConnection: 100, MessagesPerMinute: 10}},
		{"out", "x.saltmarsh.example", Terms{Peer: "salt", TLS: "required", Connections: 5,
			MessagesPerConnection: 100, MessagesPerMinute: 10}},
		{"out", "in.saltmarsh.example", Terms{Peer: "exact", TLS: "verified",
			PinnedName: "mx.pinned.example", Connections: 5, MessagesPerConnection: 100, MessagesPerMinute: 60}},
		{"out", "dunlin.example", Terms{Peer: "few", TLS: "offered", Connections: 2,
			MessagesPerConnection: 3, MessagesPerMinute: 60}},
		{"strict", "saltmarsh.example", Terms{Peer: "salt", TLS: "verified", Connections: 9,
			MessagesPerConnection: 100, MessagesPerMinute: 10}},
		{"bare", "saltmarsh.example", Terms{Peer: "salt", TLS: "required", Connections: 9,
			MessagesPerConnection: 100, MessagesPerMinute: 10}},
		{"smart", "saltmarsh.example", Terms{TLS: "off", Connections: 10,
			MessagesPerConnection: 100}}, // a smart host is nobody's peer
		{"both", "greywacke.example", Terms{TLS: "offered", Connections: 10, MessagesPerConnection: 100}},
	} {
		x.want.Transcript = config.TranscriptAll
		if got := TermsOf(k, k.Route(x.route), x.hop); got != x.want {
			t.Errorf("%s to %s: %+v, want %+v", x.route, x.hop, got, x.want)
		}
	}
}

func TestMoreWaysOfMail(t *testing.T) {
	extra := []string{"routes:\n", `routes:
  - {name: switched off, recipients: [saltmarsh.example], next_hop: refuse, off: true}
  - {name: hers, recipients: ["*"], accounts: [ines.harrow@skerryline.example], next_hop: smarthost, hosts: [harbourlight.example], port: 587}
  - {name: machines, recipients: ["*"], clients: [127.20.1.0/24], next_hop: smarthost, hosts: [machines.example]}
  - {name: heavy, recipients: ["*"], size_over: 1 MB, next_hop: smarthost, hosts: [heavy.example]}
  - {name: keepers, next_hop: smarthost, hosts: [keepers.example]}
`, "route: old post}", "route: old post, outgoing: keepers}", "kind: local}", "kind: local, catch_all: \"søren@bølgevik.example\"}"}
	for _, c := range []struct {
		name, account, client, from, to, want string
		size                                  int64
	}{
		{name: "by account", account: "ines.harrow@skerryline.example", to: "x@saltmarsh.example",
			want: "x@saltmarsh.example by hers to harbourlight.example:587"},
		{name: "another account", account: "tomas.vik@skerryline.example", to: "x@saltmarsh.example",
			want: "x@saltmarsh.example by to the world to saltmarsh.example"},
		{name: "by client", client: "127.20.1.7", to: "x@saltmarsh.example",
			want: "x@saltmarsh.example by machines to machines.example:25"},
		{name: "by size", size: 2_000_000, to: "x@saltmarsh.example",
			want: "x@saltmarsh.example by heavy to heavy.example:25"},
		{name: "not so large", size: 1_000_000, to: "x@saltmarsh.example",
			want: "x@saltmarsh.example by to the world to saltmarsh.example"},
		{name: "a sender's own smart host", from: "mette.lund@lightkeepers.example",
			to: "x@saltmarsh.example", want: "x@saltmarsh.example by keepers to keepers.example:25"},
		{name: "but a route that names the domain", from: "mette.lund@lightkeepers.example",
			to: "x@harbourmail.example", want: "x@harbourmail.example by by provider to " +
				"harbourlight.example:2587"},
		{name: "and not for our own", from: "mette.lund@lightkeepers.example",
			to: "ines.harrow@skerryline.example", want: "ines.harrow@skerryline.example by mailbox to local"},
		{name: "a catch-all", to: "nobody@bølgevik.example",
			want: "søren@xn--blgevik-q1a.example by mailbox to local"},
		{name: "an addition", to: "tomas.vik+x+y@skerryline.example",
			want: "tomas.vik@skerryline.example by mailbox to local"},
		{name: "an addition to an alias", to: "info+x@skerryline.example",
			want: "odile.marr@skerryline.example by mailbox to local"},
		{name: "no addition elsewhere", to: "mette.lund+x@lightkeepers.example",
			want: "mette.lund+x@lightkeepers.example by old post to old-post.lightkeepers.example:2530"},
		{name: "a forward with a copy", to: "ailsa.brune@skerryline.example",
			want: "ailsa@lightkeepers.example by old post to old-post.lightkeepers.example:2530; " +
				"ailsa.brune@skerryline.example by mailbox to local"},
	} {
		k := demo(t, extra...)
		e := config.Envelope{Size: c.size, Sender: addr(t, c.from), Account: addr(t, c.account)}
		if c.client != "" {
			e.Client = netip.MustParseAddr(c.client)
		}
		legs, refusal := Plan(k, e, addr(t, c.to))
		got := show(legs)
		if refusal != nil {
			got = refusal.String()
		}
		if got != c.want {
			t.Errorf("%s:\ngot  %s\nwant %s", c.name, got, c.want)
		}
	}
}
