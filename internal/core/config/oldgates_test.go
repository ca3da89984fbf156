package config

import (
	"os"
	"slices"
	"strings"
	"testing"
)

// Revisions of earlier versions hold gates as they were written then.
func TestGatesOfAnEarlierFormAreStillRead(t *testing.T) {
	demo, err := os.ReadFile("../../../demo/skerryline.yaml")
	if err != nil {
		t.Fatal(err)
	}
	head, rest, _ := strings.Cut(string(demo), "\ngates:\n")
	_, tail, _ := strings.Cut(rest, "\nmailboxes:")
	old := head + `
gates:
  - name: programs
    state: watch
    all: {direction: [in], clients: [127.0.0.0/8]}
    any: {attachments: [programs], two_endings: true}
    none: {senders: ["list:partners"], verdict: [clean]}
    action: refuse
    say: no programs
    code: 5.7.0
  - {name: late, all: {words: ["list:money words"]}, action: hold, delay_until: ["list:office hours"]}
  - {name: marks, state: off, mark_subject: "[x]", set_fields: ["X-A: b"], make_harmless: clean}
  - {name: bare, all: {senders: [flotsam.example]}, action: refuse}

mailboxes:` + tail
	c, err := ParseStored([]byte(old))
	if err != nil {
		t.Fatal(err)
	}
	d, err := ParseDocument(old)
	if err != nil {
		t.Fatal(err)
	}
	again, err := Parse([]byte(d.String()))
	if err != nil {
		t.Fatalf("written as it is now: %v", err)
	}
	for _, gates := range [][]string{shapes(c), shapes(again)} {
		if want := []string{"programs watch refuse no programs 5.7.0 in 127.0.0.0/8 programs true clean",
			"late hold", "marks off go_on [x] X-A: b html",
			"bare refuse the message is not taken here"}; !slices.Equal(
			gates,
			want,
		) {
			t.Errorf("%q", gates)
		}
	}
}

func shapes(c *Config) (out []string) {
	for i := range c.Gates {
		g := &c.Gates[i]
		words := []string{g.Name}
		if g.Watch {
			words = append(words, "watch")
		}
		if g.Off {
			words = append(words, "off")
		}
		words = append(
			words,
			g.Action(),
			g.Then.Refuse,
			g.Then.Code,
			strings.Join(g.When.Direction, ","),
			strings.Join(g.When.Networks, ","),
			strings.Join(g.When.Any.Attachment, ","),
		)
		if g.When.Any.TwoEndings {
			words = append(words, "true")
		}
		words = append(words, strings.Join(g.When.None.Scanner, ","), g.Then.Mark.Subject,
			strings.Join(g.Then.Mark.Header, ","), g.Then.Clean)
		words = slices.DeleteFunc(words, func(s string) bool { return s == "" })
		out = append(out, strings.Join(words, " "))
	}
	return out
}
