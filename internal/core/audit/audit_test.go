package audit

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestSecretsAndLongTextsAreNotOnRecord(t *testing.T) {
	var v any
	if err := json.Unmarshal([]byte(`{"name":"ines","password":"p1","fields":{"alerts":{"webhook":"https://a.example/p2"},
		"list":[{"old_password":"p3","quota":5}]},"token":"p4","note":"`+strings.Repeat("ø", 600)+`"}`), &v); err != nil {
		t.Fatal(err)
	}
	out, err := json.Marshal(Clean(v))
	if err != nil {
		t.Fatal(err)
	}
	for _, secret := range []string{"p1", "p2", "p3", "p4"} {
		if strings.Contains(string(out), secret) {
			t.Errorf("%s is on record: %s", secret, out)
		}
	}
	if !strings.Contains(string(out), `"quota":5`) || !strings.Contains(string(out), `"name":"ines"`) || len(out) > 900 {
		t.Errorf("%s", out)
	}
}

func TestWhatMovesBetweenFieldsChangesTheLink(t *testing.T) {
	a, b := Deed{ID: 1, Who: "wren", Action: "act"}, Deed{ID: 1, Who: "wrena", Action: "ct"}
	if string(a.Next(nil)) == string(b.Next(nil)) || string(a.Next(nil)) == string(a.Next([]byte{1})) {
		t.Error("two entries have one link")
	}
	line := string((&Deed{ID: 3, Who: `a"]b`, Action: "sign-in", Status: 401, Why: "two\nlines"}).Syslog())
	if !strings.Contains(line, `who="a\"\]b"`) || strings.Contains(line, "\n") || !strings.HasPrefix(line, "<108>1 ") {
		t.Error(line)
	}
}
