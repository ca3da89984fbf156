package autoreply

import (
	"net/mail"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/form"
)

var piet = directory.Mailbox{
	Address: address.Address{Local: "piet", Domain: "xn--blgevik-q1a.example"},
	Name:    "Piet Sandholm",
}

func TestWhenNotToAnswer(t *testing.T) {
	const to = "To: Piet <piet@bølgevik.example>\r\n"
	for _, c := range []struct {
		name, sender, header string
		answers              bool
	}{
		{"a person", "ada@saltmarsh.example", to, true},
		{"in Cc, as A-labels", "ada@saltmarsh.example", "Cc: PIET@XN--BLGEVIK-Q1A.example\r\n", true},
		{"Auto-Submitted no", "ada@saltmarsh.example", to + "Auto-Submitted: no\r\n", true},
		{"blind copy", "ada@saltmarsh.example", "To: others@x.example\r\n", false},
		{"a machine's message", "ada@saltmarsh.example", to + "Auto-Submitted: auto-replied\r\n", false},
		{"a list", "ada@saltmarsh.example", to + "List-Unsubscribe: <x>\r\n", false},
		{"bulk", "ada@saltmarsh.example", to + "Precedence: BULK\r\n", false},
		{"a list's owner", "owner-ferries@saltmarsh.example", to, false},
		{"a robot", "No-Reply@saltmarsh.example", to, false},
		{"himself", "piet@bølgevik.example", to, false},
	} {
		a, err := address.Parse(c.sender)
		if err != nil {
			t.Fatal(err)
		}
		if why := WhyNot([]byte(c.header), a, &piet); (why == "") != c.answers {
			t.Errorf("%s: %q", c.name, why)
		}
	}
	day := func(s string) (d form.Day) { _ = d.UnmarshalText([]byte(s)); return d }
	r := directory.Reply{From: day("2026-11-20"), Until: day("2026-11-23")}
	for at, want := range map[string]bool{"2026-11-19T23:59:00Z": false, "2026-11-20T00:00:00Z": true,
		"2026-11-23T23:59:00Z": true, "2026-11-24T00:00:00Z": false} {
		now, _ := time.Parse(time.RFC3339, at)
		if InSeason(r, now) != want {
			t.Errorf("%s: %v", at, !want)
		}
	}
}

func TestTheReplyIsAMessage(t *testing.T) {
	content := Compose(Answer{
		ID:       "ID",
		HostName: "mail.skerryline.example",
		From:     piet.Address,
		Name:     piet.Name,
		To:       address.Address{Local: "ada", Domain: "saltmarsh.example"},
		Text:     "På ferie\ntil våren",
		Original: []byte("Subject: =?utf-8?q?F=C3=A6rge?=\r\nMessage-ID: <a b\r\n"),
		Now:      time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC),
	})
	m, err := mail.ReadMessage(strings.NewReader(string(content)))
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"Auto-Submitted": "auto-replied",
		"From": "Piet Sandholm <piet@xn--blgevik-q1a.example>", "In-Reply-To": "", "Content-Transfer-Encoding": "8bit"} {
		if got := m.Header.Get(name); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	if !strings.HasSuffix(string(content), "\r\n\r\nPå ferie\r\ntil våren\r\n") ||
		strings.Contains(strings.ReplaceAll(string(content), "\r\n", ""), "\n") {
		t.Errorf("%q", content)
	}
}
