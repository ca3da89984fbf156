package config

import (
	"errors"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/directory"
)

const head = "service:\n  host_name: mail.skerryline.example\n  postmaster: keeper@skerryline.example\n"

const tail = "domains:\n  - {name: skerryline.example, kind: local}\nmailboxes:\n  - {address: " +
	"keeper@skerryline.example}\n"

func TestWhatIsWrongIsNamedByLineAndField(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"empty", "", "line 1: the configuration is empty"},
		{"no YAML", head + "  - [", "not YAML"},
		{"a list for a map", "- a\n", "line 1: expected fields: service, listeners"},
		{"unknown field", head + "lanes: []\n" + tail,
			"line 4, lanes: this field is not known; allowed: service, listeners"},
		{"unknown nested field", head + "  colour: red\n" + tail,
			"line 4, service.colour: this field is not known; allowed: host_name"},
		{"missing field", "service:\n  host_name: a.example\n",
			"line 2, service.postmaster: this field is missing"},
		{"a field twice", head + "  host_name: b.example\n" + tail,
			"line 4, service.host_name: this field is given twice"},
		{"network too long", head + tail + "relay_rules:\n  - name: a\n    action: allow\n    networks: " +
			"[10.0.0.0/33]\n", "line 11, relay_rules[0].networks[0]: \"10.0.0.0/33\" has the prefix length " +
			"33; for this kind of address 0 to 32 are allowed"},
		{"network with host bits",
			head + tail + "relay_rules:\n  - name: a\n    action: allow\n    networks: [10.0.0.1/8]\n", "did you mean 10.0.0.0/8?"},
		{"unknown route", head + "domains:\n  - {name: skerryline.example, kind: local}\n  - {name: " +
			"kelpworks.example, kind: relay, route: nowhere}\nroutes:\n  - {name: out, next_hop: mx, " +
			"recipients: [\"*\"]}\nmailboxes:\n  - {address: keeper@skerryline.example}\n", "line 6, domains[1].route: there is no route \"nowhere\"; there are: out"},
		{"unknown next hop", head + tail + "routes:\n  - {name: out, next_hop: pigeon}\n",
			"line 9, routes[0].next_hop: \"pigeon\" is not known; allowed: mx, smarthost, direct, lmtp, " +
				"mailbox, refuse"},
		{"smart host without hosts", head + tail + "routes:\n  - {name: out, next_hop: smarthost}\n",
			"routes[0].hosts: next hop smarthost needs at least one host"},
		{"password without TLS", head + tail + "routes:\n  - {name: out, next_hop: smarthost, hosts: " +
			"[a.example], sign_in: {account: a, secret: b}}\n", "routes[0].sign_in: a password is sent only"},
		{"alias loop", head + tail + "aliases:\n  - {address: a@skerryline.example, to: " +
			"[b@skerryline.example]}\n  - {address: b@skerryline.example, to: [a@skerryline.example]}\n", "this alias leads back to itself: a@skerryline.example → b@skerryline.example → a@skerryline.example"},
		{"address of a strange domain",
			head + tail + "aliases:\n  - {address: a@saltmarsh.example, to: [b@skerryline.example]}\n", "saltmarsh.example is not among our domains"},
		{"address twice", head + tail + "aliases:\n  - {address: Keeper@skerryline.example, to: " +
			"[b@saltmarsh.example]}\n", "Keeper@skerryline.example belongs to mailbox " +
			"keeper@skerryline.example"},
		{"sign-in without TLS", head + tail + "listeners:\n  - {name: s, address: '0.0.0.0:587', kind: " +
			"submission}\n", "line 9, listeners[0].tls: sign-in needs TLS"},
		{"a pattern that makes no address",
			head + "domains:\n  - {name: skerryline.example, kind: local, generated_addresses: [\"{first} " +
				"{last}\"]}\n", "domains[0].generated_addresses[0]"},
		{"somebody else's list", head + "domains:\n  - {name: kelpworks.example, kind: relay, route: r, " +
			"verify: list, recipients: [a@saltmarsh.example]}\nroutes:\n  - {name: r, next_hop: mx}\n", "domains[0].recipients[0]: a@saltmarsh.example is not an address of this domain"},
		{"a peer without domain", head + "peers:\n  - {name: p, domains: [\"*\"]}\n",
			"peers[0].domains[0]: write a domain or *.domain"},
		{"duration", head + "  retention: soon\n" + tail,
			"line 4, service.retention: \"soon\" is not a duration"},
		{"range", head + "  mx_port: 70000\n" + tail,
			"line 4, service.mx_port: 70000 is too much; at most 65535"},
	} {
		_, err := Parse([]byte(c.text))
		var problems Problems
		if !errors.As(err, &problems) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s:\n%v\nwant %s", c.name, err, c.want)
		}
	}
}

func TestEveryProblemIsNamedTogether(t *testing.T) {
	_, err := Parse([]byte(head + "  mx_port: x\nlisteners:\n  - {name: a, address: nowhere, kind: odd}\n" + tail))
	if n := strings.Count(err.Error(), "line "); n != 3 {
		t.Errorf("%d problems:\n%v", n, err)
	}
}

func TestDefaultsAndUnits(t *testing.T) {
	c, err := Parse(
		[]byte(
			head + "  retry: {intervals: [30s, 2m], expire_after: 2d}\nlisteners:\n  - {name: edge, " +
				"address: '127.0.0.1:25', kind: edge, limits: {message_size: 200 KB}}\n" + tail,
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	k := Compile(c, 7, directory.New())
	l := k.Listener("edge")
	if k.Schedule.ExpireAfter != 48*time.Hour || k.Schedule.Interval(5) != 2*time.Minute ||
		l.Limits.MessageSize != 200_000 ||
		l.Limits.Recipients != 1000 ||
		l.GreetingName != "mail.skerryline.example" {
		t.Errorf("%+v %+v", k.Schedule, l)
	}
}

func TestAPatternThatMatchesNothingIsAnErrorWithTheRightForm(t *testing.T) {
	const text = "service: {host_name: mail.skerryline.example, postmaster: " +
		"a@skerryline.example}\nrelay_rules:\n  - {name: no, senders: [\"PATTERN\"], action: refuse}\n"
	for pattern, want := range map[string]string{
		"*@skerryline.example":     `line 3, relay_rules[0].senders: pattern "*@skerryline.example" matches nothing: write "skerryline.example" for every address there`,
		"tick*@skerryline.example": `line 3, relay_rules[0].senders: pattern "tick*@skerryline.example" matches nothing: "*" stands for no part of a name; write the whole address, or "skerryline.example" for every address there`,
		"keeper@*":                 "",
		"*.skerryline.example":     "",
		"<>":                       "",
	} {
		_, err := Parse([]byte(strings.Replace(text, "PATTERN", pattern, 1)))
		got := ""
		if err != nil {
			got = err.Error()
		}
		if got != want {
			t.Errorf("%s: %q, want %q", pattern, got, want)
		}
		if _, err := ParseStored([]byte(strings.Replace(text, "PATTERN", pattern, 1))); err != nil {
			t.Errorf("%s was in force before, and stops the service now: %v", pattern, err)
		}
	}
}
