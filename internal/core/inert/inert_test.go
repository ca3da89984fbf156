package inert

import "testing"

func TestTextDoesNothingWhereItIsShown(t *testing.T) {
	for in, want := range map[string]string{
		"plain":               "plain",
		"bølgevik 海\tfrei":    "bølgevik 海\tfrei",
		"\x1b[2J\x07":         `\x1b[2J\x07`,
		"a\r\nb":              `a\x0d\x0ab`,
		"\u202egnp.exe":       `\u202egnp.exe`,
		"\u0085\u009b":        `\x85\x9b`,
		"\xff\xfeok":          `\xff\xfeok`,
		"עברית\u200f ok":      "עברית\u200f ok",
		"\u2066x\u2069\u007f": `\u2066x\u2069\x7f`,
	} {
		if got := Text(in); got != want {
			t.Errorf("%q came out as %q, want %q", in, got, want)
		}
	}
}
