package reshape

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
)

type inMemory []byte

func (m inMemory) Stretch(from, to int64) io.Reader { return bytes.NewReader(m[from:to]) }

// forPartner is a message as a partner gets it, and what was told of it.
func forPartner(t *testing.T, text string, terms Terms) (string, []string) {
	t.Helper()
	content := []byte(strings.ReplaceAll(text, "\n", "\r\n"))
	report, err := parts.Scan(bytes.NewReader(content), parts.Options{Text: true})
	if err != nil {
		t.Fatal(err)
	}
	header, _ := message.SplitHeader(content)
	edits, told, err := Partner(inMemory(content), header, report, terms)
	if err != nil {
		t.Fatal(err)
	}
	out, err := io.ReadAll(Apply(inMemory(content), int64(len(content)), edits))
	if err != nil {
		t.Fatal(err)
	}
	return strings.ReplaceAll(string(out), "\r\n", "\n"), told
}

const alternatives = `From: =?utf-8?Q?J=C3=B8rn?= <jorn@skerryline.example>
Subject: =?utf-8?Q?Dr=C3=B8ftsplan_=E2=80=93_uge_49?=
MIME-Version: 1.0
Content-Type: multipart/alternative; boundary=b
Content-Transfer-Encoding: 8bit

to old programs
--b
Content-Type: text/plain; charset=utf-8
Content-Transfer-Encoding: 8bit

Færgen “Måge” sejler – 5 €.
--b
Content-Type: multipart/related; boundary=r

--r
Content-Type: text/html; charset=utf-8

<p>Færgen</p>
--r
Content-Type: image/png
Content-ID: <logo>
Content-Transfer-Encoding: base64

iVBORw0KGgo=
--r--
--b--
`

func TestAPartnerGetsTextInItsCharset(t *testing.T) {
	got, _ := forPartner(t, alternatives, Terms{Plain: true, Charset: "us-ascii"})
	want := `From: "Joern" <jorn@skerryline.example>
Subject: Droeftsplan - uge 49
MIME-Version: 1.0
Content-Type: text/plain; charset=us-ascii
Content-Transfer-Encoding: 7bit

Faergen "Maage" sejler - 5 EUR.
`
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	got, told := forPartner(t, alternatives, Terms{Charset: "iso-8859-1"})
	for _, part := range []string{"From: =?iso-8859-1?Q?J=F8rn?= <", "Content-Type: image/png",
		"charset=iso-8859-1\nContent-Transfer-Encoding: quoted-printable\n\nF=E6rgen \"M=E5ge\" " +
			"sejler - 5 EUR.\n--b\n", "<p>F=E6rgen</p>", "to old programs"} {
		if !strings.Contains(got, part) {
			t.Errorf("%q is missing in\n%s", part, got)
		}
	}
	if strings.Contains(got, "8bit") || !message.IsASCII([]byte(got)) {
		t.Errorf("it is not 7-bit:\n%s", got)
	}
	if len(told) == 0 ||
		!strings.Contains(told[len(told)-1], "5 characters that iso-8859-1 lacks") {
		t.Errorf("told: %q", told)
	}
}

func TestWhatAPartnerGetsLosesNothingElse(t *testing.T) {
	mixed := `Subject: plan
MIME-Version: 1.0
Content-Type: multipart/mixed; boundary=m

--m
Content-Type: multipart/alternative; boundary=b

--b
Content-Type: text/html; charset=iso-8859-1
Content-Transfer-Encoding: quoted-printable

<p>See <a href="https://undertow.example/x">the plan</a></p>
--b
Content-Type: text/plain

See the plan
--b
Content-Type: text/calendar

BEGIN:VCALENDAR
--b--
--m
Content-Type: application/octet-stream; name=kort.bin
Content-Transfer-Encoding: 8bit
Content-Disposition: attachment

kært øje
--m
Content-Type: multipart/signed; boundary=s; protocol="application/pgp-signature"

--s
Content-Type: text/html

<b>signed</b>
--s
Content-Type: application/pgp-signature

xyz
--s--
--m
Content-Type: text/html; charset=utf-8

<p>See <a href="https://undertow.example/x">the plan</a></p><ul><li>one<li>two</ul>
--m--
`
	got, _ := forPartner(t, mixed, Terms{Plain: true})
	want := []string{"boundary=b\n\n--b\nContent-Type: text/plain\n\nSee the plan\n--b\n" +
		"Content-Type: text/calendar", "BEGIN:VCALENDAR\n--b--",
		"Content-Transfer-Encoding: base64\n\na8OmcnQgw7hqZQ==\n", "<b>signed</b>",
		"Content-Type: text/plain; charset=us-ascii\nContent-Transfer-Encoding: 7bit\n\n" +
			"See the plan [undertow.example]\n\n- one\n- two\n"}
	for _, part := range want {
		if !strings.Contains(got, part) {
			t.Errorf("%q is missing in\n%s", part, got)
		}
	}
	if strings.Contains(got, "<p>") {
		t.Errorf("HTML is left in\n%s", got)
	}
	again, told := forPartner(t, got, Terms{Plain: true})
	if again != got || len(told) > 0 {
		t.Errorf("a second time changes it: %q\n%s", told, again)
	}
	signed := "Content-Type: multipart/signed; boundary=s\n\n--s\nContent-Type: text/html\n\n<b>ø</b>\n--s--\n"
	if got, told := forPartner(t, signed, Terms{Plain: true}); got != signed || len(told) != 1 {
		t.Errorf("what is signed was changed (%q):\n%s", told, got)
	}
}

func TestLongWordsStayWithinTheirLines(t *testing.T) {
	long := "Subject: =?utf-8?B?" + "w6bDuMOlw6bDuMOlw6bDuMOlw6bDuMOlw6bDuMOlw6bDuMOl" + "?=\n" +
		" =?utf-8?Q?=C3=A6_=D0=B4?=\n\nx\n"
	got, _ := forPartner(t, long, Terms{Charset: "iso-8859-1"})
	for line := range strings.Lines(got) {
		if len(line) > 78 {
			t.Errorf("a line of %d: %s", len(line), line)
		}
	}
	subject := message.Decode(message.ParseHeader([]byte(strings.ReplaceAll(got, "\n", "\r\n"))).
		First("Subject"))
	if subject != strings.Repeat("æøå", 6)+"æ ?" {
		t.Errorf("the subject is %q", subject)
	}
}
