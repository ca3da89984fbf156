package message

import (
	"fmt"
	"strings"
	"testing"
)

func TestAMessageIsTakenApartAndSafeToLookAt(t *testing.T) {
	const mixed = "Subject: x\r\nContent-Type: multipart/mixed; " +
		"boundary=a\r\n\r\npreamble\r\n--a\r\nContent-Type: multipart/alternative; boundary=b\r\n\r\n" +
		"--b\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: " +
		"quoted-printable\r\n\r\nB=C3=A5ten g=C3=A5r\r\n--b\r\nContent-Type: " +
		"text/html\r\n\r\n<p>Boat</p>\r\n--b--\r\n" +
		"--a\r\nContent-Type: application/pdf; name=\"=?utf-8?q?f=C3=A6rge.pdf?=\"\r\nContent-Disposition: " +
		"attachment\r\nContent-Transfer-Encoding: base64\r\n\r\nAAAA\r\n--a--\r\n"
	parts := Structure([]byte(mixed))
	var got []string
	for _, p := range parts {
		got = append(got, p.Path+" "+p.Type+" "+p.Name)
	}
	want := "0 multipart/mixed |1 multipart/alternative |1.1 text/plain |1.2 text/html |2 application/pdf " +
		"færge.pdf"
	if strings.Join(got, "|") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, "|"), want)
	}
	if text, kind := Readable(parts); text != "Båten går" || kind != "text/plain" {
		t.Errorf("%q %s", text, kind)
	}
	for _, c := range []struct{ name, head, body, want string }{
		{"HTML is its words", "Content-Type: text/html\r\n",
			"<style>p{}</style><script>alert(1)</script><p>One &amp; two</p><img src=x " +
				"onerror=y><br>three<!-- four -->", "One & two\n\nthree"},
		{"no type", "", "plain\r\ntext", "plain\ntext"},
		{"a lie about base64", "Content-Transfer-Encoding: base64\r\n", "aGk=\r\n!!!", "hi"},
		{"latin1", "Content-Type: text/plain; charset=iso-8859-1\r\n", "b\xe5t", "båt"},
		{"control and direction marks", "", "a\x00b\x1b[31mc\u202egnp.exe", "ab[31mcgnp.exe"},
		{"a boundary that never comes", "Content-Type: multipart/mixed; boundary=q\r\n", "text", ""},
		{"an attachment is not the text",
			"Content-Type: text/plain\r\nContent-Disposition: attachment; filename=a.txt\r\n", "secret", ""},
	} {
		if text, _ := Readable(Structure([]byte(c.head + "\r\n" + c.body))); strings.TrimSpace(text) != c.want {
			t.Errorf("%s: %q, want %q", c.name, text, c.want)
		}
	}
	deep := ""
	for i := range 50 {
		deep += fmt.Sprintf("Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n", i, i)
	}
	if n := len(Structure([]byte(deep))); n > maxDepth+2 {
		t.Errorf("%d parts of a message nested without end", n)
	}
}
