package snag

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

var now = time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)

// TestATroubleIsWhereItCanBeFixed puts causes to places: one lane's host, one
// recipient, one sender's domain, a route that signs in, or us.
func TestATroubleIsWhereItCanBeFixed(t *testing.T) {
	for _, c := range []struct {
		cause          diagnose.Cause
		nextHop, route string
		sender, want   string
		state          mail.State
	}{
		{cause: diagnose.ConnectRefused, want: "next-hop saltmarsh.example"},
		{cause: diagnose.ConnectRefused, nextHop: "harbourlight.example:587", route: "by provider",
			want: "route by provider"},
		{cause: diagnose.MailboxFull, nextHop: "local", route: "mailbox",
			want: "address ada@saltmarsh.example"},
		{cause: diagnose.NoSuchUser, want: "address ada@saltmarsh.example"},
		{cause: diagnose.NoSuchDomain, want: "domain saltmarsh.example"},
		{cause: diagnose.NoRoute, nextHop: "saltmarsh.example", route: "no-route",
			want: "domain saltmarsh.example"},
		{cause: diagnose.SPFFails, want: "sender skerryline.example"},
		{cause: diagnose.SPFFails, sender: "-", want: "next-hop saltmarsh.example"},
		{cause: diagnose.SendingLimit, nextHop: "harbourlight.example:587", route: "by provider",
			want: "route by provider"},
		{cause: diagnose.SignInRefused, route: "by provider", want: "route by provider"},
		{cause: diagnose.BlockListed, want: "next-hop saltmarsh.example"},
		{cause: diagnose.ContentRefused, want: "next-hop saltmarsh.example"},
		{cause: diagnose.Loop, want: "address ada@saltmarsh.example"},
		{cause: diagnose.OurTrouble, want: "ourselves "},
		{cause: diagnose.Unknown, want: "next-hop saltmarsh.example"},
		{cause: diagnose.Returned, want: "none"},
		{cause: diagnose.NoCause, state: mail.Delivered, want: "none"},
	} {
		d := mail.Delivery{
			MessageID: 9,
			N:         2,
			Recipient: "Ada@Saltmarsh.example",
			Cause:     c.cause,
			NextHop:   "saltmarsh.example",
			Route:     "to the world",
			State:     mail.Deferred,
		}
		if c.nextHop != "" {
			d.NextHop = c.nextHop
		}
		if c.route != "" {
			d.Route = c.route
		}
		if c.state != "" {
			d.State = c.state
		}
		sender := "Ines@Skerryline.example"
		if c.sender == "-" {
			sender = ""
		}
		got := "none"
		if s, ok := OfDelivery(&d, sender, now); ok {
			if got = fmt.Sprintf("%s %s", s.Place.Kind, s.Place.Name); s.Failed ||
				s.Recipient != "ada@saltmarsh.example" {
				t.Errorf("%+v", s)
			}
		}
		if got != c.want {
			t.Errorf("%s by %s to %s: %s, want %s", c.cause, d.Route, d.NextHop, got, c.want)
		}
	}
	d := mail.Delivery{Recipient: "a@b.example", Cause: diagnose.MailboxFull, State: mail.Bounced}
	if s, ok := OfDelivery(&d, "", now); !ok || !s.Failed {
		t.Error("a message that bounced is lost")
	}
}

func TestRefusalsThatAreOneClientsFaultAreNoTrouble(t *testing.T) {
	for _, c := range []struct {
		r    mail.Refusal
		want string
	}{
		{mail.Refusal{Cause: diagnose.LimitReached, Account: "Odile.Marr@skerryline.example",
			ClientAddress: "127.30.0.9"}, "account odile.marr@skerryline.example"},
		{mail.Refusal{Cause: diagnose.LimitReached, ClientAddress: "127.20.1.4"}, "client 127.20.1.4"},
		{mail.Refusal{Cause: diagnose.NoRuleAllows, ClientAddress: "127.20.9.9"}, "client 127.20.9.9"},
		{mail.Refusal{Cause: diagnose.NoSuchUser, ClientAddress: "127.30.0.9"}, "none"},
		{mail.Refusal{Cause: diagnose.Malformed, ClientAddress: "127.30.0.9"}, "none"},
	} {
		got := "none"
		if s, ok := OfRefusal(&c.r); ok {
			got = fmt.Sprintf("%s %s", s.Place.Kind, s.Place.Name)
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.r.Cause, got, c.want)
		}
	}
}

func TestSeverityGoesByEffect(t *testing.T) {
	for _, c := range []struct {
		cause           diagnose.Cause
		kind            Kind
		waiting, failed int64
		age             time.Duration
		want            Severity
	}{
		{diagnose.Greylisted, NextHop, 1, 0, time.Minute, Minor},
		{diagnose.ConnectRefused, NextHop, 4, 0, 3 * time.Hour, Minor},
		{diagnose.ConnectRefused, NextHop, 1, 0, 5 * time.Hour, Serious},
		{diagnose.ConnectRefused, NextHop, 5, 0, time.Minute, Serious},
		{diagnose.ConnectRefused, NextHop, 100, 0, time.Minute, Critical},
		{diagnose.BlockListed, NextHop, 0, 4, 9 * time.Hour, Minor},
		{diagnose.BlockListed, NextHop, 0, 5, time.Minute, Serious},
		{diagnose.BlockListed, NextHop, 0, 50, time.Minute, Critical},
		{diagnose.NoRoute, Domain, 1, 0, time.Second, Serious},
		{diagnose.NoRuleAllows, Client, 0, 60, time.Hour, Minor},
		{diagnose.LimitReached, Account, 0, 1, time.Second, Critical},
		{diagnose.DNSTrouble, Ourselves, 4, 0, time.Second, Critical},
	} {
		if got := Rate(c.cause, Place{c.kind, "x"}, c.waiting, c.failed, now.Add(-c.age), now); got != c.want {
			t.Errorf("%+v: %d", c, got)
		}
	}
	var back Severity
	if text, _ := Critical.MarshalText(); string(text) != "critical" || back.UnmarshalText(text) != nil ||
		back != Critical {
		t.Error(back)
	}
}

// TestOnlyWhatCanBeDoneIsOffered goes by what the configuration has.
func TestOnlyWhatCanBeDoneIsOffered(t *testing.T) {
	const plain = "service: {host_name: a.example, postmaster: p@a.example}\nroutes:\n"
	const provider = "  - {name: provider, recipients: [b.example], next_hop: smarthost, hosts: " +
		"[s.example], tls: verified, sign_in: {account: a, secret: s}}\n"
	const world = "  - {name: world, next_hop: mx}\n"
	const terms = "peers:\n  - {name: c, domains: [c.example], tls: verified}\n"
	for _, c := range []struct {
		text  string
		s     Snag
		wants string
	}{
		{plain + world, Snag{Cause: diagnose.BlockListed, Place: Place{NextHop, "c.example"}, Waiting: 3},
			"[return]"},
		{plain + provider + world, Snag{Cause: diagnose.BlockListed, Place: Place{NextHop, "c.example"},
			Waiting: 3}, "[smart-host route return]"},
		{plain + provider + world, Snag{Cause: diagnose.BlockListed, Place: Place{NextHop, "c.example"}},
			"[route]"},
		{plain + provider + world, Snag{Cause: diagnose.ConnectRefused, Place: Place{Route, "provider"},
			Waiting: 1}, "[flush]"},
		{plain + provider + world, Snag{Cause: diagnose.NoRoute, Place: Place{Domain, "c.example"},
			Waiting: 1}, "[add-route route return]"},
		{plain + world, Snag{Cause: diagnose.CertificateBad, Place: Place{NextHop, "c.example"},
			Waiting: 1}, "[flush]"},
		{plain + world + terms, Snag{Cause: diagnose.CertificateBad, Place: Place{NextHop, "c.example"},
			Waiting: 1}, "[flush tls]"},
		{plain + world, Snag{Cause: diagnose.TLSRequired, Place: Place{NextHop, "c.example"}}, "[tls]"},
		{plain + world + terms, Snag{Cause: diagnose.CertificateBad, Place: Place{NextHop, "c.example"},
			Waiting: 1, State: "closed"}, "[]"},
		{plain + world, Snag{Cause: diagnose.RateLimited, Place: Place{NextHop, "c.example"}, Waiting: 1},
			"[slower]"},
		{plain + world, Snag{Cause: diagnose.RateLimited, Place: Place{Route, "provider"}, Waiting: 1}, "[]"},
		{plain + world, Snag{Cause: diagnose.NoSuchUser, Place: Place{Address, "x@c.example"}, Failed: 1},
			"[]"},
	} {
		parsed, err := config.Parse([]byte(c.text))
		if err != nil {
			t.Fatal(err)
		}
		c.s.Offer(config.Compile(parsed, 1, directory.New()), false)
		offers := []diagnose.Fix{}
		for i, m := range c.s.Fixes {
			offers = append(offers, m.Do)
			dear := m.Do == diagnose.FixReturn || m.Do == diagnose.FixTLS && m.Says != "Use TLS with c.example"
			if m.First != (i == 0 && !dear) || m.Says == "" || dear != (m.Costs != "") {
				t.Errorf("%+v", m)
			}
		}
		if got := fmt.Sprint(offers); got != c.wants {
			t.Errorf("%s at %s: %s, want %s", c.s.Cause, c.s.Place.Name, got, c.wants)
		}
	}
}

func TestATroubleOfOursIsExplainedAsOurs(t *testing.T) {
	s := Snag{
		Cause:    diagnose.ConnectTimeout,
		Place:    Place{Kind: Ourselves},
		Parts:    5,
		Waiting:  7,
		Failed:   2,
		Evidence: Evidence{Last: mail.LastReply{Stage: diagnose.StageConnect, Text: "timed out"}},
	}
	if s.Explain(); s.WhoCanFix != "us" || s.WaitingHelps.Yes || s.Deliveries != 9 ||
		s.Title != "The host cannot be reached, at many places at the same time" ||
		s.Evidence.Verdict == nil {
		t.Errorf("%+v", s)
	}
	for c := range wideMeans {
		if !Wide(c) {
			t.Errorf("%s has words for many places and is never ours", c)
		}
	}
}

// TestHistoryCountsMoreThanWords takes what lasts longer than its words allow.
func TestHistoryCountsMoreThanWords(t *testing.T) {
	for _, c := range []struct {
		cause    diagnose.Cause
		code     int
		attempts int64
		lasted   time.Duration
		waiting  int64
		doubt    string
	}{
		{diagnose.Greylisted, 451, 9, 30 * time.Minute, 2, ""},
		{diagnose.Greylisted, 451, 9, 5 * time.Hour, 2, "It has asked to come back 9 times in 5 hours."},
		{diagnose.Greylisted, 451, 9, 5 * time.Hour, 0, ""},
		{diagnose.Greylisted, 451, 2, 5 * time.Hour, 2, ""},
		{diagnose.NoSuchUser, 450, 7, 49 * time.Hour, 1, "It says later and means never: 7 times in 2 days."},
		{diagnose.NoSuchUser, 550, 7, 49 * time.Hour, 1, ""},
		{diagnose.ConnectRefused, 0, 30, 20 * time.Hour, 1, ""},
		{diagnose.ConnectRefused, 0, 30, 26 * time.Hour, 1, "It was met 30 times in 26 hours"},
		{diagnose.MailboxFull, 452, 30, 26 * time.Hour, 1, ""},
	} {
		s := Snag{
			Cause:    c.cause,
			Place:    Place{NextHop, "greywacke.example"},
			Since:    now.Add(-c.lasted),
			LastAt:   now,
			Attempts: c.attempts,
			Waiting:  c.waiting,
			Evidence: Evidence{Last: mail.LastReply{Stage: diagnose.StageRecipient, Code: c.code, Text: "x"}},
		}
		s.Explain()
		if !strings.HasPrefix(s.Doubt, c.doubt) || (c.doubt == "") != (s.Doubt == "") ||
			c.doubt != "" && s.WaitingHelps.Yes {
			t.Errorf("%+v: %q, waiting helps %v", c, s.Doubt, s.WaitingHelps)
		}
	}
	s := Snag{
		Cause:    diagnose.Greylisted,
		Place:    Place{NextHop, "c.example"},
		Since:    now.Add(-9 * time.Hour),
		LastAt:   now,
		Attempts: 20,
		Waiting:  1,
	}
	s.Explain()
	parsed, err := config.Parse(
		[]byte(
			"service: {host_name: a.example, postmaster: p@a.example}\nroutes:\n  - {name: provider, " +
				"recipients: [b.example], next_hop: smarthost, hosts: [s.example], tls: verified, sign_in: " +
				"{account: a, secret: s}}\n",
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	s.Offer(config.Compile(parsed, 1, directory.New()), false)
	if got := fmt.Sprint(s.Fixes); len(s.Fixes) != 4 || !strings.Contains(got, "smart-host") ||
		!strings.Contains(got, "return") {
		t.Errorf("what is offered for an endless greylisting: %s", got)
	}
}

// TestWhatCannotBeTakenBackNeedsCertainty takes a reply that may be misread, lanes that
// are paused, and smart hosts that are for some people only.
func TestWhatCannotBeTakenBackNeedsCertainty(t *testing.T) {
	offered := func(routes string, reply string, paused bool) string {
		parsed, err := config.Parse([]byte("service: {host_name: a.example, postmaster: p@a.example}\n" +
			"routes:\n" + routes + "  - {name: world, next_hop: mx}\n"))
		if err != nil {
			t.Fatal(err)
		}
		s := Snag{Cause: diagnose.BlockListed, Place: Place{NextHop, "c.example"}, Waiting: 2,
			Lanes: []ident.ID{1}, Evidence: Evidence{Last: mail.LastReply{Stage: diagnose.StageRecipient,
				Code: 554, Text: reply}}}
		s.Explain()
		s.Offer(config.Compile(parsed, 1, directory.New()), paused)
		var list []string
		for _, f := range s.Fixes {
			list = append(list, string(f.Do))
		}
		return strings.Join(list, " ")
	}
	const smart = "  - {name: s, recipients: [b.example], next_hop: smarthost, hosts: [s.example], tls: " +
		"verified, sign_in: {account: a, secret: s}}\n"
	const ofOne = "  - {name: s, senders: [anna@a.example], recipients: [b.example], next_hop: smarthost, " +
		"hosts: [s.example], tls: verified, sign_in: {account: a, secret: s}}\n"
	for _, c := range []struct {
		routes, reply string
		paused        bool
		wants         string
	}{
		{"", "5.7.1 your IP is on a block list, see bl.seamark.example", false, "return"},
		{"", "5.7.1 blocked for its origin, or the like", false, ""},
		{smart, "5.7.1 your IP is on a block list, see bl.seamark.example", false, "smart-host route return"},
		{ofOne, "5.7.1 your IP is on a block list, see bl.seamark.example", false, "return"},
	} {
		if got := offered(c.routes, c.reply, c.paused); got != c.wants {
			t.Errorf("%+v: %s", c, got)
		}
	}
	s := Snag{Cause: diagnose.ConnectRefused, Place: Place{Route, "provider"}, Waiting: 1}
	for paused, want := range map[bool]int{false: 1, true: 0} {
		if s.Offer(config.Compile(&config.Config{}, 1, directory.New()), paused); len(s.Fixes) != want {
			t.Errorf("paused %v: %+v", paused, s.Fixes)
		}
	}
}
