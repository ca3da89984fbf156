package parts

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/list"
)

const crlf = "\r\n"

func lines(s ...string) string { return strings.Join(s, crlf) + crlf }

func encoded(b []byte) string {
	text := base64.StdEncoding.EncodeToString(b)
	var out strings.Builder
	for len(text) > 76 {
		out.WriteString(text[:76] + crlf)
		text = text[76:]
	}
	return out.String() + text
}

// with is a message with files behind a text.
func with(text string, files ...string) string {
	out := lines("Subject: x", "Content-Type: multipart/mixed; boundary=b", "", "--b",
		"Content-Type: text/plain; charset=utf-8", "", text)
	for i := 0; i+1 < len(files); i += 2 {
		out += lines("--b", `Content-Type: application/octet-stream; name="`+files[i]+`"`,
			"Content-Transfer-Encoding: base64", "Content-Disposition: attachment", "",
			encoded([]byte(files[i+1])))
	}
	return out + lines("--b--")
}

func zipped(t *testing.T, files ...string) string {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i+1 < len(files); i += 2 {
		w, err := z.Create(files[i])
		if err != nil {
			t.Fatal(err)
		}
		_, _ = w.Write([]byte(files[i+1]))
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

func tarred(name, content string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	_ = w.WriteHeader(&tar.Header{Name: name, Size: int64(len(content)), Mode: 0o600, Typeflag: tar.TypeReg})
	_, _ = w.Write([]byte(content))
	_ = w.Close()
	_ = z.Close()
	return b.String()
}

func scan(t *testing.T, content string) *Report {
	t.Helper()
	r, err := Scan(strings.NewReader(content), Options{Text: true, Files: true})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// program is the beginning of a program for one kind of machine.
var program = "MZ\x90\x00\x03\x00\x00\x00\x04" + strings.Repeat("\x00", 51) + "\x40\x00\x00\x00PE\x00\x00" + strings.Repeat("\x00", 64)

func TestFilesAreKnownByTheirOctets(t *testing.T) {
	docm := zipped(t, "[Content_Types].xml", "<Types/>", "word/document.xml", "<w/>", "word/vbaProject.bin", "x")
	groups := func(r *Report) (out []string) {
		for i := range r.Parts {
			r.Parts[i].Files(func(_ string, f list.File) bool { out = append(out, f.Groups...); return true })
		}
		slices.Sort(out)
		return slices.Compact(out)
	}
	for name, c := range map[string]struct {
		file, content, want string
	}{
		"a program by another name":  {"photo.jpg", program, "programs"},
		"a script by its name":       {"run.ps1", "Write-Host hello", "programs"},
		"a script by its first line": {"notes.txt", "#!/bin/sh\necho\n", "programs"},
		"a picture":                  {"pier", "\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR", "pictures"},
		"a program in a zip":         {"a.zip", zipped(t, "dir/x.dat", program), "archives programs"},
		"in a zip in a tar":          {"a.tgz", tarred("in.zip", zipped(t, "y", program)), "archives programs"},
		"macros":                     {"report.docx", docm, "office-macros"},
		"older macros": {"report.doc", "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + strings.Repeat("\x00", 600) +
			"_\x00V\x00B\x00A\x00_\x00P\x00R\x00O\x00J\x00E\x00C\x00T\x00" + strings.Repeat("\x00", 3000), "office-macros"},
		"a plain text": {"notes.txt", "high water at noon", ""},
	} {
		r := scan(t, with("see the file", c.file, c.content))
		if got := strings.Join(groups(r), " "); got != c.want || len(r.Wrong) > 0 {
			t.Errorf("%s is %q, want %q; wrong: %v", name, got, c.want, r.Wrong)
		}
	}
	r := scan(t, lines("Subject: old", "", "text", "begin 644 tool.exe", "M35J0  ", "end"))
	if got := groups(r); !slices.Contains(got, list.Programs) {
		t.Errorf("a file encoded in a text is %v", got)
	}
}

func TestTextIsReadInEveryCharset(t *testing.T) {
	for name, c := range map[string]string{
		"base64":  lines("Content-Type: text/plain; charset=utf-8", "Content-Transfer-Encoding: base64", "", encoded([]byte("Fährplan für Ærø"))),
		"quoted":  lines("Content-Type: text/plain; charset=iso-8859-1", "Content-Transfer-Encoding: quoted-printable", "", "F=E4hrplan f=FCr =C6r=F8"),
		"html":    lines("Content-Type: text/html; charset=utf-8", "", "<p>F<b>ähr</b>plan<br>für &AElig;rø<script>x()</script>"),
		"koi8":    lines("Content-Type: text/plain; charset=koi8-r", "Content-Transfer-Encoding: 8bit", "", "\xf0\xd2\xc9\xd7\xc5\xd4 fährplan für ærø"),
		"nested":  lines("Content-Type: message/rfc822", "", "Subject: inner", "Content-Type: text/plain; charset=utf-8", "", "Fährplan für Ærø"),
		"unnamed": lines("Subject: x", "", "FÄHRPLAN FÜR ÆRØ"),
	} {
		r := scan(t, c)
		if name == "koi8" { // its own letters, and no others
			if !strings.HasPrefix(r.Text, "привет") {
				t.Errorf("%s: %q", name, r.Text)
			}
			continue
		}
		if !strings.Contains(r.Text, list.Fold("Fährplan für Ærø")) || strings.Contains(r.Text, "x()") {
			t.Errorf("%s: %q", name, r.Text)
		}
	}
}

func TestPartsHaveTheirPlaces(t *testing.T) {
	content := with("first", "a.bin", "hello")
	r := scan(t, content)
	var got []string
	for _, p := range r.Parts {
		if !p.Container {
			got = append(got, fmt.Sprintf("%s %s %q", p.Path, p.Type, content[p.Body:p.End]))
		}
	}
	want := []string{`1 text/plain "first"`, `2 application/octet-stream "aGVsbG8="`}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	signed := lines("Content-Type: multipart/signed; boundary=s", "", "--s", "Content-Type: text/plain", "", "x", "--s",
		"Content-Type: application/pgp-signature", "", "sig", "--s--")
	if r := scan(t, signed); !r.Parts[1].Locked || !r.Parts[2].Locked {
		t.Errorf("parts of a signed message are not locked: %+v", r.Parts)
	}
}

func TestHostileMessagesAreBoundedAndTold(t *testing.T) {
	many := lines("Content-Type: multipart/mixed; boundary=b", "") + strings.Repeat("--b\r\n\r\nx\r\n", 10_000)
	deep := ""
	for i := range 500 {
		deep += fmt.Sprintf("Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n", i, i)
	}
	broken := lines("Content-Type: multipart/mixed; boundary=b", "", "--b", "Content-Transfer-Encoding: base64",
		"Content-Type: image/png", "", "!!!! not base64 ????", "--b--")
	layers := "inner"
	for range 8 {
		layers = zipped(t, "a.zip", layers)
	}
	for name, c := range map[string]struct{ content, wrong string }{
		"10,000 parts":         {many, "more than 1000 parts"},
		"depth 500":            {deep, "more than 20 deep"},
		"broken base64":        {broken, "cannot be decoded"},
		"two Content-Types":    {lines("Content-Type: text/plain", "Content-Type: text/html", "", "x"), "Content-Type 2 times"},
		"an unknown encoding":  {lines("Content-Type: text/plain", "Content-Transfer-Encoding: x-own", "", "x"), "which nobody can read"},
		"no boundary":          {lines("Content-Type: multipart/mixed", "", "x"), "no boundary"},
		"archives in archives": {with("x", "a.zip", layers), "more than 4 deep"},
		"a broken zip":         {with("x", "a.zip", "PK\x03\x04 and no more of it"), "could not be looked into"},
		"a long header":        {"X: " + strings.Repeat("y", 600<<10), "larger than"},
		"a header of a part":   {lines("Content-Type: multipart/mixed; boundary=b", "", "--b", "X: "+strings.Repeat("y", 70<<10)), "larger than"},
	} {
		began := time.Now()
		r := scan(t, c.content)
		if took := time.Since(began); took > 2*time.Second {
			t.Errorf("%s took %s", name, took)
		}
		if len(r.Parts) > MaxParts || !strings.Contains(strings.Join(r.Wrong, "; "), c.wrong) {
			t.Errorf("%s: %d parts, wrong %v; want %q", name, len(r.Parts), r.Wrong, c.wrong)
		}
	}
}

func TestABombIsCalledOneAndCostsLittle(t *testing.T) {
	zeros := strings.Repeat("\x00", 24<<20)
	var gz bytes.Buffer
	w := gzip.NewWriter(&gz)
	_, _ = io.WriteString(w, zeros)
	_ = w.Close()
	for name, file := range map[string]string{"zip": zipped(t, "zeros", zeros), "gzip": gz.String()} {
		content := with("look", "z."+name, file)
		began := time.Now()
		r := scan(t, content)
		took := time.Since(began)
		if p := r.Parts[len(r.Parts)-1]; !p.Bomb {
			t.Errorf("%s of 24 MB of zeros is no bomb: %+v", name, p.Broken)
		}
		if took > time.Second { // 5 ms for 200 MB without the race detector
			t.Errorf("a %s bomb took %s", name, took)
		}
	}
	locked := []byte(zipped(t, "secret.exe", program))
	locked[6] |= 1 // the flag in the file's own head, and in the directory
	at := bytes.LastIndex(locked, []byte("PK\x01\x02"))
	locked[at+8] |= 1
	if r := scan(t, with("x", "s.zip", string(locked))); !r.Parts[2].Encrypted || len(r.Wrong) > 0 {
		t.Errorf("an encrypted zip: %+v, %v", r.Parts[2], r.Wrong)
	}
}

func TestNamesThatDeceive(t *testing.T) {
	for name, want := range map[string]bool{
		"invoice.pdf.exe": true, "invoice.PDF   .scr": true, "photo\u202egpj.exe": true, "tides.csv.gz": false,
		"map.pdf.asc": false, "v1.2.pdf": false, "report.final.docx": false, "x.docx.docx": false, "a.zip.": false,
	} {
		if Deceives(name) != want {
			t.Errorf("%q deceives: %v", name, !want)
		}
	}
}

func FuzzScan(f *testing.F) {
	f.Add(with("x", "a.zip", "PK\x03\x04"))
	f.Add(lines("Content-Type: multipart/mixed; boundary=b", "", "--b", "--b--", "--b"))
	f.Add(lines("Content-Type: message/rfc822", "", "Content-Type: message/rfc822", "", "", "x"))
	f.Fuzz(func(t *testing.T, content string) {
		r, err := Scan(strings.NewReader(content), Options{Text: true, Files: true})
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range r.Parts {
			if !p.Container && (p.Start > p.Body || p.Body > p.End || p.End > int64(len(content))) {
				t.Errorf("part %s stands at %d, %d, %d of %d", p.Path, p.Start, p.Body, p.End, len(content))
			}
		}
	})
}
