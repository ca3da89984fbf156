package readiness

import (
	"math"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/senderauth"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// right is a domain of which everything is right.
func right() Facts {
	ip := netip.MustParseAddr("127.0.0.1")
	return Facts{
		Domain:    "skerryline.example",
		Kind:      "local",
		HostName:  "mail.skerryline.example",
		EHLONames: []string{"mail.skerryline.example"},
		EHLO:      map[string][]netip.Addr{"mail.skerryline.example": {ip}},
		Ours: []netip.Addr{
			ip,
		},
		HostAddrs: []netip.Addr{ip},
		Names:     []Names{{Addr: ip, Confirmed: []string{"mail.skerryline.example"}}},
		Hosts: []Host{
			{
				Name:       "mail.skerryline.example",
				Preference: 10,
				Addrs:      []netip.Addr{ip},
				Ours:       true,
				Tried:      true,
				Reached:    true,
				TLS:        true,
				Verified:   true,
				Until:      now.Add(90 * 24 * time.Hour),
				DANE:       &DANE{Records: 1, Validated: true, Matches: true},
			},
		},
		SPF: SPF{
			Records: []string{"v=spf1 ip4:127.0.0.1 -all"},
			Results: map[netip.Addr]senderauth.SPF{ip: {Result: senderauth.Pass}},
			Tree:    Tree{All: "-all", Passes: []string{"127.0.0.1"}},
		},
		Keys: []mail.DKIMKey{
			{
				Domain:    "skerryline.example",
				Selector:  "tide",
				Algorithm: "rsa-2048",
				State:     mail.KeySigning,
			},
		},
		DMARC: senderauth.Lookup{
			Record: &senderauth.DMARCRecord{
				Policy:  "reject",
				Reports: []string{"mailto:a@b.example"},
			},
		},
		TLSReports: "v=TLSRPTv1; rua=mailto:a@b.example",
		STS: STS{
			Record: "v=STSv1; id=1",
			Mode:   "enforce",
			MX:     []string{"*.skerryline.example"},
		},
		Lists:      []Listing{{List: "driftnet.example", Addr: ip}},
		Postmaster: "postmaster@skerryline.example",
		Services: []Service{{Name: "_imaps._tcp", Host: "mail.skerryline.example", Port: 993,
			Found: []string{"mail.skerryline.example 993"}}},
	}
}

func TestTheScoreIsWhatItsPointsCost(t *testing.T) {
	best := Judge(right(), now)
	if best.Score != 10 || best.Verdict != "Everything that was looked at is right." ||
		slices.ContainsFunc(
			best.Points,
			func(p Aspect) bool { return p.Result != Pass || p.Costs != 0 || len(p.Records) > 0 },
		) {
		t.Errorf("everything right has %.1f: %+v", best.Score, best.Points)
	}
	for _, c := range []struct {
		name  string
		spoil func(*Facts)
		key   string
		is    Result
	}{
		{"an MX that is an address", func(f *Facts) { f.Hosts[0].Literal = true }, "mx", Fail},
		{"no MX, only an address", func(f *Facts) { f.NoMX = true }, "mx", Warning},
		{"a host that is silent", func(f *Facts) {
			f.Hosts[0].Reached, f.Hosts[0].Trouble = false,
				"no answer"
		}, "reach", Fail},
		{"no TLS", func(f *Facts) { f.Hosts[0].TLS = false }, "tls", Fail},
		{"a certificate that ends soon", func(f *Facts) { f.Hosts[0].Until = now.Add(time.Hour) }, "tls",
			Warning},
		{"a name without our address", func(f *Facts) { f.HostAddrs = nil }, "host-name", Fail},
		{"an EHLO name that leads elsewhere",
			func(f *Facts) { f.EHLO["mail.skerryline.example"] = []netip.Addr{netip.MustParseAddr("127.0.0.9")} }, "ehlo-name", Fail},
		{"a neutral SPF", func(f *Facts) { f.SPF.Tree.All = "?all" }, "spf", Warning},
		{"an SPF that leaves us out", func(f *Facts) { f.SPF.Results = nil }, "spf", Fail},
		{"the same, behind a smart host", func(f *Facts) {
			f.SPF.Results, f.SmartHosts = nil,
				[]string{"harbourlight.example"}
		}, "spf", Warning},
		{"Ed25519 alone", func(f *Facts) { f.Keys[0].Algorithm = "ed25519" }, "dkim", Warning},
		{"a short key", func(f *Facts) { f.Keys[0].Algorithm = "rsa-1024" }, "dkim", Warning},
		{"a key that nobody sees", func(f *Facts) { f.Keys[0].Fault = "gone" }, "dkim", Fail},
		{"a key that does not sign", func(f *Facts) { f.Keys[0].State = mail.KeyPublished }, "dkim", Fail},
		{"nobody gets reports", func(f *Facts) { f.DMARC.Record.Reports = nil }, "dmarc", Warning},
		{"a policy for other hosts", func(f *Facts) { f.STS.MX = []string{"mx.saltmarsh.example"} },
			"mta-sts", Fail},
		{"a policy that only tests", func(f *Facts) { f.STS.Mode = "testing" }, "mta-sts", Warning},
		{"DANE without DNSSEC", func(f *Facts) { f.Hosts[0].DANE.Validated = false }, "dane", NotChecked},
		{"no way for programs to find us", func(f *Facts) { f.Services[0].Found = nil }, "mail-programs", Warning},
		{"programs are led elsewhere", func(f *Facts) { f.Services[0].Found[0] = "mail.skerryline.example 143" },
			"mail-programs", Fail},
		{"nobody reads here", func(f *Facts) { f.Services, f.MXError = nil, "down" }, "mail-programs", NotChecked},
		{"DNS does not answer", func(f *Facts) { f.MXError = "down" }, "mx", NotChecked},
	} {
		f := right()
		c.spoil(&f)
		r := Judge(f, now)
		i := slices.IndexFunc(r.Points, func(p Aspect) bool { return p.Key == c.key })
		if p := r.Points[i]; p.Result != c.is || p.Says == "" {
			t.Errorf("%s: %s is %s: %s", c.name, c.key, p.Result, p.Says)
		}
		lost := 0.0
		for _, p := range r.Points {
			lost += p.Costs
		}
		if math.Abs(10-lost-r.Score) > 0.35 || c.is != NotChecked && r.Score >= 10 {
			t.Errorf("%s: %.1f of ten, and its points cost %.1f", c.name, r.Score, lost)
		}
		if c.is == Fail && r.Points[0].Key != c.key {
			t.Errorf("%s: on top stands %s", c.name, r.Points[0].Key)
		}
	}
}

func TestOnlyWhatWasRightOnceIsBroken(t *testing.T) {
	h := &Looks{}
	f := right()
	f.Lists[0].Listed = true
	if broken := h.Note(Judge(f, now)); len(broken) > 0 || len(h.Fresh) > 0 {
		t.Errorf("at the first look %v is broken", broken)
	}
	f.Hosts[0].TLS = false
	broken := h.Note(Judge(f, now))
	if len(broken) != 1 || !strings.Contains(broken[0], "offers no TLS") || len(h.Fresh) != 1 ||
		h.Fresh[0].Was != Pass ||
		h.Fresh[0].Is != Fail {
		t.Errorf("broken: %v, changed: %+v", broken, h.Fresh)
	}
	if again := h.Note(Judge(f, now)); len(again) != 1 || len(h.Fresh) != 0 {
		t.Errorf("it is still broken: %v %+v", again, h.Fresh)
	}
	if now := Judge(right(), now); len(h.Note(now)) != 0 || len(h.Fresh) != 2 {
		t.Errorf("all is right: %+v", h.Fresh)
	}
	bare := Judge(
		Facts{
			Domain:   "a.example",
			Kind:     "local",
			HostName: "mail.a.example",
			NoMX:     true,
			Ours:     []netip.Addr{netip.MustParseAddr("127.0.0.1")},
		},
		now,
	)
	if text := bare.ToDo(); !strings.Contains(
		text,
		`a.example. 3600 IN TXT "v=spf1 ip4:127.0.0.1 -all"`,
	) ||
		!strings.Contains(text, "a.example. 3600 IN MX 10 mail.a.example.") {
		t.Errorf("what to do: %s", text)
	}
}
