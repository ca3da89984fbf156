package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

func TestTimesAreReadAsPeopleWriteThem(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for in, want := range map[string]time.Time{
		"2h":                   now.Add(-2 * time.Hour),
		"90m":                  now.Add(-90 * time.Minute),
		"3d":                   now.AddDate(0, 0, -3),
		"2026-11-20T10:00:00Z": time.Date(2026, 11, 20, 10, 0, 0, 0, time.UTC),
		"2026-11-20":           time.Date(2026, 11, 20, 0, 0, 0, 0, time.Local),
		"2026-11-20 10:30":     time.Date(2026, 11, 20, 10, 30, 0, 0, time.Local),
	} {
		if got, err := parseTime(in, now); err != nil || !got.Equal(want) {
			t.Errorf("%s: %s %v", in, got, err)
		}
	}
	for _, bad := range []string{"", "soon", "xd", "20.11.2026"} {
		if _, err := parseTime(bad, now); err == nil {
			t.Errorf("%q was taken for a time", bad)
		}
	}
}

func TestTimesAndSizesForPeople(t *testing.T) {
	for d, want := range map[time.Duration]string{
		5 * time.Second: "5s", 61 * time.Second: "1m", 59*time.Minute + 59*time.Second: "59m", 3*time.Hour + 7*time.Minute: "3h 07m", 47 * time.Hour: "47h 00m", 50 * time.Hour: "2d",
	} {
		if got := short(d); got != want {
			t.Errorf("%s: %s, want %s", d, got, want)
		}
	}
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 10_000: "10 kB",
		9_999_999: "10 MB", 25_000_000: "25 MB", 2_500_000_000_000: "2.5 TB"} {
		if got := octets(n); got != want {
			t.Errorf("%d: %s, want %s", n, got, want)
		}
	}
	if ago(time.Time{}) != "-" || !strings.HasPrefix(ago(time.Now().Add(time.Hour)), "in 59m") ||
		!strings.HasSuffix(ago(time.Now().Add(-time.Hour)), " ago") {
		t.Error("ago")
	}
	if shown("") != "<>" || shown("a@xn--blgevik-q1a.example") != "a@bølgevik.example" ||
		shown("xn--blgevik-q1a.example") != "bølgevik.example" {
		t.Error("addresses for people")
	}
}

func TestAMessagesStatesAreSummedUp(t *testing.T) {
	for want, list := range map[string][]mail.State{
		"delivered": {mail.Delivered, mail.Delivered}, "1 deferred, 2 delivered": {mail.Delivered,
			mail.Deferred, mail.Delivered}, "": {},
	} {
		var m mail.Message
		for _, s := range list {
			m.Deliveries = append(m.Deliveries, mail.Delivery{State: s})
		}
		if got := states(m); got != want {
			t.Errorf("%v: %q", list, got)
		}
	}
}

func TestCSVKeepsEveryFieldInOrder(t *testing.T) {
	type record struct {
		B string   `json:"b"`
		A int      `json:"a"`
		N *int     `json:"n"`
		L []string `json:"l"`
	}
	var out bytes.Buffer
	if err := printCSV(&out, []record{{B: "x,\"y\"\nz", A: 1, L: []string{"p", "q"}}}); err != nil {
		t.Fatal(err)
	}
	if want := "b,a,n,l\n\"x,\"\"y\"\"\nz\",1,,\"[\"\"p\"\",\"\"q\"\"]\"\n"; out.String() != want {
		t.Errorf("%q", out.String())
	}
}

func TestCompletionKnowsFormatsAndCommands(t *testing.T) {
	for args, want := range map[string]string{
		"__complete queue ":           "flush\tTry waiting messages now",
		"__complete queue list -o js": "json\njsonl",
		"__complete tr":               "trace\tWhat happened to messages",
	} {
		var out, errOut bytes.Buffer
		if code := Main(strings.Split(args, " "), strings.NewReader(""), &out,
			&errOut); code != 0 ||
			!strings.Contains(out.String(), want) {
			t.Errorf("%s: %d %q", args, code, out.String())
		}
	}
}
