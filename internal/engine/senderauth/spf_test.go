package senderauth

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os/exec"
	"strings"
	"testing"

	"github.com/miekg/dns"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/engine/resolve"
)

// zone is a DNS of a test: values by type by name. The type TIMEOUT fails.
type zone map[string]map[string][]string

func (z zone) Records(_ context.Context, name string, kind uint16) ([]dns.RR, error) {
	name = strings.TrimSuffix(strings.ToLower(name), ".")
	types, ok := z[name]
	if !ok {
		return nil, &resolve.Failure{Cause: diagnose.NoSuchDomain, Permanent: true,
			Text: name + " does not exist"}
	}
	if _, fails := types["TIMEOUT"]; fails {
		return nil, &resolve.Failure{Cause: diagnose.DNSTrouble, Text: "no answer"}
	}
	var out []dns.RR
	for _, value := range types[dns.TypeToString[kind]] {
		switch kind {
		case dns.TypeTXT:
			out = append(out, &dns.TXT{Txt: []string{value}})
			continue
		case dns.TypePTR, dns.TypeMX:
			value = dns.Fqdn(value)
		}
		rr, err := dns.NewRR(dns.Fqdn(name) + " 60 IN " + dns.TypeToString[kind] + " " + value)
		if err != nil {
			return nil, err
		}
		out = append(out, rr)
	}
	return out, nil
}

func txt(v ...string) map[string][]string { return map[string][]string{"TXT": v} }

// TestSPFAgreesWithAnIndependentEvaluator compares results on a table of records
// with macros, redirects, includes and limits.
func TestSPFAgreesWithAnIndependentEvaluator(t *testing.T) {
	z := zone{
		"mx.saltmarsh.example":           {"A": {"127.30.0.10"}, "AAAA": {"2001:db8::10"}},
		"10.0.30.127.in-addr.arpa":       {"PTR": {"mx.saltmarsh.example"}},
		"11.0.30.127.in-addr.arpa":       {"PTR": {"mx.elsewhere.example"}},
		"mx.elsewhere.example":           {"A": {"127.30.0.99"}},
		"empty.example":                  {"A": {"127.30.0.1"}},
		"none.example":                   txt("v=spf10 all", "some other text"),
		"all.example":                    txt("v=spf1 -all"),
		"soft.example":                   txt("v=spf1 ~all"),
		"neutral.example":                txt("v=spf1 ?all"),
		"open.example":                   txt("v=spf1 +all"),
		"bare.example":                   txt("v=spf1"),
		"upper.example":                  txt("V=SPF1 IP4:127.30.0.10 -ALL"),
		"ip4.example":                    txt("v=spf1 ip4:127.30.0.0/24 -all"),
		"ip4one.example":                 txt("v=spf1 ip4:127.30.0.10 -all"),
		"ip6.example":                    txt("v=spf1 ip6:2001:db8::/32 -all"),
		"a.example":                      {"TXT": {"v=spf1 a -all"}, "A": {"127.30.0.10"}},
		"amask.example":                  {"TXT": {"v=spf1 a/24 -all"}, "A": {"127.30.0.200"}},
		"aother.example":                 txt("v=spf1 a:mx.saltmarsh.example -all"),
		"adual.example":                  txt("v=spf1 a:mx.saltmarsh.example/24//64 -all"),
		"mx.example":                     {"TXT": {"v=spf1 mx -all"}, "MX": {"10 mx.saltmarsh.example"}},
		"mxmask.example":                 {"TXT": {"v=spf1 mx/24 -all"}, "MX": {"10 mx.saltmarsh.example"}},
		"nomx.example":                   {"TXT": {"v=spf1 mx -all"}, "A": {"127.30.0.10"}},
		"exists.example":                 txt("v=spf1 exists:mx.saltmarsh.example -all"),
		"existsip.example":               txt("v=spf1 exists:%{ir}.list.example -all"),
		"10.0.30.127.list.example":       {"A": {"127.0.0.2"}},
		"existslocal.example":            txt("v=spf1 exists:%{l}._spf.existslocal.example -all"),
		"ines._spf.existslocal.example":  {"A": {"127.0.0.2"}},
		"macrorev.example":               txt("v=spf1 exists:%{d2r}.rev.example -all"),
		"example.macrorev.rev.example":   {"A": {"127.0.0.2"}},
		"macrosplit.example":             txt("v=spf1 exists:%{l1r-}.split.example -all"),
		"harrow.split.example":           {"A": {"127.0.0.2"}},
		"ines.split.example":             {"A": {"127.0.0.2"}},
		"macrov.example":                 txt("v=spf1 exists:%{i}.%{v}.v.example -all"),
		"127.30.0.10.in-addr.v.example":  {"A": {"127.0.0.2"}},
		"macrohelo.example":              txt("v=spf1 exists:%{h}.h.example -all"),
		"mx.saltmarsh.example.h.example": {"A": {"127.0.0.2"}},
		"macroorigin.example":            txt("v=spf1 exists:%{o}.o.example -all"),
		"macroorigin.example.o.example":  {"A": {"127.0.0.2"}},
		"macrobad.example":               txt("v=spf1 exists:%{x}.example -all"),
		"include.example":                txt("v=spf1 include:ip4.example -all"),
		"includefail.example":            txt("v=spf1 include:all.example ~all"),
		"includenone.example":            txt("v=spf1 include:none.example -all"),
		"includegone.example":            txt("v=spf1 include:gone.example -all"),
		"includetwice.example":           txt("v=spf1 include:include.example -all"),
		"includetemp.example":            txt("v=spf1 include:slow.example -all"),
		"redirect.example":               txt("v=spf1 redirect=ip4.example"),
		"redirectafter.example":          txt("v=spf1 ip4:127.30.0.10 redirect=all.example"),
		"redirectall.example":            txt("v=spf1 redirect=all.example ~all"),
		"redirectnone.example":           txt("v=spf1 redirect=none.example"),
		"two.example":                    txt("v=spf1 -all", "v=spf1 +all"),
		"unknownmech.example":            txt("v=spf1 boat:ip4.example -all"),
		"unknownmod.example":             txt("v=spf1 tide=high ip4:127.30.0.10 -all"),
		"badip.example":                  txt("v=spf1 ip4:127.30.0 -all"),
		"badmask.example":                txt("v=spf1 ip4:127.30.0.0/33 -all"),
		"slow.example":                   {"TIMEOUT": nil},
		"ptr.example":                    txt("v=spf1 ptr:saltmarsh.example -all"),
		"loop.example":                   txt("v=spf1 include:loop.example -all"),
		"redirectloop.example":           txt("v=spf1 redirect=redirectloop.example"),
		"ten.example": txt("v=spf1 " + strings.Repeat("a:mx.saltmarsh.example ",
			10) + "-all"),
		"eleven.example": txt(
			"v=spf1 " + strings.Repeat("a:mx.elsewhere.example ", 11) + "ip4:127.30.0.10 -all",
		),
		"tenthen.example": txt(
			"v=spf1 " + strings.Repeat("a:mx.elsewhere.example ", 10) + "ip4:127.30.0.10 -all",
		),
		"voids.example": txt(
			"v=spf1 a:gone1.example a:gone2.example a:gone3.example ip4:127.30.0.10 -all",
		),
		"twovoids.example":        txt("v=spf1 a:gone1.example a:gone2.example ip4:127.30.0.10 -all"),
		"saltmarsh.example":       txt("v=spf1 mx a:mx.saltmarsh.example -all"),
		"_spf.deep.example":       txt("v=spf1 ip4:127.30.0.10 ?all"),
		"deep.example":            txt("v=spf1 include:_spf.deep.example -all"),
		"case.example":            txt("v=spf1 InClUdE:IP4.example -all"),
		"spaces.example":          txt("v=spf1   ip4:127.30.0.10    -all"),
		"exp.example":             txt("v=spf1 -all exp=why.exp.example"),
		"why.exp.example":         txt("%{i} may not send for %{d}"),
		"mx0.example":             {"TXT": {"v=spf1 mx:null.example -all"}},
		"null.example":            {"MX": {"0 ."}},
		"xn--blgevik-q1a.example": txt("v=spf1 ip4:127.30.0.10 -all"),
		"neutralip.example":       txt("v=spf1 ?ip4:127.30.0.10 -all"),
		"softip.example":          txt("v=spf1 ~ip4:127.30.0.10 -all"),
		"minusip.example":         txt("v=spf1 -ip4:127.30.0.10 +all"),
		"macroc.example":          txt("v=spf1 exists:%{d}.%{s}.x.example -all"),
		"percent.example":         txt("v=spf1 exists:%%%_%-.percent.example -all"),
	}
	type one struct {
		IP     string `json:"ip"`
		Sender string `json:"sender"`
		Helo   string `json:"helo"`
	}
	var cases []one
	for name := range z {
		if strings.HasSuffix(name, ".example") && strings.Count(name, ".") == 1 {
			cases = append(cases, one{"127.30.0.10", "ines-harrow@" + name, "mx.saltmarsh.example"})
		}
	}
	cases = append(
		cases,
		one{"127.30.0.11", "ines@saltmarsh.example", "h"},
		one{"2001:db8::10", "ines@saltmarsh.example", "h"},
		one{"2001:db8::10", "ines@ip6.example", "h"},
		one{
			"2001:db8::77",
			"ines@adual.example",
			"h",
		},
		one{"2001:dead::1", "ines@ip6.example", "h"},
		one{"127.30.0.11", "ines@ptr.example", "h"},
		one{"127.30.0.10", "ines@existslocal.example", "h"},
		one{
			"127.30.0.12",
			"x@gone.example",
			"h",
		},
		one{"127.31.0.1", "x@ip4.example", "h"},
		one{"127.31.0.1", "x@redirect.example", "h"},
		one{"127.31.0.1", "x@mxmask.example", "h"},
	)
	if len(cases) < 60 {
		t.Fatalf("there are only %d cases", len(cases))
	}
	given, err := json.Marshal(map[string]any{"dns": z, "cases": cases})
	if err != nil {
		t.Fatal(err)
	}
	elsewhere := exec.Command("/usr/bin/python3", "testdata/spf_elsewhere.py")
	elsewhere.Stdin = bytes.NewReader(given)
	text, err := elsewhere.Output()
	var theirs []string
	if err != nil || json.Unmarshal(text, &theirs) != nil || len(theirs) != len(cases) {
		t.Fatalf("the other evaluator: %v: %s", err, text)
	}
	seen := map[string]int{}
	for i, c := range cases {
		sender, err := address.Parse(c.Sender)
		if err != nil {
			t.Fatal(err)
		}
		ours := SPF(context.Background(), z, netip.MustParseAddr(c.IP), c.Helo, sender)
		seen[string(ours.Result)]++
		if string(ours.Result) != theirs[i] {
			t.Errorf("%s from %s: %s here (%s), %s elsewhere", c.Sender, c.IP, ours.Result, ours.Why, theirs[i])
		}
	}
	if fmt.Sprint(len(seen)) != "7" {
		t.Errorf("the table shows only the results %v", seen)
	}
}
