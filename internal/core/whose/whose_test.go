package whose

import (
	"fmt"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
)

// far makes n troubles at unlike places.
func far(n int, c diagnose.Cause) (list []Trouble) {
	for i := range n {
		list = append(list, Trouble{NextHop: fmt.Sprintf("mx.%s%d.example", c, i), Route: "direct",
			Cause: c, Address: fmt.Sprintf("203.%d.%d.9", i, len(c)), Waiting: 4})
	}
	return list
}

// well makes n places at which mail gets through.
func well(n int) (list []Success) {
	for i := range n {
		list = append(list, Success{NextHop: fmt.Sprintf("mx.well%d.example", i), Route: "direct", Messages: 9})
	}
	return list
}

func with(list []Trouble, change func(*Trouble)) []Trouble {
	for i := range list {
		change(&list[i])
	}
	return list
}

func join(lists ...[]Trouble) (out []Trouble) {
	for _, l := range lists {
		out = append(out, l...)
	}
	return out
}

func by(list []Success, change func(*Success)) []Success {
	for i := range list {
		change(&list[i])
	}
	return list
}

// TestMixes is the table of mixes: what is in trouble, what works, what our own
// checks say, and whose it is.
func TestMixes(t *testing.T) {
	v6 := func(x *Trouble) { x.Address = "2001:db8:" + fmt.Sprintf("%x", len(x.NextHop)*7) + "::25" }
	nth := 0
	v6s := func(x *Trouble) { nth++; x.Address = fmt.Sprintf("[2001:db8:%x::1]:25", nth*16) }
	onePlace := func(x *Trouble) { x.Address = "203.0.113.9" }
	smart := func(x *Trouble) { x.Route = "smart" }
	from := func(x *Trouble) { x.Source = "198.51.100.9" }
	v6ok := func(x *Success) { x.IPv6 = true }
	smartOK := func(x *Success) { x.Route = "smart" }
	down, late := Checks{ResolverDown: true}, Checks{ClockOff: -time.Hour}
	var none Checks
	for _, c := range []struct {
		name     string
		troubles []Trouble
		ok       []Success
		checks   Checks
		whose    Whose
		part     Part
	}{
		{"nothing", nil, well(9), none, Nobody, ""},
		{"nothing at all", nil, nil, none, Nobody, ""},
		{"nothing, resolver down and unused", nil, nil, down, Nobody, ""},
		{"one dead host of many", far(1, diagnose.ConnectTimeout), well(20), none, Destination, ""},
		{"one dead host, nothing else sent", far(1, diagnose.ConnectTimeout), nil, none, Destination, ""},
		{"one busy host", far(1, diagnose.HostBusy), well(3), none, Destination, ""},
		{"one that greylists", far(1, diagnose.Greylisted), well(3), none, Destination, ""},
		{"one whose DNS is broken", far(1, diagnose.DNSTrouble), well(30), none, Destination, ""},
		{"one DNS, resolver down", far(1, diagnose.DNSTrouble), nil, down, Ours, Resolver},
		{"two dead hosts, nothing else", far(2, diagnose.ConnectTimeout), nil, none, Several, ""},
		{"three unlike faults of four lanes",
			join(far(1, diagnose.DNSTrouble), far(1, diagnose.ConnectRefused), far(1, diagnose.HostBusy)),
			well(1), none, Several, ""},
		{"three unlike faults, nothing else sent",
			join(far(1, diagnose.TLSTrouble), far(1, diagnose.ConnectRefused), far(1, diagnose.RateLimited)),
			nil, none, Several, ""},
		{"three dead of 1,775", far(3, diagnose.ConnectTimeout), well(1772), none, Several, ""},
		{"ten dead of 1,775", far(10, diagnose.ConnectRefused), well(1765), none, Several, ""},
		{"most dead", far(8, diagnose.ConnectTimeout), well(2), none, Ours, Network},
		{"all refuse the connection", far(5, diagnose.ConnectRefused), nil, none, Ours, Network},
		{"half dead", far(5, diagnose.ConnectTimeout), well(5), none, Ours, Network},
		{"a third dead", far(5, diagnose.ConnectTimeout), well(10), none, NotSure, ""},
		{"unreachable everywhere", far(4, diagnose.Unreachable), nil, none, Ours, Network},
		{"five domains at one dead host", with(far(5, diagnose.ConnectTimeout), onePlace), well(9), none,
			Destination, ""},
		{"five domains at one dead host, nothing else", with(far(5, diagnose.ConnectTimeout), onePlace), nil,
			none, Destination, ""},
		{"IPv6 alone, IPv4 works", with(far(4, diagnose.Unreachable), v6s), well(9), none, Ours, IPv6},
		{"IPv6 fails at some, works at others", with(far(2, diagnose.ConnectTimeout), v6s),
			by(well(9), v6ok), none, Several, ""},
		{"one IPv6 host", with(far(1, diagnose.ConnectTimeout), v6), well(9), none, Destination, ""},
		{"from one source only", with(far(4, diagnose.ConnectTimeout), from), well(9), none, Ours, Source},
		{"from one source, which works elsewhere", with(far(4, diagnose.ConnectTimeout), from),
			by(well(40), func(s *Success) { s.Source = "198.51.100.9" }), none, Several, ""},
		{"most DNS", far(8, diagnose.DNSTrouble), well(2), none, Ours, Resolver},
		{"DNS of three of hundred", far(3, diagnose.DNSTrouble), well(97), none, Several, ""},
		{"DNS of three of nine", far(3, diagnose.DNSTrouble), well(6), none, NotSure, ""},
		{"DNS of many, resolver down", far(8, diagnose.DNSTrouble), well(40), down, Ours, Resolver},
		{"TLS with most", far(4, diagnose.CertificateBad), nil, none, Ours, Trust},
		{"TLS with most, clock off", far(4, diagnose.CertificateBad), nil, late, Ours, Clock},
		{"one certificate, clock off", far(1, diagnose.CertificateBad), well(3), late, Ours, Clock},
		{"one certificate", far(1, diagnose.CertificateBad), well(3), none, Destination, ""},
		{"clock off, but another trouble", far(1, diagnose.HostBusy), well(3), late, Destination, ""},
		{"five block-listed", far(5, diagnose.BlockListed), well(90), none, Ours, Reputation},
		{"one block-listed", far(1, diagnose.BlockListed), well(90), none, Ours, Reputation},
		{"two mind the PTR", far(2, diagnose.NoReverseName), well(9), none, Ours, Reputation},
		{"one blocks us by hand", far(1, diagnose.BlockedHere), well(9), none, Destination, ""},
		{"the smart host's password", with(far(1, diagnose.SignInRefused), smart), well(9), none, Ours, Account},
		{"the smart host's sign-in service", with(far(1, diagnose.SignInDown), smart), well(9), none,
			Destination, ""},
		{"all by one route, others work", with(far(3, diagnose.HostBusy), smart), well(9), none, ByRoute, ""},
		{"some by one route, it works too", with(far(3, diagnose.HostBusy), smart), by(well(9), smartOK), none,
			Several, ""},
		{"our own side", far(2, diagnose.OurTrouble), well(9), none, Ours, Inside},
		{"block list beside dead hosts", join(far(2, diagnose.ConnectTimeout), far(1, diagnose.BlockListed)),
			well(40), none, Ours, Reputation},
		{"full mailboxes at many", far(6, diagnose.MailboxFull), well(1), none, Several, ""},
		{"greylisting at many", far(9, diagnose.Greylisted), nil, none, Several, ""},
		{"not known at many", far(4, diagnose.Unknown), nil, none, Several, ""},
	} {
		v := Judge(c.troubles, c.ok, c.checks)
		if v.Whose != c.whose || v.Part != c.part || (v.Whose == Nobody) != (v.Title == "") ||
			(v.Title == "") != (v.Next == "") || (v.Title == "") != (len(v.Why) == 0) {
			t.Errorf("%s: %+v, want %s %s", c.name, v, c.whose, c.part)
		}
	}
}

// TestLanesThatAreLookedAt takes lanes in every state.
func TestLanesThatAreLookedAt(t *testing.T) {
	last := &mail.LastReply{Stage: diagnose.StageDNS}
	got := Of([]mail.Lane{
		{NextHop: "rest.example", State: mail.LaneResting, Last: last, Waiting: 3},
		{NextHop: "off.example", State: mail.LaneMoving, Deferred: 2, Cause: "host-busy"},
		{NextHop: "some.example", State: mail.LaneMoving, Deferred: 2, Waiting: 5, Cause: "host-busy"},
		{NextHop: "local", State: mail.LaneResting},
		{NextHop: "z.example", State: mail.LaneStranded, Deferred: 1},
		{NextHop: "p.example", State: mail.LanePaused, Deferred: 1},
	}, func(string) string { return "" })
	if len(got) != 2 || got[0].Cause != diagnose.DNSTrouble || got[1].Cause != diagnose.HostBusy {
		t.Errorf("%+v", got)
	}
}
