package review

import (
	"net/netip"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/machine"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
)

// demo is the demo's configuration with changes.
func demo(t *testing.T, edit ...string) *config.Compiled {
	t.Helper()
	text, err := os.ReadFile("../../../demo/skerryline.yaml")
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.NewReplacer(edit...).Replace(string(text))
	c, err := config.Parse([]byte(changed))
	if err != nil {
		t.Fatal(err)
	}
	d := directory.New()
	for i := range c.Mailboxes {
		d.Put(&c.Mailboxes[i])
	}
	for i := range c.Aliases {
		d.PutAlias(&c.Aliases[i])
	}
	return config.Compile(c, 1, d)
}

func keys(list []Finding) []string {
	var out []string
	for _, w := range list {
		out = append(out, w.Key)
	}
	return out
}

// Every rule finds what it is for, and says nothing where that is not.
func TestEveryRuleFindsWhatItIsFor(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	day := 24 * time.Hour
	plain := Facts{
		Now: now,
		Keys: []mail.DKIMKey{
			{Domain: "skerryline.example", Selector: "a", Algorithm: "rsa-2048", State: mail.KeySigning,
				MadeAt: now},
			{
				Domain:    "lightkeepers.example",
				Selector:  "a",
				Algorithm: "ed25519",
				State:     mail.KeySigning,
				MadeAt:    now,
			},
			{
				Domain:    "xn--blgevik-q1a.example",
				Selector:  "a",
				Algorithm: "rsa-3072",
				State:     mail.KeySigning,
				MadeAt:    now,
			},
		},
	}
	with := func(change func(*Facts)) Facts {
		f := plain
		f.Keys = slices.Clone(plain.Keys)
		change(&f)
		return f
	}
	base := keys(Of(demo(t), plain))
	seen := map[string]bool{}
	for _, k := range base {
		rule, _, _ := strings.Cut(k, ":")
		seen[rule] = true
	}
	for _, c := range []struct {
		want string
		edit []string
		f    Facts
	}{
		{"open-relay:relay rule ticket machines",
			[]string{"networks: [127.20.1.0/24]\n    listeners: [inside]\n", "networks: [0.0.0.0/0]\n"}, plain},
		{"wide-network:relay rule ticket machines", []string{"networks: [127.20.1.0/24]",
			"networks: [198.0.0.0/8]"}, plain},
		{"relay-by-sender:relay rule ticket machines",
			[]string{"networks: [127.20.1.0/24]\n    listeners: [inside]\n",
				"senders: [skerryline.example]\n    recipients: [saltmarsh.example]\n"}, plain},
		{"relay-at-edge:relay rule ticket machines",
			[]string{"networks: [127.20.1.0/24]\n    listeners: [inside]\n",
				"networks: [127.20.1.0/24]\n"}, plain},
		{"any-sender:relay rule people", []string{"    own_sender: true\n", ""}, plain},
		{"no-account-limits:relay rule people",
			[]string{"    limits: {messages_per_hour: 200, messages_per_day: 500, recipients_per_day: 1000}\n",
				""}, plain},
		{"loose-limits:relay rule people", nil, with(func(f *Facts) {
			f.Days, f.Busiest = 30, []report.Busy{{Account: "ines.harrow@skerryline.example", Messages: 9, Recipients: 14}}
		})},
		{"rule-never-reached:relay rule again", []string{"\nroutes:\n",
			"  - {name: again, networks: [127.20.9.9], action: refuse}\n\nroutes:\n"}, plain},
		{"clear-sign-in:listener submission",
			[]string{"127.0.0.1:2545\n    kind: submission\n    tls: required",
				"0.0.0.0:2545\n    kind: submission\n    tls: starttls\n    sign_in_without_tls: true"}, plain},
		{"sign-in-without-tls:listener submission", []string{"kind: submission\n    tls: required",
			"kind: submission\n    tls: starttls\n    sign_in_without_tls: true"}, plain},
		{"submission-optional:listener submission", []string{"kind: submission\n    tls: required",
			"kind: submission\n    tls: starttls"}, plain},
		{"edge-without-tls:listener edge", []string{"kind: edge\n    tls: starttls\n    certificate: kept:mail", "kind: edge"}, plain},
		{"own-certificate:listener submission", nil,
			with(func(f *Facts) { f.Certificates = []Certificate{{Listener: "submission", Own: true}} })},
		{"certificate-ends:listener edge", nil, with(func(f *Facts) {
			f.Certificates = []Certificate{{Listener: "edge", Until: now.Add(9 * day), Fits: true}}
		})},
		{"certificate-ended:listener edge", nil,
			with(func(f *Facts) {
				f.Certificates = []Certificate{{Listener: "edge", Until: now.Add(-day),
					Fits: true}}
			})},
		{"certificate-name:listener edge", nil,
			with(func(f *Facts) {
				f.Certificates = []Certificate{{Listener: "edge",
					Until: now.Add(90 * day)}}
			})},
		{"huge-messages:listener edge", []string{"kind: edge\n",
			"kind: edge\n    limits: {message_size: 1 GB}\n"}, plain},
		{"many-errors:listener edge", []string{"kind: edge\n", "kind: edge\n    limits: {errors: 500}\n"},
			plain},
		{"open-lmtp:listener neighbour",
			[]string{"127.0.0.1:2428\n    kind: lmtp\n    allow: [127.0.0.0/8]",
				"0.0.0.0:2428\n    kind: lmtp"}, plain},
		{"inside-open:listener inside", []string{"127.0.0.1:2526", "0.0.0.0:2526"}, plain},
		{"identity-off:listener edge", []string{"kind: edge\n", "kind: edge\n    identity: off\n"}, plain},
		{"no-transcript:listener edge", []string{"kind: edge\n", "kind: edge\n    transcript: none\n"}, plain},
		{"no-gate-programs", []string{"attachment: [programs]", "attachment: [pictures]"}, plain},
		{"list-dead:list partners", nil,
			with(func(f *Facts) { f.DeadLists = map[string]string{"partners": "it leads on to elsewhere"} })},
		{"watch-forgotten:gate money from strangers", nil,
			with(func(f *Facts) { f.WatchedBefore = []string{"money from strangers", "long gone"} })},
		{"open-allow-list:list partners", []string{`"*.harbourlight.example"]`, `"*"]`}, plain},
		{"no-postmaster", []string{"postmaster: keeper@", "postmaster: nobody@"}, plain},
		{"catch-all:domain skerryline.example", []string{"kind: local\n    generated",
			"kind: local\n    catch_all: bridge@skerryline.example\n    generated"}, plain},
		{"catch-all-answer:domain skerryline.example",
			[]string{"kind: local\n    generated",
				"kind: local\n    catch_all: piet.sandholm@skerryline.example\n    generated"}, plain},
		{"not-signed:domain skerryline.example", nil, with(func(f *Facts) { f.Keys = f.Keys[1:] })},
		{"key-not-in-dns:domain skerryline.example key a", nil,
			with(func(f *Facts) { f.Keys[0].Fault = "it is cut" })},
		{"short-key:domain skerryline.example key a", nil,
			with(func(f *Facts) { f.Keys[0].Algorithm = "rsa-1024" })},
		{"old-key:domain skerryline.example key a", nil,
			with(func(f *Facts) { f.Keys[0].MadeAt = now.Add(-400 * day) })},
		{"not-ready:domain skerryline.example", nil,
			with(func(f *Facts) { f.NotReady = map[string]string{"skerryline.example": "6.0 of 10"} })},
		{"no-way-out", []string{`recipients: ["*.example"] `, `recipients: [saltmarsh.example] `}, plain},
		{"clear-smart-host:route by provider", []string{"recipients: [harbourmail.example]",
			`recipients: ["*.org"]`, "tls: verified\n    sign_in: {account: skerryline, secret: harbourlight}", "tls: offered"}, plain},
		{"unverified-sign-in:route by provider", []string{"tls: verified\n    sign_in",
			"tls: required\n    sign_in"}, plain},
		{"shared-secret:secret harbourlight", []string{"  - name: shelf ",
			"  - {name: other, next_hop: smarthost, hosts: [mx.dunlin.example], tls: verified, sign_in: " +
				"{account: a, secret: harbourlight}}\n  - name: shelf "}, plain},
		{"route-never-used:route late", []string{"\npeers:\n",
			"  - {name: late, recipients: [dunlin.example], next_hop: mx}\n\npeers:\n", `recipients: ["*.example"] `, `recipients: ["*.example", dunlin.example] `}, plain},
		{"short-expiry", []string{"expire_after: 2d", "expire_after: 12h"}, plain},
		{"nobody-warned", []string{"expire_after: 2d", "expire_after: 2d\n    warn_after: 0s"}, plain},
		{"short-memory", []string{"retention: 30d", "retention: 3d\n  transcripts_kept: 1d"}, plain},
		{"no-block-lists", []string{"  block_lists: [driftnet.example]\n", ""}, plain},
		{"one-resolver", []string{"127.0.0.1:5355", "10.1.1.1:53", "dane: by_resolver", "dane: ignored"}, plain},
		{"resolver-outside", []string{`"127.0.0.1:5355"`, `"9.0.0.1:53", "127.0.0.1:53"`, "dane: by_resolver", "dane: ignored"}, plain},
		{"postmaster-leaves", []string{"postmaster: keeper@skerryline.example",
			"postmaster: keeper@saltmarsh.example"}, plain},
		{"unused-mailbox", nil, with(func(f *Facts) { f.Unused = []string{"a@b.example"} })},
		{"cannot-sign-in", nil, with(func(f *Facts) { f.NoPassword = []string{"a@b.example"} })},
		{"forward-all", []string{"forward_to: [ailsa@lightkeepers.example], keep_copy: true",
			"forward_to: [ailsa@saltmarsh.example]"}, plain},
		{"send-as-everybody:mailbox odile.marr@skerryline.example",
			[]string{"send_as: [tickets@skerryline.example]", "send_as: [skerryline.example]"}, plain},
		{"machine:machine, swap", nil, with(func(f *Facts) {
			f.Machine = []machine.Examined{{What: "swap", State: machine.Look, Found: "full", Fix: "more"}}
		})},
		{"disk-full:the disk", nil, with(func(f *Facts) { f.Disks = []Disk{{What: "the disk", Used: 0.95}} })},
		{"clock-off", nil, with(func(f *Facts) { f.ClockOff = -time.Minute })},
		{"console-in-clear", nil, with(func(f *Facts) { f.ConsoleOpen = true })},
		{"ipv6-without-name", []string{"address_family: ipv4", "address_family: both"},
			with(func(f *Facts) { f.NoReverse = []netip.Addr{netip.MustParseAddr("2001:db8::25")} })},
		{"asynchronous-standby:database", nil, with(func(f *Facts) { f.Standbys = 1 })},
		{"only-standby:database", nil, with(func(f *Facts) { f.Standbys, f.Synchronous = 1, "*" })},
		{"key-file-copy", nil, with(func(f *Facts) { f.KeyFile = true })},
	} {
		rule, _, _ := strings.Cut(c.want, ":")
		seen[rule] = true
		if slices.Contains(base, c.want) {
			t.Errorf("%s is found in the demo as it is", c.want)
		}
		if got := keys(Of(demo(t, c.edit...), c.f)); !slices.Contains(got, c.want) {
			t.Errorf("%s is not found among %v", c.want, got)
		}
	}
	for rule := range rules {
		if !seen[rule] {
			t.Errorf("no case shows %s", rule)
		}
	}
}

func TestADiskIsToldOfOnce(t *testing.T) {
	got := strings.Join(keys(Of(demo(t), Facts{
		Disks: []Disk{{What: "the disk of /var/spool", Dir: "/var/spool", Used: 0.95}},
		Machine: []machine.Examined{{What: "spool (/var/spool)", Dir: "/var/spool", State: machine.Look},
			{What: "logs (/var/log)", Dir: "/var/log", State: machine.Look}},
	})), " ")
	if !strings.Contains(got, "disk-full:") || strings.Contains(got, "spool (") || !strings.Contains(got, "logs (") {
		t.Errorf("%s", got)
	}
}

func TestLimitsAreProposedFromWhatIsUsual(t *testing.T) {
	none := demo(t, "    limits: {messages_per_hour: 200, messages_per_day: 500, recipients_per_day: 1000}\n", "")
	limits := func(c *config.Compiled, f Facts) (string, any) {
		for _, x := range Of(c, f) {
			if strings.HasSuffix(x.Rule, "-limits") && x.Where == "relay rule people" {
				return x.Rule, x.Fix.Fields["limits"]
			}
		}
		return "", nil
	}
	busy := []report.Busy{{Account: "clerk@elsewhere.example", Recipients: 90_000},
		{Account: "ines.harrow@skerryline.example", Messages: 41, Recipients: 233}}
	for days, want := range map[int]map[string]any{
		30: {"messages_per_day": int64(130), "recipients_per_day": int64(700)},
		3:  {"messages_per_hour": 200, "messages_per_day": int64(500), "recipients_per_day": int64(1000)},
	} {
		rule, got := limits(none, Facts{Days: days, Busiest: busy})
		if rule != "no-account-limits" || !reflect.DeepEqual(got, want) {
			t.Errorf("after %d days: %s %v", days, rule, got)
		}
	}
	if rule, _ := limits(demo(t), Facts{Days: 30, Busiest: busy}); rule != "" {
		t.Errorf("limits that fit are found fault with: %s", rule)
	}
}
