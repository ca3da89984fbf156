package address

import (
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	for _, c := range []struct{ in, wire, display string }{
		{"ines.harrow@skerryline.example", "ines.harrow@skerryline.example", "ines.harrow@skerryline.example"},
		{"Ines@SKERRYLINE.Example", "Ines@skerryline.example", "Ines@skerryline.example"},
		{"a+b_c!#$%&'*/=?^`{|}~-@x.example", "a+b_c!#$%&'*/=?^`{|}~-@x.example",
			"a+b_c!#$%&'*/=?^`{|}~-@x.example"},
		{`"a b"@x.example`, `"a b"@x.example`, `"a b"@x.example`},
		{`"a\"b\\c"@x.example`, `"a\"b\\c"@x.example`, `"a\"b\\c"@x.example`},
		{`"plain"@x.example`, "plain@x.example", "plain@x.example"},
		{`"a@b"@x.example`, `"a@b"@x.example`, `"a@b"@x.example`},
		{"søren@bølgevik.example", "søren@xn--blgevik-q1a.example", "søren@bølgevik.example"},
		{"x@XN--BLGEVIK-Q1A.example", "x@xn--blgevik-q1a.example", "x@bølgevik.example"},
		{"x@BØLGEVIK.example", "x@xn--blgevik-q1a.example", "x@bølgevik.example"},
		{"用户@例え.example", "用户@xn--r8jz45g.example", "用户@例え.example"},
		{"x@[127.30.0.1]", "x@[127.30.0.1]", "x@[127.30.0.1]"},
		{"x@[ipv6:2001:DB8::1]", "x@[IPv6:2001:db8::1]", "x@[IPv6:2001:db8::1]"},
		{"x@localhost", "x@localhost", "x@localhost"},
		{strings.Repeat("l", 64) + "@x.example", strings.Repeat("l", 64) + "@x.example",
			strings.Repeat("l", 64) + "@x.example"},
	} {
		a, err := Parse(c.in)
		if err != nil || a.String() != c.wire || a.Display() != c.display {
			t.Errorf("%q: %q %q %v", c.in, a.String(), a.Display(), err)
		}
		again, err := Parse(a.String())
		if err != nil || again != a {
			t.Errorf("%q does not survive the wire: %+v %v", c.in, again, err)
		}
	}
}

func TestParseRefuses(t *testing.T) {
	for in, want := range map[string]string{
		"":                                     "empty",
		"x":                                    `no "@"`,
		"@x.example":                           `nothing before "@"`,
		"x@":                                   "domain is empty",
		"a b@x.example":                        "character ' ' is not allowed",
		"a..b@x.example":                       "empty part between dots",
		".a@x.example":                         "empty part between dots",
		"a.@x.example":                         "empty part between dots",
		"a@b@x.example":                        "character '@' is not allowed",
		`"a@x.example`:                         "no closing quote",
		"\"a\x01b\"@x.example":                 "not allowed in a quoted",
		"x@a..example":                         "label between dots is empty",
		"x@a.example.":                         "ends in a dot",
		"x@-a.example":                         "hyphen",
		"x@a b.example":                        "not allowed in a domain",
		"x@[127.0.0.256]":                      "not an address literal",
		"x@[IPv6:127.0.0.1]":                   "not an address literal",
		"x@[::1]":                              "not an address literal",
		"x@[127.0.0.1":                         "no closing bracket",
		"x\xff@x.example":                      "not valid UTF-8",
		strings.Repeat("l", 65) + "@x.example": "64 are allowed",
		"x@" + strings.Repeat("d", 64) + ".example":        "longer than 63",
		"x@" + strings.Repeat("dddddddd.", 30) + "example": "are allowed",
		"x@xn--a.example": "not a valid internationalised domain",
	} {
		if a, err := Parse(in); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %+v, %v; want %q", in, a, err, want)
		}
	}
}

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		pattern string
		yes, no []string
	}{
		{"*", []string{"a@x.example", "", "b@[127.0.0.1]"}, nil},
		{"<>", []string{""}, []string{"a@x.example"}},
		{"x.example", []string{"a@x.example", "B@X.example"}, []string{"a@sub.x.example", "a@ax.example", ""}},
		{"*.x.example", []string{"a@sub.x.example", "a@a.b.x.example"}, []string{"a@x.example", "a@axx.example", ""}},
		{"keeper@x.example", []string{"keeper@x.example", "Keeper@x.example"}, []string{"keeper@y.example", "a@x.example"}},
		{"root@*", []string{"root@x.example", "ROOT@[127.0.0.1]"}, []string{"a@x.example", ""}},
		{"bølgevik.example", []string{"a@xn--blgevik-q1a.example"}, []string{"a@blgevik.example"}},
		{"*.example", []string{"a@x.example"}, []string{"a@[127.30.0.60]", "a@example"}},
	} {
		p, err := ParsePattern(c.pattern)
		if err != nil {
			t.Errorf("%s: %v", c.pattern, err)
			continue
		}
		for i, list := range [][]string{c.yes, c.no} {
			for _, text := range list {
				var a Address
				if text != "" {
					if a, err = Parse(text); err != nil {
						t.Fatal(err)
					}
				}
				if p.Match(a) != (i == 0) {
					t.Errorf("%s against %q: %v", c.pattern, text, p.Match(a))
				}
			}
		}
	}
	for _, bad := range []string{"", "a b.example", "a@b@c.example", "*@*.x.example", "a.*.example", "x@"} {
		if p, err := ParsePattern(bad); err == nil {
			t.Errorf("%q is taken for a pattern: %+v", bad, p)
		}
	}
	exact := map[string]bool{"*": false, "*.x.example": false, "root@*": false, "x.example": true, "a@x.example": true}
	for text, want := range exact {
		if p, _ := ParsePattern(text); p.Exact() != want {
			t.Errorf("%s: exact is %v", text, p.Exact())
		}
	}
	if _, ok := (Patterns{}).Match(Address{}); !ok {
		t.Error("no patterns at all must select everything")
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"a@b.example", `"a b"@c.example`, "x@[127.0.0.1]", "søren@bølgevik.example"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, s string) {
		a, err := Parse(s)
		if err != nil {
			return
		}
		again, err := Parse(a.String())
		if err != nil || again.Domain != a.Domain || again.Local != a.Local {
			t.Fatalf("%q became %q, which became %+v, %v", s, a.String(), again, err)
		}
		if strings.ContainsAny(a.String(), "\r\n") {
			t.Fatalf("%q holds a line end", a.String())
		}
	})
}
