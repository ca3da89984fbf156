package probe

import (
	"slices"
	"strings"
	"testing"

	"gullroute/internal/core/diagnose"
)

func step(name, result, says string) ProbeStep {
	return ProbeStep{Name: name, Result: result, Says: says}
}

func TestTheVerdictSaysWhatMatters(t *testing.T) {
	refused := ProbeStep{
		Name:   "connect",
		Result: Fail,
		Says:   "connection refused by 127.30.0.20",
		Cause:  diagnose.ConnectRefused,
	}
	good := Conversation{
		Steps: []ProbeStep{
			step("connect", Pass, "connected"),
			step("greeting", Pass, "it greets"),
			step("recipient", Pass, "it answers 250"),
		},
	}
	weak := Conversation{
		Steps: []ProbeStep{step("connect", Pass, "connected"), step("tls", Warning, "the host offers no TLS")},
	}
	bad := Conversation{Steps: []ProbeStep{refused}}
	for _, c := range []struct {
		name    string
		p       Probe
		result  string
		verdict string
		cause   diagnose.Cause
	}{
		{"all is well", Probe{Steps: []ProbeStep{step("dns", Pass, "")}, Attempts: []Conversation{good}},
			Pass, "Everything works up to the recipient.", ""},
		{"something to look at", Probe{Attempts: []Conversation{weak}}, Warning,
			"It works, with something to check: the host offers no TLS", ""},
		{"one of two", Probe{Attempts: []Conversation{bad, good}}, Warning,
			"1 of 2 paths lead there. One does not: connection refused", diagnose.ConnectRefused},
		{"none of two", Probe{Attempts: []Conversation{bad, bad}}, Fail,
			"None of 2 paths leads there. The first: connection refused", diagnose.ConnectRefused},
		{"the only one", Probe{Attempts: []Conversation{bad}}, Fail, "connection refused",
			diagnose.ConnectRefused},
		{"DNS fails", Probe{Steps: []ProbeStep{{Name: "dns", Result: Fail, Says: "no such domain",
			Cause: diagnose.NoSuchDomain}}}, Fail, "No connection was tried: no such domain", diagnose.NoSuchDomain},
		{"hosts without addresses",
			Probe{Steps: []ProbeStep{{Name: "address", Result: Warning, Says: "it has no address",
				Cause: diagnose.NoAddress}}}, Fail, "No connection could be tried: it has no address", diagnose.NoAddress},
		{"no route, but it answers", Probe{Steps: []ProbeStep{step("route", Fail, "no route leads there")},
			Attempts: []Conversation{good}}, Warning, "something to check: no route leads there", ""},
		{"nothing at all", Probe{}, Fail, "No connection could be tried", ""},
	} {
		c.p.Judge()
		got := diagnose.Cause("")
		if c.p.Cause != nil {
			got = diagnose.Cause(c.p.Cause.Cause)
		}
		if c.p.Result != c.result || !strings.Contains(c.p.Verdict, c.verdict) || got != c.cause {
			t.Errorf("%s: %s, %q, cause %s", c.name, c.p.Result, c.p.Verdict, got)
		}
	}
	short, more := ShortNames(slices.Repeat([]string{"n.example"}, 10_000))
	if len(short) != 20 || more != 9_980 {
		t.Errorf("%d names and %d more", len(short), more)
	}
}
