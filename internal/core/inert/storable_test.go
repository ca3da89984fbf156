package inert

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestLineIsOneBoundedLineOfValidText(t *testing.T) {
	for _, c := range []struct {
		in   string
		max  int
		want string
	}{
		{"plain", 10, "plain"},
		{"a\xffb", 10, `a\xffb`},
		{"a\r\nb\x00c\td", 30, `a\x0d\x0ab\x00c d`},
		{"ååå", 5, "åå"},
		{"å\xc3", 10, `å\xc3`},
		{strings.Repeat("\x00", 100), 10, `\x00\x00\x`},
	} {
		if got := Line(c.in, c.max); got != c.want || len(got) > c.max || !utf8.ValidString(got) {
			t.Errorf("%q within %d came out as %q, want %q", c.in, c.max, got, c.want)
		}
	}
}

func TestStoredJSONHoldsNothingThatADatabaseRefuses(t *testing.T) {
	for in, want := range map[string]string{
		`{"a":"x"}`:                `{"a":"x"}`,
		`"\u0000"`:                 `"\ufffd"`,
		`"\\u0000"`:                `"\\u0000"`,
		`"\\\u0000\u00e5"`:         `"\\\ufffd\u00e5"`,
		`"\ud83d\ude00"`:           `"\ud83d\ude00"`,
		`"\ud83dx\ude00"`:          `"\ufffdx\ufffd"`,
		`"\ud83d\u0000"`:           `"\ufffd\ufffd"`,
		"\"\xff\x00\"":             "\"\uFFFD\uFFFD\"",
		`"\n\"\u001b"`:             `"\n\"\u001b"`,
		`"a backslash ends it \\"`: `"a backslash ends it \\"`,
	} {
		got := StoredJSON([]byte(in))
		if string(got) != want || !json.Valid(got) {
			t.Errorf("%s came out as %s, want %s", in, got, want)
		}
	}
}

func TestACellIsNoFormula(t *testing.T) {
	for in, want := range map[string]string{
		"=1+1": "'=1+1", "+47": "'+47", "-x": "'-x", "@sum": "'@sum", "\tx": "'\tx", "\r=1": "'\r=1", "plain": "plain", "a=b": "a=b", "": "",
		"\x1b[2Jx": `'\x1b[2Jx`, "a\x1b]0;x\x07\nb": `a\x1b]0;x\x07` + "\nb", "å\nb": "å\nb", "'=": "'=",
	} {
		if got := Cell(in); got != want {
			t.Errorf("%q came out as %q, want %q", in, got, want)
		}
	}
	if Uncelled(Cell("=x")) != "=x" || Uncelled("'tis") != "'tis" {
		t.Error("what was made a text is not read back")
	}
}
